"""What is worked out of the mesh alone and painted on it: edges' lengths, walls, overhang, how the surface bends."""

from dataclasses import replace
from weakref import WeakValueDictionary

import numpy as np
from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.state.texturing import ViewTexture, make_texture
from tinsnip.app.view.legend import DensityLegend, WorkedOutLegend
from tinsnip.app.view.looks import CURVATURE, DENSITY, OVERHANG, RELIEF, SCAN_COLOUR, STRIPES, WALL
from tinsnip.app.view.overlegend import OverhangLegend
from tinsnip.app.view.scene import Scene
from tinsnip.app.view.shapelegends import CurvatureLegend, ReliefLegend, StripesLegend, radius_told
from tinsnip.app.view.surface import Surface
from tinsnip.app.view.wallegend import WallLegend
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import edge_lengths
from tinsnip.regions import Region
from tinsnip.survey import Finding
from tinsnip.survey.curvature import Curvature, curvature_of, relief_of
from tinsnip.survey.overhang import BED_SHARE, Overhang, overhang_of
from tinsnip.survey.walls import find_thin_walls, thin_places, walls_of
from tinsnip.treat import Thicken

__all__ = ["Paints"]

_AT_ONCE = 4_000_000
"""Bytes of a texture that are brought over in one go: some 10 ms with a software renderer."""
_FARTHEST = 1e9
"""Stands for no wall at all, as numbers that are painted have to end."""


