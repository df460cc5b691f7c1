"""The plane that a part is its own mirror image by."""

import numpy as np

from tinsnip.datums.datum import Datum, upward
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import spread_by_area
from tinsnip.progress import check_here
from tinsnip.regions import Region
from tinsnip.survey.alignment import Alignment, align
from tinsnip.words import percent

__all__ = ["symmetry_plane"]

_POINTS = 20_000
_LEAST = 0.5
"""Share of the surface that has to lie on its own image."""


def _mirror(normal: np.ndarray, place: np.ndarray) -> np.ndarray:
    """The mapping by a plane, shape (4, 4)."""
    matrix = np.eye(4)
    matrix[:3, :3] -= 2.0 * np.outer(normal, normal)
    matrix[:3, 3] = 2.0 * float(normal @ place) * normal
    return matrix


def symmetry_plane(mesh: Mesh, name: str = "D1") -> Datum:
    """The plane by whose mirror image a part lies best on itself.

    The part is mirrored by the three planes through its middle that its principal axes give, each image is laid on the
    part as any piece is on another, and the plane is the one midway between places and their images.

    Parameters
    ----------
    mesh : Mesh
    name : str

    Raises
    ------
    BadInput
        When less than half of it lies on its image.

    References
    ----------
    After Podolak et al., A planar-reflective symmetry transform for 3D shapes, SIGGRAPH 2006: candidates, then refined.
    """
    points, _ = spread_by_area(mesh.vertices, mesh.faces, _POINTS)
    if len(points) == 0:
        raise BadInput("there is no surface that could be symmetrical; choose some")
    middle = points.mean(axis=0)
    axes = np.linalg.svd(points - middle, full_matrices=False)[2]
    first = _mirror(axes[0], middle)
    image = Mesh(mesh.vertices @ first[:3, :3].T + first[:3, 3], mesh.faces[:, ::-1].copy())
    best: tuple[Alignment, np.ndarray] | None = None
    for axis in axes:  # each other image is this one, turned
        check_here()
        try:
            laid = align(image, mesh, _mirror(axis, middle) @ np.linalg.inv(first))
        except BadInput:
            continue
        if best is None or laid.overlap > best[0].overlap:
            best = laid, laid.matrix @ first
    if best is None or best[0].overlap < _LEAST:
        share = "none" if best is None else percent(best[0].overlap)
        raise BadInput(f"{share} of it lies on its mirror image; choose the part of it that is symmetrical")
    laid, mapping = best
    values, ways = np.linalg.eigh(0.5 * (mapping[:3, :3] + mapping[:3, :3].T))
    way = upward(ways[:, int(np.argmin(values))])
    halves = 0.5 * (points + points @ mapping[:3, :3].T + mapping[:3, 3])
    offset = float(np.median(halves @ way))
    place = middle + (offset - float(middle @ way)) * way
    return Datum(
        name=name, form="plane", point=tuple(map(float, place)), way=tuple(map(float, way)),
        reach=0.5 * float(np.linalg.norm(np.ptp(points, axis=0))), rms_mm=laid.rms_mm, max_mm=laid.p95_mm,
        told=f"plane of symmetry, {percent(laid.overlap)} of the surface lies on its image", used=laid.overlap,
        region=Region(),
    )  # fmt: skip
