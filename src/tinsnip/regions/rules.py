"""Finding triangles by a rule: how they face, how high they lie, their edges, their shells, their colour."""

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Domain, Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.regions.grow import grown

__all__ = [
    "along_edge", "coloured_like",
    "deviating",
    "edge_rows",
    "facing",
    "groups_of",
    "high",
    "in_group",
    "long_edged",
    "small_shells",
    "smoothed_border",
]  # fmt: skip


def facing(mesh: Mesh, direction: np.ndarray, within_degrees: float) -> np.ndarray:
    """Triangles that face a unit direction within an angle, bool, shape (F,).

    Parameters
    ----------
    mesh : Mesh
    direction : ndarray, shape (3,)
        Unit.
    within_degrees : float
    """
    vectors = face_vectors(mesh.vertices, mesh.faces)
    length = np.linalg.norm(vectors, axis=1)
    return (length > 0) & (vectors @ direction >= np.cos(np.radians(within_degrees)) * length)


def high(mesh: Mesh, height: float, above: bool) -> np.ndarray:
    """Triangles that lie whole above a height over the bed, mm, or whole below it.

    Parameters
    ----------
    mesh : Mesh
    height : float
        In mm.
    above : bool
    """
    z = mesh.vertices[:, 2][mesh.faces]
    return (z > height).all(axis=1) if above else (z < height).all(axis=1)


def long_edged(mesh: Mesh, length: float, longer: bool) -> np.ndarray:
    """Triangles with an edge longer than so many mm, or with all their edges shorter.

    Parameters
    ----------
    mesh : Mesh
    length : float
        In mm.
    longer : bool
    """
    corners = mesh.vertices[mesh.faces]
    longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    return longest > length if longer else longest < length


def small_shells(mesh: Mesh, triangles: int) -> np.ndarray:
    """All of the shells with fewer triangles than so many.

    Parameters
    ----------
    mesh : Mesh
    triangles : int
    """
    shells = mesh.shells
    return (shells.label >= 0) & (shells.triangles < triangles)[np.maximum(shells.label, 0)]


def coloured_like(mesh: Mesh, triangle: int, tolerance: float) -> np.ndarray:
    """Triangles whose scan colour is that of one, within a share of the whole range.

    Parameters
    ----------
    mesh : Mesh
    triangle : int
        Its number.
    tolerance : float
        Share of the range, 0 to 1.

    Raises
    ------
    BadInput
        When the mesh has no colour.
    """
    if mesh.colour is None:
        raise BadInput("the scan has no colour; select another way")
    colours = mesh.colour[mesh.faces].mean(axis=1)
    return np.abs(colours - colours[triangle]).max(axis=1) <= 255.0 * tolerance


def deviating(mesh: Mesh, signed: np.ndarray, more_than: float) -> np.ndarray:
    """Triangles of which a corner deviates from the raw scan by more than so many mm; `signed` is per vertex.

    Parameters
    ----------
    mesh : Mesh
    signed : ndarray, shape (V,)
        Signed distances, mm.
    more_than : float
        In mm.
    """
    far = np.abs(np.nan_to_num(signed, nan=0.0)) > more_than
    return far[mesh.faces].any(axis=1)


def groups_of(mesh: Mesh) -> dict[str, str]:
    """Attributes by which triangles come in groups, such as ``group`` or ``material``, and what they are called.

    Parameters
    ----------
    mesh : Mesh
    """
    known = {"group": "group", "material": "material"}
    return {
        name: text
        for name, text in known.items()
        if name in mesh.attributes and mesh.attributes[name].domain is Domain.TRIANGLE
    }


def in_group(mesh: Mesh, triangle: int) -> np.ndarray:
    """Triangles of the same material or group, as imported, as one.

    Parameters
    ----------
    mesh : Mesh
    triangle : int
        Its number.

    Raises
    ------
    BadInput
        When the scan came without groups or materials.
    """
    names = groups_of(mesh)
    if not names:
        raise BadInput("the scan came without groups or materials; select another way")
    values = mesh.attributes[next(iter(names))].values
    return values == values[triangle]


def _nearest_edge(mesh: Mesh, point: np.ndarray) -> tuple[int, int]:
    """The open boundary nearest to a point, and which of its edges."""
    loops = mesh.loops
    if len(loops) == 0:
        raise BadInput("the part has no open edge")
    corner = mesh.faces.ravel()
    a = corner[loops.halfedges]
    b = corner[np.where(loops.halfedges % 3 == 2, loops.halfedges - 2, loops.halfedges + 1)]
    p, q = mesh.vertices[a], mesh.vertices[b]
    way = q - p
    t = np.clip(((point - p) * way).sum(axis=1) / np.maximum((way**2).sum(axis=1), 1e-300), 0, 1)
    nearest = int(np.argmin(((p + t[:, None] * way - point) ** 2).sum(axis=1)))
    loop = int(np.searchsorted(loops.start, nearest, side="right")) - 1
    return loop, nearest - int(loops.start[loop])


def along_edge(mesh: Mesh, point: np.ndarray, other: np.ndarray | None = None) -> np.ndarray:
    """The triangles along the open edge nearest to a point, or along the shorter stretch of it to another point.

    Parameters
    ----------
    mesh : Mesh
    point, other : ndarray, shape (3,)
        mm.

    Returns
    -------
    ndarray of int, shape (K,)

    Raises
    ------
    BadInput
        When the mesh has no open edge, or the two points lie at different ones.
    """
    loop, first = _nearest_edge(mesh, point)
    halves = mesh.loops.loop(loop)
    if other is None:
        return np.unique(halves // 3)
    there, last = _nearest_edge(mesh, other)
    if there != loop:
        raise BadInput("the two points lie at different edges; click both at one")
    first, last = min(first, last), max(first, last)
    direct = halves[first : last + 1]
    around = np.concatenate([halves[last:], halves[: first + 1]])

    def long(some: np.ndarray) -> float:
        corner = mesh.faces.ravel()
        ends = corner[np.where(some % 3 == 2, some - 2, some + 1)]
        return float(np.linalg.norm(mesh.vertices[corner[some]] - mesh.vertices[ends], axis=1).sum())

    return np.unique((direct if long(direct) <= long(around) else around) // 3)


def edge_rows(mesh: Mesh, triangle: int, point: np.ndarray, rows: int) -> np.ndarray:
    """So many rows of triangles along the open edge nearest to a point of the surface, bool, shape (F,).

    Parameters
    ----------
    mesh : Mesh
    triangle : int
        Its number.
    point : ndarray, shape (3,)
        In mm.
    rows : int
        At least 0.

    Raises
    ------
    BadInput
        When the mesh has no open edge.
    """
    loop, _ = _nearest_edge(mesh, point)
    touched = np.zeros(len(mesh.vertices), dtype=bool)
    touched[mesh.faces.ravel()[mesh.loops.loop(loop)]] = True
    return grown(mesh, touched[mesh.faces].any(axis=1), rows - 1)


def smoothed_border(mesh: Mesh, chosen: np.ndarray, rounds: int = 3) -> np.ndarray:
    """A selection with its border smoothed: each triangle goes with most of those round it, a few times over.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    rounds : int
    """
    twins = mesh.twins.reshape(-1, 3)
    there = np.maximum(twins, 0) // 3
    known = twins >= 0
    for _ in range(rounds):
        votes = np.where(known, chosen[there], chosen[:, None]).sum(axis=1)
        fresh = votes >= 2
        if (fresh == chosen).all():
            break
        chosen = fresh
    return chosen
