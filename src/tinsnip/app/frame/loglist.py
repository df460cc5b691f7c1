"""The log: every step, also those that were undone; a click goes back to one, its pencil opens it."""

from PySide6.QtCore import QEvent, QModelIndex, QPoint, QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPen, QTextLayout
from PySide6.QtWidgets import (
    QListView,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
)

from tinsnip.app.frame.logruns import run_text, runs_of_strokes
from tinsnip.app.state.editing import Editing
from tinsnip.app.state.session import Session
from tinsnip.app.widgets.fields import is_enter
from tinsnip.app.widgets.theme import px
from tinsnip.job import Open, Remove, Step

__all__ = ["LogList"]

_LEAST = 44
"""Pixels that it takes at least."""
_LINES = 2
"""Of text that a step takes at most; all of it is told where the pointer rests."""

_PENCIL, _TICK = 24, 22
"""Pixels that the pencil and the tick take, where text is of the usual size."""
_ROLE = Qt.ItemDataRole.UserRole


class _Delegate(QStyledItemDelegate):
    """A tick that switches the step off, its line, and a pencil where its values can be changed.

    A line that stands for several steps has a triangle that unfolds them instead.
    """

    def __init__(self, owner: QListWidget) -> None:
        super().__init__(owner)
        self._owner = owner

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        font, *_, text, name, _ = self._owner.font(), *index.data(_ROLE + 1)
        wide = self._room()
        if name:
            wide -= min(QFontMetrics(font).horizontalAdvance(name), int(0.38 * wide)) + px(8)
        lines = len(_lines_of(text, font, wide))
        return QSize(60, lines * QFontMetrics(font).lineSpacing() + px(8))

    def _room(self) -> int:
        """For text, pixels; the same whether or not there is a bar to scroll by."""
        bar = self._owner.verticalScrollBar().sizeHint().width()
        return self._owner.width() - bar - px(_TICK) - px(_PENCIL)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        step, is_done, is_edited, text, name, can_edit = index.data(_ROLE + 1)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = option.rect
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        hovered = bool(option.state & QStyle.StateFlag.State_MouseOver)
        if is_edited:
            painter.fillRect(box, QColor("#f0d9c4"))
        elif selected or hovered:
            painter.fillRect(box, QColor("#f3efe6" if selected else "#e6e1d6"))
        ink = QColor("#26241f") if is_done and step.enabled else QColor("#77705f")
        if index.data(_ROLE + 2):
            self._triangle(painter, QPointF(box.left() + px(9), box.center().y() + 1), ink)
        elif not isinstance(step.action, Open):
            square = QRect(box.left() + px(4), box.center().y() - px(5), px(11), px(11))
            painter.setPen(QPen(ink, 1))
            painter.setBrush(QColor("#ffffff") if step.enabled else Qt.BrushStyle.NoBrush)
            painter.drawRect(square)
            if step.enabled:
                painter.setPen(QPen(ink, 1.8))
                painter.drawPolyline(
                    [square.topLeft() + p for p in [QPoint(px(x), px(y)) for x, y in ((2, 6), (5, 9), (10, 2))]]
                )
        font = option.font
        font.setStrikeOut(not step.enabled)
        font.setItalic(not is_done)
        painter.setFont(font)
        painter.setPen(ink)
        room = QRect(box.left() + px(_TICK), box.top(), self._room(), box.height())
        metrics = QFontMetrics(font)
        if name:  # whose step it is stays to be read, however long the step's text is
            shown = metrics.elidedText(name, Qt.TextElideMode.ElideMiddle, int(0.38 * room.width()))
            painter.setPen(QColor("#5f594e"))
            painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, shown)
            room.setWidth(room.width() - metrics.horizontalAdvance(shown) - px(8))
            painter.setPen(ink)
        lines = "\n".join(_lines_of(text, font, room.width()))
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, lines)
        if option.state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(QColor("#1f5fa8"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(1, 1, -1, -1))
        if can_edit and (hovered or selected or is_edited):
            self._pencil(painter, QRect(box.right() - px(_PENCIL), box.top(), px(_PENCIL), box.height()))
        painter.restore()

    @staticmethod
    def _triangle(painter: QPainter, at: QPointF, ink: QColor) -> None:
        """The sign of what can be unfolded."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ink)
        painter.drawPolygon([at + QPointF(px(x), px(y)) for x, y in ((-3, -5), (4, 0), (-3, 5))])

    @staticmethod
    def _pencil(painter: QPainter, box: QRect) -> None:
        painter.translate(box.center())
        painter.rotate(45)
        painter.setPen(QPen(QColor("#8a4a1f"), 1.2))
        painter.setBrush(QColor("#e6b98f"))
        painter.drawRect(QRectF(-2.2, -7.5, 4.4, 10.5))
        painter.drawLine(QPointF(-2.2, -5), QPointF(2.2, -5))
        painter.setBrush(QColor("#fbf8f0"))
        painter.drawPolygon([QPointF(-2.2, 3), QPointF(2.2, 3), QPointF(0, 7.5)])


def _lines_of(text: str, font: QFont, width: int) -> list[str]:
    """A text in lines that fit into a width, pixels; what is left of it after the last is told by three dots."""
    layout, lines = QTextLayout(text, font), []
    layout.beginLayout()
    while len(lines) < _LINES:
        line = layout.createLine()
        if not line.isValid():
            break
        line.setLineWidth(max(width, 1))
        begin = line.textStart()
        is_last = len(lines) == _LINES - 1
        part = text[begin:] if is_last else text[begin : begin + line.textLength()].rstrip()
        lines.append(QFontMetrics(font).elidedText(part, Qt.TextElideMode.ElideRight, max(width, 1)))
    layout.endLayout()
    return lines or [text]


def _whose(step: Step) -> str:
    """The name of the piece that a step was done to; nothing where its text says it."""
    if isinstance(step.action, Open | Remove):
        return ""
    named = {piece.id: piece.name for piece in step.given}
    named |= {c.id: c.before.name for c in step.changes if c.before is not None}
    return ", ".join(named[i] for i in step.on if i in named)


class LogList(QListWidget):
    """The steps of the job.

    Attributes
    ----------
    grown : Signal
        It has so many steps now.
    """

    grown = Signal(int)

    def __init__(self, session: Session, editing: Editing) -> None:
        super().__init__()
        self.session, self.editing = session, editing
        self._folded: dict[int, range] = {}
        self._unfolded: set[int] = set()
        self._wanted = ""
        self.setObjectName("loglist")
        self.setAccessibleName("Log: click a line to go back to it, Enter to change it, Space to switch it off")
        self.setItemDelegate(_Delegate(self))
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setMouseTracking(True)
        self.setMinimumHeight(px(_LEAST))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._show_menu)

    def show_those_with(self, text: str) -> None:
        """Show the steps that have all words of a text in their lines; nothing: all of them."""
        self._wanted = text
        self.refresh()

    def refresh(self) -> None:
        """Show the job as it is."""
        job, number = self.session.job, self.currentRow()
        standing = job.cursor if self.editing.number is None else len(job.log)
        self.clear()
        self._folded = {}
        several = len({i for step in job.log for i in (*step.on, *(c.id for c in step.changes))}) > 1
        for i, step in enumerate(job.log):
            text = f"{i + 1}  {step.text if step.enabled else step.action.title}"
            name = _whose(step) if several else ""
            told = "" if step.enabled else ", switched off"
            told += ", undone" if i >= standing else ""
            item = QListWidgetItem(text + (f", {name}" if name else "") + told)
            item.setData(_ROLE, i + 1)
            is_edited = i == self.editing.number
            shown = text + ("  (undone)" if i >= standing else "") + ("  (off)" if not step.enabled else "")
            item.setData(_ROLE + 1, (step, i < standing, is_edited, shown, name, self.editing.can_edit(step.action)))
            item.setToolTip(self._about(step, f"{text} · {name}" if name else text))
            self.addItem(item)
        words = self._wanted.casefold().split()
        if words:
            for row in range(self.count()):
                self.setRowHidden(row, not all(word in self.item(row).text().casefold() for word in words))
        else:
            self._fold(standing)
        self.grown.emit(len(job.log))
        if not (self.hasFocus() and 0 <= number < self.count()):
            number = max(0, job.cursor - 1) if self.editing.number is None else self.editing.number
        within = next((run.stop - 1 for run in self._folded.values() if number in run), number)
        self.setCurrentRow(within)
        current = self.currentItem()
        if current is not None:
            self.scrollToItem(current)

    def _fold(self, standing: int) -> None:
        """Let runs of strokes be one line each, but those that were unfolded, or of which one stroke is open."""
        log = self.session.job.log
        runs = runs_of_strokes(log)
        self._unfolded &= {run.start for run in runs}
        for run in runs:
            if run.start in self._unfolded or self.editing.number in run:
                continue
            last = run.stop - 1
            self._folded[last] = run
            for row in run[:-1]:
                self.setRowHidden(row, True)
            text, item = run_text(log, run, standing), self.item(last)
            _, _, _, _, name, _ = item.data(_ROLE + 1)
            item.setText(f"{text}, {name}" if name else text)
            item.setData(_ROLE + 1, (log[last], run.start < standing, False, text, name, False))
            item.setData(_ROLE + 2, True)
            seconds = sum(step.seconds for step in log[run.start : run.stop])
            item.setToolTip(f"{text}, {seconds:.2f} s\nClick to go there. Enter or Space: show each stroke.")

    def _unfold(self, row: int) -> bool:
        """Show each stroke of a run; False where the row stands for itself."""
        run = self._folded.get(row)
        if run is not None:
            self._unfolded.add(run.start)
            self.refresh()
        return run is not None

    def _fold_again(self, run: range) -> None:
        self._unfolded.discard(run.start)
        self.refresh()

    def _about(self, step: Step, text: str) -> str:
        lines = [f"{text}, {step.seconds:.2f} s", "Click to go there."]
        if self.editing.can_edit(step.action):
            lines.append("Pencil or Enter: change its values. Space: switch it off.")
            lines.append("Alt+Up, Alt+Down: do it earlier, later.")
        return "\n".join(lines)

    def _row_at(self, place: QPoint) -> int:
        return self.indexAt(place).row()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = event.position().toPoint()
        row = self._row_at(place)
        super().mousePressEvent(event)
        if row < 0 or event.button() != Qt.MouseButton.LeftButton:
            return
        step = self.session.job.log[row]
        if place.x() < px(_TICK) and self._unfold(row):
            return
        if place.x() >= self.viewport().width() - px(_PENCIL) and self.editing.can_edit(step.action):
            self.editing.begin(row)
        elif place.x() < px(_TICK) and not isinstance(step.action, Open):
            self.editing.set_enabled(row, not step.enabled)
        else:
            self.editing.stay()
            self.session.history.go_to(row + 1)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and self._means(event):
            event.accept()  # these keys are the list's while it has the focus
            return True
        return super().event(event)

    @staticmethod
    def _means(event: QKeyEvent) -> bool:
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        return (
            is_enter(event)
            or event.key() == Qt.Key.Key_Space
            or (alt and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down))
        )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        row = self.currentRow()
        if row < 0 or not self._means(event):
            super().keyPressEvent(event)
        elif self._unfold(row):
            return
        elif event.key() == Qt.Key.Key_Space:
            self.editing.set_enabled(row, not self.session.job.log[row].enabled)
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.editing.move(row, -1 if event.key() == Qt.Key.Key_Up else 1)
        else:
            self.editing.begin(row)

    def _show_menu(self, place: QPoint) -> None:
        row = self._row_at(place)
        if row < 0:
            return
        step = self.session.job.log[row]
        menu = QMenu(self)
        menu.addAction("Go there", lambda: self.session.history.go_to(row + 1))
        run = next((run for run in runs_of_strokes(self.session.job.log) if row in run), None)
        if row in self._folded:
            menu.addAction("Show each stroke    Enter", lambda: self._unfold(row))
            menu.exec(self.viewport().mapToGlobal(place))
            return
        if run is not None:
            menu.addAction("Show the strokes as one line", lambda: self._fold_again(run))
        if self.editing.can_edit(step.action):
            menu.addAction("Change its values…    Enter", lambda: self.editing.begin(row))
        if not isinstance(step.action, Open):
            what = "Switch off" if step.enabled else "Switch on"
            menu.addAction(f"{what}    Space", lambda: self.editing.set_enabled(row, not step.enabled))
            menu.addAction("Move it up    Alt+Up", lambda: self.editing.move(row, -1))
            menu.addAction("Move it down    Alt+Down", lambda: self.editing.move(row, 1))
        menu.exec(self.viewport().mapToGlobal(place))
