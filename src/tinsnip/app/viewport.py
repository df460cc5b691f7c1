"""The view of the part: drawing and gestures."""

from collections.abc import Callable

import moderngl
import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer, QVariantAnimation, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent, QWheelEvent
from PySide6.QtOpenGLWidgets import QOpenGLWidget

from tinsnip.app.buffers import HELD, ViewBuffers, ViewMarks
from tinsnip.app.camera import Camera
from tinsnip.app.legend import DeviationLegend, ProvenanceLegend
from tinsnip.app.overlay import Overlay, Pin
from tinsnip.app.scene import DEVIATION, PROVENANCE, TIN, Scene
from tinsnip.app.session import STATIONS, Session
from tinsnip.app.settings import Settings
from tinsnip.app.snipplan import SnipPlan
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.picking import first_hit
from tinsnip.survey import Finding, Kind
from tinsnip.survey.deviation import FromRaw
from tinsnip.treat.stand import rotation

__all__ = ["Viewport"]

_HOLE_LINE = {
    "first": (0.66, 0.42, 0.92),
    "second": (0.97, 0.94, 1.0),
    "period": 13.0,
    "share": 0.62,
    "width": 3.4,
}
_RIM_LINE = {"first": (0.97, 0.95, 0.88), "second": (0.15, 0.15, 0.16), "period": 9.0, "share": 0.55, "width": 3.0}
_REST_MS = 140


