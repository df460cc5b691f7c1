"""Stretch: what lies between two places on one open edge is closed, or cut away."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components, dijkstra

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors, triangle_areas
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.singles import as_files_hold
from tinsnip.treat.account import Account
from tinsnip.treat.kit.edges.edgeplaces import arc_between, place_on_edge
from tinsnip.treat.kit.edges.fans import split_fans
from tinsnip.treat.kit.patches.clearance import what_new_triangles_cross
from tinsnip.treat.kit.patches.filling import add_triangles, fill_loop
from tinsnip.treat.kit.patches.refining import refine_patch
from tinsnip.treat.kit.patches.shaping import heights_over, laid_over_plane
from tinsnip.treat.kit.patches.surroundings import rows_round
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Stretch"]

_MOST_SHARE = 0.25
"""A tooth has no more of its shell's area than this."""
_ROWS = 6
"""Rows round the edge that tell its plane."""


class Stretch(Treatment):
    """Close a notch between two places on an open edge, or cut a tooth away there."""

    name: ClassVar[str] = "stretch"
    title: ClassVar[str] = "Close or cut a stretch of an edge"
    takes_what_was_asked: ClassVar[bool] = True
    named_points: ClassVar[tuple[str, ...]] = ("start", "end")

    start: tuple[float, float, float] = Field((0.0, 0.0, 0.0), description="a place at an open edge, mm")
    end: tuple[float, float, float] = Field((0.0, 0.0, 0.0), description="another place at the same edge, mm")
    how: Literal["close", "cut"] = Field("close", description="close what lies between them, or cut it")
    flow: float = Field(1.0, ge=0, le=1, description="shape of what closes it: 0 taut, 1 flowing")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Close or cut what lies between the two places, the shorter way along the edge.

        Raises
        ------
        BadInput
            When the places are not on one edge, or there is nothing between them that can be closed or cut.
        """
        context.progress.step("Closing the notch" if self.how == "close" else "Cutting the tooth")
        if self.how == "cut":
            goes = self.tooth(mesh)
            area = float(triangle_areas(mesh.vertices, mesh.faces[goes]).sum())
            left = keep_triangles(mesh, np.delete(np.arange(len(mesh.faces)), goes))
            left = split_fans(left, left.twins)[0]
            account = Account(gone_triangles=len(goes), gone_mm2=area)
            return Outcome(left, f"Cut a tooth of {counted(len(goes), 'triangle')}", account)
        return self._closed(mesh, *self._between(mesh), context)

    def _between(self, mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
        """The open half-edges between the two places, and the vertices along them."""
        if mesh.edges.flipped or mesh.edges.tangled:
            raise BadInput("tangled or flipped edges leave no clear edge; mend and orient first")
        half = arc_between(mesh, place_on_edge(mesh, self.start), place_on_edge(mesh, self.end))
        corner = mesh.faces.ravel()
        arc = np.append(corner[half], corner[half[-1] - half[-1] % 3 + (half[-1] + 1) % 3])
        if len(arc) < 3:
            raise BadInput("only one edge lies between the two places; choose them further apart")
        return half, arc

    def _closed(self, mesh: Mesh, half: np.ndarray, arc: np.ndarray, context: Context) -> Outcome:
        vertices = mesh.vertices
        edges = np.linalg.norm(np.diff(vertices[arc], axis=0), axis=1)
        edge, base = float(edges.mean()), len(vertices)
        steps = max(1, round(float(np.linalg.norm(vertices[arc[-1]] - vertices[arc[0]])) / edge))
        share = (np.arange(1, steps) / steps)[:, None]
        chord = (1 - share) * vertices[arc[0]] + share * vertices[arc[-1]]
        points = np.concatenate([vertices[arc[::-1]], chord])  # against the open half-edges, and straight back
        sigma = np.full(len(points), edge)
        normals = face_vectors(vertices, mesh.faces[half // 3])
        normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
        state = context.progress.state
        laid = laid_over_plane(points, normals, sigma, False, state)
        if laid is not None:
            around = vertices[rows_round(mesh, [arc], _ROWS)[0]]
            heights = heights_over(laid, points, around, self.flow, False, 0.0)
            inner = (laid.middle + laid.flat @ laid.axes[:2] + heights[:, None] * laid.axes[2])[len(points) :]
            triangles = laid.triangles
        else:
            filled, triangles = refine_patch(points, fill_loop(points), sigma, state)
            inner = filled[len(points) :]
        fresh = as_files_hold(np.concatenate([chord, inner]), mesh.diagonal)
        number = np.concatenate([arc[::-1], base + np.arange(len(fresh))])
        made = add_triangles(mesh, number[triangles], fresh)
        crossed = what_new_triangles_cross(mesh, made)
        added = len(made.faces) - len(mesh.faces)
        account = Account(made_triangles=added, crossings=crossed.fresh)
        return Outcome(made, f"Closed a notch with {counted(added, 'triangle')}{crossed.said()}", account)

    def tooth(self, mesh: Mesh) -> np.ndarray:
        """The triangles of the tooth between the two places, by their numbers.

        Parameters
        ----------
        mesh : Mesh

        Raises
        ------
        BadInput
            As `apply`.
        """
        half, arc = self._between(mesh)
        label = mesh.shells.label
        own = np.flatnonzero(label == label[half[0] // 3])
        # a tooth reaches no farther from its outline than half of that: first it is looked for among what lies near
        length = float(np.linalg.norm(np.diff(mesh.vertices[arc], axis=0), axis=1).sum())
        points, first = mesh.vertices[arc], mesh.vertices[mesh.faces[own, 0]]
        near = ((first > points.min(axis=0) - length) & (first < points.max(axis=0) + length)).all(axis=1)
        goes = _behind(mesh, half, arc, own[near])
        beside = mesh.twins[3 * goes[:, None] + np.arange(3)].ravel() // 3 if goes is not None else own
        is_near = np.zeros(len(mesh.faces), dtype=bool)
        is_near[own[near]] = True
        if goes is None or not is_near[beside[beside >= 0]].all():
            goes = _behind(mesh, half, arc, own)
        if goes is None:
            raise BadInput("no way over the surface leads from one place to the other behind the tooth")
        area = float(triangle_areas(mesh.vertices, mesh.faces[goes]).sum())
        if area > _MOST_SHARE * mesh.shells.area[label[half[0] // 3]]:
            raise BadInput("what lies between the two places is too much of the part for a tooth; snip it instead")
        return goes


def _behind(mesh: Mesh, half: np.ndarray, arc: np.ndarray, own: np.ndarray) -> np.ndarray | None:
    """What the shortest way among some triangles parts from the rest, along with open half-edges; None: no way."""
    faces = mesh.faces
    # from end to end over edges, but not along the edge between them
    ends = np.concatenate([faces[own][:, [k, (k + 1) % 3]] for k in range(3)])
    ends = ends[~np.isin(ends, arc[1:-1]).any(axis=1)]
    used, local = np.unique(np.append(ends.ravel(), arc[[0, -1]]), return_inverse=True)
    local, (a, b) = local[:-2].reshape(-1, 2), local[-2:]
    length = np.linalg.norm(mesh.vertices[used[local[:, 0]]] - mesh.vertices[used[local[:, 1]]], axis=1)
    graph = coo_matrix((length, local.T), shape=(len(used), len(used))).tocsr()
    limit = 2 * float(np.linalg.norm(np.diff(mesh.vertices[arc], axis=0), axis=1).sum())
    far, before = dijkstra(graph, directed=False, indices=a, return_predecessors=True, limit=limit)
    if not np.isfinite(far[b]):
        return None
    path = [b]
    while path[-1] != a:
        path.append(int(before[path[-1]]))
    path = used[np.array(path)]
    count = np.int64(len(mesh.vertices))
    wall = np.minimum(path[1:], path[:-1]) * count + np.maximum(path[1:], path[:-1])
    corner = faces.ravel()
    sides = (3 * own[:, None] + np.arange(3)).ravel()
    u, w = corner[sides].astype(np.int64), corner[sides - sides % 3 + (sides + 1) % 3].astype(np.int64)
    free = (mesh.twins[sides] >= 0) & ~np.isin(np.minimum(u, w) * count + np.maximum(u, w), wall)
    place = np.full(len(faces) + 1, -1, dtype=np.int64)
    place[own] = np.arange(len(own))
    one, other = place[sides[free] // 3], place[mesh.twins[sides[free]] // 3]
    is_own = other >= 0
    joined = coo_matrix((np.ones(int(is_own.sum())), (one[is_own], other[is_own])), shape=(len(own), len(own)))
    _, part = connected_components(joined, directed=False)
    return own[np.isin(part, np.unique(part[place[half // 3]]))]
