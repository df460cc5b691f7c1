"""A skin at the same distance from a surface everywhere, within it or outside: a level of its distance field."""

import numpy as np
from scipy import ndimage

from tinsnip.errors import BadInput
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import Progress, check_here, polled_here
from tinsnip.space.dualsurface import dual_surface, nodes_to_turn
from tinsnip.space.lattice import INSIDE, SIDE, Crossings, Lattice
from tinsnip.space.tree import closest_points
from tinsnip.space.winding import Winding
from tinsnip.treat.kit.skins.recasting import cleared

__all__ = ["STEPS_IN_OFFSET", "offset_skin"]

STEPS_IN_OFFSET = 6.0
"""So many cells in the offset at least: then each block lies on one side of the surface, all of it."""
_NODES = SIDE**3
_COARSE = 4
"""Blocks along the side of what is looked at first."""
_NEWTON = 4
_SHARP = 0.9
"""Cosine between the ways out of neighbours below which there is an edge between them."""
_FLAT = 0.1
"""Share of the largest of three squares below which planes say nothing in that way."""
_TURNED = 0.3
"""Cosine of how far a triangle may turn as its corners are put onto edges."""
_BACK = 6
_TURNS = 2
_MARGIN = 2
_MOST_TURNS = 40
_MOST_BLOCKS = 4_000_000


def offset_skin(
    vertices: np.ndarray, faces: np.ndarray, offset: float, step: float, progress: Progress, sheet: bool = False
) -> tuple[np.ndarray, np.ndarray, int]:
    """The surface at a distance from another, closed and turned outward, free of crossings as far as can be.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        Closed and outward, unless it is a sheet.
    offset : float
        Distance, mm: outside where above 0, within where below.
    step : float
        Width of a cell, mm; at most a `STEPS_IN_OFFSET`-th of the distance.
    sheet : bool
        The surface has no inside: the skin lies round it, on both sides.

    Returns
    -------
    vertices : ndarray, shape (N, 3)
        Each at the distance, to rounding.
    faces : ndarray of int32, shape (M, 3)
        None where nothing lies that far off.
    crossings : int

    Raises
    ------
    BadInput
        When there would be too many cells.
    """
    field, far = Winding(vertices, faces), abs(offset)
    progress.step("Looking for what lies that far off")
    lattice = _at_distance(field, offset, step, sheet)
    for _ in range(_MOST_TURNS):
        turn = nodes_to_turn(lattice)
        if len(turn) == 0:
            break
        lattice.inside[turn] = True
    progress.step("Drawing the skin")
    made = dual_surface(lattice, np.zeros((len(faces), 3)))
    if len(made.faces) == 0:
        return made.vertices, made.faces, 0
    progress.step("Bringing the skin to its distance")
    places, foot = made.vertices.copy(), np.empty_like(made.vertices)
    for turn in range(_TURNS):
        for _ in range(_NEWTON):
            away, _ = closest_points(field.tree, places, polled_here(), foot)
            check_here()
            reach = np.clip(far - away, -step, step)
            places += (reach / np.maximum(away, 1e-300))[:, None] * (places - foot)
        if turn < _TURNS - 1:
            places = _onto_edges(places, places - foot, made.faces, step)
    progress.step("Looking for crossings")
    places, crossings = cleared(made, places)
    return places, made.faces, crossings


