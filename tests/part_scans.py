"""Scans of vessels, busts, coils, brackets and chains, with what goes wrong in scanning, at random."""

import itertools

import numpy as np
from scipy.spatial import cKDTree

from tests import specimens
from tests.test_shapes import together
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors, mean_edge, vertex_normals
from tinsnip.mesh.subsets import keep_triangles

__all__ = ["part_scan"]


def _outward(mesh: Mesh) -> Mesh:
    return mesh if mesh.volume > 0 else Mesh(mesh.vertices, mesh.faces[:, ::-1])


def _swept(rings: np.ndarray) -> np.ndarray:
    """Triangles between rings of points, shape (M, K, 3), closed round each ring."""
    count, k = rings.shape[:2]
    i, j = np.meshgrid(np.arange(count - 1), np.arange(k), indexing="ij")
    a, b = i * k + j, i * k + (j + 1) % k
    return np.stack([a, b, b + k, a, b + k, a + k], axis=-1).reshape(-1, 3)


def vessel(rng: np.random.Generator) -> Mesh:
    """A pot with a wall, open above."""
    high, wall, wide = rng.uniform(40, 90), rng.uniform(1.5, 4), rng.uniform(20, 35)
    outer = [(0, 0), (0.7 * wide, 0), (wide, 0.4 * high), (0.8 * wide, 0.8 * high), (0.95 * wide, high)]
    corners = np.array([*outer, *((max(x - wall, 0), max(z, wall)) for x, z in outer[:0:-1]), (0, wall)])
    spans = itertools.pairwise(corners)
    parts = [np.linspace(a, b, max(2, int(np.hypot(*(b - a)) / 2)), endpoint=False) for a, b in spans]
    line = np.concatenate([*parts, corners[-1:]])
    turn = np.linspace(0, 2 * np.pi, 72, endpoint=False)
    rings = np.stack([np.outer(line[:, 0], np.cos(turn)), np.outer(line[:, 0], np.sin(turn))], axis=-1)
    rings = np.concatenate([rings, np.repeat(line[:, 1, None, None], len(turn), axis=1)], axis=2)
    mesh = specimens.welded(rings.reshape(-1, 3), _swept(rings))
    f = mesh.faces
    return _outward(Mesh(mesh.vertices, f[(f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 0] != f[:, 2])]))


def bust(rng: np.random.Generator) -> Mesh:
    """A lumpy ball, longer than wide."""
    ball = specimens.sphere(60.0, 36).mesh
    ways = ball.vertices / np.linalg.norm(ball.vertices, axis=1)[:, None]
    lumps = [
        rng.uniform(-4, 6) * np.exp(-((ways - rng.normal(size=3) / 1.7) ** 2).sum(axis=1) * rng.uniform(4, 20))
        for _ in range(12)
    ]
    return Mesh((ball.vertices + ways * sum(lumps)[:, None]) * [1, 1, 1.4], ball.faces)


def coil(rng: np.random.Generator) -> Mesh:
    """A rod wound up, its ends closed."""
    t = np.linspace(0, 2 * np.pi * rng.uniform(2, 4), 220)
    line = np.stack([25 * np.cos(t), 25 * np.sin(t), 2.1 * t], axis=1)
    along = np.gradient(line, axis=0)
    along /= np.linalg.norm(along, axis=1)[:, None]
    out = np.stack([np.cos(t), np.sin(t), 0 * t], axis=1)
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    across = np.cos(turn)[None, :, None] * out[:, None] + np.sin(turn)[None, :, None] * np.cross(along, out)[:, None]
    rings = line[:, None] + 3.5 * across
    k, last = len(turn), len(turn) * (len(t) - 1)
    j, first = np.arange(k), rings.size // 3
    ends = [
        np.stack([0 * j + first, (j + 1) % k, j], 1),
        np.stack([0 * j + first + 1, last + j, last + (j + 1) % k], 1),
    ]
    return _outward(Mesh(np.concatenate([rings.reshape(-1, 3), line[[0, -1]]]), np.concatenate([_swept(rings), *ends])))


def bracket(rng: np.random.Generator) -> Mesh:
    """A block with a bore."""
    return specimens.bored_box(60.0, 4 * int(rng.integers(10, 17))).mesh