class Viewport(QOpenGLWidget):
    """Turns with the left or middle button, pans with the right, zooms to the pointer with the wheel."""

    snip_edited = Signal()
    turn_made = Signal(object, float)
    pick_ended = Signal()

    def __init__(self, session: Session, settings: Settings) -> None:
        super().__init__()
        self.session = session
        self.camera = Camera()
        self.scene: Scene | None = None
        self.overlay = Overlay(session, self.camera, self)
        self.settings = settings
        self.picking_points = False
        self._pick: Callable[[int, np.ndarray], None] | None = None
        self.covered_left = 0.0
        self._turned = 0.0
        self._space = False
        self._buffers: ViewBuffers | None = None
        self._pending: ViewBuffers | None = None
        self._fitted: object = None
        self._fit_frame = 0
        self._moving = False
        self._press: QPointF | None = None
        self._pivot = np.zeros(3)
        self._drag = ""
        self._travelled = 0.0
        self.look = TIN
        self.shows = "now"
        self._flight: QVariantAnimation | None = None
        self.frames = self.level_frames = 0
        self._dirty = True
        self.setUpdateBehavior(QOpenGLWidget.UpdateBehavior.PartialUpdate)
        self.setMinimumSize(320, 240)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("View of the part")
        self._rest = QTimer(self, singleShot=True, interval=_REST_MS)
        self._rest.timeout.connect(self._come_to_rest)
        session.buffers_ready.connect(self._take_buffers)
        session.mesh_changed.connect(self.redraw)
        session.examined.connect(self._show_findings)
        session.station_changed.connect(self._show_findings)
        session.ticks_changed.connect(self.overlay.update)
        session.preview_changed.connect(self._show_preview)
        session.fly_to.connect(self.fly_to)
        session.hovered.connect(self._hover)
        session.reframed.connect(self._fit_again)
        session.others_changed.connect(self._show_others)
        session.levels.changed.connect(self._show_level)
        session.from_raw_changed.connect(self._give_values)
        session.raw_ready.connect(self._show_raw)
        session.mesh_changed.connect(self._changed)
        session.levels.held_changed.connect(self._show_findings)
        self.deviation_legend = DeviationLegend(self)
        self.provenance_legend = ProvenanceLegend(self)
        self.deviation_legend.limit_changed.connect(self._set_limit)
        self.deviation_legend.clear_asked.connect(self.clear_pins)

    # ---- drawing

    def initializeGL(self) -> None:
        self.scene = Scene(moderngl.create_context())
        self.scene.make_ready()
        QTimer.singleShot(300, self._make_ready)
        if self._buffers is not None and self._pending is None:
            self._pending = self._buffers

    def _make_ready(self) -> None:
        """Make the programs for the other looks, one at a time."""
        self.makeCurrent()
        if self.scene is not None and self.scene.make_ready():
            QTimer.singleShot(50, self._make_ready)

    def paintGL(self) -> None:
        scene = self.scene
        target = scene.context.detect_framebuffer(self.defaultFramebufferObject())
        if self._pending is not None:
            scene.set_mesh(self._pending)
            self._pending = None
        if scene.is_loading:  # a part of it each time, so that nothing has to wait
            if scene.load():
                scene.stage_done = 0
            elif not self._moving and not self._dirty:  # what is on the screen stays there meanwhile
                QTimer.singleShot(0, self.update)
                return
            if scene.now is not None and scene.now.buffers is not self._buffers:
                self._buffers = scene.now.buffers
                self._show_findings()
                self._show_preview()
                self._give_values()
            QTimer.singleShot(0, self.update)
        elif scene.tidy_up():
            QTimer.singleShot(0, self.update)
        ratio = self.devicePixelRatioF()
        if self.session.mesh is None:
            scene.clear_mesh()
            self._buffers = None
            target.use()
            target.clear(0.285, 0.31, 0.325, 1.0, depth=1.0)
            return
        self._dirty = False
        if self._moving:
            scene.draw_light(target, self.camera, ratio)
        elif not scene.draw_slice(target, self.camera, ratio):
            QTimer.singleShot(0, self.update)
        self.frames += 1
        level = scene.level
        self.level_frames = self.level_frames + 1 if level is not None and level.is_light_ready else 0

    @property
    def is_settled(self) -> bool:
        """The full mesh is on the screen."""
        scene = self.scene
        ready = scene is not None and self._pending is None and not self._moving and not scene.is_loading
        return ready and (scene.triangles == 0 or scene.stage_done >= scene.triangles)

    def redraw(self, *_: object) -> None:
        """Draw again from the start."""
        self._dirty = True
        if self.scene is not None:
            self.scene.stage_done = 0
        self.update()
        self.overlay.update()

    def _moved(self) -> None:
        """The view has moved: light drawing until it rests."""
        self._moving = True
        self._rest.start()
        self.redraw()

    def _come_to_rest(self) -> None:
        self._moving = False
        self.redraw()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.overlay.setGeometry(self.rect())
        self.place_legends()
        was = self.camera.width
        self.camera.width, self.camera.height = max(1, self.width()), max(1, self.height())
        if was != self.camera.width and self._fitted is not None and self.frames < 3:
            self.fit()
        self.redraw()

    # ---- what is shown

    def _take_buffers(self, buffers: ViewBuffers) -> None:
        self._pending = buffers
        self._know_box()
        piece = self.session.job.piece
        if piece is not None and self._fitted is not piece:
            self._fitted = piece
            self._fit_frame = self.frames
            self.fit()
        self.redraw()

    def fit(self) -> None:
        """Show all of the part."""
        mesh = self.session.mesh
        if mesh is not None and len(mesh.faces):
            shown = [mesh.vertices, *(b.mesh.vertices for b in self.session.others())]
            some = np.concatenate([v[:: max(1, len(v) // 50_000)] for v in shown])
            self.camera.fit(some, mesh.box, self.covered_left)
            self._moved()

    def _fit_again(self) -> None:
        """The part has changed its size or is another: show all of it once it is ready."""
        self._fitted = None

    def _show_others(self) -> None:
        """Draw the other visible pieces too."""
        if self.scene is not None:
            self.makeCurrent()
            self.scene.set_others(self.session.others())
            self._know_box()
            if (
                self._fitted is self.session.job.piece
                and not self.session.job.log
                and self.frames < self._fit_frame + 4
            ):
                self.fit()
            self.redraw()

    def _know_box(self) -> None:
        """Keep everything that is shown within the camera's depth."""
        boxes = [b.mesh.box for b in self.session.others()]
        if self.session.mesh is not None:
            boxes.append(self.session.mesh.box)
        if boxes:
            all_boxes = np.array(boxes)
            self.camera.set_part(np.stack([all_boxes[:, 0].min(axis=0), all_boxes[:, 1].max(axis=0)]))

    def set_look(self, look: int) -> None:
        """Paint the surface another way: tin, scan colour, provenance, deviation from raw."""
        self.look = look
        self.deviation_legend.setVisible(look == DEVIATION)
        self.provenance_legend.setVisible(look == PROVENANCE)
        if self.scene is not None:
            self.scene.look = look
        self._give_values()
        self.place_legends()
        self.redraw()

    def set_shows(self, what: str) -> None:
        """Show the raw scan, both with a divider, or the present mesh: ``raw``, ``wipe``, ``now``."""
        self.shows = what
        if what != "now":
            self.session.ask_raw()
        if self.scene is not None:
            self.scene.shows = what
            if what == "now":
                self.makeCurrent()
                self.scene.set_raw(None, np.eye(4))
        self.redraw()

    def set_wipe(self, share: float) -> None:
        """Put the divider at a share of the view's width."""
        if self.scene is not None:
            self.scene.wipe_at = float(np.clip(share, 0.02, 0.98))
        self._moved()

    @property
    def wipe_at(self) -> float:
        """Where the divider stands, as a share of the view's width."""
        return 0.5 if self.scene is None else self.scene.wipe_at

    def _show_raw(self) -> None:
        """The raw scan is ready to be drawn."""
        buffers = self.session.raw_buffers()
        if self.scene is not None and self.shows != "now" and buffers is not None:
            self.makeCurrent()
            self.scene.set_raw(buffers, self.session.job.frame(self.session.job.active))
        self.redraw()

    def _changed(self) -> None:
        """The mesh is another one."""
        self.clear_pins()
        if self.shows != "now" and self.session.mesh is not None:
            self.session.ask_raw()
        self._give_values()

    def _measured(self) -> FromRaw | None:
        """The deviation of what is shown."""
        level = self.session.levels.shown
        return self.session.from_raw if level is None else level.from_raw

    def _give_values(self) -> None:
        """Bring the deviation, where it is wanted and known, to the card and the legends."""
        measured, scene = self._measured(), self.scene
        if self.look in (DEVIATION, PROVENANCE):
            self.deviation_legend.show_measured(measured)
            self.provenance_legend.show_measured(measured)
            self.place_legends()
        if scene is None or measured is None or self.look != DEVIATION:
            return
        for surface in (scene.now, scene.level):
            if surface is not None and surface.buffers.mesh is measured.mesh and not surface.has_values:
                self.makeCurrent()
                surface.set_values(measured.signed)
                self.redraw()

    def _set_limit(self, limit: float) -> None:
        if self.scene is not None:
            self.scene.limit = limit
            self.redraw()

    def place_legends(self) -> None:
        """The legends stand at the upper right."""
        for legend in (self.deviation_legend, self.provenance_legend):
            legend.adjustSize()
            legend.move(self.width() - legend.width() - 12, 12)

    def clear_pins(self) -> None:
        """Take the readings away."""
        self.overlay.pins = []
        self.deviation_legend.clear.hide()
        self.deviation_legend.adjustSize()
        self.overlay.update()

    def _read_at(self, x: float, y: float) -> None:
        """Read the deviation under a pixel, and pin it there."""
        point = self.surface_point(x, y)
        if point is None or self.session.levels.shown is not None:
            return

        def pin(value: float) -> None:
            self.overlay.pins.append(Pin(point, f"{value:+.3f} mm"))
            self.deviation_legend.clear.show()
            self.place_legends()
            self.overlay.update()

        self.session.read_deviation(point, pin)

    def _show_level(self) -> None:
        """A level of a reduction is shown, is known more closely, or is shown no more."""
        if self.scene is None:
            return
        level = self.session.levels.shown
        self.makeCurrent()
        if level is None:
            self.scene.set_level(None)
        elif self.scene.level_buffers() is not level.buffers:
            self.scene.set_level(level.buffers)
        self._give_values()
        self.redraw()

    def set_snip(self, snip: SnipPlan | None) -> None:
        """Show a snip being set up, and its waste."""
        self.overlay.snip = snip
        self.show_waste()

    def show_waste(self) -> None:
        """Hatch what the snip would cut away."""
        if self.scene is not None:
            snip = self.overlay.snip
            self.scene.waste = snip.waste_plane() if snip is not None else None
        self._moved()

    def _show_findings(self, *_: object) -> None:
        """Boundary lines, roles of shells, tags."""
        scene, found, buffers = self.scene, self.session.examination, self._buffers
        if scene is None or buffers is None or self._pending is not None:
            return
        if found is None or found.mesh is not buffers.mesh:
            return
        self.makeCurrent()
        lines = [(f.outline, _RIM_LINE if f.kind is Kind.RIM else _HOLE_LINE) for f in found.openings]
        scene.set_lines(lines)
        if self.session.marks is not None:
            scene.set_marks(self._marks(), STATIONS[self.session.station] in ("Intake", "Strays", "Release"))
        self.redraw()

    def _marks(self) -> ViewMarks:
        """What the shells are, and above it what is held."""
        marks, held = self.session.marks, self.session.levels.held
        if held is None or len(held) != len(marks.mesh.faces):
            return marks
        roles = np.zeros(len(marks.mesh.vertices), dtype=np.uint8) if marks.roles is None else marks.roles.copy()
        roles[marks.mesh.faces[held].ravel()] = HELD
        return ViewMarks(marks.mesh, roles, marks.voids)

    def _show_preview(self) -> None:
        """The triangles a previewed treatment would make."""
        if self.scene is None:
            return
        preview = self.session.preview
        self.makeCurrent()
        if preview is None or preview.before is not self.session.mesh or self.session.levels.shown is not None:
            self.scene.set_patch(None, None)
        else:
            after = preview.outcome.mesh
            made = after.faces[len(preview.before.faces) :]
            corners = after.vertices[made].reshape(-1, 3)
            normals = face_vectors(after.vertices, made)
            normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
            self.scene.set_patch(corners, np.repeat(normals, 3, axis=0))
        self.redraw()

    def _hover(self, finding: Finding | None) -> None:
        self.overlay.hovered = finding
        self.overlay.update()

    # ---- going there

    def fly_to(self, finding: Finding) -> None:
        """Bring a finding to the middle, seen from its open side, large enough to judge."""
        camera = self.camera
        size = max(finding.size if finding.kind is not Kind.RIM else camera.reach * 0.6, camera.reach * 0.02)
        if finding.kind is Kind.TANGLE:
            size = camera.reach * 0.05
        scale = 3.2 * size / max(200, min(camera.width, camera.height))
        turn, lift = camera.turn, camera.lift
        if finding.kind is Kind.HOLE and len(finding.outline) >= 3:
            centred = finding.outline - finding.outline.mean(axis=0)
            normal = np.cross(centred, np.roll(centred, -1, axis=0)).sum(axis=0)
            length = np.linalg.norm(normal)
            if length > 0:  # along the half-edges a hole runs clockwise, seen from outside
                eye = self._clear_sight(finding.place, -normal / length, 0.02 * finding.size)
                lift = float(np.clip(np.degrees(np.arcsin(np.clip(eye[2], -1, 1))), -75, 75))
                if abs(eye[2]) < 0.995:
                    turn = float(np.degrees(np.arctan2(eye[0], -eye[1])))
        start = (camera.turn, camera.lift, camera.middle.copy(), np.log(camera.scale))
        swing = (turn - start[0] + 180) % 360 - 180

        def step(t: float) -> None:
            camera.turn = (start[0] + t * swing) % 360
            camera.lift = start[1] + t * (lift - start[1])
            camera.middle = start[2] + t * (finding.place - start[2])
            camera.scale = float(np.exp(start[3] + t * (np.log(scale) - start[3])))
            self._moved()

        self._flight = QVariantAnimation(self, duration=240, startValue=0.0, endValue=1.0)
        self._flight.valueChanged.connect(step)
        self._flight.start()

    def _clear_sight(self, place: np.ndarray, eye: np.ndarray, slack: float) -> np.ndarray:
        """A direction near `eye` from which nothing stands before a place; `eye` itself if there is none."""
        buffers = self._buffers
        if buffers is None or buffers.mesh is not self.session.mesh:
            return eye
        side = np.cross(eye, np.eye(3)[int(np.argmin(np.abs(eye)))])
        side /= np.linalg.norm(side)
        other = np.cross(eye, side)
        around = [np.cos(a) * side + np.sin(a) * other for a in np.arange(6) * np.pi / 3]
        leaning = [np.cos(t) * eye + np.sin(t) * r for t in (0.6, 1.1) for r in around]
        for way in (eye, *leaning):
            hit = first_hit(buffers.mesh.vertices, buffers.light_faces, place, -way)
            if hit is None or float((hit[1] - place) @ way) < slack:
                return way
        return eye

    def look_from(self, turn: float, lift: float) -> None:
        """Look from a direction, about the middle of the view."""
        self.camera.turn, self.camera.lift = turn, lift
        self._moved()

    # ---- gestures

    def surface_point(self, x: float, y: float, roughly: bool = False) -> np.ndarray | None:
        """The point of the surface under a pixel; roughly, of its light stand-in, which takes no time."""
        mesh, buffers = self.session.mesh, self._buffers
        if mesh is None or len(mesh.faces) == 0:
            return None
        faces = mesh.faces
        if roughly and buffers is not None and buffers.mesh is mesh:
            faces = buffers.light_faces
        hit = first_hit(mesh.vertices, faces, *self.camera.ray(x, y))
        return None if hit is None else hit[1]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        if self.session.mesh is None:
            return
        x, y = event.position().x(), event.position().y()
        self._press = event.position()
        self._travelled = 0.0
        if event.button() == Qt.MouseButton.LeftButton:
            if self.shows == "wipe" and abs(x - self.wipe_at * self.width()) <= 9:
                self._drag = "wipe"
                return
            way = self.overlay.dial_way(x, y)
            if way is not None:
                self.look_from(*way)
                self._drag = "dial"
                return
            tab = self.overlay.tab_at(x, y)
            if tab is not None and not self._space:
                self._drag = tab
                self._turned = 0.0
                self.overlay.held_tab = tab
                self.overlay.update()
                return
            finding = self.overlay.tag_at(x, y)
            if finding is not None:
                self._drag = ""
                self.session.fly_to.emit(finding)
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
        point = self.surface_point(x, y, roughly=True)
        if point is None:
            point = self.camera.centre
        self._pivot = point

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None or not self._drag:
            over = self.overlay.tab_at(event.position().x(), event.position().y())
            tag = self.overlay.tag_at(event.position().x(), event.position().y())
            pointing = over is not None or tag is not None
            if self.shows == "wipe" and abs(event.position().x() - self.wipe_at * self.width()) <= 9:
                self.setCursor(Qt.CursorShape.SplitHCursor)
                return
            cross = Qt.CursorShape.CrossCursor if self.picking_points else Qt.CursorShape.ArrowCursor
            self.setCursor(Qt.CursorShape.PointingHandCursor if pointing else cross)
            if tag is not self.overlay.hovered and (tag is not None or self.underMouse()):
                self._hover(tag)
            return
        delta = event.position() - self._press
        self._press = event.position()
        self._travelled += abs(delta.x()) + abs(delta.y())
        if self._drag == "wipe":
            self.set_wipe(event.position().x() / max(1, self.width()))
        elif self._drag == "pan":
            self.camera.pan(delta.x(), delta.y())
            self._moved()
        elif self._drag == "zoom":
            self.camera.zoom(1.01 ** -delta.y(), self.camera.width / 2, self.camera.height / 2)
            self._moved()
        elif self._drag in ("dial", "turn"):
            self.camera.turn_about(self._pivot, -0.4 * delta.x(), 0.4 * delta.y())
            self._moved()
        elif self._drag.startswith("turn-"):
            self._try_turn(delta.x() - delta.y())
        elif self._drag != "nothing":
            self._drag_tab(delta.x(), delta.y())

    def _drag_tab(self, dx: float, dy: float) -> None:
        snip = self.overlay.snip
        if snip is None:
            return
        right, up, _ = self.camera.frame()
        flat = np.array([snip.normal @ right, snip.normal @ up])
        length2 = float(flat @ flat)
        if length2 > 0.02:
            distance = (dx * flat[0] - dy * flat[1]) * self.camera.scale / length2
        else:  # looked at along its normal: up is along it
            distance = -dy * self.camera.scale
        if self._drag == "slide":
            snip.slide(distance)
        else:
            snip.tilt_side(int(self._drag[-1]), distance)
        self.show_waste()
        self.snip_edited.emit()

    def _meaning_of(self, event: QMouseEvent) -> str:
        """What a drag that begins like this does, by the settings."""
        names = {Qt.MouseButton.RightButton: "right", Qt.MouseButton.MiddleButton: "middle"}
        name = names.get(event.button(), "left")
        if name == "left" and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            name = "shift+left"
        elif name == "left" and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            name = "ctrl+left"
        return self.settings.meaning(name)

    def _try_turn(self, pixels: float) -> None:
        """Show the part turned about an axis by so many pixels' worth of a tab's drag."""
        mesh = self.session.mesh
        if mesh is None or self.scene is None:
            return
        self._turned += 0.5 * pixels
        linear = rotation(np.eye(3)["xyz".index(self._drag[-1])], self._turned)
        self.overlay.turned = linear
        self.scene.turn = (linear, mesh.box.mean(axis=0))
        self._moved()

    def show_turn_tabs(self, on: bool) -> None:
        """Show the tabs that turn the part, or put them away."""
        self.overlay.shows_turn = on
        self.overlay.update()

    def begin_pick(self, hint: str, done: Callable[[int, np.ndarray], None]) -> None:
        """Let the next click on the part pick a triangle and a point."""
        self._pick = done
        self.overlay.hint = hint
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.overlay.update()

    def end_pick(self) -> None:
        """Leave the picking tool."""
        was_picking, self._pick = self._pick is not None, None
        self.overlay.hint = ""
        self.overlay.clicked_points = []
        self.unsetCursor()
        self.overlay.update()
        if was_picking:
            self.pick_ended.emit()

    @property
    def is_picking(self) -> bool:
        """A click would pick something."""
        return self._pick is not None or self.picking_points

    def _pick_at(self, x: float, y: float) -> None:
        mesh = self.session.mesh
        hit = first_hit(mesh.vertices, mesh.faces, *self.camera.ray(x, y))
        if hit is not None and self._pick is not None:
            self._pick(hit[0], hit[1])

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if (
            event.button() == Qt.MouseButton.LeftButton
            and self._drag == "turn"
            and self._travelled < 4
            and self.look == DEVIATION
        ):
            self._read_at(event.position().x(), event.position().y())
        if self._drag.startswith("turn-") and self.scene is not None:
            axis, degrees = np.eye(3)["xyz".index(self._drag[-1])], self._turned
            self.scene.turn = None
            self.overlay.turned = np.eye(3)
            self.redraw()
            if abs(degrees) > 0.05:
                self.turn_made.emit(axis, degrees)
        self._press = None
        self._drag = ""
        if self.overlay.held_tab is not None:
            self.overlay.held_tab = None
            self.overlay.update()

    def begin_two_points(self) -> None:
        """Let the next two clicks set the snip's plane."""
        self.picking_points = True
        self.overlay.clicked_points = []
        self.end_pick()
        self.picking_points = True
        self.overlay.hint = "Click the first of two points on the line of the cut  (Esc to leave)"
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.overlay.update()

    def end_two_points(self) -> None:
        """Leave the two-point tool."""
        self.picking_points = False
        self.overlay.clicked_points = []
        self.overlay.hint = ""
        self.unsetCursor()
        self.overlay.update()

    def _click_point(self, x: float, y: float) -> None:
        point = self.surface_point(x, y)
        if point is None:  # beside the part: level with its middle
            start, direction = self.camera.ray(x, y)
            point = start + ((self.camera.centre - start) @ direction) * direction
        self.overlay.clicked_points.append(point)
        self.overlay.hint = "Click the second point  (Esc to leave)"
        if len(self.overlay.clicked_points) == 2 and self.overlay.snip is not None:
            a, b = self.overlay.clicked_points
            self.overlay.snip.set_two_points(a, b, -self.camera.frame()[2])
            self.end_two_points()
            self.show_waste()
            self.snip_edited.emit()
        self.overlay.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120.0
        if steps and self.session.mesh is not None:
            self.camera.zoom(1.18**steps, event.position().x(), event.position().y())
            self._moved()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Left: (-8, 0),
            Qt.Key.Key_Right: (8, 0),
            Qt.Key.Key_Up: (0, 8),
            Qt.Key.Key_Down: (0, -8),
        }
        if event.key() in steps:
            self.camera.turn_about(self.camera.middle, *steps[event.key()])
            self._moved()
        elif event.key() == Qt.Key.Key_Space:
            self._space = True
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self._space = False
        super().keyReleaseEvent(event)
