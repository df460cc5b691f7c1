"""Two thousand sorts of scan: shapes, and what may have been done to them, at random."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from tests import specimens
from tests.test_shapes import klein, moebius, put, sheet, together, tube
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.treat import Context, StraightSnip


@dataclass
class RandomScan:
    """A scan, what of it is surface of the part (all but voids and crumbs), and whether it has open rims."""

    kind: str
    mesh: Mesh
    part: Mesh
    has_rim: bool = False
    clean: bool = False


def solid(rng: np.random.Generator, size: float) -> specimens.Specimen:
    make = (specimens.sphere, specimens.torus, specimens.bored_box)[rng.integers(3)]
    return make(size, 4 * int(rng.integers(3, 7)))


def moved(rng: np.random.Generator, mesh: Mesh, size: float) -> Mesh:
    """Turned, and off the origin by up to ten sizes; as single precision holds it."""
    turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    turn *= np.sign(np.linalg.det(turn))
    places = mesh.vertices @ turn.T + rng.normal(size=3) * size * rng.choice([0, 1, 10])
    return Mesh(places.astype(np.float32).astype(float), mesh.faces)


def clean(rng: np.random.Generator, size: float) -> RandomScan:
    mesh = moved(rng, solid(rng, size).mesh, size)
    return RandomScan("clean", mesh, mesh, clean=True)


def thin(rng: np.random.Generator, size: float) -> RandomScan:
    """A plate or a cup's wall, down to a three-hundredth of its size thick."""
    wall = size * 10 ** rng.uniform(-2.5, -1)
    outer = solid(rng, size).mesh if rng.integers(2) else specimens.sphere(size, 16).mesh
    is_ball = abs(np.ptp(np.linalg.norm(outer.vertices, axis=1))) < 1e-6 * size
    is_flat = bool(rng.integers(2))
    if is_flat:
        mesh = Mesh(outer.vertices * [1, 1, wall / size], outer.faces)
    else:
        inner = Mesh(outer.vertices * (1 - 2 * wall / size), outer.faces[:, ::-1])
        mesh = StraightSnip(offset=0.1 * size, close=True, waste="above").apply(together(outer, inner), Context()).mesh
    mesh = moved(rng, mesh, size)
    # a bore or a ring drawn together about its middle crosses itself
    return RandomScan("thin", mesh, mesh, clean=len(mesh.shells) == 1 and (is_flat or is_ball))


def holed(rng: np.random.Generator, size: float) -> RandomScan:
    mesh = solid(rng, size).mesh
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    keep = np.ones(len(mesh.faces), dtype=bool)
    for _ in range(rng.integers(1, 6)):
        centre = middles[rng.integers(len(middles))]
        keep &= np.linalg.norm(middles - centre, axis=1) > size * rng.uniform(0.03, 0.35)
    mesh = moved(rng, keep_triangles(mesh, keep), size)
    return RandomScan("holes", mesh, mesh, has_rim=True)


def damaged(rng: np.random.Generator, size: float) -> RandomScan:
    specimen = solid(rng, size)
    found = specimens.damage(
        specimen, rng, holes=int(rng.integers(4)), crumbs=int(rng.integers(12)), voids=int(rng.integers(3)),
        flips=rng.uniform(0, 0.05), doubles=rng.uniform(0, 0.05), pinches=rng.uniform(0, 0.01),
    )  # fmt: skip
    return RandomScan("damaged", found.mesh, specimen.mesh, has_rim=True)


def soup(rng: np.random.Generator, size: float) -> RandomScan:
    """Triangles, or patches, whose seams were never welded."""
    mesh = solid(rng, size).mesh
    patch = rng.integers(0, int(rng.choice([3, 20, 100_000])), len(mesh.faces))
    code = mesh.faces.astype(np.int64) + len(mesh.vertices) * patch[:, None]
    used, index = np.unique(code, return_inverse=True)
    places = mesh.vertices[used % len(mesh.vertices)]
    jitter = rng.normal(size=places.shape) * size * rng.choice([1e-6, 1e-4])
    mesh = Mesh((places + jitter).astype(np.float32).astype(float), index.reshape(-1, 3))
    return RandomScan("unwelded", mesh, mesh, has_rim=True)


def pieces(rng: np.random.Generator, size: float) -> RandomScan:
    """Several solids: of like size or not, apart, touching, crossing, one in another."""
    parts = []
    for _ in range(rng.integers(2, 7)):
        one = solid(rng, size * rng.choice([1.0, 1.0, 0.4, 0.15])).mesh
        parts.append(put(one, tuple(size * rng.choice([0, 0.3, 1, 3]) * rng.normal(size=3)), bool(rng.random() < 0.1)))
    mesh = together(*parts)
    return RandomScan("pieces", mesh, mesh)


def sparse(rng: np.random.Generator, size: float) -> RandomScan:
    mesh = solid(rng, size).mesh
    mesh = moved(rng, keep_triangles(mesh, rng.random(len(mesh.faces)) > rng.uniform(0.02, 0.5)), size)
    return RandomScan("sparse", mesh, mesh, has_rim=True)


def sheets(rng: np.random.Generator, size: float) -> RandomScan:
    """Flat, domed, dented and rough sheets; a ring; a pipe."""
    kind = rng.integers(4)
    if kind == 3:
        mesh = tube(size * 0.4, size * 10 ** rng.uniform(-2, 0.5), 24, 6)
    else:
        mesh = sheet(size, 14, rng.uniform(-0.5, 0.5) if kind else 0.0)
        mesh = Mesh(
            mesh.vertices + [0, 0, 1] * rng.normal(size=(len(mesh.vertices), 1)) * 0.01 * size * (kind == 2), mesh.faces
        )
    mesh = moved(rng, mesh, size)
    return RandomScan("sheets", mesh, mesh, has_rim=True)


def cut(rng: np.random.Generator, size: float) -> RandomScan:
    """A dome or a box without a bottom, ragged or cut clean, inside out or not."""
    mesh = StraightSnip(normal=tuple(rng.normal(size=3)), offset=size * rng.uniform(-0.3, 0.1)).apply(
        solid(rng, size).mesh, Context()
    ).mesh  # fmt: skip
    if rng.integers(2):
        mesh = keep_triangles(mesh, rng.random(len(mesh.faces)) > 0.002)
    mesh = moved(rng, Mesh(mesh.vertices, mesh.faces[:, :: rng.choice([-1, 1])]), size)
    return RandomScan("cut", mesh, mesh, has_rim=True)


def nonsense(rng: np.random.Generator, size: float) -> RandomScan:
    """What is no part: one-sided bands, single triangles, triangles at random."""
    kind = rng.integers(4)
    if kind == 0:
        mesh = moebius(size, 4 * int(rng.integers(8, 20)), 4)
    elif kind == 1:
        mesh = klein(size, 24, 12)
    else:
        count = int(rng.choice([1, 2, 5, 60, 300]))
        mesh = Mesh(size * rng.random((max(3, count), 3)), rng.integers(0, max(3, count), (count, 3)))
    return RandomScan("nonsense", mesh, mesh, has_rim=True)


KINDS: tuple[Callable[[np.random.Generator, float], RandomScan], ...] = (
    clean, thin, holed, damaged, soup, pieces, sparse, sheets, cut, nonsense,
)  # fmt: skip


def random_scan(seed: int) -> RandomScan:
    """The scan of a number; sorts and sizes take turns."""
    rng = np.random.default_rng(seed)
    return KINDS[seed % len(KINDS)](rng, (2.0, 200.0, 2000.0)[seed // len(KINDS) % 3])
