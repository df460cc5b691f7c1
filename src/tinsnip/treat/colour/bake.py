"""Bake: the raw scan's colours on the part as it is now, as a texture of its own or on its vertices."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from PIL import Image
from pydantic import Field
from scipy import ndimage

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import MADE, MEASURED, RELIEF, Attribute, Domain, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.progress import DONE, TOTAL, stoppable
from tinsnip.space.cornerweights import slopes
from tinsnip.treat.account import Account
from tinsnip.treat.colour.charts import Charts, lay_out
from tinsnip.treat.colour.sampling import RawColours, filled_smoothly, mixed
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted, grouped, millimetres

__all__ = ["Bake"]

_AT_ONCE = 500_000
"""Pixels that are looked up together."""
_UPRIGHT = (128, 128, 255)
"""A normal that stands straight on the surface, as a colour."""
_PADDING = {1024: 3, 2048: 4, 4096: 6, 8192: 8}
"""Pixels that stay free round each chart: smaller pictures of the texture mix so many."""


@kernel
def _cover(corners, owner, away, state):
    """The triangle that each pixel lies on, or at most a pixel beside; rows upward."""
    height, width = owner.shape
    for f in range(corners.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        ax, ay, bx, by, cx, cy = (
            corners[f, 0, 0], corners[f, 0, 1], corners[f, 1, 0], corners[f, 1, 1], corners[f, 2, 0], corners[f, 2, 1],
        )  # fmt: skip
        left, right = min(ax, bx, cx) - 1.5, max(ax, bx, cx) + 0.5
        low, high = min(ay, by, cy) - 1.5, max(ay, by, cy) + 0.5
        for y in range(max(0, int(np.ceil(low))), min(height - 1, int(np.floor(high))) + 1):
            for x in range(max(0, int(np.ceil(left))), min(width - 1, int(np.floor(right))) + 1):
                px, py = x + 0.5, y + 0.5
                far = 0.0
                turn = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
                u = (bx - px) * (cy - py) - (by - py) * (cx - px)
                v = (cx - px) * (ay - py) - (cy - py) * (ax - px)
                w = turn - u - v
                if turn == 0.0 or not ((u >= 0 and v >= 0 and w >= 0) or (u <= 0 and v <= 0 and w <= 0)):
                    far = min(
                        _from_line(px, py, ax, ay, bx, by), _from_line(px, py, bx, by, cx, cy),
                        _from_line(px, py, cx, cy, ax, ay),
                    )  # fmt: skip
                if far <= 1.0 and far < away[y, x]:
                    away[y, x] = far
                    owner[y, x] = f


@kernel
def _from_line(px, py, ax, ay, bx, by):
    """Squared distance of a point from a piece of line."""
    dx, dy = bx - ax, by - ay
    length = dx * dx + dy * dy
    t = 0.0
    if length > 0.0:
        t = max(0.0, min(1.0, ((px - ax) * dx + (py - ay) * dy) / length))
    ex, ey = ax + t * dx - px, ay + t * dy - py
    return ex * ex + ey * ey


@kernel
def _shares(corners, owner, x, y, out):
    """Shares of a flat triangle's corners at the middles of pixels, brought onto it where they lie beside."""
    for i in range(x.shape[0]):
        f = owner[i]
        px, py = x[i] + 0.5, y[i] + 0.5
        ax, ay = corners[f, 0, 0] - px, corners[f, 0, 1] - py
        bx, by = corners[f, 1, 0] - px, corners[f, 1, 1] - py
        cx, cy = corners[f, 2, 0] - px, corners[f, 2, 1] - py
        u, v, w = bx * cy - by * cx, cx * ay - cy * ax, ax * by - ay * bx
        whole = u + v + w
        if whole == 0.0:
            out[i, 0] = out[i, 1] = out[i, 2] = 1.0 / 3.0
            continue
        u, v, w = min(max(u / whole, 0.0), 1.0), min(max(v / whole, 0.0), 1.0), min(max(w / whole, 0.0), 1.0)
        total = u + v + w
        out[i, 0], out[i, 1], out[i, 2] = u / total, v / total, w / total


