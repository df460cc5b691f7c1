"""Looks over every view of the window on one screen, and prints what is cut, hidden or tiny, as JSON.

Run in a process of its own, as screen size, scale and font resolution hold for a whole process:
``python -m tests.screens WIDTH HEIGHT FOLDER [parts]``, where every part of every tray is looked over too.
"""

import json
import sys
from pathlib import Path

from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtGui import QFontInfo, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QComboBox, QLabel, QLineEdit, QScrollArea, QToolButton, QWidget

from tests.hands import WindowTest
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.widgets.fields import NumberField
from tinsnip.app.widgets.panels import Folded
from tinsnip.demo import demo_file

_KINDS = (QAbstractButton, QComboBox, QLabel, NumberField)
_SMALLEST = 10
"""Pixels, before scaling, that letters may have at least."""


class Look(WindowTest):
    """Goes over the window; `found` is what is wrong."""

    def setUp(self) -> None:
        super().setUp()
        self.found: list[str] = []
        room = self.window.screen().availableGeometry()  # large letters make it smaller, in the pixels that Qt counts
        width, height = min(int(sys.argv[1]), room.width()), min(int(sys.argv[2]), room.height())
        self.window.resize(width, height)
        self.settle()
        if (self.window.width(), self.window.height()) != (width, height):
            self.found.append(f"the window is {self.window.width()}x{self.window.height()}")

    def runTest(self) -> None:
        self.look_over("empty")
        self.open(demo_file("pump-cover", 20_000))
        self.look_over("first look")
        self.fitted("first look")
        self.key(Qt.Key.Key_Escape)
        for i, station in enumerate(STATIONS, 1):
            self.view.setFocus()
            self.key(getattr(Qt.Key, f"Key_{i}"))
            if station.name == "Reduce":
                self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
            self.look_over(station.name)
            self.copper_is_seen(station.name)
            if "parts" not in sys.argv:
                continue
            tray = self.window.tray(station.name)
            for folded in tray.findChildren(Folded):
                folded.unfold()
            for part in getattr(tray, "parts", {}):
                tray.choose(part)
                self.look_over(f"{station.name}, {part}")
                self.copper_is_seen(f"{station.name}, {part}")
            self.look_over(f"{station.name}, unfolded")
        self.key(Qt.Key.Key_M)
        self.look_over("Measure")
        self.key(Qt.Key.Key_M)
        for key in (Qt.Key.Key_D, Qt.Key.Key_P, Qt.Key.Key_W):
            self.key(key)
            self.wait_for(lambda: self.session.from_raw is not None)
            self.look_over(f"view {key}")
        self.key(Qt.Key.Key_T)
        self.window.editing.begin(0)
        self.fitted("released")
        picture = self.window.screen().grabWindow(self.window.winId())
        picture.save(str(Path(sys.argv[3]) / "screen.png"))

    def look_over(self, where: str) -> None:
        self.settle()
        least = _SMALLEST * (1.3 if self.window.width() >= 2880 else 1.1 if self.window.width() >= 2400 else 1.0)
        for widget in self.window.findChildren(QWidget):
            if not isinstance(widget, _KINDS) or not widget.isVisible() or widget.width() == 0:
                continue
            name = widget.accessibleName() or getattr(widget, "text", lambda: "")() or type(widget).__name__
            place = QRect(widget.mapTo(self.window, QPoint(0, 0)), widget.size())
            room = self.window.rect()
            scrolled = self.scrolled_in(widget)
            if scrolled is not None:  # what is scrolled away can be scrolled to, but not sideways
                room = QRect(scrolled.viewport().mapTo(self.window, QPoint(0, 0)), scrolled.viewport().size())
                place.setTop(room.top())
                place.setBottom(room.bottom())
            if not room.contains(place):
                self.found.append(f"{where}: {name!r} lies outside: {place.getRect()} of {room.getRect()}")
            if self.is_cut(widget):
                self.found.append(f"{where}: {name!r} is cut: {widget.width()} of {widget.sizeHint().width()}")
            if QFontInfo(widget.font()).pixelSize() < least:
                self.found.append(f"{where}: {name!r} is tiny: {QFontInfo(widget.font()).pixelSize()} px")
        for row in self.window.ticket.rows:
            row.repaint()
            if row.isVisible() and row.is_cut:
                self.found.append(f"{where}: the state of {row.station.name} is cut: {row.state}")

    @staticmethod
    def scrolled_in(widget: QWidget) -> QScrollArea | None:
        parent = widget.parentWidget()
        while parent is not None and not isinstance(parent, QScrollArea):
            parent = parent.parentWidget()
        return parent

    @staticmethod
    def is_cut(widget: QWidget) -> bool:
        """Whether its text needs more room than it has."""
        metrics = widget.fontMetrics()
        if isinstance(widget, NumberField):
            line = widget.findChild(QLineEdit)
            return metrics.horizontalAdvance(line.text()) > line.width()
        if isinstance(widget, QComboBox):
            return metrics.horizontalAdvance(widget.currentText()) > widget.width() - 24
        if isinstance(widget, QLabel) and widget.wordWrap():
            return widget.heightForWidth(widget.width()) > widget.height() + 1
        if isinstance(widget, QLabel):
            return widget.sizeHint().width() > widget.width() + 1 or metrics.height() > widget.height() + 1
        only_icon = Qt.ToolButtonStyle.ToolButtonIconOnly
        if isinstance(widget, QToolButton) and not widget.icon().isNull() and widget.toolButtonStyle() == only_icon:
            return False
        text = widget.text().replace("&", "")
        return metrics.horizontalAdvance(max(text.split("\n"), key=len, default="")) > widget.width()

    def copper_is_seen(self, where: str) -> None:
        """The copper button's own colour is on the screen where the button is."""
        copper = self.window.stack.currentWidget().copper
        if copper is None:
            return
        image = self.window.screen().grabWindow(self.window.winId()).toImage()
        image = image.convertToFormat(QImage.Format.Format_RGB32)
        ratio = image.width() / self.window.width()
        at = copper.mapTo(self.window, QPoint(0, 0))
        wanted = {(180, 96, 42)} if copper.isEnabled() else {(214, 202, 191)}
        for x, y in ((8, copper.height() // 2), (copper.width() - 9, copper.height() // 2)):
            colour = image.pixelColor(int((at.x() + x) * ratio), int((at.y() + y) * ratio))
            if (colour.red(), colour.green(), colour.blue()) not in wanted:
                self.found.append(f"{where}: the copper button is not in sight: {colour.name()}")

    def fitted(self, where: str) -> None:
        """The part fills the view after its size has changed, before it was touched."""
        if where != "first look":
            return
        was = self.window.size()
        self.window.resize(was.width() - 60, was.height() - 60)
        self.settle()
        scale = self.view.camera.scale
        self.view.framing.fit()
        if abs(scale / self.view.camera.scale - 1.0) > 1e-6:
            self.found.append(f"{where}: the view was not fitted again")
        self.window.resize(was)
        self.settle()
        QTest.qWait(50)


if __name__ == "__main__":
    import os
    import unittest

    test = Look()
    result = unittest.TextTestRunner(stream=sys.stderr).run(test)
    wrong = test.found + [text for _, text in result.errors + result.failures]
    print(json.dumps(sorted(set(wrong))), flush=True)
    os._exit(0)
