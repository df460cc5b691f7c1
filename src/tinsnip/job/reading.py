"""Scans that memory does not hold, reduced while they are read.

The file's triangles are taken slab by slab along its longest side, and each slab is reduced with its rims held, so
that the slabs fit together exactly again; what comes of it is reduced once more as a whole, the seams with it. Only one
slab, and what is left of those before it, are in memory at a time (after Lindstrom 2000, who clusters, where edges
collapse here).
"""

from functools import partial
from pathlib import Path

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.formats import NAME, Format, Rows, Scan, drop_non_finite, read_scan
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.subsets import compact, reorder
from tinsnip.progress import Progress
from tinsnip.space.tree import closest_points
from tinsnip.space.welding import weld_bits, weld_exact
from tinsnip.treat import Context, Reduce
from tinsnip.words import grouped

__all__ = ["read_at_most"]

_SLAB = 3_000_000
"""Triangles that are reduced at a time: a few hundred MB of work."""
_LOOK = 1_000_000
"""Triangles whose places are looked at at a time."""
_BINS = 1 << 14
_FINER = 1.3
"""How many more triangles slabs keep than are wanted, so that the last reduction may level the seams."""
_SAMPLES = 200_000
"""Vertices of the file, about, from which it is measured how far off the reduced surface is."""


def read_at_most(path: str | Path, unit: str | None, progress: Progress, triangles: int | None) -> Scan:
    """Read a scan; where it has more triangles than that, reduced while it is read.

    What was left out, and how far off that is, is in the scan's notes; triangles that moved are `SHIFTED`.

    Parameters
    ----------
    path : path-like
    unit : str or None
        Guessed where None.
    progress : Progress
    triangles : int or None
        At most so many; None: all.

    Raises
    ------
    BadInput
        When it cannot be read, or not in parts.
    """
    if triangles is None:
        return read_scan(path, unit, progress)
    return read_scan(path, unit, progress, reader=partial(_read_reduced, triangles))


def _read_reduced(triangles: int, form: Format, path: Path, progress: Progress) -> Mesh:
    if form.expected(path, path.stat().st_size) <= triangles:
        return form.read(path, progress)
    if form.rows_of is None:
        raise BadInput(f"{form.title} is only read as a whole; export it as binary STL or PLY")
    rows = form.rows_of(path)
    slab, count = _slabs(rows, progress)
    share = triangles / rows.count
    kept: list[Mesh] = []
    seen: list[np.ndarray] = []
    for number in range(count):
        with progress.part(0.05 + 0.75 * number / count, 0.05 + 0.75 * (number + 1) / count):
            progress.step(f"Reducing {path.name}, part {number + 1} of {count}")
            mesh, lost = drop_non_finite(rows.mesh(np.flatnonzero(slab == number)), path)
            progress.notes.extend(lost)
            seen.append(mesh.vertices[:: max(1, len(mesh.vertices) * count // _SAMPLES)].copy())
            wanted = max(4, round(_FINER * share * len(mesh.faces)))
            options = Reduce(triangles=wanted, hold_rims=True)
            kept.append(options.apply(reorder(mesh), Context(progress)).mesh)
    with progress.part(0.8, 0.95):
        whole = _put_together(kept)
        kept.clear()
        reduced = Reduce(triangles=triangles).apply(whole, Context(progress)).mesh
    progress.step("Measuring how far off it is")
    off, _ = closest_points(reduced.tree, np.concatenate(seen), progress.state)
    progress.check()
    progress.notes.append(
        f"{grouped(rows.count - len(reduced.faces))} of {grouped(rows.count)} triangles, as it was reduced while it "
        f"was read; of {grouped(len(off))} of its vertices 99 % lie within {np.quantile(off, 0.99):.2g} and all within "
        f"{off.max():.2g} of what is left, in the file's unit"
    )
    return reduced.without_attribute(NAME)


def _slabs(rows: Rows, progress: Progress) -> tuple[np.ndarray, int]:
    """Which slab each triangle is in, and how many there are, of `_SLAB` triangles or a few more each."""
    spans = [(begin, min(begin + _LOOK, rows.count)) for begin in range(0, rows.count, _LOOK)]
    state = progress.step("Looking where its triangles are", 3 * len(spans))
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for begin, end in spans:
        progress.check()
        places = rows.places(begin, end)
        places = places[np.isfinite(places).all(axis=1)]
        if len(places):
            low, high = np.minimum(low, places.min(axis=0)), np.maximum(high, places.max(axis=0))
        state[1] += 1
    axis = int(np.argmax(high - low)) if (high >= low).all() else 0
    scale = (_BINS - 1) / max(float(high[axis] - low[axis]), 1e-300) if high[axis] > low[axis] else 0.0

    def bins(begin: int, end: int) -> np.ndarray:
        with np.errstate(invalid="ignore"):
            at = np.nan_to_num((rows.places(begin, end)[:, axis] - low[axis]) * scale)
        return np.clip(at, 0, _BINS - 1).astype(np.int64)

    in_bin = np.zeros(_BINS, dtype=np.int64)
    for begin, end in spans:
        progress.check()
        in_bin += np.bincount(bins(begin, end), minlength=_BINS)
        state[1] += 1
    before = np.cumsum(in_bin) - in_bin
    count = max(1, -(-rows.count // _SLAB))
    of_bin = np.minimum(before * count // max(rows.count, 1), count - 1).astype(np.uint16)
    slab = np.empty(rows.count, dtype=np.uint16)
    for begin, end in spans:
        progress.check()
        slab[begin:end] = of_bin[bins(begin, end)]
        state[1] += 1
    return slab, count


def _put_together(slabs: list[Mesh]) -> Mesh:
    """The slabs as one mesh again: vertices on their rims that are the same in the file become one."""
    starts = np.cumsum([0, *(len(m.vertices) for m in slabs)])
    vertices = np.concatenate([m.vertices for m in slabs])
    faces = np.concatenate([m.faces + start for m, start in zip(slabs, starts[:-1], strict=True)])
    provenance = np.concatenate([m.provenance for m in slabs])
    on_rim = np.zeros(len(vertices), dtype=bool)
    for mesh, start in zip(slabs, starts[:-1], strict=True):
        half = np.flatnonzero(mesh.twins == OPEN)
        ends = mesh.faces.ravel()[np.concatenate([half, half - half % 3 + (half + 1) % 3])]
        on_rim[start + ends] = True
    rim = np.flatnonzero(on_rim)
    if all(NAME in m.attributes for m in slabs):
        names = np.concatenate([m.attributes[NAME].values for m in slabs])[rim].astype(np.uint32)
        index, first = weld_bits(np.stack([names, 0 * names, 0 * names], axis=1))
    else:
        index, first = weld_exact(vertices[rim])
    number = np.arange(len(vertices))
    number[rim] = rim[first[index]]
    attributes = {}
    if all("colour" in m.attributes for m in slabs):
        attributes["colour"] = Attribute(Domain.VERTEX, np.concatenate([m.colour for m in slabs]))
    return reorder(compact(Mesh(vertices, number[faces].astype(np.int32), provenance, attributes)))