class Bake(Treatment):
    """Bring the raw scan's colours onto the part: cut into charts that lie flat side by side on a sheet, each pixel is
    looked up on the scan along the surface's normal, or where it is nearest. What was made is led over from what is
    round it, or gets a colour of its own.
    """

    name: ClassVar[str] = "bake"
    title: ClassVar[str] = "Bake the scan's colours"
    station: ClassVar[str] = "Release"
    reshapes: ClassVar[bool] = True

    onto: Literal["texture", "vertices"] = Field("texture", description="a texture of its own, or a colour a vertex")
    pixels: Literal[1024, 2048, 4096, 8192] = Field(2048, description="of the texture, along each side")
    relief: bool = Field(False, description="a normal map of the scan's finer detail too; GLB and OBJ hold it")
    made: Literal["smooth", "plain"] = Field(
        "smooth", description="what was made: led over from round it, or in a plain colour"
    )
    made_red: Annotated[int, Field(ge=0, le=255)] = Field(190, description="of that colour")
    made_green: Annotated[int, Field(ge=0, le=255)] = Field(190, description="of that colour")
    made_blue: Annotated[int, Field(ge=0, le=255)] = Field(190, description="of that colour")

    @stoppable
    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Bake.

        Raises
        ------
        BadInput
            When there is no scan or it has no colours, or the surface falls into too many charts for the texture.
        """
        raw, progress = context.raw, context.progress
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing to bake onto")
        if raw is None or not RawColours.are_there(raw):
            raise BadInput("the scan has no colours to bake; open one with colours or a texture")
        source = RawColours(raw)
        frame = np.eye(4) if context.frame is None else context.frame
        charts = None
        if self.onto == "texture":
            with progress.part(0.0, 0.2):
                charts = lay_out(mesh, self.pixels, _PADDING[self.pixels], progress)
        with progress.part(0.2, 0.4 if charts is not None else 1.0):
            colours = self._on_vertices(mesh, source, frame, context)
        bare = mesh.without_attribute("texture").without_attribute("material").without_attribute(RELIEF)
        coloured = bare.with_attribute("colour", Attribute(Domain.VERTEX, np.rint(colours).astype(np.uint8)))
        same = Account(made_triangles=0, made_mm2=0.0, gone_triangles=0, gone_mm2=0.0, shifted_triangles=0,
                       shifted_mm2=0.0, guessed_mm2=0.0)  # fmt: skip
        if charts is None:
            return Outcome(coloured, f"Baked colours onto {counted(len(mesh.vertices), 'vertex', 'vertices')}", same)
        with progress.part(0.4, 1.0):
            sheet, relief = self._sheets(mesh, charts, source, colours, frame, context)
        uv = (charts.corners / self.pixels).astype(np.float32).reshape(-1, 2)
        image = Image.fromarray(sheet[::-1])  # pictures begin at the top
        textured = coloured.with_attribute("texture", Attribute(Domain.CORNER, uv, {0: image}))
        if relief is not None:
            none = np.zeros(len(mesh.faces), dtype=np.uint8)
            textured = textured.with_attribute(
                RELIEF, Attribute(Domain.TRIANGLE, none, {0: Image.fromarray(relief[::-1])})
            )
        told = f"Baked colours{' and relief' * self.relief} onto {grouped(self.pixels)} x {grouped(self.pixels)} pixels"
        text = f"{told}, {counted(charts.count, 'chart')}, {millimetres(1 / charts.scale)} mm a pixel"
        return Outcome(textured, text, same)

    def _plain(self) -> np.ndarray:
        return np.array([self.made_red, self.made_green, self.made_blue], dtype=np.float64)

    def _on_vertices(self, mesh: Mesh, source: RawColours, frame: np.ndarray, context: Context) -> np.ndarray:
        state = context.progress.step("Looking colours up")
        edge = float(np.sqrt(2.3 * mesh.area / max(len(mesh.faces), 1)))
        normals = vertex_normals(mesh.vertices, mesh.faces).astype(np.float64)
        colours = source.at(*_in_scan(mesh.vertices, normals, frame), edge, state)
        context.progress.check()
        if self.made == "smooth":
            return filled_smoothly(mesh, colours)
        only = np.ones(len(mesh.vertices), dtype=bool)
        only[mesh.faces[mesh.provenance != MADE]] = False
        colours[only] = self._plain()
        return colours

    def _sheets(
        self, mesh: Mesh, charts: Charts, source: RawColours, colours: np.ndarray, frame: np.ndarray, context: Context
    ) -> tuple[np.ndarray, np.ndarray | None]:
        """The texture, and the relief where it is asked for, rows upward.

        Each pixel lies on a triangle or just beside one; round those is what is nearest.
        """
        progress = context.progress
        owner = np.full((self.pixels, self.pixels), -1, dtype=np.int32)
        state = progress.step("Laying triangles on the sheet")
        _cover(charts.corners, owner, np.full(owner.shape, np.inf, dtype=np.float32), state)
        progress.check()
        normals = vertex_normals(mesh.vertices, mesh.faces).astype(np.float64)
        across = slopes(mesh.vertices[mesh.faces], charts.corners[:, :, 0]) if self.relief else None
        rows, columns = np.nonzero(owner >= 0)
        sheet = np.zeros((self.pixels, self.pixels, 3), dtype=np.uint8)
        relief = np.full_like(sheet, _UPRIGHT) if self.relief else None
        state = progress.step("Looking colours up", len(rows))
        for begin in range(0, len(rows), _AT_ONCE):
            y, x = rows[begin : begin + _AT_ONCE], columns[begin : begin + _AT_ONCE]
            own = owner[y, x]
            shares = np.empty((len(own), 3))
            _shares(charts.corners, own, x, y, shares)
            found = mixed(colours, mesh.faces[own], shares)
            kinds = mesh.provenance[own]
            if self.made == "plain":
                found[kinds == MADE] = self._plain()
            for some, is_along in ((kinds == MEASURED, False), ((kinds != MEASURED) & (kinds != MADE), True)):
                at = np.flatnonzero(some)
                if len(at) == 0:
                    continue
                corners = mesh.faces[own[at]]
                places, upright = mixed(mesh.vertices, corners, shares[at]), mixed(normals, corners, shares[at])
                upright /= np.maximum(np.linalg.norm(upright, axis=1), 1e-300)[:, None]
                # what was measured lies on the scan as it is
                there, way = _in_scan(places, upright, frame)
                triangle, feet = source.find(there, way if is_along else None, 1 / charts.scale, state)
                found[at] = source.colours(triangle, feet)
                if relief is not None:
                    facing = source.normals(triangle, feet) @ frame[:3, :3].T
                    relief[y[at], x[at]] = _as_colours(facing, upright, across[own[at]])
            sheet[y, x] = np.rint(np.clip(found, 0, 255))
            state[DONE], state[TOTAL] = begin, len(rows)
            progress.check()
        nearest = ndimage.distance_transform_edt(owner < 0, return_distances=False, return_indices=True)
        progress.check()
        return sheet[nearest[0], nearest[1]], None if relief is None else relief[nearest[0], nearest[1]]


def _as_colours(facing: np.ndarray, upright: np.ndarray, across: np.ndarray) -> np.ndarray:
    """Normals as colours, in the frame of the surface: red to the right on the sheet, green up, blue outward."""
    right = across - (across * upright).sum(axis=1)[:, None] * upright
    right /= np.maximum(np.linalg.norm(right, axis=1), 1e-300)[:, None]
    parts = [(facing * way).sum(axis=1) for way in (right, np.cross(upright, right), upright)]
    own = np.stack(parts, axis=1)
    own /= np.maximum(np.linalg.norm(own, axis=1), 1e-300)[:, None]
    return np.rint(127.5 * (own + 1.0)).astype(np.uint8)


def _in_scan(places: np.ndarray, normals: np.ndarray, frame: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places and normals in the scan's own frame."""
    if np.array_equal(frame, np.eye(4)):
        return places, normals
    back = np.linalg.inv(frame)
    turned = normals @ back[:3, :3].T
    turned /= np.maximum(np.linalg.norm(turned, axis=1), 1e-300)[:, None]
    return places @ back[:3, :3].T + back[:3, 3], turned
