"""The status line: what the part is now, how far it is from raw, what is not saved, and what was said last."""

import time
from collections import deque
from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QListWidget, QSizePolicy, QWidget

from tinsnip.app.state.saving import Saving
from tinsnip.app.state.session import Session
from tinsnip.app.widgets.theme import px
from tinsnip.formats import FORMATS
from tinsnip.words import at_most, counted, grouped, megabytes

__all__ = ["StatusLine", "saved_text"]

_KEPT = 200
"""Messages that can be read again."""


def saved_text(saving: Saving) -> str:
    """Whether the job is saved, in a few words."""
    if saving.unsaved:
        return f"{counted(saving.unsaved, 'step')} not saved"
    return f"saved in {saving.path.name}" if saving.path is not None else "nothing to save yet"


class _Said(QLabel):
    """The last message; a click lists those before it."""

    def __init__(self, clicked: Callable[[], None]) -> None:
        super().__init__()
        self._clicked = clicked
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._clicked()

    def paintEvent(self, event: QPaintEvent) -> None:
        room = self.contentsRect()
        shown = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room.width())
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, shown)


class StatusLine(QWidget):
    """One line of figures along the lower edge of the window."""

    def __init__(self, session: Session, saving: Saving) -> None:
        super().__init__()
        self._session, self._saving = session, saving
        self.setObjectName("statusline")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        box = QHBoxLayout(self)
        box.setContentsMargins(4, 5, 4, 5)
        self.figures = {name: QLabel() for name in ("triangles", "size", "deviation", "made", "saved")}
        self.preparing = QLabel()
        for label in self.figures.values():
            box.addWidget(label)
        box.addWidget(self.preparing)
        self.kept: deque[str] = deque(maxlen=_KEPT)
        self.said = _Said(self.show_kept)
        box.addWidget(self.said, 1)
        session.mesh_changed.connect(self.refresh)
        session.from_raw_changed.connect(self._show_measured)
        session.message.connect(self._say)
        session.job_left.connect(self.said.clear)
        self.list = QListWidget(self)
        self.list.setWindowFlag(Qt.WindowType.Popup)
        self.list.setObjectName("messages")
        self.list.setAccessibleName("What was said, the last first")
        self.list.setWordWrap(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.hide()
        saving.changed.connect(self._show_saved)
        session.preparation.changed.connect(self._show_preparing)
        self.preparing.hide()
        self.refresh()

    def refresh(self) -> None:
        """Show the session as it is."""
        mesh = self._session.mesh
        for label in self.figures.values():
            label.setVisible(mesh is not None)
        if mesh is None:
            return
        self.figures["triangles"].setText(f"now {grouped(len(mesh.faces))} triangles")
        size = FORMATS["stl"].size_for(mesh), FORMATS["3mf"].size_for(mesh)
        self.figures["size"].setText(f"STL {megabytes(size[0])} · 3MF ~{megabytes(size[1])}")
        self._show_measured()
        self._show_saved()

    def _show_measured(self) -> None:
        """What was measured against the raw scan: always of the present mesh, or still to come."""
        measured = self._session.from_raw
        if measured is None:
            self.figures["deviation"].setText("deviation from raw …")
            self.figures["made"].setText("made …")
        else:
            self.figures["deviation"].setText(f"deviation from raw {at_most(measured.overall.max)} mm")
            self.figures["made"].setText(f"made {100 * measured.shares[2]:.1f} %")

    def _show_saved(self) -> None:
        self.figures["saved"].setText(saved_text(self._saving))
        self.figures["saved"].setProperty("unsaved", self._saving.unsaved > 0)
        self.figures["saved"].style().unpolish(self.figures["saved"])
        self.figures["saved"].style().polish(self.figures["saved"])

    def _show_preparing(self) -> None:
        ready = self._session.preparation
        self.preparing.setVisible(ready.is_under_way)
        self.preparing.setText(f"preparing treatments, {ready.done} of {ready.total}" if ready.can_open else "")

    def show_kept(self) -> None:
        """List what was said, the last first, until something else is clicked."""
        self.list.clear()
        self.list.addItems(list(self.kept) or ["Nothing has been said yet."])
        high = sum(self.list.sizeHintForRow(row) for row in range(min(self.list.count(), 12))) + px(12)
        self.list.setFixedSize(px(620), max(high, px(40)))
        corner = self.mapToGlobal(QPoint(self.width(), 0))
        self.list.move(corner.x() - self.list.width(), corner.y() - self.list.height())
        self.list.show()

    def _say(self, text: str, is_error: bool) -> None:
        if text:
            self.kept.appendleft(f"{time.strftime('%H:%M')}  {text}")
        if not is_error:
            self.said.setText(text)
            self.said.setToolTip(f"{time.strftime('%H:%M')}  {text}" if text else "")
