"""The ticket: the nine stations in the order of the work, each with its live state and findings."""

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QLabel, QScrollArea, QVBoxLayout, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.stations.station import Station
from tinsnip.app.widgets.fields import is_enter, take_typed
from tinsnip.app.widgets.findinglist import FindingList
from tinsnip.app.widgets.theme import px
from tinsnip.words import grouped, lengths

__all__ = ["Ticket", "station_state"]


def station_state(session: Session, station: Station) -> tuple[str, int | None]:
    """One line of state for a station, and how much is open there (None: nothing to count)."""
    if session.job.piece is None:
        return "", None
    if station.waits and session.examination is None:
        return "looking…", None
    return station.state(session)


class _Row(QWidget):
    """One station."""

    def __init__(self, session: Session, index: int) -> None:
        super().__init__()
        self.session = session
        self.index = index
        self.station = STATIONS[index]
        self.is_cut = False
        """Whether its line of state found too little room."""
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFixedHeight(2 * QFontMetrics(self.font()).height() + px(14))
        self.refresh()

    def refresh(self) -> None:
        state, count = station_state(self.session, self.station)
        self.state, self.count = state, count
        text = f"Station {self.index + 1}, {self.station.name}: {state}"
        self.setAccessibleName(text if not count else f"{text}, {count} open")
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        take_typed()
        self.session.set_station(self.station.name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space or is_enter(event):
            self.session.set_station(self.station.name)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        is_open = self.session.station == self.station.name
        box = QRectF(self.rect())
        painter.fillRect(box, QColor("#ffffff" if is_open else "#f3efe6"))
        if is_open:
            painter.fillRect(QRectF(0, 0, px(4), box.height()), QColor("#b4602a"))
        painter.setPen(QPen(QColor("#d8d1c2"), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        if self.hasFocus():
            painter.setPen(QPen(QColor("#1f5fa8"), 2))
            painter.drawRect(box.adjusted(2, 2, -2, -2))
        font = self.font()
        font.setBold(True)
        painter.setFont(font)
        painter.setPen(QColor("#8d8778"))
        painter.drawText(QRectF(px(14), px(7), px(20), box.height()), Qt.AlignmentFlag.AlignTop, str(self.index + 1))
        painter.setPen(QColor("#1d1b17"))
        line = QFontMetrics(font).height()
        painter.drawText(QRectF(px(40), px(7), box.width() - px(100), line + 2), 0, self.station.name)
        font.setBold(False)
        font.setPointSizeF(font.pointSizeF() * 0.94)
        painter.setFont(font)
        painter.setPen(QColor("#5f594e"))
        room = box.width() - px(40) - (px(52) if self.count is not None else px(10))
        text = QFontMetrics(font).elidedText(self.state, Qt.TextElideMode.ElideRight, int(room))
        self.is_cut = text != self.state
        painter.drawText(QRectF(px(40), px(7) + line, room, line + 2), 0, text)
        if self.count is None:
            return
        font.setBold(True)
        painter.setFont(font)
        label = str(self.count) if self.count else "✓"
        width = max(px(26), QFontMetrics(font).horizontalAdvance(label) + px(14))
        badge = QRectF(box.right() - width - px(12), box.center().y() - px(11), width, px(22))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor("#f3d9cb" if self.count else "#d5eadd"))
        painter.drawRoundedRect(badge, 4, 4)
        painter.setPen(QColor("#8f3f14" if self.count else "#1f6b46"))
        painter.drawText(badge, Qt.AlignmentFlag.AlignCenter, label)


class Ticket(QWidget):
    """The column on the left."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("ticket")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(px(276))
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.name = QLabel()
        self.name.setObjectName("title")
        self.facts = QLabel()
        self.facts.setObjectName("muted")
        head = QWidget()
        head_box = QVBoxLayout(head)
        head_box.setContentsMargins(px(14), px(18), px(10), px(10))
        head_box.setSpacing(1)
        head_box.addWidget(self.name)
        head_box.addWidget(self.facts)
        outer.addWidget(head)
        body = QWidget()
        body.setObjectName("ticketbody")
        self.column = QVBoxLayout(body)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(0)
        self.rows = [_Row(session, i) for i in range(len(STATIONS))]
        self.list = FindingList(session)
        self.holder = QWidget()
        holder_box = QVBoxLayout(self.holder)
        holder_box.setContentsMargins(px(20), 0, px(8), px(6))
        holder_box.addWidget(self.list)
        for row in self.rows:
            self.column.addWidget(row)
        self.column.addStretch(1)
        self.scroll = scroll = QScrollArea()
        scroll.setObjectName("ticketscroll")
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(body)
        outer.addWidget(scroll, 1)
        for signal in (
            session.mesh_changed, session.examined, session.log_changed, session.exporting.released,
            session.judging.changed,
        ):  # fmt: skip
            signal.connect(self.refresh)
        session.station_changed.connect(self.refresh)
        self.refresh()

    def refresh(self, *_: object) -> None:
        """Show the session as it is."""
        piece = self.session.job.piece
        metrics = QFontMetrics(self.name.font())
        name = piece.name if piece else "No scan open"
        self.name.setText(metrics.elidedText(name, Qt.TextElideMode.ElideMiddle, px(236)))
        self.name.setToolTip(str(piece.scan.path) if piece else "")
        if piece:
            raw = f"raw {grouped(len(piece.raw.faces))} triangles"
            self.facts.setText(f"{raw}\n{lengths(piece.mesh.size)} mm now")
        else:
            self.facts.setText("Open a scan, or take a demo scan")
        for row in self.rows:
            row.refresh()
        self.holder.setParent(None)
        findings = self.session.findings()
        room = self.scroll.viewport().height() - len(self.rows) * self.rows[0].height() - 12
        self.list.show_findings(findings, room)
        if findings:
            at = self.column.indexOf(self.rows[[s.name for s in STATIONS].index(self.session.station)])
            self.column.insertWidget(at + 1, self.holder)
            self.holder.show()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.refresh()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor("#cfc7b4"))
        for x in range(px(10), self.width(), px(19)):  # the torn edge of a ticket
            painter.drawRect(x, 0, px(9), px(7))
