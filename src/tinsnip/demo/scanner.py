"""A simulated scanner: what it sees of a shape, and what it gets wrong."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from tinsnip.demo import shapes
from tinsnip.kernels import kernel
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import mean_edge, vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.isosurface import march

__all__ = ["Scene", "scan", "true_surface"]


@dataclass(frozen=True)
class Scene:
    """A shape, how it is looked at, and the faults to expect.

    Attributes
    ----------
    kind : int
        Which shape of `shapes`.
    box : tuple
        Lower and upper corner of all that can be seen, mm.
    bed : float
        Fillet between part and bed, mm; 0 for a part that does not stand on one.
    stations : tuple of tuples
        Where the scanner stood, mm.
    reach : tuple of two floats
        Half axes of the ragged ellipse of bed that is in view, mm.
    noise : float
        Standard deviation of a point seen head-on, mm.
    crumbs, spikes, tangles : int
        How many of each.
    void : tuple, optional
        Centre and half axes of an inner skin.
    paint : callable
        Colours (N, 3), 0 to 255, of points and normals.
    heights : tuple of two floats
        What lies in view between a ragged lower and upper edge, mm.
    """

    kind: int
    box: tuple[tuple[float, float, float], tuple[float, float, float]]
    bed: float
    stations: tuple[tuple[float, float, float], ...]
    reach: tuple[float, float]
    noise: float
    crumbs: int
    spikes: int
    tangles: int
    void: tuple[tuple[float, float, float], tuple[float, float, float]] | None
    paint: Callable[[np.ndarray, np.ndarray], np.ndarray]
    heights: tuple[float, float] = (-1e9, 1e9)


@kernel
def _add_neighbours(vertices, faces, total):
    """Add to each vertex's total the places of the two others of each of its triangles."""
    for k in range(3):
        for f in range(faces.shape[0]):
            v, a, b = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
            for i in range(3):
                total[v, i] += vertices[a, i] + vertices[b, i]


def true_surface(scene: Scene, h: float, bed: float, note: Callable[[float], None] = lambda share: None) -> Mesh:
    """The scene's surface as evenly meshed as marching allows, every vertex on it to about 1e-4 h.

    Parameters
    ----------
    scene : Scene
    h : float
        Length of the edges, mm.
    bed : float
        How far the part is blended into its bed, mm; 0: it has none.
    note : callable
        Told which share is done.
    """
    vertices, faces = march(lambda p: shapes.distances(scene.kind, p, bed), np.array(scene.box), h, note)
    neighbours = 2.0 * np.bincount(faces.ravel(), minlength=len(vertices))
    for last in (False, False, True):
        if not last:  # even the triangles out along the surface
            total = np.zeros_like(vertices)
            _add_neighbours(vertices, faces, total)
            shift = total / np.maximum(neighbours, 1)[:, None] - vertices
            normals = vertex_normals(vertices, faces)
            shift -= (shift * normals).sum(axis=1)[:, None] * normals
            vertices = vertices + 0.7 * shift
        for _ in range(2 if last else 1):
            slope = shapes.gradients(scene.kind, vertices, bed)
            value = shapes.distances(scene.kind, vertices, bed)
            step = value[:, None] * slope / np.maximum((slope**2).sum(axis=1), 0.25)[:, None]
            length = np.linalg.norm(step, axis=1)
            vertices = vertices - step * np.minimum(1.0, 0.5 * h / np.maximum(length, 1e-12))[:, None]
    return Mesh(vertices, faces)


def _ragged_reach(scene: Scene, points: np.ndarray) -> np.ndarray:
    angle = np.arctan2(points[:, 1], points[:, 0])
    frayed = 1 + 0.06 * np.sin(5 * angle + 1) + 0.04 * np.sin(17 * angle) + 0.025 * np.sin(43 * angle + 2)
    inside = np.hypot(points[:, 0] / scene.reach[0], points[:, 1] / scene.reach[1]) < frayed
    ragged = 1.2 * np.sin(7 * angle) + 0.7 * np.sin(23 * angle + 1) + 0.4 * np.sin(61 * angle)
    height = points[:, 2] + ragged
    return inside & (height > scene.heights[0]) & (height < scene.heights[1])


