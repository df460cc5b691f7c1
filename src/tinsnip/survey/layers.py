"""A part as it is built, layer by layer: outlines, and what no machine can build of them."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import DONE, Progress, stoppable
from tinsnip.space.crossings import meeting_lines
from tinsnip.space.slicing import Layers, slice_layers
from tinsnip.survey.crossings import crossings_of
from tinsnip.survey.finding import Finding, Kind
from tinsnip.words import counted

__all__ = ["LayerFault", "find_layer_faults", "layer_findings", "layers_of"]

_MOST_LAYERS = 100_000
_SPECK = 1e-9
"""Of the largest layer's area: what has less is no island but rounding."""

_PROPOSED = {"open": "not closed", "crossing": "crosses itself", "gap": "nothing there", "free": "hangs free"}
"""The faults a layer can have, in a word or two."""


@dataclass(frozen=True)
class LayerFault:
    """A layer that cannot be built as it is.

    Attributes
    ----------
    layer : int
        From 0, the lowest.
    z_mm : float
    fault : str
        ``open``, ``crossing``, ``gap`` or ``free``.
    count : int
        Outlines that are open, or islands that hang free; 1 for the others.
    place : tuple of float or None
        x and y on the first island that hangs free, mm.
    """

    layer: int
    z_mm: float
    fault: str
    count: int = 1
    place: tuple[float, float] | None = None

    def facts(self) -> dict[str, Any]:
        """As JSON can hold it."""
        own = {"layer": self.layer + 1, "z_mm": self.z_mm, "fault": self.fault, "count": self.count}
        return own | ({} if self.place is None else {"place_mm": [*self.place, self.z_mm]})

    def what(self) -> str:
        """What is wrong with it, in words."""
        return {
            "open": f"{counted(self.count, 'outline')} not closed",
            "crossing": "the surface crosses itself there",
            "gap": "nothing there, though there is something above and below",
            "free": f"{counted(self.count, 'island')} with nothing below",
        }[self.fault]

    def told(self) -> str:
        """Which layer it is, and what is wrong with it."""
        return f"layer {self.layer + 1} at {self.z_mm:.6g} mm: {self.what()}"


@stoppable
def layers_of(mesh: Mesh, height: float, progress: Progress) -> Layers:
    """The outlines of a part's layers, each at the middle of its height.

    Parameters
    ----------
    mesh : Mesh
    height : float
        Of each layer, mm.
    progress : Progress

    Returns
    -------
    Layers

    Raises
    ------
    BadInput
        When there is no surface, or the layers are beyond measure.
    """
    if len(mesh.faces) == 0:
        raise BadInput("the part has no surface to slice")
    low, high = float(mesh.box[0, 2]), float(mesh.box[1, 2])
    count = max(1, int(np.ceil((high - low) / height - 1e-9)))
    if count > _MOST_LAYERS:
        raise BadInput(f"{count} layers are too many; {(high - low) / _MOST_LAYERS:.3g} mm are the least")
    progress.step("Slicing")
    return slice_layers(mesh.vertices, mesh.faces, mesh.twins, low + height * (np.arange(count) + 0.5))


@stoppable
def find_layer_faults(mesh: Mesh, layers: Layers, progress: Progress) -> list[LayerFault]:
    """Every layer that is open, crosses itself, vanishes between two others or hangs free, from the lowest on.

    Parameters
    ----------
    mesh : Mesh
    layers : Layers
        What `layers_of` gave for it.
    progress : Progress
    """
    z = layers.heights
    opened = np.bincount(layers.layer[~layers.closed], minlength=len(z))
    crossing = _crossing_layers(mesh, z)
    outlines = np.bincount(layers.layer, minlength=len(z))
    some = np.flatnonzero(outlines)
    free, where = _islands(layers, (opened > 0) | crossing, progress)
    found = []
    for i in range(len(z)):
        if opened[i]:
            found.append(LayerFault(i, float(z[i]), "open", int(opened[i])))
        if crossing[i]:
            found.append(LayerFault(i, float(z[i]), "crossing"))
        if len(some) and some[0] < i < some[-1] and not outlines[i]:
            found.append(LayerFault(i, float(z[i]), "gap"))
        if free[i]:
            found.append(LayerFault(i, float(z[i]), "free", int(free[i]), where[i]))
    return found


