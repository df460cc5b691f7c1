"""What is drawn of the job: surfaces, lines, previews; with moderngl, GL 3.3 core."""

import time
from collections.abc import Callable, Sequence

import moderngl
import numpy as np

from tinsnip.app.state.buffers import ViewBuffers, ViewMarks, make_speck
from tinsnip.app.view.camera import Camera
from tinsnip.app.view.ground import Ground
from tinsnip.app.view.layer import Layer
from tinsnip.app.view.lines import Lines
from tinsnip.app.view.looks import (
    DEVIATION,
    EDGES,
    LOOKS,
    PREVIEW,
    PROVENANCE,
    SCAN_COLOUR,
    TEXTURE,
    TIN,
    VALUED,
    VOIDS,
    shader_source,
)
from tinsnip.app.view.stage import DepthShading, Rect, Stage, release_whole, round_about
from tinsnip.app.view.surface import Surface
from tinsnip.app.view.waste import MARKS, PLANE, Waste
from tinsnip.app.widgets.theme import PLAIN
from tinsnip.mesh import Mesh

__all__ = ["Scene"]

_SLICE_SECONDS = 0.025
_LOAD = 12_000_000
"""Bytes brought over in one go: some 5 ms."""
_MOST_AT_ONCE = 300_000
"""Triangles drawn anew in one go; all of the picture in slices is better above it (40 ms by the software renderer)."""
_GROUND = 0.285, 0.31, 0.325, 1.0
"""The colour of what nothing is drawn on."""
_NONE, _ALL, _OF_MADE = range(3)
"""Whose creases are lit as they are: nobody's, every triangle's, that of what was made."""
_COARSE = 400_000
"""Triangles up to which the creases of a mesh are lit as they are."""
_PATCH = (("3f4", "place"), ("4f2", "normal"), ("1u1", "role"), ("1f4", "value"))


Tint = tuple[float, float, float]


def _together(a: Rect | None, b: Rect) -> Rect:
    """The least pixels that hold two groups of them."""
    if a is None:
        return b
    x, y = min(a[0], b[0]), min(a[1], b[1])
    return x, y, max(a[0] + a[2], b[0] + b[2]) - x, max(a[1] + a[3], b[1] + b[3]) - y


_BEHIND = 2.0, 20_000.0
"""Slope and steps of depth by which further pieces are drawn farther away than they are."""