def scan(scene: Scene, triangles: int, seed: int, note: Callable[[str, float], None]) -> Mesh:
    """Scan a scene so that about `triangles` triangles come out; the same arguments give the same bits.

    Parameters
    ----------
    scene : Scene
    triangles : int
    seed : int
    note : callable
        Told what is going on, and the share done.

    Returns
    -------
    Mesh
        In mm, with vertex colours and every kind of fault that such a scan has.
    """
    rng = np.random.default_rng(seed)
    trial_h = 2.5
    note("Looking the scene over", 0.0)
    trial = _visible(scene, true_surface(scene, trial_h, scene.bed), rng, lambda share: None)
    h = trial_h * float(np.sqrt(len(trial.faces) / triangles))
    whole = true_surface(scene, h, scene.bed, lambda share: note("Meshing the scene", 0.05 + 0.45 * share))
    seen = _visible(scene, whole, rng, lambda share: note("Scanning", 0.5 + 0.35 * share))
    note("Adding what goes wrong", 0.9)
    edge = mean_edge(seen.vertices, seen.faces)
    vertices = _spiked(scene, seen, rng)
    mesh = Mesh(vertices, seen.faces, None, seen.attributes)
    mesh = _with_floating(scene, mesh, edge, rng)
    mesh = _tangled(scene, mesh, rng)
    # a scan file holds single precision
    mesh = mesh.moved(mesh.vertices.astype(np.float32).astype(np.float64))
    note("Done", 1.0)
    return mesh


def _visible(scene: Scene, whole: Mesh, rng: np.random.Generator, note: Callable[[float], None]) -> Mesh:
    """What at least one station sees, with noise that grows as the view gets flat, and colour."""
    points = whole.vertices
    normals = vertex_normals(points, whole.faces).astype(np.float64)
    # dropouts: the beam fails in patches where it comes in flat
    least = np.empty((len(points), len(scene.stations)))
    for i in range(len(scene.stations)):
        patchy = np.sin(points[:, 0] * 0.31 + i) * np.sin(points[:, 1] * 0.27 + 2 * i) * np.sin(points[:, 2] * 0.4)
        least[:, i] = 0.2 + 0.25 * patchy
    note(0.1)
    best = shapes.seen_from(scene.kind, points, normals, scene.bed, np.array(scene.stations), least)
    note(1.0)
    keep = (best > 0) & _ragged_reach(scene, points)
    height = rng.normal(0.0, scene.noise, len(points)) / np.sqrt(np.maximum(best, 0.1))
    colour = scene.paint(points, normals) + rng.normal(0, 5, (len(points), 1))
    noisy = Mesh(
        points + normals * height[:, None],
        whole.faces,
        None,
        {"colour": Attribute(Domain.VERTEX, np.clip(colour, 0, 255).astype(np.uint8))},
    )
    return keep_triangles(noisy, keep[whole.faces].all(axis=1))