def chain(rng: np.random.Generator) -> Mesh:
    """Three links through each other."""
    links = []
    for i in range(3):
        link = specimens.torus(40.0, 60).mesh
        places = link.vertices * [1, 0.7, 1]
        links.append(Mesh((places[:, [0, 2, 1]] * [1, 1, -1] if i % 2 else places) + [26.0 * i, 0, 0], link.faces))
    return together(*links)


SHAPES = vessel, bust, coil, bracket, chain


def part_scan(seed: int) -> tuple[Mesh, list[str]]:
    """A scan, and what is wrong with it."""
    rng = np.random.default_rng(seed)
    part = SHAPES[seed % len(SHAPES)](rng)
    told = [SHAPES[seed % len(SHAPES)].__name__]

    def happens(what: str, share: float) -> bool:
        if rng.random() < share:
            told.append(what)
        return told[-1] == what

    edge = mean_edge(part.vertices, part.faces)
    normals = vertex_normals(part.vertices, part.faces)
    places = part.vertices + normals * rng.normal(size=(len(part.vertices), 1)) * edge * rng.choice(
        [0, 0.05, 0.15, 0.3]
    )
    middles, size, floor = places[part.faces].mean(axis=1), float(np.ptp(places, axis=0).max()), places[:, 2].min()
    ways = face_vectors(places, part.faces)
    keep = np.ones(len(part.faces), dtype=bool)
    if happens("bottom unseen", 0.6):
        keep &= ~((ways[:, 2] < -0.5 * np.linalg.norm(ways, axis=1)) & (middles[:, 2] < floor + 0.15 * size))
    if happens("cut off", 0.3):
        keep &= middles[:, 2] > floor + rng.uniform(0.05, 0.4) * size
    for _ in range(rng.integers(0, 8)):
        keep &= np.linalg.norm(middles - middles[rng.integers(len(middles))], axis=1) > edge * rng.uniform(0.7, 6)
    if happens("pinholes", 0.3):
        keep &= rng.random(len(keep)) > rng.uniform(0, 0.01)
    if keep.sum() < 50:  # nothing to speak of would be left
        keep[:] = True
    seen = [Mesh(places, part.faces[keep])]
    if happens("second layer", 0.35):
        near = np.linalg.norm(middles - middles[rng.integers(len(middles))], axis=1) < 0.2 * size
        seen.append(keep_triangles(Mesh(places + normals * edge * rng.uniform(-0.4, 0.4), part.faces), near))
    if happens("crumbs", 0.4):
        for _ in range(rng.integers(1, 6)):
            crumb = specimens.sphere(edge * rng.uniform(1, 6), 5).mesh
            seen.append(Mesh(crumb.vertices + rng.uniform(places.min(axis=0), places.max(axis=0)), crumb.faces))
    if happens("bed", 0.3):
        side = np.linspace(-1.1, 1.1, 60) * size
        x, y = np.meshgrid(side, side, indexing="ij")
        bed = np.stack([x.ravel(), y.ravel(), rng.normal(floor, 0.1 * edge, x.size)], axis=1)
        bed[:, :2] += places[:, :2].mean(axis=0)
        grid = specimens.grid_faces(60, 60, False, False)
        seen.append(Mesh(bed, grid[cKDTree(places).query(bed[grid].mean(axis=1))[0] > 2 * edge]))
    scan = together(*seen)
    places, faces = scan.vertices.copy(), scan.faces
    if happens("turned triangles", 0.3):
        faces = np.where((rng.random(len(faces)) < 0.003)[:, None], faces[:, ::-1], faces)
    if len(faces) > 9 and happens("fins", 0.3):
        some = faces[rng.integers(len(faces), size=6)]
        fins = np.column_stack([some[:, :2], rng.integers(len(places), size=6)])
        faces = np.concatenate([faces, some, fins])
    if len(faces) > 9 and happens("spikes", 0.3):
        places[rng.choice(np.unique(faces), 4)] += rng.normal(size=(4, 3)) * edge * 8
    if happens("unwelded", 0.3):
        places, faces = places[faces].reshape(-1, 3), np.arange(3 * len(faces)).reshape(-1, 3)
    if happens("turned", 0.5):
        turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
        places = places @ (turn * np.sign(np.linalg.det(turn))).T
    if happens("far off", 0.3):
        places = places + rng.normal(size=3) * 1000
    return Mesh(places, faces), told
