"""Knots tied into sound meshes: what untangling cannot undo."""

import numpy as np

from tests import specimens
from tinsnip.mesh import Mesh

KINDS = ("fold", "fingers", "hairball", "fin", "welded", "lump", "pierced", "sheet")


def tied(mesh: Mesh, kind: str, seed: int, radius: float = 6.0) -> Mesh:
    """A mesh with a knot of a kind at a random place; the radius in mean edges there."""
    rng = np.random.default_rng(seed)
    points, faces = mesh.vertices.copy(), mesh.faces.copy()
    corners = points[faces]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(normals, axis=1)
    at = int(rng.choice(len(faces), p=area / area.sum()))
    middle, up = corners[at].mean(axis=0), normals[at] / area[at]
    edge = np.sqrt(np.median(area[np.argsort(((corners.mean(axis=1) - middle) ** 2).sum(axis=1))[:50]]))
    reach = radius * edge
    along = np.cross(up, rng.normal(size=3))
    along /= np.linalg.norm(along)
    connected = _reached(faces, len(points), faces[at, 0], points, 3 * reach)

    def bell(about: np.ndarray, wide: float) -> np.ndarray:
        away = np.linalg.norm(points - about, axis=1) / wide
        return np.where(connected, np.clip(1.5 * (1.0 - away), 0.0, 1.0), 0.0)[:, None]

    if kind == "fold":
        points += bell(middle, reach) * (1.8 * reach * along + 0.2 * reach * rng.choice([-1.0, 1.0]) * up)
    elif kind == "fingers":
        side = 0.9 * reach * along
        one, other = bell(middle + side, 0.7 * reach), bell(middle - side, 0.7 * reach)
        lean = 1.1 * reach * along + 0.1 * reach * np.cross(up, along)
        points += one * (1.2 * reach * up - 1.6 * lean) + other * (1.2 * reach * up + 1.6 * lean)
    elif kind == "hairball":
        points += np.minimum(1.0, 2 * bell(middle, reach)) * rng.normal(scale=1.2 * edge, size=points.shape)
    elif kind == "fin":
        points, faces = _with_fin(points, faces, middle, along, up, reach, edge)
    elif kind == "welded":
        near = np.flatnonzero(connected & (np.linalg.norm(points - middle, axis=1) < 0.7 * reach))
        some = rng.permutation(near)[: 2 * (len(near) // 6)].reshape(2, -1)
        number = np.arange(len(points))
        number[some[0]] = some[1]
        faces = number[faces]
        faces = faces[(faces != np.roll(faces, 1, axis=1)).all(axis=1)]
    elif kind == "lump":
        ball, ball_faces = _lump(rng, 0.8 * reach, edge)
        faces = np.concatenate([faces, ball_faces + len(points)])
        points = np.concatenate([points, ball + middle + 0.2 * reach * up])
    elif kind == "pierced":
        through = _thickness(points, faces, middle, up)
        points -= bell(middle, 0.8 * reach) * (min(1.3 * through, through + 1.5 * reach) * up + 0.5 * reach * along)
    elif kind == "sheet":
        grid = np.stack(np.meshgrid(*2 * [np.arange(9) - 4.0], indexing="ij"), -1).reshape(-1, 2)
        sheet = middle + 0.2 * reach * (grid[:, :1] * along + grid[:, 1:] * (up + 0.3 * np.cross(up, along)))
        faces = np.concatenate([faces, specimens.grid_faces(9, 9, False, False) + len(points)])
        points = np.concatenate([points, sheet + rng.normal(scale=0.1 * edge, size=sheet.shape)])
    return Mesh(points, faces.astype(np.int32))


def _thickness(points: np.ndarray, faces: np.ndarray, at: np.ndarray, up: np.ndarray) -> float:
    """How far the surface on the other side of a place is, straight in."""
    sides = np.cross(up, np.eye(3)[np.argmin(np.abs(up))])
    middle = points[faces].mean(axis=1) - at
    deep, off = -middle @ up, np.linalg.norm(np.column_stack([middle @ sides, middle @ np.cross(up, sides)]), axis=1)
    near = deep[(deep > 1e-3) & (off < 0.05 * np.ptp(points, axis=0).max())]
    return float(near[near > 0.05 * np.ptp(points, axis=0).max()].min(initial=np.ptp(points, axis=0).max()))


def _reached(faces: np.ndarray, count: int, start: int, points: np.ndarray, reach: float) -> np.ndarray:
    """Vertices joined to one by edges within a distance."""
    near = np.linalg.norm(points - points[start], axis=1) < reach
    own = faces[near[faces].all(axis=1)]
    found = np.zeros(count, dtype=bool)
    found[start] = True
    while True:
        more = found.copy()
        more[own[found[own].any(axis=1)]] = True
        if (more == found).all():
            return found
        found = more


def _with_fin(points, faces, middle, along, up, reach, edge):
    """A strip of triangles that hangs on edges of the surface, so that these have three."""
    near = np.linalg.norm(points - middle, axis=1) < reach
    ends = np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(3)])
    ends = ends[near[ends].all(axis=1)]
    way = points[ends[:, 1]] - points[ends[:, 0]]
    ends = ends[way @ along > 0.8 * np.linalg.norm(way, axis=1)]
    ends = ends[np.abs((points[ends].mean(axis=1) - middle) @ np.cross(up, along)) < edge]
    above = len(points) + np.arange(2 * len(ends)).reshape(-1, 2)
    more = np.concatenate([np.column_stack([ends, above[:, 0]]), np.column_stack([ends[:, 1], above[:, ::-1]])])
    fresh = points[ends].reshape(-1, 3) + 2 * edge * up
    return np.concatenate([points, fresh]), np.concatenate([faces, more])


def _lump(rng: np.random.Generator, radius: float, edge: float) -> tuple[np.ndarray, np.ndarray]:
    """A closed ball with a rough surface."""
    ball = specimens.sphere(2 * radius, max(4, int(1.5 * radius / edge))).mesh
    return ball.vertices * rng.uniform(0.8, 1.2, size=(len(ball.vertices), 1)), ball.faces
