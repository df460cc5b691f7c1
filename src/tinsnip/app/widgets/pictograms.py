"""Our own drawn pictograms, and a row of buttons that carry them with their names below."""

from collections.abc import Callable, Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QGridLayout, QWidget

from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import px

__all__ = ["PictogramButton", "PictogramRow", "drawn"]

_ACROSS = 5


def _pen(painter: QPainter, colour: QColor, dashed: bool = False, width: float = 1.6) -> None:
    painter.setPen(QPen(colour, width, Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine))


def _straight(p: QPainter, ink: QColor) -> None:
    p.fillRect(QRectF(3, 12, 18, 8), QColor(180, 96, 42, 120))
    p.drawRect(QRectF(3, 4, 18, 16))
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawLine(QPointF(0, 12), QPointF(24, 12))


def _round(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(3, 4, 18, 16))
    _pen(p, QColor("#b4602a"), width=2.4)
    p.setBrush(QColor(180, 96, 42, 120))
    p.drawEllipse(QPointF(12, 12), 5.5, 5.5)


def _box(p: QPainter, ink: QColor) -> None:
    p.drawEllipse(QPointF(11, 13), 9, 9)
    _pen(p, QColor("#b4602a"), width=2.4)
    p.setBrush(QColor(180, 96, 42, 120))
    p.drawRect(QRectF(11, 3, 10, 10))


def _outline(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(3, 4, 18, 16))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.setBrush(QColor(180, 96, 42, 120))
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((6, 15), (9, 7), (13, 10), (18, 6), (17, 16), (12, 17))]))


def _traced(p: QPainter, ink: QColor) -> None:
    p.drawEllipse(QPointF(12, 12), 10, 10)
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawArc(QRectF(2, 7, 20, 10), 180 * 16, 180 * 16)
    p.setBrush(QColor("#fbf8f0"))
    for x, y in ((3.5, 13), (12, 17), (20.5, 13)):
        p.drawEllipse(QPointF(x, y), 2, 2)


def _brush(p: QPainter, ink: QColor) -> None:
    p.setBrush(QColor("#a9c92c"))
    p.drawEllipse(QPointF(9, 15), 6, 6)
    _pen(p, ink, width=2.4)
    p.drawLine(QPointF(12, 12), QPointF(21, 3))


def _flat(p: QPainter, ink: QColor) -> None:
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((3, 9), (13, 5), (21, 9), (21, 17), (11, 21), (3, 17))]))
    p.setBrush(QColor("#a9c92c"))
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((3, 9), (13, 5), (21, 9), (11, 13))]))


def _shell(p: QPainter, ink: QColor) -> None:
    p.drawEllipse(QPointF(8, 9), 6, 6)
    p.setBrush(QColor("#a9c92c"))
    p.drawEllipse(QPointF(17, 17), 5, 5)


def _select_outline(p: QPainter, ink: QColor) -> None:
    p.setBrush(QColor(169, 201, 44, 150))
    _pen(p, ink, dashed=True)
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((4, 16), (7, 5), (14, 9), (20, 4), (20, 18), (11, 20))]))


def _rows(p: QPainter, ink: QColor) -> None:
    p.drawEllipse(QPointF(12, 12), 5, 5)
    _pen(p, QColor("#8fae1c"), width=3)
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawEllipse(QPointF(12, 12), 8.5, 8.5)


def _rule(p: QPainter, ink: QColor) -> None:
    for i, wide in enumerate((18, 12, 6)):
        p.fillRect(QRectF(3, 4 + 6 * i, wide, 4), QColor("#a9c92c") if i else QColor(120, 120, 110))
        p.drawRect(QRectF(3, 4 + 6 * i, wide, 4))


def _colour(p: QPainter, ink: QColor) -> None:
    for i, colour in enumerate(("#b05a3c", "#a9c92c", "#4f7fa0")):
        p.setBrush(QColor(colour))
        p.drawEllipse(QPointF(8 + 4 * i, 15 - 4 * (i % 2)), 5, 5)


def _group(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(3, 4, 18, 16))
    p.setBrush(QColor("#a9c92c"))
    p.drawRect(QRectF(3, 4, 9, 16))


def _tidy(p: QPainter, ink: QColor) -> None:
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((2, 9), (6, 4), (9, 10), (13, 3), (16, 9), (22, 5))]))
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawLine(QPointF(2, 16), QPointF(22, 16))


def _stand(p: QPainter, ink: QColor) -> None:
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawLine(QPointF(1, 21), QPointF(23, 21))
    _pen(p, ink)
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((6, 20), (6, 9), (12, 4), (18, 9), (18, 20))]))


