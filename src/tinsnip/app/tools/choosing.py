"""Choosing the piece to work on by a click on it."""

from PySide6.QtCore import QPointF, Signal
from PySide6.QtGui import QPainter

from tinsnip.app.view.hand import Tool, View, draw_label
from tinsnip.app.view.shownpick import Spot, pick_shown, piece_under
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.job import Piece

__all__ = ["Choosing"]


class Choosing(Tool):
    """Where several pieces are shown, a click on another one goes on with that; its name stands at the pointer before.

    Signals
    -------
    on_active
        A click that was on the piece that is worked on, or beside all: pixels of the view.
    """

    name = "Choose a piece"
    on_active = Signal(float, float)

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.under: Piece | None = None
        self._at = QPointF()
        self.session.pieces_changed.connect(self._forget)

    def _chooses(self) -> bool:
        """Whether a click may mean another piece."""
        session = self.session
        is_free = self.view.hand.tool is None and session.stand_in is None and session.looking_back is None
        return is_free and self.view.shows == "now" and len(session.shown_pieces()) > 1

    def look_at(self, x: float, y: float) -> None:
        """The pointer is over a pixel, with nothing in hand."""
        under = piece_under(self.view, x, y) if self._chooses() else None
        other = under if under is not None and under.id != self.session.job.active else None
        if other is not None or self.under is not None:
            self.under, self._at = other, QPointF(x, y)
            self.update()

    def click(self, x: float, y: float) -> None:
        """A click that moved nothing."""
        if not self._chooses():
            self.on_active.emit(x, y)
            return

        def picked(spot: Spot) -> None:
            if spot.piece.id == self.session.job.active:
                self.on_active.emit(x, y)
            else:
                self.view.work_on(spot.piece.id)
                self.session.message.emit(f"now on {spot.piece.name}", False)

        pick_shown(self.view, x, y, picked)

    def _forget(self) -> None:
        self.under = None
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self.under is not None and not self.view.hand.is_dragging:
            painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
            draw_label(painter, self._at + QPointF(px(14), px(14)), f"click: work on {self.under.name}", True)
