"""What is drawn of the job: surface, lines, previews; with moderngl, GL 3.3 core."""

from importlib import resources

import moderngl
import numpy as np

from tinsnip.app.buffers import ViewBuffers
from tinsnip.app.camera import Camera

__all__ = ["Scene"]

_SLICE = 240_000
_SURFACE = (("3f4", "place"), ("4f2", "normal"), ("4f1", "colour"))


def _source(name: str) -> str:
    return (resources.files("tinsnip.app") / "shaders" / name).read_text("utf-8")


class Scene:
    """Owns all that lives on the graphics card."""

    def __init__(self, context: moderngl.Context) -> None:
        self.context = context
        self.surface = context.program(_source("surface.vert.glsl"), _source("surface.frag.glsl"))
        self.line = context.program(_source("line.vert.glsl"), _source("line.frag.glsl"))
        self.origin = np.zeros(3)
        self.triangles = 0
        self.proxy_triangles = 0
        self._buffers: list[moderngl.Buffer] = []
        self._colours: moderngl.Buffer | None = None
        self._full: moderngl.VertexArray | None = None
        self._proxy: moderngl.VertexArray | None = None
        self._voids: moderngl.VertexArray | None = None
        self._patch: moderngl.VertexArray | None = None
        self._patch_buffers: list[moderngl.Buffer] = []
        self._lines: list[tuple[moderngl.VertexArray, int, dict]] = []
        self._line_buffers: list[moderngl.Buffer] = []
        self._stage: moderngl.Framebuffer | None = None
        self.stage_done = 0
        self._stage_whole = False
        self.scan_colour = False
        self.waste: tuple[np.ndarray, float] | None = None
        self.turn: tuple[np.ndarray, np.ndarray] | None = None
        self._others: list[tuple[moderngl.VertexArray, np.ndarray]] = []
        self._other_buffers: list[moderngl.Buffer] = []

    def set_mesh(self, buffers: ViewBuffers) -> None:
        """Take a mesh over to the card."""
        self._release(self._buffers, self._full, self._proxy, self._voids)
        self.set_lines([])
        self.set_patch(None, None)
        context = self.context
        self.origin = buffers.origin
        self.triangles, self.proxy_triangles = len(buffers.faces), len(buffers.proxy)
        self._full = self._proxy = self._voids = None
        self._buffers = []
        if not self.triangles:
            return
        places, normals = context.buffer(buffers.places), context.buffer(buffers.normals)
        self._colours = context.buffer(buffers.colours)
        faces = context.buffer(buffers.faces)
        proxy = faces if buffers.proxy is buffers.faces else context.buffer(buffers.proxy)
        self._attributes = [(b, *layout) for b, layout in zip((places, normals, self._colours), _SURFACE, strict=True)]
        self._full = context.vertex_array(self.surface, self._attributes, faces)
        self._proxy = context.vertex_array(self.surface, self._attributes, proxy)
        self._buffers = [places, normals, self._colours, faces] + ([proxy] if proxy is not faces else [])
        self.stage_done = 0

    def set_others(self, others: list[ViewBuffers]) -> None:
        """Further pieces, drawn by their light stand-ins."""
        self._release(self._other_buffers, *(array for array, _ in self._others))
        self._others, self._other_buffers = [], []
        for other in others:
            if len(other.proxy) == 0:
                continue
            data = [self.context.buffer(a) for a in (other.places, other.normals, other.colours)]
            index = self.context.buffer(np.ascontiguousarray(other.proxy))
            layout = [(b, *form) for b, form in zip(data, _SURFACE, strict=True)]
            self._others.append((self.context.vertex_array(self.surface, layout, index), other.origin))
            self._other_buffers += [*data, index]
        self.stage_done = 0

    def set_roles(self, colours: np.ndarray, void_faces: np.ndarray) -> None:
        """Replace the colours (their alpha says what a shell is), and tell which triangles are voids."""
        if self._colours is None or self._full is None:
            return
        self._colours.write(colours)
        if self._voids is not None:
            self._voids.release()
            self._voids = None
        if len(void_faces):
            index = self.context.buffer(np.ascontiguousarray(void_faces))
            self._buffers.append(index)
            self._voids = self.context.vertex_array(self.surface, self._attributes, index)
        self.stage_done = 0

    def set_patch(self, corners: np.ndarray | None, normals: np.ndarray | None) -> None:
        """Show made triangles of a preview: corner positions and normals, shape (3 T, 3); None: no more."""
        self._release(self._patch_buffers, self._patch)
        self._patch, self._patch_buffers = None, []
        if corners is None or len(corners) == 0:
            return
        wide = np.zeros((len(corners), 4), dtype=np.float16)
        wide[:, :3] = normals
        data = (
            (corners - self.origin).astype(np.float32),
            wide,
            np.zeros((len(corners), 4), dtype=np.uint8),
        )
        self._patch_buffers = [self.context.buffer(np.ascontiguousarray(d)) for d in data]
        layout = [(b, *form) for b, form in zip(self._patch_buffers, _SURFACE, strict=True)]
        self._patch = self.context.vertex_array(self.surface, layout)

    def set_lines(self, lines: list[tuple[np.ndarray, dict]]) -> None:
        """Closed lines to draw: points (N, 3) and style (first, second, period, share, width)."""
        self._release(self._line_buffers, *(entry[0] for entry in self._lines))
        self._lines, self._line_buffers = [], []
        groups: dict[tuple, list[np.ndarray]] = {}
        for points, style in lines:
            head = (points - self.origin).astype(np.float32)
            tail = np.roll(head, -1, axis=0)
            length = np.linalg.norm(tail - head, axis=1)
            along = np.concatenate([[0.0], np.cumsum(length)[:-1]])
            rows = np.column_stack([head, tail, along]).astype(np.float32)
            groups.setdefault(tuple(sorted(style.items())), []).append(rows)
        for style, rows in groups.items():
            data = np.concatenate(rows)
            buffer = self.context.buffer(data)
            array = self.context.vertex_array(self.line, [(buffer, "3f4 3f4 1f4/i", "head", "tail", "along")])
            self._lines.append((array, len(data), dict(style)))
            self._line_buffers.append(buffer)

    @staticmethod
    def _release(buffers: list[moderngl.Buffer], *arrays: moderngl.VertexArray | None) -> None:
        for thing in (*arrays, *buffers):
            if thing is not None:
                thing.release()

    def _aim(self, camera: Camera) -> None:
        clip, view = camera.to_clip(self.origin), camera.frame()
        if self.turn is not None:  # a turn being tried out: the part is drawn turned, and nothing is changed
            linear, pivot = self.turn
            matrix = np.eye(4)
            matrix[:3, :3] = linear
            local = pivot - self.origin
            matrix[:3, 3] = local - linear @ local
            clip, view = clip @ matrix, view @ linear
        self.surface["to_clip"].write(np.ascontiguousarray(clip.T, dtype=np.float32))
        self.surface["to_view"].write(np.ascontiguousarray(view.T, dtype=np.float32))
        self.surface["scan_colour"].value = self.scan_colour
        self.surface["only_void"].value = False
        self.surface["patch_preview"].value = False
        self.surface["has_plane"].value = self.waste is not None
        if self.waste is not None:
            normal, offset = self.waste
            self.surface["plane"].value = (*normal, offset - float(normal @ self.origin))
        self.line["to_clip"].write(np.ascontiguousarray(clip.T, dtype=np.float32))

    def _clear(self, target: moderngl.Framebuffer) -> None:
        target.use()
        self.context.viewport = (0, 0, *target.size)
        self.context.enable_only(moderngl.DEPTH_TEST)
        target.clear(0.285, 0.31, 0.325, 1.0, depth=1.0)

    def draw_light(self, target: moderngl.Framebuffer, camera: Camera, ratio: float) -> None:
        """Draw the proxy straight to the screen, for a moving view."""
        self._clear(target)
        if self._proxy is not None:
            self._aim(camera)
            self._proxy.render(moderngl.TRIANGLES)
        self._finish(target, camera, ratio)

    def draw_slice(self, target: moderngl.Framebuffer, camera: Camera, ratio: float) -> bool:
        """Draw a slice more of the full mesh behind the scenes; show it once whole. True when it is."""
        if self._full is None:
            self._clear(target)
            return True
        if self._stage is None or self._stage.size != target.size:
            if self._stage is not None:
                self._stage.release()
            size = target.size
            self._stage = self.context.framebuffer(
                [self.context.renderbuffer(size)], self.context.depth_renderbuffer(size)
            )
            self.stage_done = 0
        if self.stage_done == 0:
            self._clear(self._stage)
            self._stage_whole = False
        if self.stage_done < self.triangles:
            self._stage.use()
            self.context.viewport = (0, 0, *self._stage.size)
            self.context.enable_only(moderngl.DEPTH_TEST)
            self._aim(camera)
            count = min(_SLICE, self.triangles - self.stage_done)
            self._full.render(moderngl.TRIANGLES, vertices=3 * count, first=3 * self.stage_done)
            self.stage_done += count
            self.context.finish()
        if self.stage_done < self.triangles:
            return False
        if not self._stage_whole:
            self._finish(self._stage, camera, ratio)
            self._stage_whole = True
        self.context.copy_framebuffer(target, self._stage)
        return True

    def _finish(self, target: moderngl.Framebuffer, camera: Camera, ratio: float) -> None:
        """Patches, voids that shine through, and lines, on top of the surface."""
        target.use()
        self.context.viewport = (0, 0, *target.size)
        self._aim(camera)
        self.context.enable_only(moderngl.DEPTH_TEST)
        if self._others:
            self.surface["has_plane"].value = False
            for array, origin in self._others:
                clip = camera.to_clip(origin)
                self.surface["to_clip"].write(np.ascontiguousarray(clip.T, dtype=np.float32))
                self.surface["to_view"].write(np.ascontiguousarray(camera.frame().T, dtype=np.float32))
                array.render(moderngl.TRIANGLES)
            self._aim(camera)
        if self._patch is not None:
            self.surface["patch_preview"].value = True
            self.surface["has_plane"].value = False
            self._patch.render(moderngl.TRIANGLES)
            self.surface["patch_preview"].value = False
        if self._voids is not None:
            self.surface["only_void"].value = True
            self.context.enable_only(moderngl.NOTHING)
            self._voids.render(moderngl.TRIANGLES)
            self.surface["only_void"].value = False
            self.context.enable_only(moderngl.DEPTH_TEST)
        if self._lines:
            self.line["size"].value = (float(target.size[0]), float(target.size[1]))
            self.line["scale"].value = ratio / camera.scale
        for array, count, style in self._lines:
            self.line["first"].value = style["first"]
            self.line["second"].value = style["second"]
            self.line["period"].value = style["period"] * ratio
            self.line["share"].value = style["share"]
            self.line["width"].value = style["width"] * ratio
            array.render(moderngl.TRIANGLE_STRIP, vertices=4, instances=count)