class Paints(QObject):
    """Works such values out beside the window, and brings them to the card and their legends.

    Parameters
    ----------
    session : Session
    view : object
        The view: its scene, look, and how it is drawn again.
    """

    def __init__(self, session: Session, view: "object") -> None:
        super().__init__()
        self._session, self._view = session, view
        self.density = DensityLegend(view)
        self.wall = WallLegend(view)
        self.wall.minimum_changed.connect(self._judge)
        self.wall.select_asked.connect(self._select)
        self.wall.thicken_asked.connect(self._thicken)
        self._walls: tuple[Mesh, np.ndarray] | None = None
        self._overhang: tuple[Mesh, Overhang] | None = None
        self.over = OverhangLegend(view)
        self.over.angle_changed.connect(self._look_below)
        self.over.select_asked.connect(self._select_overhang)
        self.stripes = StripesLegend(view)
        self.stripes.changed.connect(self._light)
        self.curvature, self.relief = CurvatureLegend(view), ReliefLegend(view)
        self.curvature.kind_changed.connect(lambda: self._bent(*self._bends) if self._bends is not None else None)
        for legend in (self.curvature, self.relief):
            legend.limit_changed.connect(self._set_limit)
        self._bends: tuple[Mesh, Curvature] | None = None
        self._relief: tuple[Mesh, np.ndarray] | None = None
        self._asked: WeakValueDictionary[str, Surface] = WeakValueDictionary()
        self._last_texture: ViewTexture | None = None
        self._bring = QTimer(self, interval=0)
        self._bring.timeout.connect(self._bring_textures)
        self._watch = QTimer(self, interval=200)
        self._watch.timeout.connect(self._tell_progress)
        session.examined.connect(self._judge)
        session.job_left.connect(self._forget)

    @property
    def legends(self) -> tuple[QWidget, ...]:
        """The legends, to be placed."""
        return self.density, self.wall, self.over, self.stripes, self.curvature, self.relief

    def show(self, look: int) -> None:
        """Show the legend of a look."""
        for legend, own in zip(self.legends, (DENSITY, WALL, OVERHANG, STRIPES, CURVATURE, RELIEF), strict=True):
            legend.setVisible(look == own)
        if look != WALL:
            self._judge()

    def give(self, scene: Scene | None) -> None:
        """Bring what the present look paints."""
        look = self._view.look
        surface = None if scene is None else scene.level if scene.level is not None else scene.now
        if look == OVERHANG:
            self._look_below()
        if scene is not None and look == SCAN_COLOUR:
            self._ask_textures(scene)
        if look == STRIPES:
            self._light()
        if surface is None or look not in (DENSITY, WALL, CURVATURE, RELIEF):
            return
        mesh = surface.buffers.mesh
        work, done = {
            DENSITY: (edge_lengths, self._dense),
            WALL: (walls_of, self._walled),
            CURVATURE: (curvature_of, self._bent),
            RELIEF: (relief_of, self._risen),
        }[look]
        name, legend = self._tasks_shown[look]
        legend.show_working()
        self._session.tasks.behind(
            name, lambda progress: work(mesh), lambda values: done(mesh, values), legend.show_failed
        )
        self._watch.start()

    @property
    def _tasks_shown(self) -> dict[int, tuple[str, WorkedOutLegend]]:
        """What each look has worked out, by name, and the legend that tells of it."""
        return {
            DENSITY: ("density", self.density),
            WALL: ("walls", self.wall),
            CURVATURE: ("curvature", self.curvature),
            RELIEF: ("relief", self.relief),
        }

    def _tell_progress(self) -> None:
        """Say how far what the present look waits for is."""
        name, legend = self._tasks_shown.get(self._view.look, ("", None))
        progress = self._session.tasks.progress_of(name)
        if progress is None:
            self._watch.stop()
        else:
            legend.show_working(progress.fraction)

    def reading_at(self, triangle: int, point: np.ndarray) -> str | None:
        """What the present look paints at a point of the present mesh, in words; None where it paints no number."""
        mesh, look = self._session.mesh, self._view.look
        if mesh is None or self._session.stand_in is not None:
            return None
        corners = mesh.vertices[mesh.faces[triangle]]
        if look == STRIPES:
            normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
            lean = np.degrees(np.arccos(np.clip(normal[2] / max(np.linalg.norm(normal), 1e-300), -1.0, 1.0)))
            return f"{lean:.1f}° from upright"
        known = {CURVATURE: self._bends, RELIEF: self._relief, WALL: self._walls}.get(look)
        if known is None or known[0] is not mesh:
            return None
        shares = np.linalg.lstsq(np.vstack([(corners - point).T, np.ones(3)]), [0.0, 0.0, 0.0, 1.0], rcond=None)[0]
        if look == CURVATURE:
            kind = self.curvature.kind.currentData()
            return radius_told(float(getattr(known[1], kind)[mesh.faces[triangle]] @ shares))
        if look == RELIEF:
            return f"{float(known[1][mesh.faces[triangle]] @ shares):+.4f} mm"
        wall = float(known[1][mesh.faces[triangle]] @ shares)
        return f"{wall:.3f} mm thick" if np.isfinite(wall) else "nothing opposite"

    def _light(self) -> None:
        scene = self._view.scene
        if scene is not None and self._view.look == STRIPES:
            scene.stripes, scene.lamps_still = float(self.stripes.field.value()), self.stripes.still.isChecked()
            scene.stage_done = 0
            self._view.redraw()

    def _set_limit(self) -> None:
        """The range of what is painted has changed."""
        legend = {CURVATURE: self.curvature, RELIEF: self.relief}.get(self._view.look)
        if self._view.scene is not None and legend is not None:
            self._view.scene.limit = max(legend.limit, 1e-30)
            self._view.redraw()

    def _bent(self, mesh: Mesh, bends: Curvature) -> None:
        self._bends = mesh, bends
        if self._view.scene is None or self._view.look != CURVATURE:
            return
        values = getattr(bends, self.curvature.kind.currentData())
        self.curvature.show_values(values, "Copper is round, petrol hollow.\nClick to read a radius.")
        self._put(mesh, values, CURVATURE, again=True)

    def _risen(self, mesh: Mesh, heights: np.ndarray) -> None:
        self._relief = mesh, heights
        if self._view.scene is None or self._view.look != RELIEF:
            return
        self.relief.show_values(
            heights, "Light stands out, dark lies back,\nof detail under some 9 edges.\nClick to read how much."
        )
        self._put(mesh, heights, RELIEF)

    def _ask_textures(self, scene: Scene) -> None:
        """Make the textures of what is shown ready beside the window, and bring them over bit by bit."""
        for place in ("level", "now", "raw"):
            surface = getattr(scene, place)
            mesh = None if surface is None else surface.buffers.mesh
            if mesh is None or "texture" not in mesh.attributes or self._asked.get(place) is surface:
                continue
            self._asked[place] = surface
            self._session.tasks.behind(
                f"texture, {place}",
                lambda progress, mesh=mesh, origin=surface.origin: make_texture(
                    mesh, origin, progress, self._last_texture
                ),
                lambda made, surface=surface, mesh=mesh: self._textured(surface, mesh, made),
            )

    def _textured(self, surface: Surface, mesh: Mesh, made: ViewTexture | None) -> None:
        if made is None:
            return
        self._last_texture = replace(made, places=made.places[:0])  # only its sheet is wanted again
        if self._is_shown(surface) and surface.buffers.mesh is mesh:
            self._view.makeCurrent()
            surface.set_texture(made)
            self._bring.start()

    def _forget(self) -> None:
        """What was worked out of a job that is left takes its meshes along."""
        self._last_texture = self._walls = self._overhang = self._bends = self._relief = None

    def _is_shown(self, surface: Surface) -> bool:
        scene = self._view.scene
        return scene is not None and any(surface is one for one in (scene.level, scene.now, scene.raw))

    def _bring_textures(self) -> None:
        """Some of what is on its way; drawn once all is there."""
        for surface in list(self._asked.values()):
            if self._is_shown(surface) and surface.texture is not None and not surface.has_texture:
                self._view.makeCurrent()
                if surface.load_texture(_AT_ONCE):
                    self._view.redraw()
                return
        self._bring.stop()

    @property
    def is_bringing(self) -> bool:
        """Whether a texture is on its way to the card."""
        return self._bring.isActive()

    def _look_below(self, *_: object) -> None:
        """Look for overhang beside the window; the surface itself is painted by its own facing."""
        mesh, degrees = self._session.mesh, self.over.angle
        if self._view.scene is None or self._view.look != OVERHANG or mesh is None or len(mesh.faces) == 0:
            return
        self._view.scene.limit = degrees
        self._view.scene.bed = float(mesh.box[0, 2]) + BED_SHARE * float(mesh.size[2])
        self.over.show_working()
        self._view.redraw()

        def done(found: Overhang) -> None:
            if self._session.mesh is mesh and self.over.angle == degrees:
                self._overhang = mesh, found
                self.over.show_overhang(found, mesh.area)
                self._view.place_legends()

        self._session.tasks.latest("overhang", lambda progress: overhang_of(mesh, degrees), done)

    def _select_overhang(self) -> None:
        if self._overhang is not None and self._overhang[0] is self._session.mesh:
            self._session.selected.put(self._overhang[1].triangles)

    def _put(self, mesh: Mesh, values: np.ndarray, look: int, again: bool = False) -> None:
        scene = self._view.scene
        for one in (scene.level, scene.now):
            if one is not None and one.buffers.mesh is mesh and (again or one.values_of != look):
                self._view.makeCurrent()
                one.set_values(values, look)
        self._view.place_legends()
        self._view.redraw()

    def _dense(self, mesh: Mesh, lengths: np.ndarray) -> None:
        if self._view.scene is None or self._view.look != DENSITY:
            return
        middle = float(np.median(lengths)) if len(lengths) else 1.0
        self._view.scene.limit = max(middle, 1e-30)
        self.density.show_middle(middle)
        self._put(mesh, lengths, DENSITY)

    def _walled(self, mesh: Mesh, walls: np.ndarray) -> None:
        if self._view.scene is None or self._view.look != WALL:
            return
        self._walls = mesh, walls
        self.wall.show_walls(walls)
        self._put(mesh, np.minimum(walls, _FARTHEST), WALL)
        self._judge()

    def _judge(self, *_: object) -> None:
        """Look for what is thinner than the minimum, beside the window: findings, as long as walls are shown."""
        found, walls = self._session.examination, self._walls
        shown = self._view.look == WALL and walls is not None and found is not None and walls[0] is found.mesh
        if found is None or found.least_wall == (self.wall.minimum if shown else None):
            return
        if not shown:
            found.least_wall, found.thin_walls = None, []
            self._session.examined.emit()
            return
        mesh, minimum = found.mesh, self.wall.minimum
        if self._view.scene is not None:
            self._view.scene.limit = max(minimum, 1e-30)
            self._view.redraw()

        def done(thin: list[Finding]) -> None:
            if self._session.examination is found and self.wall.minimum == minimum and self._view.look == WALL:
                found.least_wall, found.thin_walls = minimum, thin
                self.wall.show_places(len(thin))
                self._session.examined.emit()

        self._session.tasks.latest("thin walls", lambda progress: find_thin_walls(mesh, minimum), done)

    def _select(self) -> None:
        found = self._session.examination
        if found is not None and found.least_wall is not None:
            self._session.selected.put(thin_places(found.mesh, found.least_wall)[0] >= 0)

    def _thicken(self) -> None:
        """Make what is too thin as thick as asked, in a step: each side gives half of what is missing."""
        found, walls = self._session.examination, self._walls
        if found is None or found.least_wall is None or walls is None or walls[0] is not found.mesh:
            return
        mesh, least, rays = found.mesh, found.least_wall, walls[1]

        def make() -> Thicken:
            thin = thin_places(mesh, least)[0] >= 0
            own = rays[np.unique(mesh.faces[thin])]
            missing = 0.5 * (least - float(own[np.isfinite(own)].min(initial=least)))
            return Thicken(only=Region.of(mesh, thin), wall_mm=max(missing, 1e-6))

        self._session.do_made("Thicken", make)
