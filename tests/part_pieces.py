"""Part-scans of one thing: cut from a free-form shape, with triangles and noise of their own, holes, in any pose."""

from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from tests import specimens
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import mean_edge, vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.rigid import matrix_of, moved_points

__all__ = ["Pieces", "lumpy", "noisy", "off_by", "pieces_round", "two_pieces"]


class Pieces(NamedTuple):
    """The whole shape, its part-scans, each in a pose of its own, and what brings each back; the first lies right."""

    whole: Mesh
    parts: list[Mesh]
    truths: list[np.ndarray]

    @property
    def edge(self) -> float:
        return max(mean_edge(part.vertices, part.faces) for part in self.parts)


def lumpy(rng: np.random.Generator, n: int) -> Mesh:
    """A ball with lumps, higher than wide."""
    ball = specimens.sphere(60.0, n).mesh
    ways = ball.vertices / np.linalg.norm(ball.vertices, axis=1)[:, None]
    # the ball's grid turned at random, so that no two have their vertices at the same places
    ways = ways @ Rotation.random(random_state=int(rng.integers(1 << 30))).as_matrix()
    return Mesh(ways * 30.0, ball.faces)


def _formed(ball: Mesh, lumps: np.ndarray) -> Mesh:
    ways = ball.vertices / 30.0
    grown = sum(lump[3] * np.exp(-((ways - lump[:3]) ** 2).sum(axis=1) * lump[4]) for lump in lumps)
    return Mesh((ball.vertices + ways * np.asarray(grown)[:, None]) * [1.0, 0.8, 1.4], ball.faces)


def noisy(mesh: Mesh, rng: np.random.Generator, share: float = 0.2) -> Mesh:
    """With noise along the normals of a share of an edge."""
    off = rng.normal(size=len(mesh.vertices)) * share * mean_edge(mesh.vertices, mesh.faces)
    normals = vertex_normals(mesh.vertices, mesh.faces).astype(float)
    return Mesh(mesh.vertices + normals * off[:, None], mesh.faces)


def _scanned(rng: np.random.Generator, lumps: np.ndarray, n: int, seen: object, holes: int) -> Mesh:
    mesh = noisy(_formed(lumpy(rng, n), lumps), rng)
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    keep = seen(middles)
    for _ in range(holes):
        keep &= np.linalg.norm(middles - middles[rng.integers(len(middles))], axis=1) > rng.uniform(1.5, 3.0)
    return keep_triangles(mesh, keep)


def _lumps(rng: np.random.Generator) -> np.ndarray:
    at, high, wide = rng.normal(size=(14, 3)) / 1.7, rng.uniform(-4, 5, 14), rng.uniform(4, 20, 14)
    return np.column_stack([at, high, wide])


def _posed(part: Mesh, rng: np.random.Generator) -> tuple[Mesh, np.ndarray]:
    pose = matrix_of(Rotation.random(random_state=int(rng.integers(1 << 30))).as_matrix(), rng.normal(size=3) * 80)
    return Mesh(moved_points(pose, part.vertices), part.faces), np.linalg.inv(pose)


def two_pieces(seed: int, n: int = 60) -> Pieces:
    """Two part-scans that share 30 to 70 % of what they show."""
    rng = np.random.default_rng(seed)
    lumps, way = _lumps(rng), rng.normal(size=3)
    whole = _formed(lumpy(rng, 2 * n), lumps)
    along = (whole.vertices[whole.faces].mean(axis=1)) @ way
    share = 1 / (2 - rng.uniform(0.3, 0.7))
    low, high = np.quantile(along, 1 - share), np.quantile(along, share)
    one = _scanned(rng, lumps, n, lambda x: x @ way >= low, 4)
    other, back = _posed(_scanned(rng, lumps, round(0.85 * n), lambda x: x @ way <= high, 4), rng)
    return Pieces(whole, [one, other], [np.eye(4), back])


def pieces_round(seed: int, count: int, n: int = 60) -> Pieces:
    """Part-scans all round, each of which shares something with its neighbours."""
    rng = np.random.default_rng(seed)
    lumps, parts, truths = _lumps(rng), [], []
    for i in range(count):
        turn = 2 * np.pi * i / count
        seen = np.array([np.cos(turn), np.sin(turn), 0.0])
        part = _scanned(rng, lumps, n, lambda x, seen=seen: (x / np.linalg.norm(x, axis=1)[:, None]) @ seen > 0.2, 2)
        posed, back = _posed(part, rng) if i else (part, np.eye(4))
        parts.append(posed)
        truths.append(back)
    return Pieces(_formed(lumpy(rng, 2 * n), lumps), parts, truths)


def off_by(found: np.ndarray, truth: np.ndarray, part: Mesh) -> float:
    """How far a pose brings a part's vertices from where they belong, rms, mm."""
    off = moved_points(found, part.vertices) - moved_points(truth, part.vertices)
    return float(np.sqrt((off**2).sum(axis=1).mean()))
