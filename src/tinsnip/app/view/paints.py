"""What is worked out of the mesh alone and painted on it: the length of edges, the thickness of walls, overhang."""

from dataclasses import replace
from weakref import WeakValueDictionary

import numpy as np
from PySide6.QtCore import QObject, QTimer

from tinsnip.app.state.session import Session
from tinsnip.app.state.texturing import ViewTexture, make_texture
from tinsnip.app.view.legend import DensityLegend
from tinsnip.app.view.looks import DENSITY, OVERHANG, SCAN_COLOUR, WALL
from tinsnip.app.view.overlegend import OverhangLegend
from tinsnip.app.view.scene import Scene
from tinsnip.app.view.surface import Surface
from tinsnip.app.view.wallegend import WallLegend
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import edge_lengths
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.survey import Finding
from tinsnip.survey.overhang import BED_SHARE, Overhang, overhang_of
from tinsnip.survey.walls import Walls, find_thin_walls, thin_places, walls_of
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
        self._walls: tuple[Mesh, Walls] | None = None
        self._overhang: tuple[Mesh, Overhang] | None = None
        self.over = OverhangLegend(view)
        self.over.angle_changed.connect(self._look_below)
        self.over.select_asked.connect(self._select_overhang)
        self._asked: WeakValueDictionary[str, Surface] = WeakValueDictionary()
        self._last_texture: ViewTexture | None = None
        self._bring = QTimer(self, interval=0)
        self._bring.timeout.connect(self._bring_textures)
        session.examined.connect(self._judge)
        session.job_left.connect(self._forget_textures)

    @property
    def legends(self) -> tuple[DensityLegend, WallLegend, OverhangLegend]:
        """The legends, to be placed."""
        return self.density, self.wall, self.over

    def show(self, look: int) -> None:
        """Show the legend of a look."""
        self.density.setVisible(look == DENSITY)
        self.wall.setVisible(look == WALL)
        self.over.setVisible(look == OVERHANG)
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
        if surface is None or look not in (DENSITY, WALL):
            return
        mesh = surface.buffers.mesh
        if look == DENSITY:
            self._session.tasks.behind("density", lambda progress: edge_lengths(mesh), lambda v: self._dense(mesh, v))
            return

        def work(progress: Progress) -> Walls:
            return walls_of(mesh)

        self.wall.show_working()
        self._session.tasks.behind("walls", work, lambda walls: self._walled(mesh, walls))

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

    def _forget_textures(self) -> None:
        self._last_texture = None

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

    def _put(self, mesh: Mesh, values: np.ndarray, look: int) -> None:
        scene = self._view.scene
        for one in (scene.level, scene.now):
            if one is not None and one.buffers.mesh is mesh and one.values_of != look:
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

    def _walled(self, mesh: Mesh, walls: Walls) -> None:
        if self._view.scene is None or self._view.look != WALL:
            return
        self._walls = mesh, walls
        self.wall.show_walls(walls.rays)
        self._put(mesh, np.minimum(walls.rays, _FARTHEST), WALL)
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
        mesh, least, rays = found.mesh, found.least_wall, walls[1].rays

        def make() -> Thicken:
            thin = thin_places(mesh, least)[0] >= 0
            own = rays[np.unique(mesh.faces[thin])]
            missing = 0.5 * (least - float(own[np.isfinite(own)].min(initial=least)))
            return Thicken(only=Region.of(mesh, thin), wall_mm=max(missing, 1e-6))

        self._session.do_made("Thicken", make)