def layer_findings(mesh: Mesh, layers: Layers, faults: list[LayerFault]) -> list[Finding]:
    """A finding for each run of layers that have the same fault one above the other, from the lowest on.

    Parameters
    ----------
    mesh : Mesh
    layers : Layers
    faults : list of LayerFault
        What `find_layer_faults` gave for them.
    """
    runs: list[list[LayerFault]] = []
    for kind in _PROPOSED:
        last = None
        for fault in (one for one in faults if one.fault == kind):
            # islands begin anew in each layer, the others go on
            if last is not None and kind != "free" and fault.layer == last.layer + 1:
                runs[-1].append(fault)
            else:
                runs.append([fault])
            last = fault
    runs.sort(key=lambda run: run[0].layer)
    return [_finding(f"L{number}", run, mesh, layers) for number, run in enumerate(runs, 1)]


def _finding(name: str, run: list[LayerFault], mesh: Mesh, layers: Layers) -> Finding:
    first, last = run[0], run[-1]
    own = layers.outlines_at(first.layer)
    points = np.concatenate(own) if own else mesh.box.mean(axis=0)[None, :2]
    if first.place is not None:  # the island's own outline is what encloses it most closely
        points = min(own, key=lambda ring: np.linalg.norm(ring.mean(axis=0) - first.place))
    middle = points.mean(axis=0) if first.place is None else np.array(first.place)
    outline = np.column_stack([points, np.full(len(points), first.z_mm)])
    size = float(np.linalg.norm(np.ptp(outline, axis=0))) if len(own) else mesh.diagonal
    many = f"layers {first.layer + 1} to {last.layer + 1}" if len(run) > 1 else f"layer {first.layer + 1}"
    return Finding(
        id=name,
        kind=Kind.LAYER,
        text=first.what(),
        place=np.array([*middle, first.z_mm]),
        size=size,
        count=len(run),
        proposal=_PROPOSED[first.fault],
        key=first.layer,
        outline=outline[:: max(1, len(outline) // 400)],
        about=many,
    )


def _crossing_layers(mesh: Mesh, z: np.ndarray) -> np.ndarray:
    """Which layers go through a place where the surface meets itself."""
    pairs = crossings_of(mesh).together
    found = np.zeros(len(z) + 1, dtype=np.int64)
    if len(pairs):
        heights = meeting_lines(mesh.vertices, mesh.faces, pairs)[:, :, 2]
        np.add.at(found, np.searchsorted(z, heights.min(axis=1)), 1)
        np.add.at(found, np.searchsorted(z, heights.max(axis=1), side="right"), -1)
    return np.cumsum(found)[:-1] > 0


def _islands(layers: Layers, skip: np.ndarray, progress: Progress) -> tuple[np.ndarray, dict[int, tuple[float, float]]]:
    """How many parts of each layer have nothing below them, and where the first of them is, by layer.

    None are told of layers that have no clear inside.
    """
    count, where = len(layers.heights), {}
    free = np.zeros(count, dtype=np.int64)
    state = progress.step("Looking for islands", count)
    speck = _SPECK * float(np.abs(layers.areas()).max(initial=0.0))
    below = None
    for i in range(count):
        rings = [r for r in layers.outlines_at(i) if len(r) > 2] if not skip[i] else []
        own = (
            shapely.build_area(shapely.geometrycollections([shapely.linearrings(r) for r in rings])) if rings else None
        )
        if own is not None and below is not None:
            parts = shapely.get_parts(own)
            parts = parts[shapely.area(parts) > speck]
            shapely.prepare(below)
            loose = parts[~shapely.intersects(below, parts)]
            free[i] = len(loose)
            if len(loose):
                at = shapely.point_on_surface(loose[0])
                where[i] = float(at.x), float(at.y)
        below = own
        progress.check()
        state[DONE] = i + 1
    return free, where
