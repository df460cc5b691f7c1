"""The view of the part: what is drawn of it, and when."""

from collections.abc import Callable

import moderngl
import numpy as np
from PySide6.QtCore import QEvent, QRectF, Qt, QTimer
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QResizeEvent, QTabletEvent, QWheelEvent
from PySide6.QtOpenGLWidgets import QOpenGLWidget
from PySide6.QtWidgets import QFrame
from scipy.spatial.transform import Rotation

from tinsnip.app.state.buffers import HELD, ViewBuffers, ViewMarks, with_ticked
from tinsnip.app.state.datums import ShownDatums
from tinsnip.app.state.readings import Readings
from tinsnip.app.state.session import Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.state.spots import hit_on
from tinsnip.app.state.stroking import Stroking, Touched
from tinsnip.app.view.boundarylines import lines_of
from tinsnip.app.view.camera import Camera
from tinsnip.app.view.framing import Framing
from tinsnip.app.view.hand import Hand
from tinsnip.app.view.layerpanel import LayerPanel
from tinsnip.app.view.legend import DeviationLegend, ProvenanceLegend
from tinsnip.app.view.looks import DEVIATION, PROVENANCE, TIN
from tinsnip.app.view.moving import MovingView
from tinsnip.app.view.overlay import Overlay
from tinsnip.app.view.paints import Paints
from tinsnip.app.view.patchview import draw_lying, draw_made, made_by
from tinsnip.app.view.scene import Scene
from tinsnip.app.view.section import SectionBar
from tinsnip.app.view.waste import Waste
from tinsnip.app.widgets.theme import px, tint_of
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.space.picking import first_hit, first_hit_in, triangles_within
from tinsnip.survey.deviation import FromRaw, triangles_outside

__all__ = ["Viewport"]

_DIRECT = Qt.FindChildOption.FindDirectChildrenOnly
_REST_MS = 140
_ANGLE = 28.0
"""Degrees of perspective from the lowest to the highest pixel: about what a part on the table takes of one's sight."""
_FEW = 30_000
"""Triangles up to which what is selected besides is drawn by itself; where it lies is to be told in a moment."""


