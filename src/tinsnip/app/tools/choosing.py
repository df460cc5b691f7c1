"""Choosing the piece to work on by a click on it."""

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QFontMetricsF, QPainter

from tinsnip.app.state.spots import Spot, pick_shown, piece_under
from tinsnip.app.view.hand import Tool, View, draw_label
from tinsnip.app.widgets.theme import mono_font, px

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
        self.under: int | None = None
        """The other piece that is seen under the pointer, by its number."""
        self._at = QPointF()
        self.session.pieces_changed.connect(self._forget)

    def _chooses(self) -> bool:
        """Whether a click may mean another piece."""
        session = self.session
        is_free = self.view.hand.tool is None and session.stand_in is None and session.looking_back is None
        return is_free and self.view.shows == "now" and len(session.shown_pieces()) > 1

    def look_at(self, x: float, y: float) -> None:
        """The pointer is over a pixel, with nothing in hand."""
        under = piece_under(self.session, self.view.camera.ray(x, y)) if self._chooses() else None
        other = under.id if under is not None and under.id != self.session.job.active else None
        if other is not None or self.under is not None:
            self.under, self._at = other, QPointF(x, y)
            self.update()

    def click(self, x: float, y: float) -> None:
        """A click that moved nothing."""
        tool = self.view.hand.tool
        if tool is not None and self.view.surface_point(x, y) is None:
            self.session.message.emit(f"{tool.name}: nothing of the part is there; Esc leaves it", False)
            return
        if not self._chooses():
            self.on_active.emit(x, y)
            return

        def picked(spot: Spot) -> None:
            if spot.piece.id == self.session.job.active:
                self.on_active.emit(x, y)
            else:
                self.view.framing.work_on(spot.piece.id)
                self.session.message.emit(f"now on {spot.piece.name}", False)

        pick_shown(self.session, self.view.camera.ray(x, y), picked)

    def _forget(self) -> None:
        self.under = None
        self.update()

    def draw(self, painter: QPainter) -> None:
        piece = self.session.job.present.get(self.under)
        if piece is not None and not self.view.hand.is_dragging:
            painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
            metrics = QFontMetricsF(painter.font())
            text = f"click: work on {metrics.elidedText(piece.name, Qt.TextElideMode.ElideMiddle, px(260))}"
            room = metrics.horizontalAdvance(text) + 18
            left = min(self._at.x() + px(14), self.view.width() - room)
            draw_label(painter, QPointF(left, self._at.y() + px(14)), text, True)