def _onto_edges(places: np.ndarray, ways: np.ndarray, faces: np.ndarray, step: float) -> np.ndarray:
    """Vertices where the skin bends sharply, put where the planes of those round them meet (Ju et al. 2002).

    Two sides of a part have skins that meet in an edge; vertices beside it lie on the one or the other.
    """
    normals = ways / np.maximum(np.linalg.norm(ways, axis=1), 1e-300)[:, None]
    ends = np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(3)])
    bend = np.ones(len(places))
    np.minimum.at(bend, ends[:, 0], np.einsum("ij,ij->i", normals[ends[:, 0]], normals[ends[:, 1]]))
    sharp = np.flatnonzero(bend < _SHARP)
    if len(sharp) == 0:
        return places
    number = np.full(len(places), -1, dtype=np.int64)
    number[sharp] = np.arange(len(sharp))
    ends = ends[number[ends[:, 0]] >= 0]
    rows, of = np.concatenate([number[ends[:, 0]], np.arange(len(sharp))]), np.concatenate([ends[:, 1], sharp])
    n = normals[of]
    off = np.einsum("ij,ij->i", n, places[of] - places[sharp][rows])
    square = np.zeros((len(sharp), 3, 3))
    np.add.at(square, rows, n[:, :, None] * n[:, None, :])
    target = np.zeros((len(sharp), 3))
    np.add.at(target, rows, off[:, None] * n)
    size, axes = np.linalg.eigh(square)
    inverse = np.where(size > _FLAT * size[:, -1:], 1.0 / np.maximum(size, 1e-300), 0.0)
    move = np.einsum("nij,nj,nkj,nk->ni", axes, inverse, axes, target)
    length = np.linalg.norm(move, axis=1)
    move *= np.minimum(1.0, step / np.maximum(length, 1e-300))[:, None]
    moved = places.copy()
    moved[sharp] += move
    before = _facings(places, faces)
    for _ in range(_BACK):  # what would turn a triangle over stays where it was
        over = np.einsum("ij,ij->i", before, _facings(moved, faces)) < _TURNED
        back = np.unique(faces[over])
        if len(back) == 0:
            break
        moved[back] = places[back]
    return moved


def _facings(places: np.ndarray, faces: np.ndarray) -> np.ndarray:
    vectors = face_vectors(places, faces)
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]


def _at_distance(field: Winding, offset: float, step: float, sheet: bool) -> Lattice:
    """A lattice of the blocks that a level of the distance goes through, all their nodes signed."""
    far, used = abs(offset), np.unique(field.faces)
    box = np.stack([field.vertices[used].min(axis=0), field.vertices[used].max(axis=0)])
    room = max(offset, 0.0) + _MARGIN * SIDE * step
    low = box[0] - room
    whole = _COARSE * SIDE
    shape = np.ceil((box[1] + room - low) / (whole * step)).astype(np.int64) + 1
    if np.prod(shape.astype(float)) > _MOST_BLOCKS:
        raise BadInput(f"cells of {step:.3g} mm are too fine for so large a part; ask for a thicker wall")
    blocks = _near_level(field, low, step * whole, np.argwhere(np.ones(shape, dtype=bool)), far)
    inner = np.argwhere(np.ones((_COARSE,) * 3, dtype=bool))
    blocks = (_COARSE * blocks[:, None] + inner).reshape(-1, 3)
    blocks = _near_level(field, low, step * SIDE, blocks, far)
    # and those beside them, so that every cell the level goes through has its corners
    number = np.full(_COARSE * shape, -1, dtype=np.int32)
    taken = np.zeros(number.shape, dtype=bool)
    taken[tuple(blocks.T)] = True
    blocks = np.ascontiguousarray(np.argwhere(ndimage.binary_dilation(taken, np.ones((3, 3, 3), dtype=bool))))
    number[tuple(blocks.T)] = np.arange(len(blocks), dtype=np.int32)
    own = np.argwhere(np.ones((SIDE,) * 3, dtype=bool))
    places = low + step * (SIDE * blocks[:, None] + own)
    within = np.zeros(len(blocks), dtype=bool)
    if not sheet:
        within = field.at(places[:, _NODES // 2 + SIDE // 2]) > 0.5  # a block lies on one side, all of it
    away, _ = closest_points(field.tree, places.reshape(-1, 3), polled_here())
    check_here()
    signed = np.where(np.repeat(within, _NODES), away, -away)  # rising inward
    level = (signed + offset) / step
    nodes = len(signed)
    none = Crossings(*(np.empty(0, dtype=np.int32),) * 2, np.empty(0), np.empty(0, dtype=np.int32))
    return Lattice(
        low, step, number, blocks, level > 0, (INSIDE + level).astype(np.float32),
        np.full((nodes, 3), -1, dtype=np.int32), none,
    )  # fmt: skip


def _near_level(field: Winding, low: np.ndarray, width: float, blocks: np.ndarray, far: float) -> np.ndarray:
    """Of blocks of a width, those that a distance may be met in."""
    away, _ = closest_points(field.tree, low + width * (blocks + 0.5), polled_here())
    check_here()
    return blocks[np.abs(away - far) <= 0.5 * np.sqrt(3) * width]
