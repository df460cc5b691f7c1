"""The view of the part: drawing and gestures."""

import moderngl
import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent, QWheelEvent
from PySide6.QtOpenGLWidgets import QOpenGLWidget

from tinsnip.app.state.buffers import HELD, ViewBuffers, ViewMarks
from tinsnip.app.state.session import STATIONS, Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.tools.navigate import Gestures
from tinsnip.app.tools.snip import SnipPlan
from tinsnip.app.view.camera import Camera
from tinsnip.app.view.flight import Flight
from tinsnip.app.view.legend import DeviationLegend, ProvenanceLegend
from tinsnip.app.view.overlay import Overlay, Pin
from tinsnip.app.view.scene import DEVIATION, PROVENANCE, TIN, Scene
from tinsnip.mesh.measures import face_vectors
from tinsnip.space.picking import first_hit
from tinsnip.survey import Finding, Kind
from tinsnip.survey.deviation import FromRaw

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
    """Draws what the session shows, a little at a time, and hands what is done over it to its gestures."""

    def __init__(self, session: Session, settings: Settings) -> None:
        super().__init__()
        self.session = session
        self.camera = Camera()
        self.scene: Scene | None = None
        self.overlay = Overlay(session, self.camera, self)
        self.settings = settings
        self.gestures = Gestures(self)
        self.flight = Flight(self.camera, self.moved, self)
        self.covered_left = 0.0
        self._buffers: ViewBuffers | None = None
        self._pending: ViewBuffers | None = None
        self._fitted: object = None
        self._fit_frame = 0
        self._moving = False
        self.look = TIN
        self.shows = "now"
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
        session.hovered.connect(self.hover)
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
        QTimer.singleShot(300, self._make_ready)
        if self._buffers is not None and self._pending is None:
            self._pending = self._buffers

    def _make_ready(self) -> None:
        """Make the programs for all looks ready, one at a time."""
        self.makeCurrent()
        if self.scene.make_ready(self.scene.context.detect_framebuffer(self.defaultFramebufferObject())):
            QTimer.singleShot(20, self._make_ready)

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

    def moved(self) -> None:
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
            self.moved()

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
        self.moved()

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
        if self.scene is not None:
            self.scene.forget_places()
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
        level = self.session.levels.shown
        places = self.session.places if level is None else level.places
        if places is not None:
            if scene.places_of is not measured.mesh:
                self.makeCurrent()
                scene.set_places(places, measured.signed, measured.mesh)
                self.redraw()
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

    def read_at(self, x: float, y: float) -> None:
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
        self.moved()

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

    def hover(self, finding: Finding | None) -> None:
        self.overlay.hovered = finding
        self.overlay.update()

    # ---- going there

    def fly_to(self, finding: Finding) -> None:
        """Bring a finding to the middle, seen from its open side."""
        buffers = self._buffers
        known = buffers is not None and buffers.mesh is self.session.mesh
        self.flight.fly_to(finding, (buffers.mesh.vertices, buffers.light_faces) if known else None)

    def look_from(self, turn: float, lift: float) -> None:
        """Look from a direction, about the middle of the view."""
        self.camera.turn, self.camera.lift = turn, lift
        self.moved()

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

    def show_turn_tabs(self, on: bool) -> None:
        """Show the tabs that turn the part, or put them away."""
        self.overlay.shows_turn = on
        self.overlay.update()

    # ---- hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.gestures.press(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.gestures.move(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.gestures.release(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.gestures.wheel(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self.gestures.key_down(event):
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        self.gestures.key_up(event)
        super().keyReleaseEvent(event)
