"""Closing a cut along a cutter's wall: each flat of it is filled between the cut edge and the lines it shares."""

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.progress import check_here
from tinsnip.space.delaunay import constrained_triangles
from tinsnip.treat.kit.cuts.cutters import BOX, OUTLINE, ROUND, Cutter
from tinsnip.treat.kit.cuts.dividing import Division, Side
from tinsnip.treat.kit.cuts.parting import FACETS
from tinsnip.treat.kit.patches.filling import add_triangles, evenly

__all__ = ["close_wall"]

_OPEN = (
    "the part is open where the cut passes, so the cut cannot be closed; close the part first, or leave the cut open"
)


def close_wall(division: Division, side: Side, inside: bool, edge: float | None = None) -> Mesh:
    """The mesh on one side of a cut, with the wall of the cutter made where it ran through the solid.

    Parameters
    ----------
    division : Division
    side : Side
    inside : bool
        Which side it is.
    edge : float, optional
        Length of the edges of the wall's triangles, mm; by default these are as few as may be.

    Returns
    -------
    Mesh

    Raises
    ------
    BadInput
        When the part is open where the cut passes.
    """
    mesh, cutter = side.mesh, division.cutter
    if len(side.segments) == 0:
        return mesh
    own = cutter.to_own(mesh.vertices)
    lines = _lines(cutter, own, side)
    extra = np.zeros((0, 3))
    if cutter.kind == BOX:
        stretches, extra = _box_stretches(cutter, division.mesh, own, lines)
        own = np.concatenate([own, extra])
    else:
        stretches = {seam: _pairs(nodes) for seam, nodes in lines.items()}
    check_here()
    ends: dict[int, list[np.ndarray]] = {}
    order = np.argsort(side.segments[:, 2], kind="stable")
    rows = side.segments[order]
    for group in np.split(rows, np.flatnonzero(np.diff(rows[:, 2])) + 1):
        ends.setdefault(int(group[0, 2]), []).append(group[:, :2])
    for seam, pairs in stretches.items():
        if len(pairs):
            for flat in _flats_at(cutter, seam):
                ends.setdefault(flat, []).append(pairs)
    found = []
    for flat, groups in sorted(ends.items()):
        check_here()
        found.append(_filled(cutter, flat, np.concatenate(groups), own))
    if edge is not None:
        found, fresh = evenly(own, [np.concatenate(found)] if cutter.kind == ROUND else found, edge)
        if cutter.kind == ROUND:  # onto the cylinder that its flats stand for
            fresh[:, :2] *= (cutter.size[0] / np.maximum(np.hypot(*fresh[:, :2].T), 1e-300))[:, None]
        extra, own = np.concatenate([extra, fresh]), np.concatenate([own, fresh])
    triangles = np.concatenate(found)
    # it has to run against the cut edge; on a mesh that is inside out it faces the other way
    code = side.segments[:, :2] @ [len(own), 1]
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    along = np.count_nonzero(np.isin(edges @ [len(own), 1], code))
    against = np.count_nonzero(np.isin(edges[:, ::-1] @ [len(own), 1], code))
    if (along > against) == inside:
        triangles = triangles[:, ::-1]
    return add_triangles(mesh, triangles, extra @ cutter.axes + cutter.middle)


def _pairs(nodes: np.ndarray) -> np.ndarray:
    """Which vertices along a line bound the solid together: the first and the second, and so on."""
    if len(nodes) % 2:
        raise BadInput(_OPEN)
    return nodes.reshape(-1, 2)


def _lines(cutter: Cutter, own: np.ndarray, side: Side) -> dict[int, np.ndarray]:
    """The vertices at which the cut edge goes over from one flat of the wall to another, in order along each line."""
    ends = np.concatenate([side.segments[:, [0, 2]], side.segments[:, [1, 2]]])
    rows, count = np.unique(ends, axis=0, return_counts=True)
    odd = rows[count % 2 == 1]
    lines: dict[int, list[int]] = {}
    for group in np.split(odd, np.flatnonzero(np.diff(odd[:, 0])) + 1) if len(odd) else []:
        flats = group[:, 1].tolist()
        while flats:
            seam = next((s for s, other in _seams_of(cutter, flats[0]) if other in flats), None)
            if seam is None:
                raise BadInput(_OPEN)
            lines.setdefault(seam, []).append(int(group[0, 0]))
            for flat in _flats_at(cutter, seam):
                flats.remove(flat)
    found = {seam: np.array(nodes) for seam, nodes in lines.items()}
    axes = {seam: _free_axis(cutter, seam) for seam in found}
    return {seam: nodes[np.argsort(own[nodes, axes[seam]], kind="stable")] for seam, nodes in found.items()}


