"""Strip: a band of triangles from one open edge to another, or across a hole."""

from typing import ClassVar

import numpy as np
from pydantic import Field
from scipy import sparse
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.space.singles import as_files_hold
from tinsnip.treat.account import Account
from tinsnip.treat.kit.edges.edgeplaces import EdgePlace, arc_round, place_on_edge
from tinsnip.treat.kit.patches.clearance import what_new_triangles_cross
from tinsnip.treat.kit.patches.filling import add_triangles, fill_loop
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Strip"]

_EDGES = 5
"""Mean edges of a strip's width where none is given."""
_MOST = 20_000
"""Triangles of one strip."""


class Strip(Treatment):
    """Lay a band of triangles between two places on open edges; it goes on in the slope of both sides.

    Within one hole it divides this in two; between two edges it bridges them. Its triangles are as large as those at
    its ends (cubic Hermite curves from edge to edge).
    """

    name: ClassVar[str] = "strip"
    title: ClassVar[str] = "Lay a strip"
    named_points: ClassVar[tuple[str, ...]] = ("start", "end")

    start: tuple[float, float, float] = Field((0.0, 0.0, 0.0), description="a place at an open edge, mm")
    end: tuple[float, float, float] = Field((0.0, 0.0, 0.0), description="a place at the same open edge or another, mm")
    width_mm: float | None = Field(None, gt=0, description="how wide; by default five edges of the triangles there")
    flow: float = Field(1.0, ge=0, le=1, description="0 straight across, 1 going on in the slope of both sides")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Lay the strip.

        Raises
        ------
        BadInput
            When there is no room for it at the edges, or these are tangled.
        """
        context.progress.step("Laying a strip")
        if mesh.edges.flipped or mesh.edges.tangled:
            raise BadInput("tangled or flipped edges leave a strip without a clear edge; mend and orient first")
        places = place_on_edge(mesh, self.start), place_on_edge(mesh, self.end)
        loops = mesh.loops
        lengths = [self._edge_near(mesh, place) for place in places]
        edge = 0.5 * sum(lengths)
        width = _EDGES * edge if self.width_mm is None else self.width_mm
        sizes = [len(loops.loop(place.loop)) for place in places]
        apart = (places[1].number - places[0].number) % sizes[0]
        room = min(sizes) - 2
        if places[0].loop == places[1].loop:
            room = min(room, min(apart, sizes[0] - apart) - 1)
        if room < 1:
            raise BadInput("the strip's two ends are too close to each other on one edge; choose them further apart")
        arcs = [self._arc(mesh, place, width, room) for place in places]
        columns = max(1, round(0.5 * sum(float(np.linalg.norm(p[-1] - p[0])) for _, p, _ in arcs) / edge))
        lines = [self._base(points, way, columns, edge) for _, points, way in arcs]
        begin, stop = lines[0], lines[1][::-1]  # the edges run past each other
        across = np.linalg.norm(stop - begin, axis=1)
        rows = max(1, round(float(np.median(across)) / edge))
        if rows * (columns + 1) > _MOST:
            raise BadInput(f"the strip would take {rows * (columns + 1)} vertices; make it narrower or shorter")
        context.progress.check()
        share = (np.arange(rows + 1) / rows)[:, None]
        fresh = self._curves(begin, stop, [way for _, _, way in arcs], across, share).reshape(-1, 3)
        fresh = as_files_hold(fresh, mesh.diagonal)
        base = len(mesh.vertices)
        grid = base + np.arange(len(fresh)).reshape(rows + 1, columns + 1)
        a, b, c, d = grid[:-1, :-1], grid[:-1, 1:], grid[1:, :-1], grid[1:, 1:]
        triangles = [np.stack([b, a, c], -1).reshape(-1, 3), np.stack([b, c, d], -1).reshape(-1, 3)]
        for (arc, points, _), line in zip(arcs, (grid[0], grid[-1][::-1]), strict=True):
            ring = np.concatenate([arc[::-1], line])
            triangles.append(ring[fill_loop(np.concatenate([points[::-1], fresh[line - base]]))])
        triangles = np.concatenate(triangles)
        near = [cKDTree(points).query(line)[1] for (_, points, _), line in zip(arcs, lines, strict=True)]
        begin, stop = arcs[0][0][near[0]], arcs[1][0][near[1]][::-1]
        made = add_triangles(mesh, triangles, fresh, self._blends(base, begin, stop, share))
        crossed = what_new_triangles_cross(mesh, made)
        area = float(np.linalg.norm(face_vectors(made.vertices, made.faces[len(mesh.faces) :]), axis=1).sum()) / 2
        added = len(made.faces) - len(mesh.faces)
        what = "divides a hole" if places[0].loop == places[1].loop else "bridges two edges"
        text = f"Laid a strip of {counted(added, 'triangle')} that {what}{crossed.said()}"
        return Outcome(made, text, Account(made_triangles=added, made_mm2=area, crossings=crossed.fresh))

    def _curves(
        self, begin: np.ndarray, stop: np.ndarray, ways: list[np.ndarray], across: np.ndarray, share: np.ndarray
    ) -> np.ndarray:
        """Places between the two ends, row by row, shape (rows - 1, edges + 1, 3)."""
        t = share[:, :, None]
        lean = self.flow * across[None, :, None]
        straight = (1 + 2 * t) * (1 - t) ** 2 * begin + t**2 * (3 - 2 * t) * stop
        return straight + t * (1 - t) ** 2 * lean * ways[0] + t**2 * (1 - t) * lean * ways[1]

    @staticmethod
    def _arc(mesh: Mesh, place: EdgePlace, width: float, room: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The vertices of an edge round a place that are so far apart at its ends, their points, and the way on."""
        corner = mesh.faces.ravel()
        for edges in range(1, room + 1):
            half = arc_round(mesh, place, edges)
            arc = np.append(corner[half], corner[half[-1] - half[-1] % 3 + (half[-1] + 1) % 3])
            points = mesh.vertices[arc]
            if float(np.linalg.norm(points[-1] - points[0])) >= width:
                break
        # the way on stands upright on the line between the arc's ends, in the surface there
        along = points[-1] - points[0]
        way = np.cross(along, face_vectors(mesh.vertices, mesh.faces[half // 3]).sum(axis=0))
        return arc, points, way / max(float(np.linalg.norm(way)), 1e-300)

    @staticmethod
    def _base(points: np.ndarray, way: np.ndarray, columns: int, edge: float) -> np.ndarray:
        """Where the band proper begins: a line that bends as the edge does, just past all its teeth."""
        along = points[-1] - points[0]
        part = (points - points[0]) @ along / max(float(along @ along), 1e-300)
        degree = 2 if len(points) > 4 else 1
        bend = np.polynomial.polynomial.polyfit(part, points, degree)
        past = float(((points - np.polynomial.polynomial.polyval(part, bend).T) @ way).max())
        line = np.polynomial.polynomial.polyval(np.arange(columns + 1) / columns, bend).T
        return line + (max(past, 0.0) + 0.7 * edge) * way

    @staticmethod
    def _blends(count: int, begin: np.ndarray, stop: np.ndarray, share: np.ndarray) -> sparse.csr_matrix:
        rows, wide = len(share), len(begin)
        number = np.arange(rows * wide)
        weights = np.concatenate([np.repeat(1 - share, wide), np.repeat(share, wide)])
        places = np.concatenate([np.tile(begin, rows), np.tile(stop, rows)])
        return sparse.csr_matrix((weights, (np.tile(number, 2), places)), shape=(rows * wide, count))

    @staticmethod
    def _edge_near(mesh: Mesh, place: EdgePlace) -> float:
        """Mean length of the edges round a place, mm."""
        half = arc_round(mesh, place, min(10, len(mesh.loops.loop(place.loop))))
        faces = mesh.vertices[mesh.faces[half // 3]]
        return float(np.linalg.norm(np.roll(faces, -1, axis=1) - faces, axis=2).mean())
