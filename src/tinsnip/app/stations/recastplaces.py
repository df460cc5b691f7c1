"""The part of a tray that makes knotted places anew, one that was clicked or all of them, shown before it is done."""

import numpy as np

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.panels import Column
from tinsnip.regions import Region
from tinsnip.survey import Finding, Kind
from tinsnip.treat import RecastPlaces
from tinsnip.words import counted

__all__ = ["RecastPlacesPart"]


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
            return RecastPlaces()
        return RecastPlaces(places=Region.of(self._session.mesh, np.array([self.only.key])))

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
        if self._stands() and preview is not None:
            self.told.setText(f"{preview.outcome.text}. Shown over the part; nothing is done yet.")
            self.button.setText(f"Recast {which}")
            self.button.setEnabled(preview.outcome.mesh is not preview.before)
            return
        self.told.setText(
            "What untangling leaves is made anew only there, as a skin of what it encloses; all else stays. "
            "Click a crossing for that one alone."
        )
        self.button.setText(f"Show a recast of {which}")
        self.button.setEnabled(True)