class Scene:
    """Owns all that lives on the graphics card."""

    def __init__(self, context: moderngl.Context) -> None:
        self.context = context
        self._programs: dict[tuple[int, int, int, bool], moderngl.Program] = {}
        self._matrices = np.eye(4), np.eye(3), np.zeros(3)
        self._lines = Lines(context)
        self.origin = np.zeros(3)
        self.bed = 0.0
        """The height up to which the part stands on the bed, mm."""
        self.now: Surface | None = None
        self._coming: dict[str, Surface] = {}
        self.level: Surface | None = None
        self.places: Surface | None = None
        self.places_of: Mesh | None = None
        self._places_wanted: ViewBuffers | None = None
        self.raw: Surface | None = None
        self.raw_frame = np.eye(4)
        self._patch: moderngl.VertexArray | None = None
        self._patch_buffers: list[moderngl.Buffer] = []
        self._patch_limit = 0.0
        self._stage: Stage | None = None
        self._shading, self._ground = DepthShading(context), Ground(context)
        self.shades_depth = self.has_ground = True
        self.lights = np.eye(3)
        """How the lights are turned from where they are seen from at first."""
        self.stage_done = self._shaded = 0
        self._stage_whole = False
        self._slice = 120_000
        self.seen_in: Callable[[Camera, Rect], np.ndarray | None] = lambda camera, rect: None
        """Which triangles of the present mesh may be seen within some pixels; None where that takes too long."""
        self._stale: Rect | None = None
        self._late: Rect | None = None
        self.look = TIN
        self.limit = 1.0
        self.stripes, self.lamps_still = 16.0, False
        self.shows = "now"
        self.wipe_at = 0.5
        self._waste: Waste | None = None
        self.turn: tuple[np.ndarray, np.ndarray] | None = None
        self.section: tuple[np.ndarray, float] | None = None
        self.sees_through = self.shows_edges = False
        self.aside: Mesh | None = None
        """The mesh of another piece that is looked at by itself, and not drawn among the rest."""
        self._others: list[Surface] = []
        self._tints: list[Tint] = []
        self._tint: Tint = PLAIN
        self._graves: list[moderngl.Buffer] = []
        self._ready_made = [(TIN, 0, _ALL), *((look, 0, _NONE) for look in (*LOOKS, PREVIEW, VOIDS))]
        self._ready_made += [(look, 0, _ALL) for look in LOOKS[1:]] + [(TIN, PLANE, _NONE), (TIN, PLANE, _ALL)]
        self._ready_made += [(TIN, 0, _NONE, True), (TIN, 0, _ALL, True), (TIN, 0, _OF_MADE), (PROVENANCE, 0, _OF_MADE)]
        self._ready_made += [(TIN, kind, facets) for kind in range(PLANE + 1, MARKS + 1) for facets in (_NONE, _ALL)]

    # ---- what there is

    @property
    def waste(self) -> Waste | None:
        """What a snip that is set up would cut away."""
        return self._waste

    @waste.setter
    def waste(self, waste: Waste | None) -> None:
        gone, self._waste = self._waste, waste
        if gone is not None and gone is not waste:
            gone.release()
        if self.now is not None:
            self.now.set_going(None if waste is None else waste.triangles)

    def set_mesh(self, buffers: ViewBuffers) -> bool:
        """Begin to take a mesh over to the card; what was there is drawn until it has come.

        True where nothing has to come: only vertices have moved.
        """
        if self.now is not None and "now" not in self._coming and self.now.take_over(buffers):
            self.set_lines([])
            self.set_patch(None, None)
            return True
        self._await("now", buffers)
        return False

    def rewrite(self, vertices: np.ndarray, places: np.ndarray, normals: np.ndarray) -> None:
        """Put vertices of the present mesh elsewhere, as `Surface.rewrite`; nothing is drawn by it."""
        if self.now is not None:
            self.now.rewrite(vertices, places, normals)

    def draw_again(self, rect: Rect) -> None:
        """Draw some pixels anew, and what is seen elsewhere not."""
        if rect[2] > 0 and rect[3] > 0:
            self._stale = _together(self._stale, rect)

    def set_level(self, buffers: ViewBuffers | None) -> None:
        """Begin to show a level of a reduction in place of the present mesh; None: no more."""
        if buffers is not None:
            self._await("level", buffers)
            return
        self._drop("level")
        self.stage_done = 0

    def _await(self, name: str, buffers: ViewBuffers) -> None:
        old = self._coming.pop(name, None)
        if old is not None:
            self._graves += old.release()
        self._coming[name] = Surface(self.context, buffers)

    def set_places(self, buffers: ViewBuffers, values: np.ndarray, of: Mesh) -> None:
        """Paint the deviation of a coarse mesh on the same surface with its edges halved."""
        self._await("places", buffers)
        self._coming["places"].set_values(values, DEVIATION)
        self._places_wanted = buffers
        self.places_of = of
        self.stage_done = 0

    def forget_places(self) -> None:
        """The mesh whose deviation was painted there is shown no more."""
        self._drop("places")
        self.places_of = self._places_wanted = None

    def level_buffers(self) -> ViewBuffers | None:
        """What is shown, or about to be, as the level."""
        surface = self._coming.get("level", self.level)
        return None if surface is None else surface.buffers

    def set_raw(self, buffers: ViewBuffers | None, frame: np.ndarray) -> None:
        """The raw scan, and what has moved it since; None: not wanted now."""
        self.raw_frame = frame
        if buffers is None:
            self._drop("raw")
        elif self.raw is None or self.raw.buffers is not buffers:
            self._drop("raw")
            self.raw = Surface(self.context, buffers)
        self.stage_done = 0

    def _drop(self, name: str) -> None:
        for old in (self._coming.pop(name, None), getattr(self, name)):
            if old is not None:
                self._graves += old.release()
        setattr(self, name, None)

    def load(self) -> bool:
        """Bring some more of what is awaited over; True when something new can be shown."""
        for name, surface in self._coming.items():
            if surface.is_light_ready or surface.load(_LOAD) or surface.is_light_ready:
                del self._coming[name]
                self._drop(name)
                setattr(self, name, surface)
                if name == "now":
                    self.set_lines([])
                    self.set_patch(None, None)
                    self.origin = surface.origin
                return True
        if self._coming:
            return False
        for surface in (self.level, self.now, self.places, self.raw, *self._others):
            if surface is not None and not surface.is_ready:
                was_light = surface.is_light_ready
                surface.load(_LOAD)
                return surface.is_ready or (surface.is_light_ready and not was_light)
        return False

    def tidy_up(self) -> bool:
        """Free some of what is no longer shown; True when there is more."""
        room = _LOAD
        while self._graves and room > 0:
            buffer = self._graves.pop()
            room -= buffer.size
            buffer.release()
        return bool(self._graves)

    def make_ready(self, target: moderngl.Framebuffer) -> bool:
        """Make one of the programs that may be wanted later, and draw nothing with it; True when there are more.

        A software renderer translates a program when it is first drawn with, which the first picture of a
        scan should not have to wait for.
        """
        if not self._ready_made:
            return False
        program = self._program(*self._ready_made.pop(0))
        outside = np.zeros((4, 4), dtype=np.float32)
        outside[3] = 5.0, 5.0, 5.0, 1.0
        program["to_clip"].write(outside)
        if "clip" in program:
            program["clip"].value = 0.0, 0.0, 0.0, 1.0
        speck = Surface(self.context, make_speck())
        speck.load(_LOAD)
        behind = self._offscreen((1, 1))
        for place in (target, behind):
            place.use()
            self.context.enable_only(moderngl.DEPTH_TEST)
            speck.draw_full(program, 0, 1)
        release_whole(behind)
        for buffer in speck.release():
            buffer.release()
        return bool(self._ready_made)

    @property
    def is_prepared(self) -> bool:
        """Every program has been made ready."""
        return not self._ready_made

    def _offscreen(self, size: tuple[int, int]) -> moderngl.Framebuffer:
        return self.context.framebuffer([self.context.renderbuffer(size)], self.context.depth_renderbuffer(size))

    @property
    def is_loading(self) -> bool:
        """Something is still on its way to the card."""
        own = (self.now, self.level, self.places, self.raw, *self._others)
        return bool(self._coming) or any(s is not None and not s.is_ready for s in own)

    @property
    def triangles(self) -> int:
        """Triangles of everything that is shown whole."""
        return sum(layer.surface.triangles for layer in self._layers(None))

    def clear_mesh(self) -> None:
        """Nothing is open."""
        for name in ("now", "level", "raw"):
            self._drop(name)
        self.forget_places()

    def set_others(self, others: Sequence[tuple[ViewBuffers, Tint]]) -> None:
        """Further pieces, drawn by their light stand-ins, each in its tint."""
        others = [(buffers, tint) for buffers, tint in others if len(buffers.faces)]
        kept = {id(s.buffers): s for s in self._others}
        self._others = [kept.pop(id(b), None) or Surface(self.context, b) for b, _ in others]
        self._tints = [tint for _, tint in others]
        for gone in kept.values():
            self._graves += gone.release()
        self.stage_done = 0

    def set_marks(self, marks: ViewMarks, shine: bool) -> None:
        """Tell what the shells are; voids shine through the part where wanted."""
        if self.now is not None and self.now.buffers.mesh is marks.mesh:
            self.now.set_roles(marks.roles, marks.voids if shine else marks.voids[:0])
            self.stage_done = 0

    def set_marked(self, mesh: Mesh, chosen: np.ndarray | None) -> np.ndarray | None:
        """Tell which triangles of the mesh are selected (1), hidden (2) or lit (3), uint8, shape (F,); None: none.

        Those whose mark is another, int, shape (K,); None where all have to be drawn anew.
        """
        if self.now is None or self.now.buffers.mesh is not mesh:
            return None
        return self.now.set_marked(chosen)

    def set_patch(
        self,
        corners: np.ndarray | None,
        normals: np.ndarray | None,
        off: np.ndarray | None = None,
        limit: float = 0.0,
    ) -> None:
        """Show triangles of a preview: corner positions from `origin`, and normals, shape (3 T, 3); None: no more.

        With how far each corner is off something, shape (3 T,), they are painted by that, up to a limit.
        """
        self._release(self._patch_buffers, self._patch)
        self._patch, self._patch_buffers, self._patch_limit = None, [], limit
        if corners is None or len(corners) == 0:
            return
        wide = np.zeros((len(corners), 4), dtype=np.float16)
        wide[:, :3] = normals
        data = [corners, wide, np.zeros(len(corners), dtype=np.uint8)]
        if off is not None:
            data.append(off)
        self._patch_buffers = [self.context.buffer(np.ascontiguousarray(d)) for d in data]
        layout = [(b, *form) for b, form in zip(self._patch_buffers, _PATCH, strict=False)]
        program = self._program(self._patch_look, 0, _NONE)
        self._patch = self.context.vertex_array(program, [entry for entry in layout if entry[2] in program])

    def set_lines(self, lines: list[tuple[np.ndarray, dict]]) -> None:
        """As `Lines.set_up`, counted from the part's own middle."""
        self._lines.set_up(lines, self.origin)

    @property
    def _patch_look(self) -> int:
        return DEVIATION if self._patch_limit > 0 else PREVIEW

    @staticmethod
    def _release(buffers: list[moderngl.Buffer], *arrays: moderngl.VertexArray | None) -> None:
        for thing in (*arrays, *buffers):
            if thing is not None:
                thing.release()

    # ---- drawing

    def _layers(self, size: tuple[int, int] | None) -> list[Layer]:
        """What is drawn, and within which part of a target of some size."""
        now = self.level if self.level is not None and self.level.is_light_ready else self.now
        if self.look == DEVIATION and now is not None and now.buffers.mesh is self.places_of:
            ready = self.places is not None and self.places.buffers is self._places_wanted
            now = self.places if ready and self.places.is_light_ready else now
        here = Layer(now, look=self.look) if now is not None else None
        raw = self.raw if self.raw is not None and self.raw.is_light_ready else None
        colour = SCAN_COLOUR if self.look == SCAN_COLOUR else TIN
        there = Layer(raw, self.raw_frame, look=colour, is_now=False) if raw is not None else None
        if self.shows == "raw" and there is not None:
            return [there]
        if self.shows == "wipe" and there is not None and here is not None:
            if size is not None:
                here.scissor = self._beside_divider(size)
                there.scissor = (0, 0, here.scissor[0], size[1])
            return [layer for layer in (there, here) if layer.scissor is None or layer.scissor[2] > 0]
        return [here] if here is not None else []

    def _aim(self, camera: Camera, layer: Layer | None, light: bool = False) -> moderngl.Program:
        """The program for a layer, or its light stand-in, all set; None: for a preview that stands with what is now."""
        origin = self.origin if layer is None else layer.surface.origin
        linear = np.eye(3)
        if layer is not None and not layer.is_now:
            linear = layer.frame[:3, :3]
            origin = linear @ origin + layer.frame[:3, 3]
        matrix = np.eye(4)
        matrix[:3, :3] = linear
        if self.turn is not None and (layer is None or layer.is_now):
            # a turn being tried out: the part is drawn turned, and nothing is changed
            linear, pivot = self.turn
            matrix[:3, :3] = linear
            local = pivot - origin
            matrix[:3, 3] = local - linear @ local
        clip, view = camera.to_clip(origin) @ matrix, camera.frame() @ linear
        self._matrices = clip, view, origin
        self._tint = PLAIN if layer is None else layer.tint
        if layer is None:
            program = self._ready(self._patch_look)
            if self._patch_limit > 0:
                program["limit"].value = self._patch_limit
            return program
        look = layer.look
        if look == PROVENANCE:
            layer.surface.set_provenance()
        if (
            look == SCAN_COLOUR
            and layer.surface.has_texture
            and not (light and layer.surface.buffers.proxy is not None)
        ):
            look = TEXTURE
        if look in VALUED and layer.surface.values_of != look:
            look = TIN
        hatched = self.waste.kind if self.waste is not None and layer.is_now else 0
        if hatched == MARKS and not layer.surface.has_going:
            hatched = 0
        facets = _ALL if layer.surface.triangles <= _COARSE else _OF_MADE if layer.surface.has_made else _NONE
        if facets == _OF_MADE:
            layer.surface.set_provenance()
        return self._ready(look, hatched, facets, layer.surface.has_marks)

    def _program(self, look: int, waste: int, facets: int, marked: bool = False) -> moderngl.Program:
        """The program for a look; made when it is first wanted."""
        key = look, waste, facets, marked
        if key not in self._programs:
            constants = {"LOOK": look, "WASTE": waste, "FACETS": facets, "MARKED": int(marked)}
            vertex, fragment = (shader_source(f"surface.{kind}.glsl", **constants) for kind in ("vert", "frag"))
            self._programs[key] = self.context.program(vertex, fragment)
        return self._programs[key]

    def _ready(self, look: int, waste: int = 0, facets: int = 0, marked: bool = False) -> moderngl.Program:
        """The program for a look, with everything set that it needs."""
        program = self._program(look, waste, facets, marked)
        clip, view, origin = self._matrices
        program["to_clip"].write(np.ascontiguousarray(clip.T, dtype=np.float32))
        if "to_view" in program:
            program["to_view"].write(np.ascontiguousarray(view.T, dtype=np.float32))
        if "to_lights" in program:
            program["to_lights"].write(np.ascontiguousarray(self.lights, dtype=np.float32))
        if "limit" in program:
            program["limit"].value = max(self.limit, 1e-30)
        if "tint" in program:
            program["tint"].value = self._tint
        if "bed" in program:
            program["bed"].value = self.bed - float(origin[2])
        if "to_lamps" in program:
            lamps = np.eye(3) if not self.lamps_still else view.T / max(abs(np.linalg.det(view)) ** (1 / 3), 1e-300)
            program["to_lamps"].write(np.ascontiguousarray(lamps.T, dtype=np.float32))
            program["stripes"].value = self.stripes
        if "kinds" in program:
            program["kinds"].value = 0
        normal, offset = self.section or (np.zeros(3), 1.0)
        if "clip" in program:
            program["clip"].value = (*normal, offset - float(normal @ origin))
        if "is_cut" in program:
            program["is_cut"].value = self.section is not None
        if "see_through" in program:
            program["see_through"].value = self.sees_through
        if "stand_in" in program:
            program["stand_in"].value = False
        if waste and waste != MARKS and self.waste is not None:
            self.waste.set_up(program, self.context, origin)
        return program

    def _clear(self, target: moderngl.Framebuffer) -> None:
        target.use()
        target.scissor = None
        self.context.viewport = (0, 0, *target.size)
        self.context.enable_only(moderngl.DEPTH_TEST)
        target.clear(*_GROUND, depth=1.0)

    def draw_light(self, target: moderngl.Framebuffer, camera: Camera, ratio: float) -> None:
        """Draw the stand-ins straight to the screen, for a moving view."""
        self._clear(target)
        for layer in self._layers(target.size):
            target.scissor = layer.scissor
            self._push_back()
            layer.surface.draw_light(self._aim(camera, layer, light=True))
            if self.shows_edges:
                is_whole = True if layer.surface.buffers.proxy is None else None
                self._draw_edges(
                    lambda program, layer=layer: layer.surface.draw_light(program), camera, layer, is_whole
                )
        target.scissor = None
        self._draw_others(target, camera, ratio)
        self._draw_on_top(target, camera, ratio)

    def _push_back(self) -> None:
        """Draw what comes a little farther away where its edges are drawn too, which then lie on it."""
        self.context.polygon_offset = (1.0, 1.0) if self.shows_edges else (0.0, 0.0)

    def _draw_edges(
        self, draw: Callable[[moderngl.Program], None], camera: Camera, layer: Layer, is_last: bool | None = True
    ) -> None:
        """Draw edges by what draws their triangles; those of quads together with the last of these (None: as all)."""
        self._aim(camera, layer)
        self.context.polygon_offset = 0.0, 0.0
        if is_last is not None and layer.surface.has_quads:
            if is_last:
                layer.surface.draw_edges(self._ready(EDGES, 0, _NONE, layer.surface.has_marks))
            return
        self.context.wireframe = True
        draw(self._ready(EDGES, 0, _NONE, layer.surface.has_marks))
        self.context.wireframe = False

    def picture(self, camera: Camera, width: int, height: int) -> np.ndarray:
        """What a camera sees, by the stand-ins, as pixels, uint8, shape (height, width, 3)."""
        place = self._offscreen((width, height))
        self.draw_light(place, camera, 1.0)
        pixels = np.frombuffer(place.read(components=3, alignment=1), dtype=np.uint8).reshape(height, width, 3)
        release_whole(place)
        self.stage_done = 0
        return np.ascontiguousarray(pixels[::-1])

    def picture_aside(self, camera: Camera, width: int, height: int) -> np.ndarray | None:
        """What a camera sees of the piece that is set aside, as `picture` gives it; None until it is ready."""
        found = [pair for pair in zip(self._others, self._tints, strict=True) if pair[0].buffers.mesh is self.aside]
        if not found or not found[0][0].is_light_ready:
            return None
        surface, tint = found[0]
        place, section = self._offscreen((width, height)), self.section
        self.section = None
        self._clear(place)
        look = SCAN_COLOUR if self.look == SCAN_COLOUR else TIN
        surface.draw_light(self._aim(camera, Layer(surface, look=look, is_now=False, tint=tint)))
        self.section = section
        pixels = np.frombuffer(place.read(components=3, alignment=1), dtype=np.uint8).reshape(height, width, 3)
        release_whole(place)
        self.stage_done = 0
        return np.ascontiguousarray(pixels[::-1])

    def draw_slice(self, target: moderngl.Framebuffer, camera: Camera, ratio: float) -> bool:
        """Draw a slice more of the full mesh behind the scenes; show it once whole. True when it is."""
        layers = self._layers(target.size)
        if not layers:
            self._clear(target)
            return True
        if any(not layer.surface.is_ready for layer in layers):
            self.draw_light(target, camera, ratio)
            return False
        if self._stage is None or self._stage.size != target.size:
            if self._stage is not None:
                self._stage.release()
            self._stage = Stage(self.context, target.size)
            self.stage_done = 0
        stage = self._stage.target
        if self.stage_done == 0:
            self._clear(stage)
            self._shaded = 0
            self._stage_whole, self._late = False, None
        total = sum(layer.surface.triangles for layer in layers)
        self._draw_stale(target, camera, ratio, layers, total)
        budget, begun = self._slice, 0
        clock = time.perf_counter()
        if self.stage_done < total:
            stage.use()
            self.context.viewport = (0, 0, *stage.size)
            self.context.enable_only(moderngl.DEPTH_TEST)
            for layer in layers:
                own = layer.surface.triangles
                first = self.stage_done - begun
                if 0 <= first < own and budget > 0:
                    count = min(budget, own - first)
                    stage.scissor = layer.scissor
                    self._push_back()
                    layer.surface.draw_full(self._aim(camera, layer), first, count)
                    if self.shows_edges:

                        def draw(program: moderngl.Program, layer=layer, first=first, count=count) -> None:
                            layer.surface.draw_full(program, first, count)

                        self._draw_edges(draw, camera, layer, first + count == own)
                    self.stage_done += count
                    budget -= count
                begun += own
            stage.scissor = None
            self.context.finish()
            self._pace(time.perf_counter() - clock)
        if self.stage_done < total:
            return False
        if not self._stage_whole:
            if self._shaded == 0:
                self._draw_others(stage, camera, ratio)
            if self.shades_depth and self._shaded < stage.size[1]:
                self._shaded = self._shading.shade_some(self._stage, camera, ratio, self._hollows, self._shaded)
                if self._shaded < stage.size[1]:
                    return False
            self._draw_on_top(stage, camera, ratio)
            self._stage_whole = True
            if self._late is not None:  # of what was drawn first some is no longer so
                self._draw_place(stage, camera, ratio, self._late)
                self._late = None
        self.context.copy_framebuffer(target, stage)
        return True

    @property
    def is_whole(self) -> bool:
        """The picture has been drawn to its end."""
        return self.triangles == 0 or (self.stage_done >= self.triangles and self._stage_whole)

    @property
    def _hollows(self) -> bool:
        """Hollows and ridges are shaded where no colour has to be read by how light it is."""
        return self.look in (TIN, SCAN_COLOUR, PROVENANCE) and not self.sees_through

    def _draw_stale(
        self, target: moderngl.Framebuffer, camera: Camera, ratio: float, layers: list[Layer], total: int
    ) -> None:
        """Draw anew what is no longer so: where the picture stands it is drawn into that, else over the last one."""
        rect, self._stale = self._stale, None
        if rect is None or self.stage_done == 0:
            return
        plain = len(layers) == 1 and layers[0].surface is self.now and self.turn is None and self.shows == "now"
        is_whole = self._stage_whole and self.stage_done >= total
        if not plain or not self._draw_place(self._stage.target if is_whole else target, camera, ratio, rect):
            self.stage_done = self._shaded = 0
            self._clear(self._stage.target)
            self._stage_whole, self._late = False, None
        elif not is_whole:
            self._late = _together(self._late, rect)

    def _draw_place(self, target: moderngl.Framebuffer, camera: Camera, ratio: float, rect: Rect) -> bool:
        """Draw all that is seen within some pixels anew; False where that would take too long."""
        if self.shades_depth:
            rect = round_about(rect, target.size, ratio)
        triangles = self.seen_in(camera, rect)
        if triangles is None or len(triangles) > _MOST_AT_ONCE:
            return False
        self._aim_at(target, rect)
        target.clear(*_GROUND, depth=1.0, viewport=rect)
        here = Layer(self.now, look=self.look)
        self._push_back()
        self.now.draw_some(self._aim(camera, here), triangles)
        if self.shows_edges:
            self._draw_edges(lambda program: self.now.draw_some(program, triangles), camera, here)
        self._draw_others(target, camera, ratio, rect)
        if self.shades_depth and target is self._stage.target:
            self._shading.shade(self._stage, camera, ratio, self._hollows, rect)
        self._draw_on_top(target, camera, ratio, rect)
        return True

    def _pace(self, seconds: float) -> None:
        """Draw as much next time as fits into the time a slice may take."""
        wanted = self._slice * min(max(_SLICE_SECONDS / max(seconds, 1e-4), 0.5), 1.5)
        self._slice = int(min(max(wanted, 40_000), 2_000_000))

    def _aim_at(self, target: moderngl.Framebuffer, within: Rect | None) -> None:
        """Draw to a target from now on, within some pixels or in all of it."""
        target.use()
        self.context.viewport = (0, 0, *target.size)
        target.scissor = within
        self.context.enable_only(moderngl.DEPTH_TEST)

    def _beside_divider(self, size: tuple[int, int]) -> Rect:
        """The pixels that show the present mesh while the raw scan stands beside it."""
        x = round(self.wipe_at * size[0])
        return x, 0, size[0] - x, size[1]

    def _draw_others(
        self, target: moderngl.Framebuffer, camera: Camera, ratio: float, within: Rect | None = None
    ) -> None:
        """Further pieces, and the ground, beside the surface; within some pixels, or in all."""
        self._aim_at(target, within)
        self.context.polygon_offset = _BEHIND  # where pieces lie on each other, the one worked on is seen
        for other, tint in zip(self._others, self._tints, strict=True):
            if other.buffers.mesh is self.aside:
                continue
            if other.is_light_ready and (within is None or camera.sees_box(other.buffers.mesh.box, within, ratio)):
                look = SCAN_COLOUR if self.look == SCAN_COLOUR else TIN
                other.draw_light(self._aim(camera, Layer(other, look=look, is_now=False, tint=tint)))
        self.context.polygon_offset = 0.0, 0.0
        shown = self.now if self.shows != "raw" and self.turn is None and self.section is None else None
        shadow = None if shown is None else shown.buffers.shadow
        if self.has_ground and shadow is not None:
            if self.shows == "wipe":  # the raw scan has none
                target.scissor = self._beside_divider(target.size)
            self._ground.draw(target, shadow, shown.origin, camera)
        target.scissor = None

    def _draw_on_top(
        self, target: moderngl.Framebuffer, camera: Camera, ratio: float, within: Rect | None = None
    ) -> None:
        """Patches, voids that shine through, and lines, over the surface; within some pixels, or in all."""
        self._aim_at(target, within)
        if self.shows == "raw" or self.level is not None:
            return  # lines and previews belong to the present mesh
        if self.shows == "wipe":
            target.scissor = self._beside_divider(target.size)
            if target.scissor[2] == 0:
                return
        self._aim(camera, None)
        if self._patch is not None:
            # what lies on the surface, for all its noise, is seen
            self.context.polygon_offset = tuple(-x for x in _BEHIND) if self._patch_limit > 0 else (0.0, 0.0)
            self._patch.render(moderngl.TRIANGLES)
            self.context.polygon_offset = 0.0, 0.0
        if self.now is not None and self.now.is_light_ready:
            self.context.enable_only(moderngl.NOTHING)
            self.now.draw_voids(self._ready(VOIDS))
            self.context.enable_only(moderngl.DEPTH_TEST)
        self._lines.draw(target, camera, ratio, self.section)
        target.scissor = None
