"""Measuring by clicks, and the readings pinned to the part."""

import itertools
from collections.abc import Callable
from typing import ClassVar

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from tinsnip.app.state.readings import Readings
from tinsnip.app.state.spots import Spot, pick_shown, piece_under
from tinsnip.app.tools.cutting import draw_line
from tinsnip.app.view.edgepick import edge_point
from tinsnip.app.view.firstclick import ring_at
from tinsnip.app.view.hand import Drag, Pointer, Tool, View, draw_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.regions.grow import flat_round
from tinsnip.regions.roundsurface import round_at
from tinsnip.survey.measuring import (
    Reading,
    angle_reading,
    circle_reading,
    diameter_reading,
    distance_reading,
    section_reading,
    straight_reading,
)

__all__ = ["MeasureAngle", "MeasureDiameter", "MeasureDistance", "ShownReadings", "measure_section"]

_MOST_LABELS = 24
_numbers = itertools.count()


class _Measuring(Tool):
    """Clicks that end in a reading."""

    cursor = Qt.CursorShape.CrossCursor
    readings: Readings

    def __init__(self, view: View, readings: Readings) -> None:
        super().__init__(view)
        self.readings = readings

    def take(self, work: Callable[[], Reading], *numbers: int) -> None:
        """Have a reading of some pieces worked out behind the scenes, and keep it, if they are still as they were."""
        present = self.session.job.present
        pieces = [present[number] for number in numbers]

        def found(progress: Progress) -> Reading | str:
            try:
                return work()
            except BadInput as error:
                return str(error)

        def keep(reading: Reading | str) -> None:
            if isinstance(reading, str):
                self.session.message.emit(reading, True)
            elif all(self.session.job.present.get(piece.id) is piece for piece in pieces):
                self.readings.add(reading, [piece.mesh for piece in pieces])

        self.session.tasks.behind(f"measuring {next(_numbers)}", found, keep)

    def is_on_any(self, at: Pointer) -> bool:
        """Whether the left button went down on any piece that is shown."""
        return (
            at.button == Qt.MouseButton.LeftButton
            and piece_under(self.session, self.view.camera.ray(at.x, at.y)) is not None
        )


class _ByTwo(_Measuring):
    hints: ClassVar[tuple[str, str]]

    def __init__(self, view: View, readings: Readings) -> None:
        super().__init__(view, readings)
        self._first: Spot | None = None

    def hint(self) -> str:
        return f"{self.hints[self._first is not None]}  (Esc to leave)"

    def put_away(self) -> None:
        self._first = None

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if self.is_on_any(at) else None

    def _click(self, at: Pointer) -> Drag:
        def picked(spot: Spot) -> None:
            first, self._first = self._first, None
            if first is None:
                self._first = spot
            else:
                self.take(lambda: self.read(first, spot), first.piece.id, spot.piece.id)
            self.update()

        pick_shown(self.session, self.view.camera.ray(at.x, at.y), picked)
        return
        yield

    def read(self, one: Spot, other: Spot) -> Reading:
        """What the two places tell."""
        raise NotImplementedError

    def draw(self, painter: QPainter) -> None:
        if self._first is not None:
            ring_at(painter, self.view.camera, self._first.point)


class MeasureDistance(_ByTwo):
    """The distance between two clicks, straight, and along the surface where both are on one piece."""

    name = "Measure a distance"
    hints = "Click where the distance begins", "Click where it ends"

    def read(self, one: Spot, other: Spot) -> Reading:
        if one.mesh is not other.mesh:
            return straight_reading(one.point, other.point)
        return distance_reading(one.mesh, one[1:], other[1:])


class MeasureAngle(_ByTwo):
    """The angle between two flats, of one piece or of two."""

    name = "Measure an angle"
    hints = "Click the first flat", "Click the second flat"

    def read(self, one: Spot, other: Spot) -> Reading:
        flats = [(spot.mesh, flat_round(spot.mesh, spot.triangle)) for spot in (one, other)]
        return angle_reading(*flats, (one.point, other.point))


class MeasureDiameter(_Measuring):
    """The diameter of a round surface, or of an open edge."""

    name = "Measure a diameter"

    def hint(self) -> str:
        return "Click a round surface, or right beside an open edge  (Esc to leave)"

    def press(self, at: Pointer) -> Drag | None:
        is_left = at.button == Qt.MouseButton.LeftButton
        near = is_left and edge_point(self.view, at.x, at.y) is not None
        return self._click(at) if near or self.is_on_any(at) else None

    def _click(self, at: Pointer) -> Drag:
        edge = edge_point(self.view, at.x, at.y)
        if edge is not None:
            piece = self.session.job.piece
            self.take(lambda: circle_reading(_loop_at(piece.mesh, edge)), piece.id)
            return

        def picked(spot: Spot) -> None:
            _, triangle, point = spot
            self.take(lambda: diameter_reading(spot.mesh, round_at(spot.mesh, triangle, point), point), spot.piece.id)

        pick_shown(self.session, self.view.camera.ray(at.x, at.y), picked)
        return
        yield


def _loop_at(mesh: Mesh, place: np.ndarray) -> np.ndarray:
    """The points of the open edge that comes nearest to a place."""
    corner, halves = mesh.faces.ravel(), mesh.loops.halfedges
    nearest = int(np.argmin(((mesh.vertices[corner[halves]] - place) ** 2).sum(axis=1)))
    number = int(np.searchsorted(mesh.loops.start, nearest, side="right")) - 1
    return mesh.vertices[corner[mesh.loops.loop(number)]]


def measure_section(tool: _Measuring, plane: tuple[np.ndarray, float]) -> None:
    """Keep length and area of a section of each piece that is shown and that it goes through."""
    pieces = tool.session.shown_pieces()
    normal, offset = plane
    met = [p for p in pieces if abs(normal @ p.mesh.box.mean(axis=0) - offset) <= 0.5 * np.abs(normal) @ p.mesh.size]
    for piece in met or [tool.session.job.piece]:
        tool.take(lambda mesh=piece.mesh: section_reading(mesh, *plane), piece.id)


class ShownReadings(Tool):
    """Draws what was measured on the part as it is now, each with its label."""

    name = "Readings of the part"

    def __init__(self, view: View, readings: Readings) -> None:
        super().__init__(view)
        self.readings = readings
        readings.changed.connect(self.update)

    def draw(self, painter: QPainter) -> None:
        if self.session.stand_in is not None or self.session.looking_back is not None:
            return
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        for reading in self.readings.now()[-_MOST_LABELS:]:
            for line in reading.lines:
                draw_line(painter, self.view, np.array(line), closed=False)
            x, y, _ = self.view.camera.project(np.array(reading.at))[0]
            painter.setPen(QPen(QColor("#1d2023"), 1))
            painter.setBrush(QColor("#fbf8f0"))
            painter.drawEllipse(QPointF(x, y), px(3), px(3))
            width = QFontMetricsF(painter.font()).horizontalAdvance(reading.label) + 14
            left = min(max(x + px(10), 4.0), self.view.width() - width - 4)
            draw_label(painter, QPointF(left, min(max(y - px(30), 4.0), self.view.height() - px(30))), reading.label)