class Viewport(QOpenGLWidget):
    """Draws what the session shows, a little at a time, and hands what is done over it to the hand."""

    keeps_focus = True
    """A click on a control leaves the focus here, where keys turn the part."""

    def __init__(self, session: Session, settings: Settings) -> None:
        super().__init__()
        self.session = session
        self.camera = Camera()
        self.scene: Scene | None = None
        self.settings = settings
        self.hand = Hand(self, session)
        self.hand.tool_changed.connect(self._settle_sight)
        self.overlay = Overlay(session, self.hand, self)
        self.stroking = Stroking(session)
        self.stroking.touched.connect(self._show_touched)
        self.framing = Framing(session, self.camera, self.moved, self)
        self._picks = 0
        self._buffers: ViewBuffers | None = None
        self._pending: ViewBuffers | None = None
        self._awaited: ViewBuffers | None = None
        self._is_due = False
        self._moving = self._tries_turn = False
        self.look = TIN
        self.shows = "now"
        self.frames = self.level_frames = 0
        self._dirty, self._only_divider = True, False
        self.setUpdateBehavior(QOpenGLWidget.UpdateBehavior.PartialUpdate)
        self.setMinimumSize(px(200), px(180))
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("View of the part")
        self._rest = QTimer(self, singleShot=True, interval=_REST_MS)
        self._rest.timeout.connect(self._come_to_rest)
        session.buffers_ready.connect(self._take_buffers)
        session.mesh_changed.connect(self.redraw)
        session.examined.connect(self._show_findings)
        session.station_changed.connect(self._show_findings)
        session.preview_changed.connect(self._show_preview)
        session.fly_to.connect(lambda finding: self.framing.fly_to(finding, self._buffers))
        session.others_changed.connect(self._show_others)
        session.stand_in_changed.connect(self._show_stand_in)
        session.from_raw_changed.connect(self._give_values)
        session.raw_ready.connect(self._show_raw)
        session.mesh_changed.connect(self._changed)
        session.held_changed.connect(self._show_findings)
        session.ticks_changed.connect(self._show_marks)
        session.selected.changed.connect(self._show_selected)
        session.selected.lit_changed.connect(lambda: self._show_selected(only_lit=True))
        self.deviation_legend = DeviationLegend(self)
        self.provenance_legend = ProvenanceLegend(self)
        self.paints = Paints(session, self)
        self.readings = Readings(session)
        self.datums = ShownDatums(session)
        self._painted: FromRaw | None = None
        self.section_bar = SectionBar(self)
        self.section_bar.changed.connect(lambda: self.set_section(self.section_bar.plane()))
        session.mesh_changed.connect(self.section_bar.fit)
        self.layer_panel = LayerPanel(self)
        self.deviation_legend.limit_changed.connect(self._set_limit)
        self.deviation_legend.against_chosen.connect(session.references.choose)
        self.deviation_legend.outside_asked.connect(self._select_outside)
        self.deviation_legend.tolerance.valueChanged.connect(session.outside.allow)
        session.references.changed.connect(self._show_references)

    # ---- drawing

    def initializeGL(self) -> None:
        self.scene = Scene(moderngl.create_context())
        self._moving_view = MovingView(self.scene)
        self.scene.seen_in = self._seen_in
        self.scene.shades_depth, self.scene.has_ground = self.settings.shades_depth, self.settings.has_ground
        self._settle_sight()
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
            is_there = scene.set_mesh(self._pending)
            self._pending = None
            if is_there:
                self._take_up()
        if scene.is_loading:  # a part of it each time, so that nothing has to wait
            self._only_divider = False
            if scene.load():
                scene.stage_done = 0
            elif not self._moving and not self._dirty:  # what is on the screen stays there meanwhile
                QTimer.singleShot(0, self.update)
                return
            if scene.now is not None and (self._is_due or scene.now.buffers is not self._buffers):
                self._take_up()
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
            self._moving_view.draw(target, self.camera, ratio, self._only_divider)
            self._only_divider = True
        elif not scene.draw_slice(target, self.camera, ratio):
            QTimer.singleShot(0, self.update)
        self.frames += 1
        level = scene.level
        self.level_frames = self.level_frames + 1 if level is not None and level.is_light_ready else 0

    def _take_up(self) -> None:
        """The mesh is on the card: what is drawn with it follows."""
        self._buffers = self.scene.now.buffers
        self._is_due = self._buffers is not self._awaited
        self._show_findings()
        self._show_preview()
        self._give_values()
        self._show_selected()

    @property
    def is_settled(self) -> bool:
        """The full mesh is on the screen, and stays as it is."""
        scene = self.scene
        ready = (
            scene is not None
            and self._pending is None
            and not self._moving
            and not self.framing.flight.is_under_way
            and not scene.is_loading
            and not self.paints.is_bringing
        )
        return ready and scene.is_whole

    def redraw(self, *_: object) -> None:
        """Draw again from the start."""
        self._dirty, self._only_divider = True, False
        if self.scene is not None:
            self.scene.stage_done = 0
        self.update()
        self.overlay.update()

    def moved(self) -> None:
        """The view has moved: light drawing until it rests."""
        self._moving = True
        self._rest.start()
        self.redraw()

    def slid(self) -> None:
        """The divider between raw and now has moved, and nothing else."""
        only_divider = self._only_divider and self._moving
        self.moved()
        self._only_divider = only_divider

    def _come_to_rest(self) -> None:
        self._moving = False
        self.redraw()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.overlay.setGeometry(self.rect())
        self.place_legends()
        self.camera.width, self.camera.height = max(1, self.width()), max(1, self.height())
        self.framing.resized()
        self.redraw()

    # ---- what is shown

    def _take_buffers(self, buffers: ViewBuffers) -> None:
        self._pending = self._awaited = buffers
        self._is_due = True  # what is drawn besides it goes with the old one, even if the new one is the same again
        self.framing.take(self.frames)
        self.redraw()

    def _show_others(self) -> None:
        """Draw the other visible pieces too."""
        if self.scene is not None:
            self.makeCurrent()
            number = {id(piece.mesh): piece.id for piece in self.session.shown_pieces()}
            self.scene.set_others([(b, tint_of(number[id(b.mesh)])) for b in self.session.others()])
            self.framing.take_others(self.frames)
            self.redraw()

    def set_look(self, look: int) -> None:
        """Paint the surface another way: tin, scan colour, provenance, deviation from raw, density, walls."""
        self.look = look
        self._show_legends()
        self.paints.show(look)
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

    def _show_legends(self) -> None:
        """Those of the look, where there is something to look at."""
        some = self.session.mesh is not None
        self.deviation_legend.setVisible(some and self.look == DEVIATION)
        self.provenance_legend.setVisible(some and self.look == PROVENANCE)

    def _show_raw(self) -> None:
        """The raw scan is ready to be drawn."""
        buffers = self.session.raw_buffers()
        if self.scene is not None and self.shows != "now" and buffers is not None:
            self.makeCurrent()
            self.scene.set_raw(buffers, self.session.job.piece.frame)
        self.redraw()

    def _changed(self) -> None:
        """The mesh is another one."""
        self._show_legends()
        if self.scene is not None:
            self.scene.forget_places()
        if self.shows != "now" and self.session.mesh is not None:
            self.session.ask_raw()
        self._give_values()

    def _give_values(self) -> None:
        """Bring the deviation, where it is wanted and known, to the card and the legends."""
        known, scene = self.session.measured(), self.scene
        measured = None if known is None else known.from_raw
        if self.look in (DEVIATION, PROVENANCE):
            self.deviation_legend.show_measured(measured)
            self.provenance_legend.show_measured(measured)
            self.place_legends()
        self.paints.give(scene)
        if scene is None or measured is None or self.look != DEVIATION:
            return
        places = known.places
        if places is not None:
            if scene.places_of is not measured.mesh:
                self.makeCurrent()
                scene.set_places(places, measured.signed, measured.mesh)
                self.redraw()
            return
        for surface in (scene.now, scene.level):
            if surface is None or surface.buffers.mesh is not measured.mesh:
                continue
            if surface.values_of != DEVIATION or self._painted is not measured:
                self.makeCurrent()
                self._painted = measured
                surface.set_values(measured.signed, DEVIATION)
                self.redraw()

    def _show_references(self) -> None:
        """What can be measured from, and what is."""
        references = self.session.references
        chosen = references.chosen
        named = [(one.key, one.name) for one in references.choices()]
        self.deviation_legend.show_references(named, "" if chosen is None else chosen.key)
        if self.scene is not None:
            self.scene.forget_places()
        self._give_values()

    def _select_outside(self, tolerance: float) -> None:
        """Select what deviates by more than is allowed."""
        known = self.session.measured()
        if known is not None and known.from_raw.mesh is self.session.mesh:
            self.session.selected.put(triangles_outside(known.from_raw, tolerance))

    def set_section(self, plane: tuple[np.ndarray, float] | None) -> None:
        """Draw only what lies below a plane, cut open; None: all of it."""
        if self.scene is not None:
            self.scene.section = plane
            self.redraw()

    def set_aid(self, name: str, on: bool) -> None:
        """Turn one of the scene's switches: ``sees_through``, ``shows_edges``, ``shades_depth`` or ``has_ground``."""
        if self.scene is not None:
            setattr(self.scene, name, on)
            self.redraw()

    def keep_aid(self, name: str, on: bool) -> None:
        """As `set_aid`, and remember it."""
        setattr(self.settings, name, on)
        self.settings.save()
        self.set_aid(name, on)

    def set_perspective(self, on: bool) -> None:
        """Look in perspective, or with parallel sight; remembered."""
        self.settings.perspective = on
        self.settings.save()
        self._settle_sight()

    def _settle_sight(self) -> None:
        """Sight is parallel while what is in hand goes by what is drawn over the part."""
        held = any(tool is not None and tool.sees_parallel for tool in (self.hand.tool, self.hand.rest))
        angle = _ANGLE if self.settings.perspective and not held else 0.0
        if self.camera.angle != angle:
            self.camera.angle = angle
            self.moved()

    def turn_light(self, around: float, up: float) -> None:
        """Turn the lights, degrees to the right and upwards, as they are seen from the eye."""
        if self.scene is not None:
            lights = Rotation.from_euler("yx", [around, -up], degrees=True).as_matrix() @ self.scene.lights
            self.scene.lights = lights
            self.moved()

    def reset_light(self) -> None:
        """Let the light come from where it came from at first."""
        if self.scene is not None:
            self.scene.lights = np.eye(3)
            self.redraw()

    def _set_limit(self, limit: float) -> None:
        if self.scene is not None:
            self.scene.limit = limit
            self.redraw()

    def covered(self) -> list[QRectF]:
        """What stands over the view for a while: legends and cards; not what comes and goes by itself."""
        frames = (f for f in self.findChildren(QFrame, options=_DIRECT) if f.objectName() in ("legend", "card"))
        return [QRectF(frame.geometry()) for frame in frames if frame.isVisible()]

    def place_legends(self) -> None:
        """The legends stand at the upper right."""
        for legend in (self.deviation_legend, self.provenance_legend, *self.paints.legends, self.layer_panel):
            legend.adjustSize()
            legend.move(self.width() - legend.width() - px(12), px(12))
        self.section_bar.adjustSize()
        self.section_bar.move(px(14), px(44))

    def _show_touched(self, touched: Touched) -> None:
        """A brush came by: what it moved is seen at once."""
        if self.scene is None or self._pending is not None:
            return
        self.makeCurrent()
        rect = self.camera.pixels_round(touched.points, self.devicePixelRatioF())
        self.scene.rewrite(touched.vertices, touched.places, touched.normals)
        self._draw_again(rect)

    def _seen_in(self, camera: Camera, rect: tuple[int, int, int, int]) -> np.ndarray | None:
        """Which triangles of the part may be seen in some pixels; None where no tree tells."""
        tree = self.stroking.tree
        if tree is None or self.scene.now is None or tree.faces is not self.scene.now.buffers.faces:
            return None
        return triangles_within(tree, camera.sides_of(rect, self.devicePixelRatioF()))

    def _show_stand_in(self) -> None:
        """Something is shown in place of the mesh, is known more closely, or is shown no more."""
        if self.scene is None:
            return
        level = self.session.stand_in
        self.makeCurrent()
        if level is None:
            self.scene.set_level(None)
        elif self.scene.level_buffers() is not level.buffers:
            self.scene.set_level(level.buffers)
        self._give_values()
        self.redraw()

    def _show_findings(self, *_: object) -> None:
        """Boundary lines, roles of shells, tags."""
        scene, found, buffers = self.scene, self.session.examination, self._buffers
        if scene is None or buffers is None or self._pending is not None:
            return
        if found is None or found.mesh is not buffers.mesh:
            return
        self.makeCurrent()
        scene.set_lines(lines_of(found, self.session.station))
        self._show_marks()

    def _show_marks(self) -> None:
        """What the shells are, and which of them are ticked to go."""
        marks, scene = self.session.marks, self.scene
        if scene is not None and marks is not None and self._pending is None:
            self.makeCurrent()
            scene.set_marks(self._marks(), self.session.shows_shells)
        self.redraw()

    def _show_selected(self, only_lit: bool = False) -> None:
        """Mark what is selected, hidden or lit, triangle by triangle."""
        mesh = self.session.selected.mesh
        if self.scene is not None and mesh is not None:
            self.makeCurrent()
            selected = self.session.selected
            marks = None
            if any(one is not None for one in (selected.triangles, selected.hidden, selected.lit)):
                marks = np.zeros(len(mesh.faces), dtype=np.uint8)
                if selected.lit is not None:
                    marks[selected.lit] = 3
                if selected.triangles is not None:
                    marks[selected.triangles] = 1
                if selected.hidden is not None:
                    marks[selected.hidden] = 2
            changed = self.scene.set_marked(mesh, marks)
            if self._moving or changed is None:
                self.redraw()
            elif len(changed) > _FEW and not only_lit:
                self.moved()  # much is seen at once by the stand-in
            elif len(changed):
                points = mesh.vertices[mesh.faces[changed].ravel()]
                self._draw_again(self.camera.pixels_round(points, self.devicePixelRatioF()))
                self.overlay.update()

    def _draw_again(self, rect: tuple[int, int, int, int]) -> None:
        """Draw some pixels anew."""
        self.scene.draw_again(rect)
        self._dirty = True
        self.update()

    def set_aside(self, mesh: Mesh | None) -> None:
        """Leave another piece out of the view, to be looked at by itself; None: draw all again."""
        if self.scene is not None:
            self.scene.aside = mesh
            self.redraw()

    def show_waste(self, waste: Waste | None) -> None:
        """Hatch what a snip would cut away; None: nothing."""
        if self.scene is not None:
            self.makeCurrent()
            self.scene.waste = waste
        self.moved()

    def _marks(self) -> ViewMarks:
        """What the shells are, which are ticked where that counts, and above it what is held."""
        marks, held = self.session.marks, self.session.held
        if self.session.shows_shells:
            marks = with_ticked(marks, [f.key for f in self.session.examination.strays if self.session.is_ticked(f)])
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
        together = self.session.together.preview
        if lying := self.session.together.lying:
            self.makeCurrent()
            draw_lying(self.scene, lying)
            self.redraw()
            return
        if together is not None and together.stands(self.session.job.present):
            self.show_made(together.corners)
            return
        stands = preview is not None and preview.before is self.session.mesh and self.session.stand_in is None
        matrix = preview.outcome.account.matrix if stands else None
        if matrix is not None or self._tries_turn:  # a move is shown about the middle of the part, which stays in view
            self.scene.turn = None if matrix is None else (matrix[:3, :3], self.session.mesh.box.mean(axis=0))
            self._tries_turn = matrix is not None
        self.show_made(made_by(preview) if stands and matrix is None else None)

    def show_made(self, corners: np.ndarray | None) -> None:
        """Show triangles that are not there yet, by their corners, mm, shape (T, 3, 3); None: none."""
        if self.scene is not None:
            self.makeCurrent()
            draw_made(self.scene, corners)
            self.redraw()

    # ---- what is under the pointer

    def surface_point(self, x: float, y: float) -> np.ndarray | None:
        """The point under a pixel, by the part's tree or by what stands lightly for it; takes no time."""
        buffers, mesh = self._buffers, self.session.mesh
        if buffers is None or buffers.mesh is not mesh or len(buffers.faces) == 0:
            return None
        ray = self.camera.ray(x, y)
        if self.session.selected.hidden is None and is_known(mesh, Mesh.tree):
            hit = first_hit_in(mesh.tree, *ray)
        else:
            hit = first_hit(mesh.vertices, buffers.light_faces, *ray)
        return None if hit is None else hit[1]

    def pick(
        self,
        x: float,
        y: float,
        done: Callable[[int, np.ndarray], None],
        missed: Callable[[], None] | None = None,
    ) -> None:
        """Find the triangle and the point of the part under a pixel, beside the window, and tell it.

        What comes after the part has changed is dropped.
        """
        mesh, ray, hidden = self.session.mesh, self.camera.ray(x, y), self.session.selected.hidden
        if mesh is None:
            return

        def find(progress: object) -> tuple[int, np.ndarray] | None:
            return hit_on(mesh, ray, hidden)

        def take(hit: tuple[int, np.ndarray] | None) -> None:
            if self.session.mesh is not mesh:
                return
            if hit is not None:
                done(*hit)
            elif missed is not None:
                missed()

        self._picks += 1
        self.session.tasks.behind(f"pick {self._picks}", find, take)

    # ---- hands

    def update_overlay(self) -> None:
        """Draw again what lies over the view."""
        self.overlay.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self.hand.press(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.hand.move(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.hand.release(event)

    def tabletEvent(self, event: QTabletEvent) -> None:
        is_up = event.type() == QEvent.Type.TabletRelease
        self.hand.pressure = 1.0 if is_up else float(np.clip(event.pressure(), 0.0, 1.0))
        event.ignore()  # what it does comes as from a mouse, next

    def wheelEvent(self, event: QWheelEvent) -> None:
        turned = event.angleDelta()  # with Shift or Alt some systems turn it sideways
        steps = (turned.y() or turned.x()) / 120.0
        tool = self.hand.tool
        if steps and tool is not None and tool.wheel(steps, event.modifiers()):
            return
        if steps and self.session.mesh is not None:
            self.camera.zoom(1.18**steps, event.position().x(), event.position().y())
            self.framing.touch()
            self.moved()

    def event(self, event: QEvent) -> bool:
        tool = self.hand.tool if event.type() == QEvent.Type.ShortcutOverride else None
        if tool is not None and tool.takes_key(event):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Left: (-8, 0),
            Qt.Key.Key_Right: (8, 0),
            Qt.Key.Key_Up: (0, 8),
            Qt.Key.Key_Down: (0, -8),
        }
        if event.key() in steps:
            self.camera.turn_about(self.camera.middle, *steps[event.key()])
            self.framing.touch()
            self.moved()
        elif event.key() == Qt.Key.Key_Space:
            self.hand.space = True
        elif not self.hand.key(event):
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self.hand.space = False
        super().keyReleaseEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.hand.lost_focus()
        super().focusOutEvent(event)

    def leaveEvent(self, event: QEvent) -> None:
        self.session.hovered.emit(None)
        self.hand.left()
        super().leaveEvent(event)
