"""A skin at the same distance from a surface everywhere, within it or outside: a level of its distance field."""

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.progress import DONE, Progress, check_here, polled_here
from tinsnip.space.dualsurface import DualSurface, dual_surface, nodes_to_turn
from tinsnip.space.lattice import INSIDE, SHIFT, SIDE, Crossings, Lattice
from tinsnip.space.tree import closest_points
from tinsnip.space.winding import Winding
from tinsnip.treat.kit.skins.recasting import cleared

__all__ = ["cell_for", "offset_skin"]

_STEPS = 6.0
"""So many cells in the offset are fine enough for all but the sharpest edges."""
_FEWEST_STEPS = 3.0
"""With fewer cells in the offset, nodes beside the surface would lie on the skin."""
_CELLS = 120.0
"""Along the longest side; where there would be more, the coarser ones do."""
_NODES = SIDE**3
_IN_BLOCK = np.argwhere(np.ones((SIDE,) * 3, dtype=bool))
_EIGHTHS = [
    np.flatnonzero((at == _IN_BLOCK // 2).all(axis=1)) for at in np.argwhere(np.ones((SIDE // 2,) * 3, dtype=bool))
]
"""The nodes of a block by twos along each side."""
_COARSE = 4
"""Blocks along the side of what is looked at first."""
_CUTS = 2
"""How often it is asked where the skin cuts an edge of the lattice: each time from nearer by."""
_APART = 0.51
"""Steps off the surface from which neighbours lie on one side of it for sure: half of one, and what rounding may do."""
_SLANT = 0.2
_NEWTON = 2
_SHARP = 0.98
"""Length of the mean of the unit normals at a cell's cuts below which there is an edge in it."""
_FLAT = 0.02
"""Share of the largest of three squares below which planes say nothing in that way."""
_BEYOND_SHARP = 2
"""Rows of triangles round what bends."""
_OWN, _BEYOND = 0.55, 2.0
"""How far from the middle of its cell a vertex on an edge may come to lie, in cells: in its own, and in one that the
skin does not cut."""
_MARGIN = 2
"""Blocks round the skin."""
_MOST_TURNS = 40
"""Rounds of freeing the skin of crossings."""
_MOST_BLOCKS = 4_000_000
"""Blocks of the lattice."""


def cell_for(far: float, longest: float) -> float:
    """How wide the cells are in which a skin is drawn, mm.

    Parameters
    ----------
    far : float
        How far the skin lies off, mm.
    longest : float
        The part's longest side, mm.
    """
    return max(far / _STEPS, min(far / _FEWEST_STEPS, longest / _CELLS))


def offset_skin(
    vertices: np.ndarray,
    faces: np.ndarray,
    offset: float,
    step: float,
    progress: Progress,
    sheet: bool = False,
    everywhere: bool = True,
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
        Width of a cell, mm; at most a third of the distance.
    sheet : bool
        The surface has no inside: the skin lies round it, on both sides.
    everywhere : bool
        Look for crossings where the skin is flat too. They are next to impossible there; so who reduces the skin, and
        looks at all that is left, can do without.

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
    # what each step takes of the whole, as measured on demo parts
    with progress.part(0.0, 0.6):
        progress.step("Looking for what lies that far off")
        lattice = _at_distance(field, offset, step, sheet, progress)
    with progress.part(0.6, 0.7):
        progress.step("Drawing the skin")
        for _ in range(_MOST_TURNS):
            turn = nodes_to_turn(lattice)
            if len(turn) == 0:
                break
            lattice.inside[turn] = True
        made = dual_surface(lattice, np.zeros((len(faces), 3)))
    if len(made.faces) == 0:
        return made.vertices, made.faces, 0
    with progress.part(0.7, 0.88):
        progress.step("Bringing the skin to its distance")
        middles, places, calm = _at_features(made, lattice, field, far)
        drawn = np.flatnonzero((places != middles).any(axis=1))
        places = _at_its_distance(field, places, far, step)
        plain = places.copy()
        plain[drawn] = _at_its_distance(field, middles[drawn], far, step)
    with progress.part(0.88, 1.0):
        progress.step("Looking for crossings")
        # what crosses goes back to where no edge drew it to: it is as far off there
        asked = None if everywhere else np.flatnonzero(~calm[made.faces].all(axis=1))
        places, crossings = cleared(made._replace(vertices=plain, middles=middles), places, asked)
    return places, made.faces, crossings


def _at_its_distance(field: Winding, places: np.ndarray, far: float, step: float) -> np.ndarray:
    """Points brought straight to or away from a surface until they are so far off, to rounding."""
    places, foot = places.copy(), np.empty_like(places)
    for _ in range(_NEWTON):
        away, _ = closest_points(field.tree, places, polled_here(), foot)
        check_here()
        reach = np.clip(far - away, -step, step)
        places += (reach / np.maximum(away, 1e-300))[:, None] * (places - foot)
    return places


def _at_features(
    made: DualSurface, lattice: Lattice, field: Winding, far: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Where the vertices of a skin come to lie: on its edges and in its corners where their cells hold such.

    Where the skin cuts the edges of a cell, its distance and the way it faces give a plane each; the vertex goes where
    these meet (Ju et al. 2002).

    Parameters
    ----------
    made : DualSurface
    lattice : Lattice
    field : Winding
        The surface.
    far : float
        How far from it the skin lies, mm.

    Returns
    -------
    plain, places : ndarray, shape (V, 3)
        The middles of the cuts, and where the vertices go.
    calm : ndarray of bool, shape (V,)
        Whether the skin is flat there and round about, and alone in its cell.
    """
    step, count = lattice.step, len(made.vertices)
    cells = lattice.low + step * (np.floor((made.vertices - lattice.low) / step) + 0.5)
    pair = made.faces.reshape(-1, 2, 3)  # the two triangles round each edge that is cut, over the four cells round it
    quads = np.column_stack([pair[:, 0], pair[:, 1, 2]])
    cut = cells[quads].mean(axis=1)
    axis = np.argmin(np.ptp(cells[quads], axis=1), axis=1)
    every, foot = np.arange(len(cut)), np.empty_like(cut)
    for turn in range(_CUTS):
        away, _ = closest_points(field.tree, cut, polled_here(), foot)
        check_here()
        normals = (cut - foot) / np.maximum(away, 1e-300)[:, None]
        if turn < _CUTS - 1:
            along = normals[every, axis]
            ahead = (far - away) / np.where(np.abs(along) > _SLANT, along, np.copysign(_SLANT, along))
            cut[every, axis] += np.clip(ahead, -0.5 * step, 0.5 * step)
    at = quads.ravel()
    share = 1.0 / np.maximum(np.bincount(at, minlength=count), 1)

    def mean(values: np.ndarray) -> np.ndarray:
        return np.column_stack([np.bincount(at, np.repeat(v, 4), count) for v in values.T]) * share[:, None]

    plain, facing = mean(cut), mean(normals)
    sharp = np.flatnonzero(np.linalg.norm(facing, axis=1) < _SHARP)
    places, keys = plain.copy(), _cell_keys(made.vertices, lattice)
    order = np.argsort(keys, kind="stable")
    again = np.flatnonzero(keys[order][1:] == keys[order][:-1])
    calm = np.ones(count, dtype=bool)
    calm[sharp] = calm[order[again]] = calm[order[again + 1]] = False
    for _ in range(_BEYOND_SHARP):  # what bends may be drawn over to its neighbours
        calm[made.faces[~calm[made.faces].all(axis=1)]] = False
    if len(sharp) == 0:
        return plain, places, calm
    number = np.full(count, -1, dtype=np.int64)
    number[sharp] = np.arange(len(sharp))
    rows, of = number[at], np.repeat(every, 4)
    rows, of = rows[rows >= 0], of[rows >= 0]
    n = normals[of]
    off = far - away[of] + np.einsum("ij,ij->i", n, cut[of] - plain[sharp][rows])
    square, target = np.zeros((len(sharp), 3, 3)), np.zeros((len(sharp), 3))
    np.add.at(square, rows, n[:, :, None] * n[:, None, :])
    np.add.at(target, rows, off[:, None] * n)
    size, axes = np.linalg.eigh(square)
    inverse = np.where(size > _FLAT * size[:, -1:], 1.0 / np.maximum(size, 1e-300), 0.0)
    found = plain[sharp] + np.einsum("nij,nj,nkj,nk->ni", axes, inverse, axes, target)
    beside = np.abs(found - cells[sharp]).max(axis=1) / step
    # an edge too acute to have nodes behind it ends in a cell that is not cut
    key = _cell_keys(found, lattice)
    free = ~np.isin(key, keys) & (beside < _BEYOND)
    order = np.lexsort((beside, key))  # of several that would go into one, the nearest does
    nearest = np.zeros(len(key), dtype=bool)
    nearest[order[np.concatenate([[True], key[order][1:] != key[order][:-1]])]] = True
    own = (beside < _OWN) | (free & nearest)
    places[sharp[own]] = found[own]
    return plain, places, calm


def _cell_keys(points: np.ndarray, lattice: Lattice) -> np.ndarray:
    """A number for the cell that each point lies in."""
    at = np.floor((points - lattice.low) / lattice.step).astype(np.int64)
    size = SIDE * np.array(lattice.number.shape) + 4
    return (at[:, 0] * size[1] + at[:, 1]) * size[2] + at[:, 2]


def _at_distance(field: Winding, offset: float, step: float, sheet: bool, progress: Progress) -> Lattice:
    """A lattice of the blocks that a level of the distance goes through, all their nodes signed."""
    far, used = abs(offset), np.unique(field.faces)
    box = np.stack([field.vertices[used].min(axis=0), field.vertices[used].max(axis=0)])
    room = max(offset, 0.0) + _MARGIN * SIDE * step
    low = box[0] - room - SHIFT * step
    whole = _COARSE * SIDE
    shape = np.ceil((box[1] + room - low) / (whole * step)).astype(np.int64) + 1
    if np.prod(shape.astype(float)) > _MOST_BLOCKS:
        raise BadInput(f"cells of {step:.3g} mm are too fine for so large a part; ask for a thicker wall")
    blocks = _near_level(field, low, step * whole, np.argwhere(np.ones(shape, dtype=bool)), far)
    inner = np.argwhere(np.ones((_COARSE,) * 3, dtype=bool))
    blocks = (_COARSE * blocks[:, None] + inner).reshape(-1, 3)
    blocks = _near_level(field, low, step * SIDE, blocks, far)
    # and those above them, so that every cell the level goes through has its corners; the level misses these
    number = np.full(_COARSE * shape + 1, -1, dtype=np.int32)
    taken = np.zeros(number.shape, dtype=np.int8)
    taken[tuple(blocks.T)] = 2
    for axis in range(3):
        lower = tuple(slice(None, -1) if k == axis else slice(None) for k in range(3))
        upper = tuple(slice(1, None) if k == axis else slice(None) for k in range(3))
        np.maximum(taken[upper], taken[lower] > 0, out=taken[upper])
    blocks = np.ascontiguousarray(np.argwhere(taken))
    near = taken[tuple(blocks.T)] == 2
    number[tuple(blocks.T)] = np.arange(len(blocks), dtype=np.int32)
    places = low + step * (SIDE * blocks[near][:, None] + _IN_BLOCK)
    middles = low + step * SIDE * (blocks[~near] + 0.5)
    state = progress.step("Measuring how far off it is", 10)
    state[DONE] = 1
    away = [_away(field, places, far, step), closest_points(field.tree, middles, polled_here())[0]]
    check_here()
    state[DONE] = 4
    within = [np.zeros(len(at), dtype=bool) for at in away]
    if not sheet:
        within = [
            _within(field, places, away[0].reshape(-1, _NODES), far, step).ravel(), field.at(middles) > 0.5
        ]  # fmt: skip
    level = [(np.where(own, at, -at) + offset) / step for own, at in zip(within, away, strict=True)]  # rising inward
    every = np.empty((len(blocks), _NODES))
    every[near] = level[0].reshape(-1, _NODES)
    every[~near] = level[1][:, None]
    every = every.ravel()
    none = Crossings(*(np.empty(0, dtype=np.int32),) * 2, np.empty(0, np.float32), np.empty(0), np.empty(0, np.int32))
    return Lattice(
        low, step, number, blocks, every > 0, (INSIDE + every).astype(np.float32),
        np.full((len(every), 3), -1, dtype=np.int32), none,
    )  # fmt: skip


def _away(field: Winding, places: np.ndarray, far: float, step: float) -> np.ndarray:
    """How far nodes of blocks lie off the surface, mm; where the skin is not near, about as far as their middle does.

    Parameters
    ----------
    field : Winding
    places : ndarray, shape (N, 64, 3)
    far, step : float

    Returns
    -------
    ndarray, shape (64 N,)
    """
    eighths = np.stack([places[:, own] for own in _EIGHTHS], axis=1)
    middles = eighths.mean(axis=2)
    about = closest_points(field.tree, middles.reshape(-1, 3), polled_here())[0].reshape(middles.shape[:2])
    check_here()
    found = np.repeat(about[:, :, None], eighths.shape[2], axis=2)
    near = np.abs(about - far) <= 0.5 * np.sqrt(3) * step * (1 + 1e-9)
    asked = eighths[near]
    found[near] = closest_points(field.tree, asked.reshape(-1, 3), polled_here())[0].reshape(asked.shape[:2])
    away = np.empty(places.shape[:2])
    for i, own in enumerate(_EIGHTHS):
        away[:, own] = found[:, i]
    return away.ravel()


@kernel
def _hang_together(away, apart, least, spokesman):
    """The node that speaks for each: the first of its block, from `least` on, that it hangs together with by nodes
    over `apart`; else -1."""
    stack = np.empty(_NODES, dtype=np.int64)
    for b in range(away.shape[0]):
        for i in range(_NODES):
            spokesman[b, i] = -1
        for i in range(_NODES):
            if away[b, i] <= least or spokesman[b, i] >= 0:
                continue
            spokesman[b, i] = i
            stack[0] = i
            height = 1
            while height > 0:
                height -= 1
                own = stack[height]
                stride = 1
                for _ in range(3):
                    place = own // stride % SIDE
                    for way in (-1, 1):
                        other = own + way * stride
                        if 0 <= place + way < SIDE and spokesman[b, other] < 0 and away[b, other] > apart:
                            spokesman[b, other] = i
                            stack[height] = other
                            height += 1
                    stride *= SIDE


def _within(field: Winding, places: np.ndarray, away: np.ndarray, far: float, step: float) -> np.ndarray:
    """Which nodes of blocks lie within the surface, bool, shape (N, 64); not told of those too near it to matter.

    Two neighbours that are both further than half a step from the surface lie on the same side of it. So of the nodes
    of a block that lie about as far off as the skin, or further, one is asked for all that hang together so.
    """
    spokesman = np.empty(away.shape, dtype=np.int8)
    _hang_together(away, _APART * step, far - 2.0 * step, spokesman)
    block, node = np.nonzero(spokesman == np.arange(_NODES))
    within = np.zeros(away.shape, dtype=bool)
    within[block, node] = field.at(places[block, node]) > 0.5
    check_here()
    told = np.take_along_axis(within, np.maximum(spokesman, 0).astype(np.int64), axis=1)
    return told & (spokesman >= 0)


def _near_level(field: Winding, low: np.ndarray, width: float, blocks: np.ndarray, far: float) -> np.ndarray:
    """Of blocks of a width, those that a distance may be met in."""
    away, _ = closest_points(field.tree, low + width * (blocks + 0.5), polled_here())
    check_here()
    return blocks[np.abs(away - far) <= 0.5 * np.sqrt(3) * width]
