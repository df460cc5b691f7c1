"""The part of a tray that makes knotted places anew, one that was clicked or all of them, shown before it is done."""

import numpy as np

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.panels import Column
from tinsnip.regions import Region
from tinsnip.survey import Finding, Kind
from tinsnip.treat import Outcome, RecastPlaces
from tinsnip.words import at_most, counted, percent

__all__ = ["RecastPlacesPart"]

_MOST = 5.0
"""Share of the surface that may be taken out where one sees what comes of it, %."""


class RecastPlacesPart:
    """Its controls, which are there only while places are knotted.

    Parameters
    ----------
    session : Session
    column : Column
        Where it puts its controls.
    """

    def __init__(self, session: Session, column: Column) -> None:
        self._session = session
        self.only: Finding | None = None
        self._heading = column.heading("Knots")
        self.told = column.explain()
        self.button = column.button("Recast places", self.press)
        self.all_button = column.button("Recast all places instead", self._mean_all)
        session.fly_to.connect(self._mean)
        session.preview_changed.connect(self.refresh)

    @property
    def treatment(self) -> RecastPlaces:
        """What the button does."""
        if self.only is None or self._session.mesh is None:
            return RecastPlaces(most_percent=_MOST)
        return RecastPlaces(most_percent=_MOST, places=Region.of(self._session.mesh, np.array([self.only.key])))

    def _mean(self, finding: Finding) -> None:
        if finding.kind is Kind.CROSSING and self.button.isVisible():
            self.only = finding
            self._session.ask_preview(self.treatment)
            self.refresh()

    def _mean_all(self) -> None:
        self.only = None
        self._session.ask_preview(self.treatment)
        self.refresh()

    def press(self) -> None:
        """Show what would come of it; pressed again, do it."""
        if self._stands():
            self._session.apply(self.treatment)
            self.only = None
        else:
            self._session.ask_preview(self.treatment)

    def _stands(self) -> bool:
        preview = self._session.preview
        return preview is not None and preview.before is self._session.mesh and preview.treatment == self.treatment

    def _said(self, outcome: Outcome) -> str:
        figures = outcome.account.figures
        if not figures["recast"]:
            return f"No skin fits there, or more than {_MOST:g} % of the surface would have to go."
        share = figures["anew_mm2"] / max(float(self._session.mesh.areas.sum()), 1e-300)
        left = f"; {counted(figures['left'], 'place')} left" if figures["left"] else ""
        told = f"Shown over the part: {percent(share)} of the surface anew, off it by {at_most(figures['off_mm'])} mm"
        return f"{told}{left}."

    def refresh(self) -> None:
        """Show what there is to do."""
        found = self._session.examination
        crossed = [] if found is None else found.crossed
        if self.only is not None and self.only not in crossed:
            self.only = None
        for widget in (self._heading, self.told, self.button):
            widget.setVisible(bool(crossed))
        self.all_button.setVisible(self.only is not None and len(crossed) > 1)
        if not crossed:
            return
        which = counted(len(crossed), "place") if self.only is None else self.only.id
        preview = self._session.preview
        if preview is not None and self._stands():
            self.told.setText(self._said(preview.outcome))
            self.button.setText(f"Recast {which}")
            self.button.setEnabled(preview.outcome.mesh is not preview.before)
            return
        self.told.setText("What untangling leaves is made anew, only there. Click a crossing for it alone.")
        self.button.setText(f"Show a recast of {which}")
        self.button.setEnabled(True)