def _align(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(2, 3, 12, 12))
    p.setBrush(QColor(180, 96, 42, 120))
    _pen(p, QColor("#b4602a"), width=2.0)
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((12, 8), (22, 11), (19, 21), (9, 18))]))


def _datums(p: QPainter, ink: QColor) -> None:
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((2, 15), (13, 11), (22, 15), (11, 20))]))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawLine(QPointF(12, 22), QPointF(12, 2))
    p.drawLine(QPointF(12, 15), QPointF(20, 15))


def _untangle(p: QPainter, ink: QColor) -> None:
    _pen(p, ink, width=1.8)
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((2, 6), (10, 16), (15, 8), (8, 6), (14, 18), (22, 16))]))


_PROFILES: dict[str, tuple[tuple[float, ...], tuple[float, ...]]] = {
    "smooth": ((16, 12, 17, 11, 16, 13, 15), (14, 14, 14, 14, 14, 14, 14)),
    "push": ((17, 17, 17, 17, 17, 17, 17), (17, 16, 11, 7, 11, 16, 17)),
    "draw": ((17, 17, 17, 17, 17, 17, 17), (17, 17, 15, 9, 5, 10, 17)),
    "inflate": ((17, 16, 14, 13, 14, 16, 17), (17, 13, 8, 6, 8, 13, 17)),
    "flatten": ((17, 10, 18, 8, 17, 11, 16), (14, 13, 14, 13, 14, 13, 14)),
    "fill": ((9, 10, 16, 20, 16, 10, 9), (9, 9, 10, 11, 10, 9, 9)),
    "scrape": ((17, 16, 9, 5, 9, 16, 17), (17, 17, 16, 15, 16, 17, 17)),
    "tighten": ((17, 15, 12, 10, 12, 15, 17), (17, 17, 16, 5, 16, 17, 17)),
    "even": ((14, 13, 14, 15, 14, 13, 14), (14, 14, 14, 14, 14, 14, 14)),
    "back": ((17, 17, 12, 9, 12, 17, 17), (17, 15, 14, 16, 14, 15, 17)),
    "colour": ((17, 17, 17, 17, 17, 17, 17), (17, 17, 8, 8, 8, 17, 17)),
}
"""What each brush makes of a surface, seen from the side: how it was, and how it is then."""


def _remesh(p: QPainter, ink: QColor) -> None:
    for a, b, c in (((2, 21), (7, 12), (12, 21)), ((12, 21), (17, 12), (22, 21)), ((7, 12), (12, 3), (17, 12))):
        p.drawPolygon(QPolygonF([QPointF(*q) for q in (a, b, c)]))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawPolygon(QPolygonF([QPointF(7, 12), QPointF(17, 12), QPointF(12, 21)]))


def _bend(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(4, 13, 7, 9))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawArc(QRectF(4, 3, 20, 20), 90 * 16, 90 * 16)
    p.drawArc(QRectF(11, 10, 8, 8), 90 * 16, 90 * 16)
    p.drawLine(QPointF(14, 3), QPointF(14, 10))


def _brush_of(p: QPainter, ink: QColor, name: str) -> None:
    before, after = _PROFILES[name]
    xs = (1, 5, 8.5, 12, 15.5, 19, 23)
    _pen(p, ink, dashed=True, width=1.2)
    p.drawPolyline(QPolygonF([QPointF(x, y) for x, y in zip(xs, before, strict=True)]))
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawPolyline(QPolygonF([QPointF(x, y) for x, y in zip(xs, after, strict=True)]))


def _strip(p: QPainter, ink: QColor) -> None:
    p.fillRect(QRectF(4, 9, 16, 6), QColor("#9a6be0"))
    for x in (4, 20):
        p.drawLine(QPointF(x, 2), QPointF(x, 22))
    for x in (8, 12, 16):
        p.drawLine(QPointF(x, 9), QPointF(x, 15))


def _notch(p: QPainter, ink: QColor) -> None:
    p.setBrush(QColor("#9a6be0"))
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((7, 7), (12, 18), (17, 7))]))
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((2, 7), (7, 7), (12, 18), (17, 7), (22, 7))]))


def _tooth(p: QPainter, ink: QColor) -> None:
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((2, 17), (7, 17), (12, 5), (17, 17), (22, 17))]))
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawLine(QPointF(5, 17), QPointF(19, 17))


def _window(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(2, 4, 20, 16))
    p.setBrush(QColor("#9a6be0"))
    p.drawEllipse(QPointF(12, 12), 5, 5)


def _backdrop(p: QPainter, ink: QColor) -> None:
    p.fillRect(QRectF(2, 15, 20, 6), QColor("#a9c92c"))
    p.drawRect(QRectF(2, 15, 20, 6))
    p.drawEllipse(QPointF(12, 10), 5, 5)