def _spiked(scene: Scene, mesh: Mesh, rng: np.random.Generator) -> np.ndarray:
    """Single points thrown towards a station, most of them near an edge of what was seen."""
    vertices = mesh.vertices.copy()
    rim = np.unique(mesh.faces.ravel()[mesh.loops.halfedges])
    near = rng.choice(rim, min(len(rim), scene.spikes // 2), replace=False)
    anywhere = rng.choice(len(vertices), scene.spikes - len(near), replace=False)
    for v in np.concatenate([near, anywhere]):
        towards = np.array(scene.stations[rng.integers(len(scene.stations))]) - vertices[v]
        vertices[v] += towards / np.linalg.norm(towards) * rng.uniform(0.5, 2.0)
    return vertices


def _ball(centre: np.ndarray, axes: np.ndarray, edge: float, wobble: float, rng: np.random.Generator) -> Mesh:
    """A closed, slightly dented ellipsoid meshed at about the given edge length."""
    h = min(edge * 1.2, float(axes.min()) * 0.7)
    a, b = rng.uniform(0, 6, 2)

    def field(p: np.ndarray) -> np.ndarray:
        q = p / axes
        r = np.linalg.norm(q, axis=1)
        dent = wobble * np.sin(3 * q[:, 0] + a) * np.sin(4 * q[:, 1] + b)
        return (r - 1 + dent) * axes.min()

    reach = axes * 1.3 + 2 * h
    vertices, faces = march(field, np.array([-reach, reach]), h, lambda share: None)
    return Mesh(vertices + centre, faces)


def _with_floating(scene: Scene, mesh: Mesh, edge: float, rng: np.random.Generator) -> Mesh:
    """Crumbs of dust and reflections in the air, two larger chunks, and an inner skin."""
    parts = [(mesh.vertices, mesh.faces, mesh.colour)]
    low, high = (np.array(corner) for corner in scene.box)
    made = 0
    while made < scene.crumbs:
        place = rng.uniform(low * 0.9, high)
        place[2] = rng.uniform(max(8.0, scene.heights[0]), min(high[2] + 25.0, scene.heights[1]))
        radius = rng.uniform(0.6, 1.6) if made > 1 else 5.0
        if shapes.distances(scene.kind, place[None])[0] < 2 * radius + 2:
            continue
        crumb = _ball(place, radius * rng.uniform(0.7, 1.3, 3), edge, 0.1, rng)
        if made % 3 == 0:  # seen from one side only
            crumb = keep_triangles(crumb, crumb.vertices[crumb.faces][:, :, 2].mean(axis=1) > place[2])
            labels = crumb.shells
            crumb = keep_triangles(crumb, labels.label == int(np.argmax(labels.triangles)))
        parts.append((crumb.vertices, crumb.faces, np.full((len(crumb.vertices), 3), 150, np.uint8)))
        made += 1
    if scene.void is not None:
        skin = _ball(np.array(scene.void[0]), np.array(scene.void[1]), edge, 0.05, rng)
        parts.append((skin.vertices, skin.faces[:, ::-1], np.full((len(skin.vertices), 3), 90, np.uint8)))
    starts = np.cumsum([0] + [len(p[0]) for p in parts])
    faces = np.concatenate([p[1] + start for p, start in zip(parts, starts[:-1], strict=True)])
    colour = Attribute(Domain.VERTEX, np.concatenate([p[2] for p in parts]))
    return Mesh(np.concatenate([p[0] for p in parts]), faces, None, {"colour": colour})


def _tangled(scene: Scene, mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """Fins on an edge, doubled and flipped triangles: what a bad merge of views leaves behind."""
    vertices, faces = mesh.vertices, mesh.faces.copy()
    chosen = rng.choice(len(faces), 3 * scene.tangles, replace=False)
    finned, doubled, flipped = np.split(chosen, 3)
    a, b, c = (vertices[faces[finned][:, k]] for k in range(3))
    lift = np.cross(b - a, c - a)
    lift *= np.linalg.norm(b - a, axis=1)[:, None] / np.linalg.norm(lift, axis=1)[:, None]
    tips = 0.5 * (a + b) + lift
    fins = np.column_stack([faces[finned][:, :2], len(vertices) + np.arange(len(tips))])
    extra = faces[doubled]
    faces[flipped] = faces[flipped][:, ::-1]
    colour = np.concatenate([mesh.colour, mesh.colour[faces[finned][:, 0]]])
    return Mesh(
        np.concatenate([vertices, tips]),
        np.concatenate([faces, fins, extra]),
        None,
        {"colour": Attribute(Domain.VERTEX, colour)},
    )
