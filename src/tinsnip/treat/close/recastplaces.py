"""Recast places: only where a surface is knotted it is made anew as a skin, sewn to what stays."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.regions import Region
from tinsnip.treat.account import Account
from tinsnip.treat.kit.skins.replacing import places_of, replace_places
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted, percent

__all__ = ["RecastPlaces"]


class RecastPlaces(Treatment):
    """Make only those places anew where the surface crosses itself, folds or hangs together wrongly.

    Each goes with a few rows round it; what of the part's volume ends there is told by winding numbers, and a skin of
    it, in cells of about the local edge, is sewn to what stays. All else stays to the bit. A place that no skin fits
    stays as it is, and it is said.
    """

    name: ClassVar[str] = "recast-places"
    title: ClassVar[str] = "Recast places"
    clears_crossings: ClassVar[bool] = True

    places: Region = Field(Region(), description="which places, by triangles at them; all of them by default")
    most_percent: float = Field(
        1.0, gt=0, le=100, description="share of the part's surface that may be taken out for all of them together, %"
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Recast the places that are wrong.

        Raises
        ------
        BadInput
            When the region is nowhere on the mesh.
        """
        context.progress.step("Looking for places")
        figures = {"places": 0, "recast": 0, "left": 0}
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing is knotted", Account(figures=figures))
        place = places_of(mesh)
        if self.places:
            meant = np.unique(place[self.places.resolve(mesh)])
            place[~np.isin(place, meant[meant >= 0])] = -1
            place[place >= 0] = np.unique(place[place >= 0], return_inverse=True)[1]
        if (place < 0).all():
            return Outcome(mesh, "Nothing is knotted", Account(figures=figures))
        most = self.most_percent / 100.0 * float(mesh.areas.sum())
        found = replace_places(mesh, place, most, context.progress)
        left = found.places - found.done
        figures = {"places": found.places, "recast": found.done, "left": left}
        told = f"; {counted(left, 'place')} left, where no skin fits or more than {self.most_percent:g} % would go"
        if found.done == 0:
            return Outcome(mesh, f"No place could be recast{told}", Account(figures=figures))
        out = found.gone / max(float(mesh.areas.sum()), 1e-300)
        text = f"Recast {counted(found.done, 'place')} in cells of {found.cell:.3g} mm: {percent(out)} of the surface "
        text += f"made anew, off it by {at_most(found.off)} mm, with bends up to {found.bend:.0f}° at the seams"
        figures |= {"cell_mm": found.cell, "anew_mm2": found.gone, "off_mm": found.off, "bend_degrees": found.bend}
        figures["joined"] = max(0, len(mesh.shells) - len(found.mesh.shells))
        return Outcome(found.mesh, text + told * (left > 0), Account(figures=figures))

    def shells_after(self, wanted: int, account: Account) -> int:
        return max(1, wanted - int(account.figures.get("joined", 0)))