def _other(p: QPainter, ink: QColor) -> None:
    p.drawEllipse(QPointF(12, 12), 6, 6)
    p.drawLine(QPointF(12, 2), QPointF(12, 22))
    p.drawLine(QPointF(2, 12), QPointF(22, 12))


def _close(p: QPainter, ink: QColor) -> None:
    p.drawArc(QRectF(3, 3, 18, 20), 0, 180 * 16)
    p.drawLine(QPointF(3, 13), QPointF(3, 18))
    p.drawLine(QPointF(21, 13), QPointF(21, 18))
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawLine(QPointF(3, 19), QPointF(21, 19))


def _recast(p: QPainter, ink: QColor) -> None:
    _pen(p, ink, dashed=True, width=1.4)
    p.drawEllipse(QPointF(12, 12), 6, 6)
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawEllipse(QPointF(12, 12), 9.5, 9.5)


def _join(p: QPainter, ink: QColor) -> None:
    p.setBrush(QColor(180, 96, 42, 120))
    p.drawEllipse(QPointF(9, 10), 6.5, 6.5)
    p.drawRect(QRectF(11, 10, 11, 10))


def _walls(p: QPainter, ink: QColor) -> None:
    p.setBrush(QColor(180, 96, 42, 120))
    p.drawEllipse(QPointF(12, 12), 9.5, 9.5)
    p.setBrush(QColor("#f7f5f0"))
    p.drawEllipse(QPointF(12, 12), 6, 6)


def _patch(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(2, 4, 20, 16))
    p.setBrush(QColor(154, 107, 224, 150))
    _pen(p, ink, dashed=True)
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((7, 13), (9, 7), (15, 8), (18, 13), (13, 17))]))


def _turn(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(8, 8, 8, 8))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawArc(QRectF(2, 2, 20, 20), 20 * 16, 280 * 16)
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((17, 8), (21.4, 8.4), (22.5, 4))]))


def _scale(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(2, 13, 9, 9))
    _pen(p, QColor("#b4602a"), dashed=True, width=1.8)
    p.drawRect(QRectF(2, 3, 19, 19))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawLine(QPointF(11, 13), QPointF(18, 6))


def _smooth(p: QPainter, ink: QColor) -> None:
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((1, 9), (5, 4), (8, 10), (12, 3), (16, 10), (19, 4), (23, 8))]))
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawArc(QRectF(-4, 14, 32, 16), 35 * 16, 110 * 16)


def _ripple(p: QPainter, ink: QColor) -> None:
    for y in (5, 19):
        _pen(p, ink if y == 5 else QColor("#b4602a"), width=2.0)
        if y == 5:
            for x in (1, 8.5, 16):
                p.drawArc(QRectF(x, 2, 7, 8), 0, 180 * 16)
        else:
            p.drawLine(QPointF(1, y), QPointF(23, y))
    _pen(p, ink, width=1.4)
    p.drawLine(QPointF(12, 10), QPointF(12, 16))


def _sharpen(p: QPainter, ink: QColor) -> None:
    _pen(p, ink, dashed=True)
    p.drawArc(QRectF(5, 6, 14, 14), 0, 180 * 16)
    _pen(p, QColor("#b4602a"), width=2.4)
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((2, 21), (12, 3), (22, 21))]))


def _divide(p: QPainter, ink: QColor) -> None:
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((2, 21), (12, 3), (22, 21))]))
    _pen(p, QColor("#b4602a"), width=2.0)
    p.drawPolygon(QPolygonF([QPointF(*q) for q in ((7, 12), (17, 12), (12, 21))]))


def _foot(p: QPainter, ink: QColor) -> None:
    p.drawEllipse(QPointF(12, 9), 6.5, 6.5)
    p.setBrush(QColor(180, 96, 42, 120))
    _pen(p, QColor("#b4602a"), width=2.0)
    p.drawRect(QRectF(3, 16, 18, 5))


def _drain(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(2, 4, 20, 5))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.fillRect(QRectF(9, 3, 6, 7), QColor(180, 96, 42, 160))
    p.drawLine(QPointF(12, 12), QPointF(12, 21))
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((8.5, 17.5), (12, 21), (15.5, 17.5))]))


def _thicken(p: QPainter, ink: QColor) -> None:
    p.fillRect(QRectF(2, 9, 20, 7), QColor(180, 96, 42, 120))
    p.drawLine(QPointF(2, 9), QPointF(22, 9))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawLine(QPointF(2, 16), QPointF(22, 16))


