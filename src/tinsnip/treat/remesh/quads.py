"""Quads: the same surface in four-sided faces, each of two triangles that know of each other."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import edge_lengths, mean_edge
from tinsnip.mesh.quads import QUAD, quad_numbers, quads_of
from tinsnip.mesh.subsets import compact
from tinsnip.progress import Progress
from tinsnip.survey.crossings import new_crossings
from tinsnip.survey.deviation import Deviation
from tinsnip.treat.account import Account
from tinsnip.treat.reduce.sheets import as_sheets
from tinsnip.treat.remesh.creases import Creases, find_creases
from tinsnip.treat.remesh.quadding import quad_steps, quadded
from tinsnip.treat.remesh.remesh import (
    MOST_TRIANGLES,
    Remesh,
    anew,
    derived,
    forecast_triangles,
    off_each_other,
    torn,
)
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted, grouped, percent

__all__ = ["Quads", "forecast_quads"]

_FINE = 1.0 / 3.0
"""Edges of the triangles that quads are laid out over, of a quad's: two steps are never taken for one then."""
_WIDER = 3.0
"""Where nothing is said, a quad's edge is so many of the triangles' now, in the mean."""
_TURNS, _AROUND = 6, 0.25
"""Times that it is tried; where it crossed itself, triangles stay as far round that as so much of an edge."""
_LITTLE = 0.02
"""Share of its triangles up to which that is tried: a scan that lies on itself all over stays so, and is told."""
_FEWEST = 6.0
"""So many edges the part is long at least, or nothing of its form is left."""


def forecast_quads(mesh: Mesh, edge: float) -> int:
    """About how many quads a mesh has with edges of a length, mm.

    Parameters
    ----------
    mesh : Mesh
    edge : float
        In mm.
    """
    return round(mesh.area / edge**2)


