"""Drawn over the view: tags of findings, the snip's frame and tabs, the scale bar."""

from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.tools.snip import SnipPlan
from tinsnip.app.view.camera import Camera
from tinsnip.app.widgets.findinglist import size_text
from tinsnip.app.widgets.theme import mono_font
from tinsnip.survey import Finding, Kind
from tinsnip.words import grouped

__all__ = ["Overlay", "Pin", "Tab"]

_MOST_TAGS = 14
_DIAL = 54.0


class Tab(NamedTuple):
    """A handle of the snip: its name, place on the screen, and half size."""

    name: str
    at: QPointF
    half: float


class Pin(NamedTuple):
    """A reading pinned to a point of the surface."""

    place: np.ndarray
    text: str


class Overlay(QWidget):
    """Transparent to the mouse; asks the session and the camera what to draw."""

    def __init__(self, session: Session, camera: Camera, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.camera = camera
        self.snip: SnipPlan | None = None
        self.held_tab: str | None = None
        self.hovered: Finding | None = None
        self.clicked_points: list[np.ndarray] = []
        self.hint = ""
        self.pins: list[Pin] = []
        self.shows_turn = False
        self.turned = np.eye(3)
        self.tags: list[tuple[QRectF, Finding]] = []
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def tabs(self) -> list[Tab]:
        """Where the tabs of the snip, or of turning, are."""
        if self.shows_turn and self.session.mesh is not None:
            return self._turn_tabs(self.session.mesh.box)
        if self.snip is None:
            return []
        middle, u, v = self.snip.frame()
        places = self.camera.project(np.array([middle, middle + u, middle + v]))
        names = ("slide", "tilt-0", "tilt-1")
        margin = 22.0
        tabs = []
        for name, place in zip(names, places, strict=True):
            x = float(np.clip(place[0], margin, self.width() - margin))
            y = float(np.clip(place[1], margin, self.height() - margin))
            tabs.append(Tab(name, QPointF(x, y), 13.0))
        return tabs

    def _turn_tabs(self, box: np.ndarray) -> list[Tab]:
        """Three tabs beside the part, one to turn about each axis."""
        middle, half = box.mean(axis=0), 0.5 * (box[1] - box[0])
        reach = 1.15 * max(float(half.max()), 1e-9)
        ways = np.array([[0, -1, 0.35], [1, 0, 0.35], [-0.75, -0.75, 0]]) * reach
        tabs = []
        for name, place in zip("xyz", self.camera.project(middle + ways), strict=True):
            x = float(np.clip(place[0], 30, max(31, self.width() - 30)))
            y = float(np.clip(place[1], 30, max(31, self.height() - 30)))
            tabs.append(Tab(f"turn-{name}", QPointF(x, y), 14.0))
        return tabs

    def dial_way(self, x: float, y: float) -> tuple[float, float] | None:
        """The direction of view that a place on the dial stands for: turn and lift, degrees."""
        centre = self.dial_centre()
        dx, dy = x - centre.x(), y - centre.y()
        far = float(np.hypot(dx, dy))
        if far > _DIAL:
            return None
        if far < 0.55 * _DIAL:
            return (self.camera.turn, 90.0) if dy < 0 else (self.camera.turn, -90.0)
        names = ((0.0, 1.0, 0.0), (90.0, 0.0, 1.0), (180.0, -1.0, 0.0), (270.0, 0.0, -1.0))
        best = max(names, key=lambda n: n[1] * dy + n[2] * dx)
        return best[0], 0.0

    def dial_centre(self) -> QPointF:
        """Middle of the dial."""
        return QPointF(self.width() - _DIAL - 18, self.height() - _DIAL - 18)

    def _draw_dial(self, painter: QPainter) -> None:
        """A ring with the four sides, top and under within; a mark shows where the view comes from."""
        centre = self.dial_centre()
        painter.setPen(QPen(QColor("#7f868a"), 1))
        painter.setBrush(QColor(34, 38, 41, 225))
        painter.drawEllipse(centre, _DIAL, _DIAL)
        painter.setBrush(QColor(66, 72, 76, 235))
        painter.drawEllipse(centre, 0.55 * _DIAL, 0.55 * _DIAL)
        font = self.font()
        font.setPointSizeF(font.pointSizeF() * 0.82)
        painter.setFont(font)
        painter.setPen(QColor("#f1eee8"))
        far = 0.74 * _DIAL
        for name, dx, dy in (("front", 0, far), ("right", far, 0), ("back", 0, -far), ("left", -far, 0)):
            box = QRectF(centre.x() + dx - 25, centre.y() + dy - 9, 50, 18)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
        for name, dy in (("top", -13.0), ("under", 13.0)):
            box = QRectF(centre.x() - 25, centre.y() + dy - 9, 50, 18)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
        angle = np.radians(self.camera.turn)
        flat = float(np.cos(np.radians(self.camera.lift)))
        mark = QPointF(
            centre.x() + np.sin(angle) * 0.62 * _DIAL * flat, centre.y() + np.cos(angle) * 0.62 * _DIAL * flat
        )
        painter.setPen(QPen(QColor("#fbf8f0"), 1))
        painter.setBrush(QColor("#d98445"))
        painter.drawEllipse(mark, 4, 4)

    def tab_at(self, x: float, y: float) -> str | None:
        """The tab under a screen position."""
        for tab in self.tabs():
            if abs(tab.at.x() - x) <= tab.half + 3 and abs(tab.at.y() - y) <= tab.half + 3:
                return tab.name
        return None

    def tag_at(self, x: float, y: float) -> Finding | None:
        """The finding whose tag is under a screen position."""
        for box, finding in self.tags:
            if box.contains(x, y):
                return finding
        return None

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.session.mesh is None:
            return
        if self.hovered is not None:
            self._draw_hovered(painter, self.hovered)
        self._draw_tags(painter)
        if self.snip is not None:
            self._draw_snip(painter, self.snip)
        if self.shows_turn:
            self._draw_turn(painter)
        self._draw_dial(painter)
        for point in self.clicked_points:
            x, y, _ = self.camera.project(point)[0]
            painter.setPen(QPen(QColor("#1d2023"), 4))
            painter.drawEllipse(QPointF(x, y), 5, 5)
            painter.setPen(QPen(QColor("#fff6d8"), 2))
            painter.drawEllipse(QPointF(x, y), 5, 5)
        self._draw_scale(painter)
        self._draw_pins(painter)
        self._draw_wipe(painter)
        if self.hint:
            self._label(painter, QPointF(14, 14), self.hint, dark=True)

    def _label(self, painter: QPainter, at: QPointF, text: str, dark: bool = False) -> QRectF:
        metrics = QFontMetricsF(painter.font())
        box = QRectF(at.x(), at.y(), metrics.horizontalAdvance(text) + 14, metrics.height() + 6)
        painter.setPen(QPen(QColor("#1d2023"), 1))
        painter.setBrush(QColor(38, 41, 44, 235) if dark else QColor("#fbf8f0"))
        painter.drawRect(box)
        painter.setPen(QColor("#f1eee8") if dark else QColor("#1d1b17"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        return box

    def _draw_pins(self, painter: QPainter) -> None:
        """Readings, each at its point."""
        painter.setFont(mono_font(self.font().pointSizeF() * 0.88, bold=True))
        for pin in self.pins:
            x, y, _ = self.camera.project(pin.place)[0]
            painter.setPen(QPen(QColor("#1d2023"), 1))
            painter.drawLine(QPointF(x, y), QPointF(x + 16, y - 16))
            painter.setBrush(QColor("#fbf8f0"))
            painter.drawEllipse(QPointF(x, y), 3, 3)
            width = QFontMetricsF(painter.font()).horizontalAdvance(pin.text) + 14
            self._label(painter, QPointF(min(x + 14, self.width() - width - 4), max(y - 34, 4.0)), pin.text)

    def _draw_wipe(self, painter: QPainter) -> None:
        """The divider between raw and now, and what each side shows."""
        view = self.parent()
        if view.shows == "now" or self.session.job.piece is None:
            return
        painter.setFont(mono_font(self.font().pointSizeF() * 0.88, bold=True))
        level = self.session.levels.shown
        count = len(self.session.mesh.faces) if level is None else level.triangles
        raw = f"RAW {grouped(len(self.session.job.piece.raw.faces))}"
        now = f"NOW {grouped(count)}"
        width = QFontMetricsF(painter.font()).horizontalAdvance(raw) + 14
        if view.shows == "raw":
            self._label(painter, QPointF(0.5 * (self.width() - width), 10), raw)
            return
        x = view.wipe_at * self.width()
        for colour, thick in ((QColor(20, 22, 24, 150), 5.0), (QColor("#fbf8f0"), 2.0)):
            painter.setPen(QPen(colour, thick))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        self._label(painter, QPointF(x - width - 8, 10), raw)
        self._label(painter, QPointF(x + 8, 10), now)
        grip = QRectF(x - 14, 0.72 * self.height() - 13, 28, 26)
        painter.setPen(QPen(QColor("#1d2023"), 1))
        painter.setBrush(QColor("#fbf8f0"))
        painter.drawRoundedRect(grip, 4, 4)
        painter.setPen(QPen(QColor("#1d1b17"), 1.6))
        for sign in (-1, 1):
            tip = QPointF(x + sign * 9, grip.center().y())
            painter.drawLine(QPointF(x + sign * 2, tip.y()), tip)
            painter.drawPolyline([tip + QPointF(-sign * 4, -4), tip, tip + QPointF(-sign * 4, 4)])

    def _draw_tags(self, painter: QPainter) -> None:
        """Paper tags of the largest findings, moved apart, each with a line to its place."""
        self.tags = []
        findings = [f for f in self.session.findings() if f.kind is not Kind.TANGLE][:_MOST_TAGS]
        findings += [f for f in self.session.findings() if f.kind is Kind.TANGLE]
        if not findings:
            return
        painter.setFont(mono_font(self.font().pointSizeF() * 0.88, bold=True))
        metrics = QFontMetricsF(painter.font())
        places = self.camera.project(np.array([f.place for f in findings]))
        taken: list[QRectF] = []
        for i, (finding, (x, y, _)) in enumerate(zip(findings, places, strict=True)):
            if not (0 <= x <= self.width() and 0 <= y <= self.height()):
                continue
            text = finding.id if i >= 3 and finding.kind is not Kind.TANGLE else f"{finding.id} {size_text(finding)}"
            width, height = metrics.horizontalAdvance(text) + 12, metrics.height() + 4
            for step in range(24):  # spiral out until it covers no other tag
                angle = -1.1 + 2.4 * step
                reach = 22 + 7 * step
                box = QRectF(x + reach * np.cos(angle), y + reach * np.sin(angle) - height / 2, width, height)
                box.moveLeft(float(np.clip(box.left(), 4, self.width() - width - 4)))
                box.moveTop(float(np.clip(box.top(), 4, self.height() - height - 4)))
                if not any(box.intersects(other) for other in taken):
                    break
            taken.append(box)
            painter.setPen(QPen(QColor(251, 248, 240, 200), 1))
            painter.drawLine(QPointF(x, y), box.center())
            painter.setBrush(QColor("#fbf8f0"))
            painter.drawEllipse(QPointF(x, y), 2.2, 2.2)
            on = self.session.is_ticked(finding) or finding.kind is Kind.RIM
            painter.setPen(QPen(QColor("#1d2023"), 1))
            painter.setBrush(QColor("#fbf8f0") if on else QColor("#c9c4b8"))
            painter.drawRect(box)
            painter.setPen(QColor("#1d1b17"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
            self.tags.append((box, finding))

    def _draw_hovered(self, painter: QPainter, finding: Finding) -> None:
        flat = self.camera.project(finding.outline)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor("#1d2023"), 5.0), (QColor("#c6e83a"), 2.5)):
            painter.setPen(QPen(colour, width))
            if finding.kind in (Kind.HOLE, Kind.RIM):
                painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y, _ in flat]))
            elif finding.kind is Kind.TANGLE:
                for x, y, _ in flat[:200]:
                    painter.drawEllipse(QPointF(x, y), 5, 5)
            else:
                low, high = flat.min(axis=0), flat.max(axis=0)
                painter.drawEllipse(QRectF(low[0] - 5, low[1] - 5, high[0] - low[0] + 10, high[1] - low[1] + 10))

    def _draw_snip(self, painter: QPainter, snip: SnipPlan) -> None:
        middle, u, v = snip.frame()
        corners = np.array([middle + u + v, middle - u + v, middle - u - v, middle + u - v])
        flat = [QPointF(x, y) for x, y, _ in self.camera.project(corners)]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor(20, 22, 24, 160), 4.0), (QColor("#fbf8f0"), 1.6)):
            painter.setPen(QPen(colour, width))
            painter.drawPolygon(QPolygonF(flat))
        normal, _ = snip.waste_plane()
        reach = 46 * self.camera.scale
        tail, head = (QPointF(x, y) for x, y, _ in self.camera.project(np.array([middle, middle + reach * normal])))
        painter.setPen(QPen(QColor("#fbf8f0"), 1.6, Qt.PenStyle.DashLine))
        painter.drawLine(tail, head)
        painter.setFont(mono_font(self.font().pointSizeF() * 0.88, bold=True))
        self._label(painter, head + QPointF(6, -9), "kept")
        for tab in self.tabs():
            held = tab.name == self.held_tab
            painter.setPen(QPen(QColor("#fbf8f0"), 2))
            painter.setBrush(QColor("#e08a4e") if held else QColor("#b4602a"))
            box = QRectF(tab.at.x() - 8, tab.at.y() - tab.half, 16, 2 * tab.half)
            if tab.name != "slide":
                box = QRectF(tab.at.x() - tab.half, tab.at.y() - 8, 2 * tab.half, 16)
            painter.drawRoundedRect(box, 3, 3)
            text = f"{snip.offset:.2f} mm" if tab.name == "slide" else f"tilt {snip.tilt[int(tab.name[-1])]:.1f}°"
            self._label(painter, tab.at + QPointF(18, -10), text)

    def _draw_turn(self, painter: QPainter) -> None:
        """The bed as a grid line frame, and the tabs."""
        box = self.session.mesh.box
        low, high = box[0], box[1]
        pad = 0.15 * float((high - low).max())
        corners = [(low[0] - pad, low[1] - pad), (high[0] + pad, low[1] - pad), (high[0] + pad, high[1] + pad)]
        corners.append((low[0] - pad, high[1] + pad))
        flat = [QPointF(x, y) for x, y, _ in self.camera.project(np.array([(x, y, 0.0) for x, y in corners]))]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor(20, 22, 24, 140), 3.0), (QColor(251, 248, 240, 190), 1.2)):
            painter.setPen(QPen(colour, width, Qt.PenStyle.DashLine))
            painter.drawPolygon(QPolygonF(flat))
        painter.setFont(mono_font(self.font().pointSizeF() * 0.88, bold=True))
        self._label(painter, flat[0] + QPointF(4, 4), "bed z = 0")
        for tab in self.tabs():
            held = tab.name == self.held_tab
            painter.setPen(QPen(QColor("#fbf8f0"), 2))
            painter.setBrush(QColor("#e08a4e") if held else QColor("#b4602a"))
            painter.drawEllipse(tab.at, tab.half, tab.half)
            painter.setPen(QColor("#ffffff"))
            box = QRectF(tab.at.x() - 12, tab.at.y() - 12, 24, 24)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tab.name[-1])
        if self.held_tab is not None and self.held_tab.startswith("turn"):
            angle = np.degrees(np.arccos(np.clip((np.trace(self.turned) - 1) / 2, -1, 1)))
            tab = next(t for t in self.tabs() if t.name == self.held_tab)
            self._label(painter, tab.at + QPointF(20, -10), f"{angle:.1f}° about {self.held_tab[-1]}")

    def _draw_scale(self, painter: QPainter) -> None:
        wanted = 130 * self.camera.scale
        step = 10.0 ** np.floor(np.log10(max(wanted, 1e-12)))
        nice = step * max(m for m in (1, 2, 5) if m * step <= wanted or m == 1)
        length = nice / self.camera.scale
        x, y = 20.0, self.height() - 26.0
        for colour, width in ((QColor(20, 22, 24, 170), 4.0), (QColor("#f3f1ea"), 1.6)):
            painter.setPen(QPen(colour, width))
            painter.drawPolyline([QPointF(x, y - 6), QPointF(x, y), QPointF(x + length, y), QPointF(x + length, y - 6)])
        painter.setFont(self.font())
        painter.setPen(QColor("#f3f1ea"))
        box = QRectF(x - 40, y + 2, length + 80, 20)
        painter.drawText(box, Qt.AlignmentFlag.AlignHCenter, f"{nice:g} mm")
