"""Ragged rims: open edges that turn back and forth, as a torn or a brushed-away border does."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import remembered
from tinsnip.survey.finding import Finding, Kind
from tinsnip.survey.holes import Boundaries, classify_boundaries

__all__ = ["find_rags", "ragged_rims"]

_SHARP = np.cos(np.radians(60))
_FEWEST = 6
_FLAT = 2e-6
"""Share of the part's size within which a plane's cut is flat, also when read back from single precision."""
_SEEN = 0.2
"""Share of a rim's usual edge below which an edge is too short to make it look ragged."""
_SHARE = 0.04
"""Of a rim's vertices, from which on it is ragged as a whole; a plate with a few corners is not."""


@remembered
def ragged_rims(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """Which boundary loops are ragged rims: bool, shape (L,); and how many sharp turns each loop has.

    Parameters
    ----------
    mesh : Mesh
    """
    loops = mesh.loops
    if len(loops) == 0:
        return np.zeros(0, dtype=bool), np.zeros(0, dtype=np.int64)
    half, corner, begin = loops.halfedges, mesh.faces.ravel(), loops.start[:-1]
    along = mesh.vertices[corner[half - half % 3 + (half + 1) % 3]] - mesh.vertices[corner[half]]
    before = np.arange(len(half)) - 1
    before[begin] = loops.start[1:] - 1
    size = np.linalg.norm(along, axis=1)
    sharp = (along * along[before]).sum(axis=1) < _SHARP * size * size[before]
    # where a cut passes close by a vertex it leaves edges too short to be seen, which may point anywhere
    usual = np.repeat(np.add.reduceat(size, begin) / np.diff(loops.start), np.diff(loops.start))
    sharp &= np.minimum(size, size[before]) > _SEEN * usual
    turns = np.add.reduceat(sharp.astype(np.int64), begin)
    many = (turns >= _FEWEST) & (turns >= _SHARE * np.diff(loops.start))
    measured = classify_boundaries(mesh)
    return many & measured.is_rim & ~_cut_by_a_plane(mesh, measured), turns


def _cut_by_a_plane(mesh: Mesh, measured: Boundaries) -> np.ndarray:
    """Loops that lie in one plane as no scanner's border does: fresh cuts, however they turn; bool, shape (L,)."""
    loops = mesh.loops
    normal = measured.vector_area / np.maximum(np.linalg.norm(measured.vector_area, axis=1), 1e-300)[:, None]
    points = mesh.vertices[mesh.faces.ravel()[loops.halfedges]]
    number = np.repeat(np.arange(len(loops)), np.diff(loops.start))
    heights = np.einsum("ij,ij->i", points - points[loops.start[number]], normal[number])
    spread = np.maximum.reduceat(heights, loops.start[:-1]) - np.minimum.reduceat(heights, loops.start[:-1])
    return spread <= _FLAT * mesh.diagonal


def find_rags(mesh: Mesh) -> list[Finding]:
    """A finding for each ragged rim, the one with most sharp turns first.

    Parameters
    ----------
    mesh : Mesh
    """
    ragged, turns = ragged_rims(mesh)
    measured, corner = classify_boundaries(mesh), mesh.faces.ravel()
    found = np.flatnonzero(ragged)
    return [
        Finding(
            id=f"E{number}",
            kind=Kind.RAGGED,
            text="ragged edge",
            place=measured.centre[i],
            size=float(measured.length[i]),
            count=int(turns[i]),
            proposal="tidy",
            key=int(mesh.loops.loop(i).min()),
            outline=mesh.vertices[corner[mesh.loops.loop(i)]],
        )
        for number, i in enumerate(found[np.argsort(-turns[found], kind="stable")], 1)
    ]