def _extrude(p: QPainter, ink: QColor) -> None:
    p.drawLine(QPointF(1, 20), QPointF(23, 20))
    p.setBrush(QColor(180, 96, 42, 120))
    _pen(p, QColor("#b4602a"), width=2.0)
    p.drawRect(QRectF(7, 10, 10, 10))
    p.drawLine(QPointF(12, 8), QPointF(12, 1))
    p.drawPolyline(QPolygonF([QPointF(*q) for q in ((9, 4), (12, 1), (15, 4))]))


def _offset(p: QPainter, ink: QColor) -> None:
    p.drawRect(QRectF(7, 7, 10, 10))
    _pen(p, QColor("#b4602a"), width=2.2)
    p.drawRoundedRect(QRectF(2, 2, 20, 20), 5, 5)


_DRAWN: dict[str, Callable[[QPainter, QColor], None]] = {
    "straight": _straight, "round": _round, "box": _box, "outline": _outline, "traced": _traced, "brush": _brush,
    "flat": _flat, "shell": _shell, "select-outline": _select_outline, "rows": _rows, "rule": _rule, "colour": _colour,
    "group": _group, "tidy": _tidy, "backdrop": _backdrop, "stand": _stand, "align": _align,
    "datums": _datums, "untangle": _untangle, "remesh": _remesh, "bend": _bend,
    **{f"brush {name}": (lambda p, ink, name=name: _brush_of(p, ink, name)) for name in _PROFILES},
    "strip": _strip, "notch": _notch, "tooth": _tooth,
    "window": _window, "close": _close, "recast": _recast, "join": _join, "hollow": _walls,
    "patch": _patch, "turn": _turn, "scale": _scale, "smooth": _smooth, "ripple": _ripple, "sharpen": _sharpen,
    "divide": _divide, "foot": _foot, "drain": _drain, "thicken": _thicken, "extrude": _extrude, "offset": _offset,
}  # fmt: skip


def drawn(picture: str, size: QSize) -> QPixmap:
    """A pictogram in light ink, for a dark menu."""
    pixmap = QPixmap(size)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(size.width() / 24.0, size.height() / 24.0)
    ink = QColor("#efece5")
    painter.setPen(QPen(ink, 1.6))
    _DRAWN.get(picture, _other)(painter, ink)
    painter.end()
    return pixmap


class PictogramButton(Button):
    """A small drawing with its name below it."""

    def __init__(self, picture: str, name: str, full_name: str) -> None:
        super().__init__(name)
        self._draw = _DRAWN.get(picture, _other)
        self.setObjectName("pictogram")
        self.setCheckable(True)
        self.setAccessibleName(full_name)
        self.setToolTip(full_name)

    def sizeHint(self) -> QSize:
        text = QFontMetricsF(self.font()).horizontalAdvance(self.text().replace("&", ""))
        return QSize(max(px(44), int(text) + px(8)), px(30) + int(QFontMetricsF(self.font()).height()) + px(5))

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        on = self.isChecked()
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(QPen(QColor("#1f5fa8"), 2) if self.hasFocus() else QPen(QColor("#33383b" if on else "#b9b3a6")))
        painter.setBrush(QColor("#4c5256") if on else QColor("#ffffff" if self.underMouse() else "#f7f5f0"))
        painter.drawRoundedRect(box, 3, 3)
        ink = QColor("#f7f5f0" if on else "#3a3f43")
        painter.save()
        scale = px(22) / 24.0
        painter.translate(self.width() / 2 - 12 * scale, px(5))
        painter.scale(scale, scale)
        painter.setPen(QPen(ink, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        self._draw(painter, ink)
        painter.restore()
        painter.setPen(QColor("#ffffff" if on else "#26241f"))
        text = QRectF(0, px(28), self.width(), self.height() - px(29))
        flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextShowMnemonic
        painter.drawText(text, int(flags), self.text())


class PictogramRow(QWidget):
    """Buttons in rows of a few."""

    def __init__(self, across: int = _ACROSS) -> None:
        super().__init__()
        self._across = across
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setSpacing(px(4))
        for column in range(across):
            self._grid.setColumnStretch(column, 1)
        self.buttons: dict[str, PictogramButton] = {}

    def offer(self, picture: str, name: str, full_name: str, act: Callable[[], None]) -> PictogramButton:
        """Add a button."""
        button = PictogramButton(picture, name, full_name)
        button.clicked.connect(lambda _=False: act())
        at = len(self.buttons)
        self._grid.addWidget(button, at // self._across, at % self._across)
        self.buttons[full_name] = button
        return button

    def check(self, names: Sequence[str]) -> None:
        """Show which are in use."""
        for name, button in self.buttons.items():
            button.setChecked(name in names)
