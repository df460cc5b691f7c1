"""What mouse, wheel and keys do over the view: turn, pan, zoom, drag a tab, pick."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QWheelEvent

from tinsnip.app.view.scene import DEVIATION
from tinsnip.space.picking import first_hit
from tinsnip.treat.stand.moves import rotation

if TYPE_CHECKING:
    from tinsnip.app.view.viewport import Viewport

__all__ = ["Gestures"]


class Gestures(QObject):
    """Turns with the left or middle button, pans with the right, zooms to the pointer; and the tools in hand."""

    snip_edited = Signal()
    turn_made = Signal(object, float)
    pick_ended = Signal()

    def __init__(self, view: "Viewport") -> None:
        super().__init__(view)
        self.view = view
        self.picking_points = False
        self._pick: Callable[[int, np.ndarray], None] | None = None
        self._turned = 0.0
        self._space = False
        self._at: QPointF | None = None
        self._pivot = np.zeros(3)
        self._drag = ""
        self._travelled = 0.0

    def press(self, event: QMouseEvent) -> None:
        """A button goes down: find out what the drag that begins here means."""
        self.view.setFocus()
        if self.view.session.mesh is None:
            return
        x, y = event.position().x(), event.position().y()
        self._at = event.position()
        self._travelled = 0.0
        if event.button() == Qt.MouseButton.LeftButton:
            if self.view.shows == "wipe" and abs(x - self.view.wipe_at * self.view.width()) <= 9:
                self._drag = "wipe"
                return
            way = self.view.overlay.dial_way(x, y)
            if way is not None:
                self.view.look_from(*way)
                self._drag = "dial"
                return
            tab = self.view.overlay.tab_at(x, y)
            if tab is not None and not self._space:
                self._drag = tab
                self._turned = 0.0
                self.view.overlay.held_tab = tab
                self.view.overlay.update()
                return
            finding = self.view.overlay.tag_at(x, y)
            if finding is not None:
                self._drag = ""
                self.view.session.fly_to.emit(finding)
                return
            if self._pick is not None and not self._space:
                self._pick_at(x, y)
                self._drag = ""
                return
            if self.picking_points and not self._space:
                self._click_point(x, y)
                self._drag = ""
                return
        self._drag = "turn" if self._space else self._meaning_of(event)
        point = self.view.surface_point(x, y, roughly=True)
        if point is None:
            point = self.view.camera.centre
        self._pivot = point

    def move(self, event: QMouseEvent) -> None:
        """The mouse moves, with or without a drag."""
        if self._at is None or not self._drag:
            over = self.view.overlay.tab_at(event.position().x(), event.position().y())
            tag = self.view.overlay.tag_at(event.position().x(), event.position().y())
            pointing = over is not None or tag is not None
            if self.view.shows == "wipe" and abs(event.position().x() - self.view.wipe_at * self.view.width()) <= 9:
                self.view.setCursor(Qt.CursorShape.SplitHCursor)
                return
            cross = Qt.CursorShape.CrossCursor if self.picking_points else Qt.CursorShape.ArrowCursor
            self.view.setCursor(Qt.CursorShape.PointingHandCursor if pointing else cross)
            if tag is not self.view.overlay.hovered and (tag is not None or self.view.underMouse()):
                self.view.hover(tag)
            return
        delta = event.position() - self._at
        self._at = event.position()
        self._travelled += abs(delta.x()) + abs(delta.y())
        if self._drag == "wipe":
            self.view.set_wipe(event.position().x() / max(1, self.view.width()))
        elif self._drag == "pan":
            self.view.camera.pan(delta.x(), delta.y())
            self.view.moved()
        elif self._drag == "zoom":
            self.view.camera.zoom(1.01 ** -delta.y(), self.view.camera.width / 2, self.view.camera.height / 2)
            self.view.moved()
        elif self._drag in ("dial", "turn"):
            self.view.camera.turn_about(self._pivot, -0.4 * delta.x(), 0.4 * delta.y())
            self.view.moved()
        elif self._drag.startswith("turn-"):
            self._try_turn(delta.x() - delta.y())
        elif self._drag != "nothing":
            self._drag_tab(delta.x(), delta.y())

    def _drag_tab(self, dx: float, dy: float) -> None:
        snip = self.view.overlay.snip
        if snip is None:
            return
        right, up, _ = self.view.camera.frame()
        flat = np.array([snip.normal @ right, snip.normal @ up])
        length2 = float(flat @ flat)
        if length2 > 0.02:
            distance = (dx * flat[0] - dy * flat[1]) * self.view.camera.scale / length2
        else:  # looked at along its normal: up is along it
            distance = -dy * self.view.camera.scale
        if self._drag == "slide":
            snip.slide(distance)
        else:
            snip.tilt_side(int(self._drag[-1]), distance)
        self.view.show_waste()
        self.snip_edited.emit()

    def _meaning_of(self, event: QMouseEvent) -> str:
        """What a drag that begins like this does, by the settings."""
        names = {Qt.MouseButton.RightButton: "right", Qt.MouseButton.MiddleButton: "middle"}
        name = names.get(event.button(), "left")
        if name == "left" and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            name = "shift+left"
        elif name == "left" and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            name = "ctrl+left"
        return self.view.settings.meaning(name)

    def _try_turn(self, pixels: float) -> None:
        """Show the part turned about an axis by so many pixels' worth of a tab's drag."""
        mesh = self.view.session.mesh
        if mesh is None or self.view.scene is None:
            return
        self._turned += 0.5 * pixels
        linear = rotation(np.eye(3)["xyz".index(self._drag[-1])], self._turned)
        self.view.overlay.turned = linear
        self.view.scene.turn = (linear, mesh.box.mean(axis=0))
        self.view.moved()

    def release(self, event: QMouseEvent) -> None:
        """The drag ends; a mere click in the Deviation view reads a value."""
        if (
            event.button() == Qt.MouseButton.LeftButton
            and self._drag == "turn"
            and self._travelled < 4
            and self.view.look == DEVIATION
        ):
            self.view.read_at(event.position().x(), event.position().y())
        if self._drag.startswith("turn-") and self.view.scene is not None:
            axis, degrees = np.eye(3)["xyz".index(self._drag[-1])], self._turned
            self.view.scene.turn = None
            self.view.overlay.turned = np.eye(3)
            self.view.redraw()
            if abs(degrees) > 0.05:
                self.turn_made.emit(axis, degrees)
        self._at = None
        self._drag = ""
        if self.view.overlay.held_tab is not None:
            self.view.overlay.held_tab = None
            self.view.overlay.update()

    def wheel(self, event: QWheelEvent) -> None:
        """Zoom to the pointer."""
        steps = event.angleDelta().y() / 120.0
        if steps and self.view.session.mesh is not None:
            self.view.camera.zoom(1.18**steps, event.position().x(), event.position().y())
            self.view.moved()

    def key_down(self, event: QKeyEvent) -> bool:
        """A key over the view; False when it means nothing here."""
        steps = {
            Qt.Key.Key_Left: (-8, 0),
            Qt.Key.Key_Right: (8, 0),
            Qt.Key.Key_Up: (0, 8),
            Qt.Key.Key_Down: (0, -8),
        }
        if event.key() in steps:
            self.view.camera.turn_about(self.view.camera.middle, *steps[event.key()])
            self.view.moved()
        elif event.key() == Qt.Key.Key_Space:
            self._space = True
        else:
            return False
        return True

    def key_up(self, event: QKeyEvent) -> None:
        """A key over the view is let go."""
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self._space = False

    def begin_pick(self, hint: str, done: Callable[[int, np.ndarray], None]) -> None:
        """Let the next click on the part pick a triangle and a point."""
        self._pick = done
        self.view.overlay.hint = hint
        self.view.setCursor(Qt.CursorShape.CrossCursor)
        self.view.overlay.update()

    def end_pick(self) -> None:
        """Leave the picking tool."""
        was_picking, self._pick = self._pick is not None, None
        self.view.overlay.hint = ""
        self.view.overlay.clicked_points = []
        self.view.unsetCursor()
        self.view.overlay.update()
        if was_picking:
            self.pick_ended.emit()

    @property
    def is_picking(self) -> bool:
        """A click would pick something."""
        return self._pick is not None or self.picking_points

    def _pick_at(self, x: float, y: float) -> None:
        mesh = self.view.session.mesh
        hit = first_hit(mesh.vertices, mesh.faces, *self.view.camera.ray(x, y))
        if hit is not None and self._pick is not None:
            self._pick(hit[0], hit[1])

    def begin_two_points(self) -> None:
        """Let the next two clicks set the snip's plane."""
        self.picking_points = True
        self.view.overlay.clicked_points = []
        self.end_pick()
        self.picking_points = True
        self.view.overlay.hint = "Click the first of two points on the line of the cut  (Esc to leave)"
        self.view.setCursor(Qt.CursorShape.CrossCursor)
        self.view.overlay.update()

    def end_two_points(self) -> None:
        """Leave the two-point tool."""
        self.picking_points = False
        self.view.overlay.clicked_points = []
        self.view.overlay.hint = ""
        self.view.unsetCursor()
        self.view.overlay.update()

    def _click_point(self, x: float, y: float) -> None:
        point = self.view.surface_point(x, y)
        if point is None:  # beside the part: level with its middle
            start, direction = self.view.camera.ray(x, y)
            point = start + ((self.view.camera.centre - start) @ direction) * direction
        self.view.overlay.clicked_points.append(point)
        self.view.overlay.hint = "Click the second point  (Esc to leave)"
        if len(self.view.overlay.clicked_points) == 2 and self.view.overlay.snip is not None:
            a, b = self.view.overlay.clicked_points
            self.view.overlay.snip.set_two_points(a, b, -self.view.camera.frame()[2])
            self.end_two_points()
            self.view.show_waste()
            self.snip_edited.emit()
        self.view.overlay.update()
