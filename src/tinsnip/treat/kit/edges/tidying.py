"""Making a ragged open edge good: spikes cut, notches filled, pinches split, short edges drawn together."""

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import MADE, Lineage, Mesh
from tinsnip.mesh.mesh import SHIFTED
from tinsnip.mesh.subsets import compact
from tinsnip.progress import check_here
from tinsnip.regions import Region
from tinsnip.treat.account import Account
from tinsnip.treat.kit.edges.rimwork import Band, next_row
from tinsnip.treat.treatment import Context, Outcome
from tinsnip.words import at_most, counted

__all__ = ["tidy_edges"]

_TURNS = 24
_FEW = 1
_SHORT = 0.22
"""Edges of the line shorter than this share of the mean are drawn together; a little more than is promised."""


def tidy_edges(mesh: Mesh, edges: Region, rows: int, strength: float, context: Context) -> Outcome:
    """Tidy open edges.

    Parameters
    ----------
    mesh : Mesh
    edges : Region
        Triangles along the edges, or the stretches, that are tidied; all, where it is empty.
    rows : int
        How many rows of triangles from the edge it may reach.
    strength : float
        How much the line is smoothed, 0 to 1.
    context : Context
    """
    context.progress.step("Tidying")
    corner = mesh.faces.ravel()
    halves = mesh.loops.halfedges
    none = {"spikes": 0, "notches": 0, "pinches": 0, "short": 0, "left": 0}
    others = np.zeros(len(mesh.vertices), dtype=bool)
    if edges and len(halves):
        chosen = edges.resolve(mesh)[halves // 3]
        count = np.diff(mesh.loops.start)
        share = np.add.reduceat(chosen, mesh.loops.start[:-1], dtype=np.int64)
        meant = (2 * share > count) | (share == share.max())  # the rest has triangles in common with these
        others[corner[halves[~np.repeat(meant, count)]]] = True
        halves = halves[chosen]
    if len(halves) == 0:
        return Outcome(mesh, "No open edge to tidy", Account(figures=none))
    line = np.zeros(len(mesh.vertices), dtype=bool)
    line[corner[halves]] = True
    line[corner[np.where(halves % 3 == 2, halves - 2, halves + 1)]] = True
    # a line that is good but for short edges and its course needs one row only
    for most in sorted({min(_FEW, rows), rows}):
        band_faces, used, band = _band_along(mesh, line, others, most)
        _tidy(band, strength)
        left = len(band.bent()[0])
        if left == 0 and not band.is_barred:
            break
    return _outcome(mesh, band, band_faces, used, left, rows)


def _tidy(band: Band, strength: float) -> None:
    """Work on the line until nothing is left to do; one that is clean stays as it is."""
    band.split_pinches()
    band.keep_corners()
    if band.is_clean(_SHORT * band.mean_edge()):
        return
    for _ in range(_TURNS):
        check_here()
        changed = band.cut_and_fill()
        band.split_pinches()
        changed += band.draw_together(_SHORT * band.mean_edge())
        band.smooth(0.5 * max(strength, 0.02), 1 + round(6 * strength))
        if not changed and not band.bent()[0]:
            break


def _outcome(mesh: Mesh, band: Band, band_faces: np.ndarray, used: np.ndarray, left: int, rows: int) -> Outcome:
    """The mesh with the band as it is now."""
    places = band.places
    came_from = used[np.array(band.came_from)]
    count = len(used)
    number = np.concatenate([used, len(mesh.vertices) + np.arange(len(places) - count)])
    vertices = np.concatenate([mesh.vertices, places[count:]])
    vertices[used] = places[:count]
    moved = np.zeros(len(vertices), dtype=bool)
    moved[number] = (places != mesh.vertices[came_from]).any(axis=1)
    keys = sorted(band.faces)
    own = number[np.array([band.faces[f] for f in keys], dtype=np.int64).reshape(-1, 3)]
    parents = np.array([band.parent[f] for f in keys], dtype=np.int64)
    parents = np.where(parents < 0, -1, band_faces[np.maximum(parents, 0)])
    rest = np.ones(len(mesh.faces), dtype=bool)
    rest[band_faces] = False
    kept = np.flatnonzero(rest)
    faces = np.concatenate([mesh.faces[kept], own]).astype(np.int32)
    if len(faces) == 0:
        raise BadInput("the part is nothing but ragged edge; nothing would be left of it")
    triangles = np.concatenate([kept, parents])
    order = np.argsort(np.where(triangles < 0, len(mesh.faces), triangles), kind="stable")
    faces, triangles = faces[order], triangles[order]
    figures = {
        "spikes": band.spikes, "notches": band.notches, "pinches": band.pinches, "short": band.short, "left": left,
    }  # fmt: skip
    if len(faces) == len(mesh.faces) and not moved.any() and (faces == mesh.faces).all():
        return Outcome(mesh, "The open edge is tidy", Account(figures=figures))
    provenance = np.full(len(faces), MADE, dtype=np.uint8)
    old = triangles >= 0
    provenance[old] = mesh.provenance[triangles[old]]
    provenance[moved[faces].any(axis=1) & (provenance == 0)] = SHIFTED
    lineage = Lineage(np.concatenate([np.arange(len(mesh.vertices)), came_from[count:]]), triangles)
    farthest = float(np.linalg.norm(places - mesh.vertices[came_from], axis=1).max())
    text = ", ".join(
        counted(number, *words)
        for number, words in (
            (band.spikes, ("spike cut", "spikes cut")), (band.notches, ("notch filled", "notches filled")),
            (band.pinches, ("pinch split", "pinches split")),
            (band.short, ("short edge drawn together", "short edges drawn together")),
        )
        if number
    )  # fmt: skip
    said = f"Tidied: {text + ', ' if text else ''}the line moved by {at_most(farthest)} mm at most"
    if left:
        said += f"; {counted(left, 'sharp turn')} left, as {counted(rows, 'row')} were too few"
    return Outcome(compact(mesh.derive(faces, lineage, vertices, provenance)), said, Account(figures=figures))


def _band_along(mesh: Mesh, line: np.ndarray, others: np.ndarray, rows: int) -> tuple[np.ndarray, np.ndarray, Band]:
    """The triangles within so many rows of a line and one row more, their vertices, and the band of them."""
    reached = np.zeros(len(mesh.faces), dtype=bool)
    # row by row, among the triangles that the row before had reached only
    moves, front = line.copy(), line.copy()
    for row in range(rows + 1):
        fresh, ahead = np.zeros(len(mesh.faces), dtype=bool), np.zeros(len(mesh.vertices), dtype=bool)
        next_row(mesh.faces, front, reached, fresh, ahead)
        reached |= fresh
        front = ahead & ~moves
        if row < rows - 1:  # vertices within so many rows of triangles
            moves |= front
    check_here()
    band_faces = np.flatnonzero(reached)
    used, local = np.unique(mesh.faces[band_faces], return_inverse=True)
    # of other open edges in the band only what runs into the line is worked on
    band = Band(mesh.vertices[used], local.reshape(-1, 3), ~moves[used], line[used], others[used])
    return band_faces, used, band
