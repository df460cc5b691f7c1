"""Pairs of points: the same places marked on two pieces, one of which stays and one of which moves."""

import copy
import itertools
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QPainter, QPen

from tinsnip.app.state.spots import hit_on
from tinsnip.app.view.camera import Camera
from tinsnip.app.view.hand import Drag, Pointer, Tool, View, draw_label
from tinsnip.app.view.sideview import SideView
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.space.rigid import moved_points
from tinsnip.treat.pieces.align import pose_of_pairs
from tinsnip.words import millimetres

__all__ = ["PairTool"]

_SHARE = 0.44
"""Share of the view's width and height that the piece which moves takes, at the lower right."""
_BESIDE = 0.68
"""Share of the view that the piece which stays is shown in meanwhile, at the upper left."""
_NEAR = 9.0
_BEHIND = 0.01
"""Share of the size by which a point lies behind the surface that is seen there, from which it is hidden."""
_HIDDEN = 0.35
_numbers = itertools.count()


class _Side(NamedTuple):
    """One of the two pieces, as it was when the tool was taken in hand."""

    id: int
    name: str
    mesh: Mesh


class PairTool(Tool):
    """Clicks on the piece that stays, in the view, and on the one that moves, beside it; the same places in turn.

    Signals
    -------
    changed
        The points are others.
    """

    name = "Mark pairs of points"
    cursor = Qt.CursorShape.CrossCursor
    changed = Signal()

    def __init__(self, view: View, moving: int) -> None:
        super().__init__(view)
        job = self.session.job
        self.staying, self.moving = (
            _Side(number, job.present[number].name, job.present[number].mesh) for number in (job.active, moving)
        )
        self.stays: list[np.ndarray] = []
        self.moves: list[np.ndarray] = []
        self.side: SideView | None = None
        self._was: Camera | None = None
        self.session.pieces_changed.connect(self._pieces_changed)

    # ---- what is marked

    @property
    def pairs(self) -> int:
        """How many places are marked on both."""
        return min(len(self.stays), len(self.moves))

    def offs(self) -> np.ndarray:
        """How far the points of each pair are apart where the pairs lay the piece, mm; none without a pose."""
        count = self.pairs
        try:
            pose = pose_of_pairs(self.stays[:count], self.moves[:count])
        except BadInput:
            return np.zeros(0)
        return np.linalg.norm(moved_points(pose, np.array(self.moves[:count])) - np.array(self.stays[:count]), axis=1)

    def take_back(self) -> bool:
        """Take the last point away; False when there is none."""
        if not self.stays and not self.moves:
            return False
        longer = self.stays if len(self.stays) > len(self.moves) else self.moves
        longer.pop()
        self._told()
        return True

    def _told(self) -> None:
        self.update()
        if self.side is not None:
            self.side.update()
        self.changed.emit()

    def _mark(self, on: list[np.ndarray], place: np.ndarray, at: int | None) -> None:
        if at is not None:
            on[at] = place
        else:
            other = self.moves if on is self.stays else self.stays
            if len(on) > len(other):
                on[-1] = place  # one place at a time: another click on the same piece means it again
            else:
                on.append(place)
        self._told()

    def _remove(self, number: int) -> None:
        for on in (self.stays, self.moves):
            if number < len(on):
                del on[number]
        self._told()

    def _marked_at(self, piece: _Side, camera: Camera, x: float, y: float) -> int | None:
        """The point that is marked at a pixel and seen there, by its number."""
        for number, place in enumerate(self._on(piece)):
            seen = camera.project(place)[0]
            if max(abs(seen[0] - x), abs(seen[1] - y)) <= px(_NEAR) and self._is_seen(piece, camera, place):
                return number
        return None

    def _on(self, piece: _Side) -> list[np.ndarray]:
        return self.stays if piece is self.staying else self.moves

    @staticmethod
    def _is_seen(piece: _Side, camera: Camera, place: np.ndarray) -> bool:
        """Whether nothing of its own piece lies before a place."""
        if not is_known(piece.mesh, Mesh.tree):
            return True  # to be told in no time, or not at all
        x, y, _ = camera.project(place)[0]
        start, way = camera.ray(x, y)
        hit = hit_on(piece.mesh, (start, way))
        return hit is None or float((place - hit[1]) @ way) < _BEHIND * piece.mesh.diagonal

    def _find(self, piece: _Side, camera: Camera, x: float, y: float, at: int | None) -> None:
        """Find the place of a piece under a pixel, beside the window, and mark it."""
        ray, on = camera.ray(x, y), self._on(piece)

        def done(hit: tuple[int, np.ndarray] | None) -> None:
            if self.view.hand.tool is not self:
                return
            if hit is None:
                self.session.message.emit(f"there is nothing of {piece.name} there; click on its surface", True)
            elif at is None or at < len(on):
                self._mark(on, hit[1], at)

        self.session.tasks.behind(f"pair {next(_numbers)}", lambda progress: hit_on(piece.mesh, ray), done)

    # ---- the hand

    def hint(self) -> str:
        if len(self.stays) > len(self.moves):
            return f"Click the same place on {self.moving.name}, at the lower right  (Backspace: last point back)"
        if len(self.moves) > len(self.stays):
            return f"Click the same place on {self.staying.name}  (Backspace: last point back)"
        more = max(0, 3 - self.pairs)
        if more:
            return f"Click a place that both pieces show, on either: {more} more  (Esc to leave)"
        return "Enter aligns. Further pairs make it surer; drag a point to move it, right click takes it away"

    def taken(self) -> None:
        self.view.set_aside(self.moving.mesh)
        camera, mesh = self.view.camera, self.staying.mesh
        self._was = copy.copy(camera)
        camera.fit(mesh.vertices[:: max(1, len(mesh.vertices) // 50_000)], mesh.box)
        camera.scale /= _BESIDE
        camera.pan(-0.5 * (1.0 - _BESIDE) * camera.width, -0.5 * (1.0 - _BESIDE) * camera.height)
        self.view.moved()
        self.side = SideView(self.view, self.moving.mesh, self.moving.name, self._draw_side)
        self.side.clicked.connect(self._side_clicked)
        self.view.installEventFilter(self)
        self._place_side()
        self.side.show()

    def put_away(self) -> None:
        self.view.removeEventFilter(self)
        side, self.side = self.side, None
        if side is not None:
            side.hide()
            side.deleteLater()
        self.view.set_aside(None)
        if self._was is not None:
            camera, was, self._was = self.view.camera, self._was, None
            camera.turn, camera.lift, camera.middle, camera.scale = was.turn, was.lift, was.middle, was.scale
            self.view.moved()
        self.stays, self.moves = [], []
        self.changed.emit()

    def eventFilter(self, watched: object, event: object) -> bool:
        if event.type() == event.Type.Resize:
            self._place_side()
        return False

    def _place_side(self) -> None:
        if self.side is not None:
            width, height = round(_SHARE * self.view.width()), round(_SHARE * self.view.height())
            gap = px(12)
            self.side.setGeometry(self.view.width() - width - gap, self.view.height() - height - gap, width, height)

    def _pieces_changed(self) -> None:
        present = self.session.job.present
        both = (self.staying, self.moving)
        if self.view.hand.tool is self and any(
            piece.id not in present or present[piece.id].mesh is not piece.mesh for piece in both
        ):
            self.view.hand.put_away()

    def _side_clicked(self, x: float, y: float, right: bool) -> None:
        at = self._marked_at(self.moving, self.side.camera, x, y)
        if right:
            if at is not None:
                self._remove(at)
            return
        self._find(self.moving, self.side.camera, x, y, at)

    def press(self, at: Pointer) -> Drag | None:
        marked = self._marked_at(self.staying, self.view.camera, at.x, at.y)
        if at.button == Qt.MouseButton.RightButton and marked is not None:
            self._remove(marked)
            return None
        on_part = at.button == Qt.MouseButton.LeftButton and self.view.surface_point(at.x, at.y) is not None
        return self._drag(at, marked) if on_part or (marked is not None) else None

    def _drag(self, at: Pointer, marked: int | None) -> Drag:
        """A point is put down where the button goes up."""
        place = at
        while at.is_down:
            at = yield
            place = at if at.is_down else place
            if marked is not None and (found := self.view.surface_point(place.x, place.y)) is not None:
                self.stays[marked] = found
                self.update()
        self._find(self.staying, self.view.camera, place.x, place.y, marked)

    def key(self, event: QKeyEvent) -> bool:
        return event.key() == Qt.Key.Key_Backspace and self.take_back()

    # ---- what is drawn

    def draw(self, painter: QPainter) -> None:
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        self._draw_points(painter, self.view.camera, self.staying)
        draw_label(painter, QPointF(px(14), px(46)), f"STAYS {self.staying.name}")

    def _draw_side(self, painter: QPainter, camera: Camera) -> None:
        self._draw_points(painter, camera, self.moving)
        draw_label(painter, QPointF(px(8), px(8)), f"MOVES {self.moving.name}")

    def _draw_points(self, painter: QPainter, camera: Camera, piece: _Side) -> None:
        offs = self.offs()
        for number, place in enumerate(self._on(piece)):
            x, y, _ = camera.project(place)[0]
            painter.setOpacity(1.0 if self._is_seen(piece, camera, place) else _HIDDEN)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for colour, width in ((QColor("#1d2023"), 4.0), (QColor("#fff6d8"), 2.0)):
                painter.setPen(QPen(colour, width))
                painter.drawEllipse(QPointF(x, y), px(6), px(6))
                painter.drawLine(QPointF(x - px(3), y), QPointF(x + px(3), y))
                painter.drawLine(QPointF(x, y - px(3)), QPointF(x, y + px(3)))
            off = f"  {millimetres(offs[number])} mm" if number < len(offs) else ""
            text = f"{number + 1}{off}"
            room = QFontMetricsF(painter.font()).horizontalAdvance(text) + 18
            left = x + px(10) if x + px(10) + room < camera.width else x - px(10) - room
            draw_label(painter, QPointF(left, y - px(10)), text)
        painter.setOpacity(1.0)
