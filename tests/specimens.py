"""Analytic shapes with known distance, and damage done to them at stated rates."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.welding import weld_exact


@dataclass
class Specimen:
    """A closed outward mesh of a shape, its distance function, and its exact volume."""

    name: str
    mesh: Mesh
    distance: Callable[[np.ndarray], np.ndarray]
    volume: float
    inside: np.ndarray  # a point well inside the material
    room: float  # radius of a ball round it that is all material


def grid_faces(rows: int, columns: int, wrap_rows: bool, wrap_columns: bool, flip: bool = False) -> np.ndarray:
    """Two triangles for each cell of a grid of points numbered row by row."""
    i = np.arange(rows if wrap_rows else rows - 1)[:, None]
    j = np.arange(columns if wrap_columns else columns - 1)[None, :]
    a, b = i * columns + j, (i + 1) % rows * columns + j
    c, d = (i + 1) % rows * columns + (j + 1) % columns, i * columns + (j + 1) % columns
    faces = np.stack([np.stack([a, b, c], -1), np.stack([a, c, d], -1)], 2).reshape(-1, 3)
    return faces[:, ::-1] if flip else faces


def welded(vertices: np.ndarray, faces: np.ndarray) -> Mesh:
    """A mesh in which equal points are one vertex, with positions a single-precision file can hold."""
    index, first = weld_exact(vertices.astype(np.float32).astype(float))
    return Mesh(vertices.astype(np.float32).astype(float)[first], index[faces])


def torus(size: float, n: int = 120) -> Specimen:
    big, small = 0.34 * size, 0.16 * size
    u, v = np.meshgrid(2 * np.pi * np.arange(n) / n, 2 * np.pi * np.arange(n // 2) / (n // 2), indexing="ij")
    ring = big + small * np.cos(v)
    points = np.stack([ring * np.cos(u), ring * np.sin(u), small * np.sin(v)], -1).reshape(-1, 3)

    def distance(p: np.ndarray) -> np.ndarray:
        return np.hypot(np.hypot(p[:, 0], p[:, 1]) - big, p[:, 2]) - small

    mesh = welded(points, grid_faces(n, n // 2, True, True))
    return Specimen("torus", mesh, distance, 2 * np.pi**2 * big * small**2, np.array([big, 0, 0]), small)


def sphere(size: float, n: int = 40) -> Specimen:
    radius = 0.5 * size
    t = np.tan(np.linspace(-np.pi / 4, np.pi / 4, n))
    u, v = np.meshgrid(t, t, indexing="ij")
    one = np.ones_like(u)
    sides, faces = [], []
    for axis in range(3):
        for sign in (1, -1):
            side = np.empty((n, n, 3))
            side[..., axis], side[..., (axis + 1) % 3], side[..., (axis + 2) % 3] = sign * one, u, v
            faces.append(grid_faces(n, n, False, False, sign < 0) + len(sides) * n * n)
            sides.append(side.reshape(-1, 3))
    points = np.concatenate(sides)
    points *= radius / np.linalg.norm(points, axis=1)[:, None]
    mesh = welded(np.round(points / radius, 9) * radius, np.concatenate(faces))
    volume = 4 / 3 * np.pi * radius**3
    return Specimen("sphere", mesh, lambda p: np.linalg.norm(p, axis=1) - radius, volume, np.zeros(3), radius)


def bored_box(size: float, n: int = 120) -> Specimen:
    """A square block with a round bore right through, sharp edges and all."""
    half, bore, tall = 0.5 * size, 0.22 * size, 0.3 * size
    quarter = n // 4
    s = np.linspace(-1, 1, quarter + 1)[:-1]
    square = np.concatenate(
        [np.column_stack([one, two]) for one, two in ((s * 0 + 1, s), (-s, s * 0 + 1), (s * 0 - 1, -s), (s, s * 0 - 1))]
    )
    circle = square / np.linalg.norm(square, axis=1)[:, None]
    k = 14
    blend = np.linspace(0, 1, k)[:, None, None]
    annulus = (1 - blend) * half * square + blend * bore * circle
    levels = np.linspace(tall / 2, -tall / 2, 16)
    top = np.concatenate([annulus, np.full((*annulus.shape[:2], 1), tall / 2)], -1)
    bottom = top[::-1] * [1, 1, -1]
    inner = np.concatenate(
        [np.broadcast_to(bore * circle, (16, *circle.shape)), np.broadcast_to(levels[:, None, None], (16, n, 1))], -1
    )
    outer = np.concatenate(
        [np.broadcast_to(half * square, (16, *square.shape)), np.broadcast_to(levels[::-1, None, None], (16, n, 1))],
        -1,
    )
    rows = np.concatenate([top, inner[1:], bottom[1:], outer[1:]])
    mesh = welded(rows.reshape(-1, 3), grid_faces(len(rows), n, False, True, True))

    def distance(p: np.ndarray) -> np.ndarray:
        q = np.abs(p) - [half, half, tall / 2]
        block = np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)
        return np.maximum(block, bore - np.hypot(p[:, 0], p[:, 1]))

    # the bore is meshed as a polygon of unequal sides; its area is reckoned from those
    ring = bore * circle
    hole = 0.5 * np.abs(np.sum(ring[:, 0] * np.roll(ring[:, 1], -1) - np.roll(ring[:, 0], -1) * ring[:, 1]))
    middle = np.array([0.0, 0.36 * size, 0.0])
    return Specimen("bored box", mesh, distance, (4 * half**2 - hole) * tall, middle, 0.13 * size)


@dataclass
class Damaged:
    """A damaged mesh, and which of its triangles no finding names."""

    mesh: Mesh
    good: np.ndarray
    holes: int
    crumbs: int
    voids: int


def damage(
    specimen: Specimen,
    rng: np.random.Generator,
    holes: int = 4,
    crumbs: int = 5,
    voids: int = 1,
    flips: float = 0.002,
    doubles: float = 0.002,
    pinches: float = 0.0005,
    hole_radius: float = 0.05,
) -> Damaged:
    """Damage a specimen; rates are shares of its triangles, the hole radius a share of its diagonal."""
    mesh = specimen.mesh
    vertices, faces = mesh.vertices, mesh.faces.copy()
    middles = vertices[faces].mean(axis=1)
    tree = cKDTree(middles)
    gone = np.zeros(len(faces), dtype=bool)
    centres: list[np.ndarray] = []
    while len(centres) < holes:
        centre = middles[rng.integers(len(faces))]
        if all(np.linalg.norm(centre - c) > 2.5 * hole_radius * mesh.diagonal for c in centres):
            centres.append(centre)
            gone[tree.query_ball_point(centre, rng.uniform(0.4, 1) * hole_radius * mesh.diagonal)] = True
    faces = faces[~gone]
    # a pinch: a vertex is put in the place of another two edges away
    good = np.ones(len(faces), dtype=bool)
    for v in rng.choice(np.unique(faces), round(pinches * len(faces)), replace=False):
        ring = np.unique(faces[(faces == v).any(axis=1)])
        second = np.setdiff1d(np.unique(faces[np.isin(faces, ring).any(axis=1)]), ring)
        if len(second) == 0:
            continue
        w = rng.choice(second)
        good &= ~((faces == v) | (faces == w)).any(axis=1)
        faces[faces == w] = v
    flipped = rng.choice(len(faces), round(flips * len(faces)), replace=False)
    faces[flipped] = faces[flipped][:, ::-1]
    doubled = rng.choice(len(faces), round(doubles * len(faces)), replace=False)
    parts = [(vertices, faces), (np.empty((0, 3)), faces[doubled])]
    ball = sphere(1.0, 6).mesh
    low, high = mesh.box
    for _ in range(crumbs):
        size = rng.uniform(0.004, 0.02) * mesh.diagonal
        while True:
            place = rng.uniform(low - 0.1 * mesh.diagonal, high + 0.1 * mesh.diagonal)
            if specimen.distance(place[None])[0] > size:
                break
        parts.append((ball.vertices * size + place, ball.faces))
    for _ in range(voids):
        offset = rng.uniform(-0.2, 0.2, 3) * specimen.room
        parts.append((ball.vertices * specimen.room * 0.5 + specimen.inside + offset, ball.faces[:, ::-1]))
    starts = np.cumsum([0] + [len(p[0]) for p in parts])
    starts[2] = starts[1]
    starts[1] = 0
    all_faces = np.concatenate([f + start for (_, f), start in zip(parts, starts[:-1], strict=True)])
    all_vertices = np.concatenate([p[0] for p in parts]).astype(np.float32).astype(float)
    flags = np.zeros(len(all_faces), dtype=bool)
    flags[: len(faces)] = good
    flags &= ~knotted(all_faces)[all_faces].any(axis=1)
    return Damaged(Mesh(all_vertices, all_faces), flags, holes, crumbs, voids)


def knotted(faces: np.ndarray) -> np.ndarray:
    """Vertices at an edge of three or more triangles, or whose triangles form several fans; bool."""
    count = int(faces.max()) + 1
    ends = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
    edges, uses = np.unique(ends, axis=0, return_counts=True)
    bad = np.zeros(count, dtype=bool)
    bad[edges[uses > 2]] = True
    # one fan: among the edges opposite the vertex, ends of odd number are none (closed) or two (open)
    odd = np.zeros(count, dtype=np.int64)
    np.add.at(odd, edges[uses == 1].ravel(), 1)
    bad |= odd > 2
    return bad


def sample_surface(mesh: Mesh, count: int, rng: np.random.Generator) -> np.ndarray:
    """Points spread evenly over a surface."""
    a, b, c = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    chosen = rng.choice(len(area), count, p=area / area.sum())
    weights = rng.dirichlet([1, 1, 1], count)
    return weights[:, :1] * a[chosen] + weights[:, 1:2] * b[chosen] + weights[:, 2:] * c[chosen]


def closed_faults(vertices: np.ndarray, faces: np.ndarray) -> str:
    """What an independent look finds wrong with a solid; empty for a closed, oriented one of volume."""
    ends = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]).astype(np.int64)
    key, count = np.unique(ends[:, 0] * len(vertices) + ends[:, 1], return_counts=True)
    if (count > 1).any():
        return f"{(count > 1).sum()} edges twice in one direction"
    if not np.array_equal(key, np.unique(ends[:, 1] * len(vertices) + ends[:, 0])):
        return "an edge without its opposite"
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    volume = np.einsum("ij,ij->i", a - vertices[0], np.cross(b - vertices[0], c - vertices[0])).sum() / 6
    return "" if volume > 0 else f"volume {volume}"


def read_stl(path: str) -> tuple[np.ndarray, np.ndarray]:
    """Vertices and faces of a binary STL, in a few lines that share nothing with the product."""
    raw = np.fromfile(path, np.uint8)[84:].reshape(-1, 50)[:, 12:48].copy()
    corners = raw.view("<f4").reshape(-1, 3).astype(float) + 0.0
    vertices, index = np.unique(corners, axis=0, return_inverse=True)
    return vertices, index.reshape(-1, 3)


def triangle_set(mesh_vertices: np.ndarray, faces: np.ndarray) -> set[bytes]:
    """Each triangle as the bytes of its corners, whichever way round it is written down."""
    corners = mesh_vertices.astype(np.float32)[faces] + np.float32(0.0)
    order = np.lexsort((corners[..., 2], corners[..., 1], corners[..., 0]))
    corners = np.take_along_axis(corners, order[..., None], axis=1)
    return {t.tobytes() for t in corners.reshape(-1, 9)}


def ragged(rng: np.random.Generator, mesh: Mesh, depth: int, share: float) -> Mesh:
    """The largest shell of a mesh whose rim has lost triangles at random, row by row."""
    keep = np.ones(len(mesh.faces), bool)
    for _ in range(depth):
        now, numbers = keep_triangles(mesh, keep), np.flatnonzero(keep)
        on = np.zeros(len(now.vertices), bool)
        on[now.faces.ravel()[now.loops.halfedges]] = True
        rim = on[now.faces].any(axis=1)
        keep[numbers[rim & (rng.random(len(numbers)) < share)]] = False
    left = keep_triangles(mesh, keep)
    return keep_triangles(left, left.shells.label == np.argmax(left.shells.triangles))