class Quads(Treatment):
    """Mesh the surface anew in quads of one edge length that run along its edges and bends.

    For those who go on in a modelling program: OBJ and PLY are written in quads. Sharp edges, rims and the borders of
    what was made stay, tangles stay as they are; a few triangles are left where quads do not go.
    """

    name: ClassVar[str] = "quads"
    title: ClassVar[str] = "Mesh in quads"
    reshapes: ClassVar[bool] = True

    edge_mm: float | None = Field(
        None, gt=0, description="length of the quads' edges, mm; three of the triangles' in the mean by default"
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Lay quads over the surface.

        Raises
        ------
        BadInput
            When edges are too long for the part, or so short that faces beyond measure would be made.
        """
        if len(mesh.faces) == 0 or not mesh.area > 0:
            return Outcome(mesh, "Nothing to lay quads over")
        edge = self.edge_mm or _WIDER * mean_edge(mesh.vertices, mesh.faces)
        if edge * _FEWEST > mesh.diagonal:
            most = mesh.diagonal / _FEWEST
            raise BadInput(
                f"edges of {edge:g} mm are too long for a part of {mesh.diagonal:.3g} mm; {most:.3g} mm are the most"
            )
        if forecast_triangles(mesh, _FINE * edge) > MOST_TRIANGLES:
            least = edge * (forecast_triangles(mesh, _FINE * edge) / MOST_TRIANGLES) ** 0.5
            quads = grouped(forecast_quads(mesh, edge))
            raise BadInput(f"edges of {edge:g} mm would make some {quads} quads; {least:.3g} mm are the least")
        progress = context.progress
        bare = mesh.without_attribute(QUAD)
        with progress.part(0.0, 0.5):
            fine = _finely_meshed(compact(bare), _FINE * edge, progress)
        with progress.part(0.5, 0.6):
            laid = _Laid(fine, edge, progress)
        stays = np.zeros(len(fine.faces), dtype=bool)
        for turn in range(_TURNS):
            with progress.part(0.6 + 0.3 * turn / _TURNS, 0.6 + 0.3 * (turn + 1) / _TURNS):
                result = laid.in_quads(stays, progress)
                pairs = new_crossings(bare, result)
            if len(pairs) == 0 or len(np.unique(pairs)) > _LITTLE * len(result.faces):
                break
            stays |= _round_about(fine, result, pairs, _AROUND * edge)
        with progress.part(0.9, 1.0):
            measured = off_each_other(result, bare, progress, False)
        return self._told(result, edge, len(pairs), measured)

    def _told(self, result: Mesh, edge: float, crossed: int, measured: Deviation) -> Outcome:
        quads = len(quads_of(result))
        faces = len(result.faces) - quads
        share = quads / max(faces, 1)
        text = f"Laid {counted(quads, 'quad')} of {edge:.3g} mm, {percent(share)} of all faces, within about "
        text += f"{at_most(measured.max)} mm"
        if crossed:
            text += f", crossing itself in {counted(crossed, 'place')}"
        figures = {
            "edge_mm": edge, "quads": float(quads), "quad_share": share, "deviation_mm": measured.max,
            "deviation_p99_mm": measured.p99, "mean_edge_mm": float(np.mean(edge_lengths(result))),
        }  # fmt: skip
        return Outcome(result, text, Account(crossings=crossed, figures=figures))


def _finely_meshed(mesh: Mesh, edge: float, progress: Progress) -> Mesh:
    """The surface in triangles of one edge length, whether they cross or not: it is the quads that must not."""
    size, label = np.full(len(mesh.vertices), edge), Remesh().labels(mesh)
    held, tied = np.zeros(len(mesh.faces), dtype=bool), np.zeros(len(mesh.vertices), dtype=bool)
    return anew(mesh, as_sheets(mesh), size, held, tied, label, progress, 0.0, edge)


def _round_about(fine: Mesh, result: Mesh, pairs: np.ndarray, reach: float) -> np.ndarray:
    """The triangles that lie round those of another surface that cross each other, bool, shape (F,)."""
    middles = fine.vertices[fine.faces].mean(axis=1)
    near = np.zeros(len(fine.faces), dtype=bool)
    for corners in result.vertices[result.faces[np.unique(pairs)]]:
        low, high = corners.min(axis=0) - reach, corners.max(axis=0) + reach
        near |= ((middles > low) & (middles < high)).all(axis=1)
    return near


class _Laid:
    """A surface of fine triangles over which quads are laid out, once for however often they are made."""

    def __init__(self, fine: Mesh, edge: float, progress: Progress) -> None:
        self.fine, self.edge = fine, edge
        self.sheets = sheets = as_sheets(fine)
        self.label = Remesh().labels(fine)
        self.kinds = int(self.label.max(initial=0)) + 1
        self.surface = fine if sheets.faces is fine.faces else Mesh(sheets.vertices, sheets.faces)
        lines = self._creases(np.zeros(len(fine.faces), dtype=bool))
        self.steps = quad_steps(sheets.vertices, sheets.faces, sheets.twins, edge, lines, progress)

    def _creases(self, held: np.ndarray) -> Creases:
        sheets, size = self.sheets, np.full(len(self.sheets.vertices), self.edge)
        return find_creases(
            self.surface, sheets.twins, size, self.label[sheets.triangle], held[sheets.triangle], sheets.held,
            torn(self.fine, sheets),
        )  # fmt: skip

    def in_quads(self, held: np.ndarray, progress: Progress) -> Mesh:
        """The surface in quads, but for fine triangles that stay, bool, shape (F,)."""
        sheets = self.sheets
        own = np.where(held[sheets.triangle], self.kinds + sheets.triangle, self.label[sheets.triangle])
        found = quadded(
            self.surface.tree, sheets.vertices, sheets.faces, sheets.twins, self.edge, self.steps, own,
            self._creases(held), self.kinds, progress,
        )  # fmt: skip
        result = derived(self.fine, sheets, found.made, self.label, self.kinds)
        return result.with_attribute(QUAD, quad_numbers(found.pair))
