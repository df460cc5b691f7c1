"""Pull in: vertices that stand far off their neighbours come back between them."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.remembered import is_known
from tinsnip.survey.crossings import crossings_of, follow_crossings
from tinsnip.survey.spikes import spikes_of
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted

__all__ = ["PullIn"]

_ROUNDS = 4
"""Rounds of pulling in."""


class PullIn(Treatment):
    """Put each spike's vertex in the middle of its neighbours; all else stays to the bit."""

    name: ClassVar[str] = "pull-in"
    title: ClassVar[str] = "Pull in spikes"
    takes_what_was_asked: ClassVar[bool] = True

    only_crossing: bool = Field(
        False, description="only those that cross other surface, which a tip of the part itself never does"
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Pull spikes in; of spikes that are neighbours, the higher first."""
        context.progress.step("Looking for spikes")
        now, moved = mesh, np.zeros(len(mesh.vertices), dtype=bool)
        for _ in range(_ROUNDS):
            context.progress.check()
            spikes = spikes_of(now)
            go = np.ones(len(spikes.vertices), dtype=bool)
            if self.only_crossing and len(go):
                go = np.isin(spikes.vertices, now.faces[crossings_of(now).together.ravel()])
            if not go.any():
                break
            places, gone = now.vertices.copy(), spikes.vertices[go]
            places[gone] = spikes.middles[go]
            moved[gone] = True
            now = _followed(now, now.moved(places))
        if now is mesh:
            return Outcome(mesh, "No spikes to pull in", Account(figures={"spikes": 0, "largest_mm": 0.0}))
        touched = triangles_at(mesh.faces, moved)
        provenance = np.where(touched & (mesh.provenance == 0), SHIFTED, mesh.provenance).astype(np.uint8)
        far = float(np.linalg.norm(now.vertices - mesh.vertices, axis=1).max())
        text = f"Pulled in {counted(int(moved.sum()), 'spike')}, by {at_most(far)} mm at most"
        account = Account(figures={"spikes": int(moved.sum()), "largest_mm": far})
        return Outcome(_followed(now, mesh.moved(now.vertices, provenance)), text, account)


def _followed(before: Mesh, after: Mesh) -> Mesh:
    """A mesh some vertices of which have moved, with its crossings known where they were before."""
    if is_known(before, crossings_of):
        stays = ~triangles_at(before.faces, (before.vertices != after.vertices).any(axis=1))
        follow_crossings(before, after, np.where(stays, np.arange(len(stays)), -1))
    return after
