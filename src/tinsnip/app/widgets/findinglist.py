"""The list of a station's findings: tick box, silhouette, id, size, proposed treatment."""

from PySide6.QtCore import QAbstractListModel, QModelIndex, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.fields import is_enter
from tinsnip.app.widgets.silhouettes import colour_of, draw_silhouette
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.survey import Finding, Kind
from tinsnip.words import lengths

__all__ = ["FindingList", "size_text"]

_FEWEST_ROWS = 4


def size_text(finding: Finding) -> str:
    """How large a finding is, for its row and its tag."""
    if not finding.kind.facts.spans:
        return f"{finding.count} {finding.text}"
    if finding.kind is Kind.WALL:  # how thin it is, not how far it extends
        return f"{finding.text.removeprefix('wall of ')} thick"
    if finding.kind is Kind.OUTSIDE:  # how far it is off
        return finding.text
    if finding.kind is Kind.LAYER:  # how high it lies
        return f"at {lengths([abs(finding.place[2])])} mm"
    return f"{finding.size:.3g} mm" if finding.size < 1000 else f"{finding.size:.0f} mm"


class _Model(QAbstractListModel):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.findings: list[Finding] = []

    def show(self, findings: list[Finding]) -> None:
        self.beginResetModel()
        self.findings = findings
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.findings)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        finding = self.findings[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return f"{finding.id} {finding.text} {size_text(finding)}, {finding.proposal}"
        if role == Qt.ItemDataRole.UserRole:
            return finding
        if role == Qt.ItemDataRole.ToolTipRole:
            tick = ", Space to tick" if finding.kind.facts.can_tick else ""
            about = f", {finding.about}" if finding.about else ""
            return f"{finding.text}: {finding.count} {finding.kind.facts.counted}{about}. Click to go there{tick}."
        return None


class _Delegate(QStyledItemDelegate):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.largest = 1.0

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(100, QFontMetrics(option.font).height() + px(14))

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        finding: Finding = index.data(Qt.ItemDataRole.UserRole)
        box = QRectF(option.rect)
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        hovered = bool(option.state & QStyle.StateFlag.State_MouseOver)
        if selected or hovered:
            painter.fillRect(box, QColor("#e6efc2" if selected else "#eeebdd"))
        if option.state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(QColor("#1f5fa8"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(1, 1, -1, -1))
        painter.setPen(QPen(QColor("#ddd7c9"), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        x = box.left() + 2
        if finding.kind.facts.can_tick:
            self._tick_box(
                painter, QRectF(x, box.center().y() - px(6), px(12), px(12)), self.session.is_ticked(finding)
            )
        x += px(18)
        draw_silhouette(painter, QRectF(x, box.top() + 2, px(30), box.height() - 4), finding, self.largest)
        x += px(36)
        painter.setFont(mono_font(option.font.pointSizeF() * 0.92, bold=True))
        painter.setPen(colour_of(finding.kind))
        painter.drawText(QRectF(x, box.top(), px(36), box.height()), Qt.AlignmentFlag.AlignVCenter, finding.id)
        x += px(36)
        painter.setFont(option.font)
        painter.setPen(QColor("#26241f"))
        right = QRectF(x, box.top(), box.right() - x - 4, box.height())
        painter.drawText(right, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, size_text(finding))
        painter.setPen(QColor("#5f594e"))
        if finding.kind.facts.spans:
            painter.drawText(right, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, finding.proposal)

    @staticmethod
    def _tick_box(painter: QPainter, box: QRectF, on: bool) -> None:
        painter.setPen(QPen(QColor("#5f594e"), 1))
        painter.setBrush(QColor("#ffffff"))
        painter.drawRect(box)
        if on:
            painter.setPen(QPen(QColor("#1d1b17"), px(2)))
            places = ((0.17, 0.5), (0.42, 0.75), (0.83, 0.25))
            painter.drawPolyline([box.topLeft() + QPointF(u * box.width(), v * box.height()) for u, v in places])


class FindingList(QListView):
    """A list that flies to what is clicked, and ticks with the box or the space bar."""

    chosen = Signal(object)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self._is_gone_over = False
        """Whether the keys go from row to row, rather than the mouse."""
        self.setAccessibleName("Findings of the open station")
        self.setMouseTracking(True)
        self.setUniformItemSizes(True)
        self.setSelectionMode(QListView.SelectionMode.ExtendedSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._model = _Model(session)
        self._delegate = _Delegate(session)
        self.setModel(self._model)
        self.setItemDelegate(self._delegate)
        self.entered.connect(lambda index: session.hovered.emit(index.data(Qt.ItemDataRole.UserRole)))
        session.ticks_changed.connect(self.viewport().update)

    def show_findings(self, findings: list[Finding], room: int) -> None:
        """Show a list of findings, as many at once as `room` pixels take."""
        self._delegate.largest = max((f.size for f in findings if f.kind is not Kind.RIM), default=1.0)
        self._model.show(findings)
        row = QFontMetrics(self.font()).height() + px(14)
        self.setFixedHeight(min(len(findings), max(_FEWEST_ROWS, room // row)) * row + 4)
        self.setVisible(bool(findings))

    def selected_findings(self) -> list[Finding]:
        """The rows selected."""
        return [index.data(Qt.ItemDataRole.UserRole) for index in self.selectedIndexes()]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._is_gone_over = False
        index = self.indexAt(event.position().toPoint())
        if index.isValid() and event.position().x() < px(18):
            finding = index.data(Qt.ItemDataRole.UserRole)
            if finding.kind.facts.can_tick:
                chosen = self.selected_findings()
                together = chosen if finding in chosen else [finding]
                self.session.tick(together, not self.session.is_ticked(finding))
            return
        super().mousePressEvent(event)
        if index.isValid():
            self.session.fly_to.emit(index.data(Qt.ItemDataRole.UserRole))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        chosen = self.selected_findings()
        if event.key() == Qt.Key.Key_Space and chosen:
            tickable = [f for f in chosen if f.kind.facts.can_tick]
            if tickable:
                self.session.tick(tickable, not self.session.is_ticked(tickable[0]))
            return
        if is_enter(event) and not self._is_gone_over:
            event.ignore()  # a row that was only clicked: Enter is the copper button's
            return
        if is_enter(event) and self.currentIndex().isValid():
            self.session.fly_to.emit(self.currentIndex().data(Qt.ItemDataRole.UserRole))
            return
        super().keyPressEvent(event)
        self._is_gone_over = True
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self.currentIndex().isValid():
            self.session.fly_to.emit(self.currentIndex().data(Qt.ItemDataRole.UserRole))

    def focusInEvent(self, event: object) -> None:
        super().focusInEvent(event)
        self._is_gone_over = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        if not self.currentIndex().isValid() and self._model.rowCount():  # so that it is seen where the focus is
            self.setCurrentIndex(self._model.index(0))

    def leaveEvent(self, event: object) -> None:
        self.session.hovered.emit(None)
        super().leaveEvent(event)