def _seams_of(cutter: Cutter, flat: int) -> list[tuple[int, int]]:
    """The lines along which a flat of the wall meets others, and these others."""
    if cutter.kind == BOX:
        return [(6 * min(flat, k) + max(flat, k), k) for k in range(6) if k // 2 != flat // 2]
    count = len(cutter.corners) if cutter.kind == OUTLINE else FACETS
    return [((flat + 1) % count, (flat + 1) % count), (flat, (flat - 1) % count)]


def _free_axis(cutter: Cutter, seam: int) -> int:
    """The axis that a line of the wall runs along."""
    return 3 - seam // 6 // 2 - seam % 6 // 2 if cutter.kind == BOX else 2


def _flats_at(cutter: Cutter, seam: int) -> tuple[int, int]:
    """The two flats that meet in a line."""
    if cutter.kind == BOX:
        return seam // 6, seam % 6
    count = len(cutter.corners) if cutter.kind == OUTLINE else FACETS
    return (seam - 1) % count, seam


def _on_flat(cutter: Cutter, flat: int, points: np.ndarray) -> np.ndarray:
    """Places on a flat of the wall, mm, shape (N, 2), right-handed seen from outside."""
    if cutter.kind == BOX:
        axis = flat // 2
        columns = [(axis + 1) % 3, (axis + 2) % 3]
        return points[:, columns if flat % 2 else columns[::-1]]
    if cutter.kind == OUTLINE:
        a, b = cutter.corners[flat], cutter.corners[(flat + 1) % len(cutter.corners)]
        along = (points[:, :2] - a) @ ((b - a) / max(float(np.linalg.norm(b - a)), 1e-300))
        return np.column_stack([along, points[:, 2]])
    begin = 2 * np.pi / FACETS * flat
    turn = (np.arctan2(points[:, 1], points[:, 0]) - begin + 1.0) % (2 * np.pi) - 1.0
    return np.column_stack([cutter.size[0] * turn, points[:, 2]])


def _filled(cutter: Cutter, flat: int, ends: np.ndarray, own: np.ndarray) -> np.ndarray:
    """The triangles between lines on one flat."""
    # what is there twice bounds nothing
    low, high = ends.min(axis=1), ends.max(axis=1)
    _, first, count = np.unique(low * len(own) + high, return_index=True, return_counts=True)
    ends = ends[np.sort(first[count % 2 == 1])]
    if len(ends) == 0:
        return np.zeros((0, 3), dtype=np.int64)
    used, local = np.unique(ends, return_inverse=True)
    if (np.bincount(local.ravel()) % 2).any():
        raise BadInput(_OPEN)
    if len(used) < 3:
        return np.zeros((0, 3), dtype=np.int64)
    triangles = constrained_triangles(_on_flat(cutter, flat, own[used]), local.reshape(-1, 2))
    if triangles is None:
        raise BadInput("the cut crosses itself on its wall, so it cannot be closed; leave it open, or move it a little")
    return used[triangles]


def _box_stretches(
    cutter: Cutter, whole: Mesh, own: np.ndarray, lines: dict[int, np.ndarray]
) -> tuple[dict[int, np.ndarray], np.ndarray]:
    """What of a box's twelve edges runs through the solid, and the corners of the box that this needs."""
    signs = np.array([[1 if i & 1 << k else -1 for k in range(3)] for i in range(8)])
    corners = signs * cutter.size
    solid = np.zeros(8, dtype=np.bool_)
    _leave(cutter.to_own(whole.vertices), whole.faces, corners, solid)
    number = np.full(8, -1)
    number[solid] = len(own) + np.arange(int(solid.sum()))
    stretches = {}
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        for m in range(4):
            bits = (m & 1) << i | (m >> 1) << j
            low, high = bits, bits | 1 << k
            flats = 2 * i + (m & 1), 2 * j + (m >> 1)
            seam = 6 * min(flats) + max(flats)
            nodes = list(lines.get(seam, ()))
            nodes = [number[low]] * bool(solid[low]) + nodes + [number[high]] * bool(solid[high])
            stretches[seam] = _pairs(np.array(nodes, dtype=np.int64))
    return stretches, corners[solid]


@kernel
def _leave(P, faces, points, odd):
    """Note of each point whether a line upward from it meets the surface an odd number of times."""
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        x0, x1 = min(P[a, 0], P[b, 0], P[c, 0]), max(P[a, 0], P[b, 0], P[c, 0])
        y0, y1 = min(P[a, 1], P[b, 1], P[c, 1]), max(P[a, 1], P[b, 1], P[c, 1])
        top = max(P[a, 2], P[b, 2], P[c, 2])
        for n in range(points.shape[0]):
            x, y, z = points[n, 0], points[n, 1], points[n, 2]
            if x < x0 or x > x1 or y < y0 or y > y1 or z > top:
                continue
            s = (P[a, 0] - x) * (P[b, 1] - y) - (P[a, 1] - y) * (P[b, 0] - x)
            t = (P[b, 0] - x) * (P[c, 1] - y) - (P[b, 1] - y) * (P[c, 0] - x)
            u = (P[c, 0] - x) * (P[a, 1] - y) - (P[c, 1] - y) * (P[a, 0] - x)
            if (s > 0) != (t > 0) or (t > 0) != (u > 0) or s + t + u == 0.0:
                continue
            if (t * P[a, 2] + u * P[b, 2] + s * P[c, 2]) / (s + t + u) > z:
                odd[n] = not odd[n]
