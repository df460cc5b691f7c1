"""Fits: the plane and the cylinder that lie nearest to some triangles."""

from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors

__all__ = ["FittedCircle", "FittedCylinder", "FittedPlane", "fit_circle", "fit_cylinder", "fit_plane"]

_MOST = 60_000
"""About so many places are fitted to."""


class FittedPlane(NamedTuple):
    """A plane: a point on it, its unit normal the way the surface faces, and the rms distance of what it was fitted to.

    Lengths in mm.
    """

    point: np.ndarray
    normal: np.ndarray
    rms: float


class FittedCylinder(NamedTuple):
    """A cylinder: a point on its axis, the axis (unit), radius, and the rms distance of what it was fitted to; mm."""

    point: np.ndarray
    axis: np.ndarray
    radius: float
    rms: float


def _samples(mesh: Mesh, chosen: np.ndarray, least: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Corners, unit normals and areas of some of the triangles that are chosen."""
    numbers = np.flatnonzero(chosen)
    numbers = numbers[:: max(1, len(numbers) // _MOST)]
    faces = mesh.faces[numbers]
    vectors = face_vectors(mesh.vertices, faces)
    size = np.linalg.norm(vectors, axis=1)
    good = size > 0
    if np.count_nonzero(good) < least:
        few = "no triangle" if least == 1 else "fewer than three triangles"
        raise BadInput(f"{few} of some area {'is' if least == 1 else 'are'} selected; select more of the surface")
    return mesh.vertices[faces[good]], vectors[good] / size[good, None], size[good]


def fit_plane(mesh: Mesh, chosen: np.ndarray) -> FittedPlane:
    """The plane of least squares through all points of triangles: by their second moments, so that one is enough.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)

    Raises
    ------
    BadInput
        When no triangle of some area is chosen.
    """
    corners, normals, areas = _samples(mesh, chosen, 1)
    weight, middles = areas / areas.sum(), corners.mean(axis=1)
    centre = weight @ middles
    # of a triangle about its middle: a twelfth of the sum of its corners' squares
    within = np.sqrt(weight / 12.0)[:, None, None] * (corners - middles[:, None])
    about = np.concatenate([(middles - centre) * np.sqrt(weight)[:, None], within.reshape(-1, 3)])
    normal = np.linalg.svd(about, full_matrices=False)[2][2]
    if weight @ (normals @ normal) < 0:
        normal = -normal
    return FittedPlane(centre, normal, float(np.linalg.norm(about @ normal)))


def fit_cylinder(mesh: Mesh, chosen: np.ndarray) -> FittedCylinder:
    """The cylinder nearest to triangles: an axis across their normals, a circle of least squares, then both at once.

    The circle is Kasa's (1976), weighted by area; axis and circle are then improved together by Gauss and Newton on the
    distances.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)

    Raises
    ------
    BadInput
        When fewer than three triangles of some area are chosen, or they lie in a plane.
    """
    corners, normals, areas = _samples(mesh, chosen, 3)
    middles, weight = corners.mean(axis=1), areas / areas.sum()
    spread, axes = np.linalg.eigh((normals * weight[:, None]).T @ normals)
    if spread[1] < 1e-4:
        raise BadInput("what is selected is flat and fits no cylinder; select more of the round surface")
    axis = axes[:, 0]
    centre = weight @ middles
    scale = max(float(np.sqrt(weight @ ((middles - centre) ** 2).sum(axis=1))), 1e-300)
    p = (middles - centre) / scale
    point, radius = np.zeros(3), 1.0
    for turn in range(12):
        u = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
        u /= np.linalg.norm(u)
        v = np.cross(axis, u)
        x, y, z = p @ u, p @ v, p @ axis
        root = np.sqrt(weight)
        if turn == 0:
            rows = np.column_stack([x, y, np.ones(len(x))]) * root[:, None]
            a, b, c = np.linalg.lstsq(rows, (x**2 + y**2) * root, rcond=None)[0]
            point, radius = 0.5 * (a * u + b * v), float(np.sqrt(max(c + 0.25 * (a * a + b * b), 1e-12)))
        dx, dy = x - point @ u, y - point @ v
        reach = np.maximum(np.hypot(dx, dy), 1e-12)
        # how the distance changes as the axis moves sideways, leans, and as the radius grows
        jacobian = np.column_stack([-dx / reach, -dy / reach, -dx / reach * z, -dy / reach * z, -np.ones(len(x))])
        step = np.linalg.lstsq(jacobian * root[:, None], -(reach - radius) * root, rcond=None)[0]
        point = point + step[0] * u + step[1] * v
        axis = axis + step[2] * u + step[3] * v
        axis /= np.linalg.norm(axis)
        point = point - (point @ axis) * axis
        radius += float(step[4])
        if np.abs(step).max() < 1e-12:
            break
    off = p - point
    off = np.linalg.norm(off - (off @ axis)[:, None] * axis, axis=1) - radius
    return FittedCylinder(centre + scale * point, axis, scale * abs(radius), scale * float(np.sqrt(weight @ off**2)))


class FittedCircle(NamedTuple):
    """A circle: centre, unit normal of its plane, radius, and the rms distance of what it was fitted to; mm."""

    centre: np.ndarray
    normal: np.ndarray
    radius: float
    rms: float


def fit_circle(points: np.ndarray) -> FittedCircle:
    """The circle nearest to points, in the plane nearest to them: Kasa's (1976), then improved on the distances.

    Parameters
    ----------
    points : ndarray, shape (N, 3)

    Raises
    ------
    BadInput
        When there are fewer than three, or they lie on a line.
    """
    if len(points) < 3:
        raise BadInput("fewer than three points make no circle")
    centre = points.mean(axis=0)
    _, size, axes = np.linalg.svd(points - centre, full_matrices=False)
    if size[1] < 1e-6 * max(size[0], 1e-300):
        raise BadInput("the points lie on a line and fit no circle")
    x, y = (points - centre) @ axes[0], (points - centre) @ axes[1]
    a, b, c = np.linalg.lstsq(np.column_stack([x, y, np.ones(len(x))]), x**2 + y**2, rcond=None)[0]
    p, q, radius = 0.5 * a, 0.5 * b, float(np.sqrt(max(c + 0.25 * (a * a + b * b), 1e-300)))
    for _ in range(12):
        reach = np.maximum(np.hypot(x - p, y - q), 1e-300)
        jacobian = np.column_stack([-(x - p) / reach, -(y - q) / reach, -np.ones(len(x))])
        step = np.linalg.lstsq(jacobian, radius - reach, rcond=None)[0]
        p, q, radius = p + step[0], q + step[1], radius + float(step[2])
        if np.abs(step).max() < 1e-12 * radius:
            break
    middle = centre + p * axes[0] + q * axes[1]
    off = points - middle
    height = off @ axes[2]
    rms = float(np.sqrt((height**2 + (np.hypot(x - p, y - q) - radius) ** 2).mean()))
    return FittedCircle(middle, axes[2], radius, rms)
