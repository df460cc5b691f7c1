"""A surface under a brush: its vertices move a few at a time, its triangles stay as they are."""

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from tinsnip.mesh import MEASURED, SHIFTED, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.mesh.remembered import remember
from tinsnip.progress import polled_here
from tinsnip.space.refit import leaves_of, own_copy, refit
from tinsnip.space.rigid import moved_points
from tinsnip.space.tree import closest_points, triangles_in_boxes

__all__ = ["Working"]


def _once(values: np.ndarray) -> np.ndarray:
    """The values there are, each once, ascending; a sort is faster than a table for some thousands."""
    values = np.sort(values, axis=None)
    return values[np.concatenate([[True], values[1:] != values[:-1]])] if len(values) else values


class Working:
    """A copy of a mesh's vertices that may be written to, with a tree that stays true.

    Everything it is asked costs what lies under the brush, not what the mesh has.

    Parameters
    ----------
    mesh : Mesh
        With one triangle at least; it stays as it is.
    """

    def __init__(self, mesh: Mesh) -> None:
        self.before = mesh
        self.vertices = mesh.vertices.copy()
        self.tree = own_copy(mesh.tree, self.vertices)
        self.touched: list[np.ndarray] = []
        """The triangles that `move` made others, one array a call, for whoever draws them to take away."""
        self.pinned = np.zeros(len(self.vertices), dtype=bool)
        """Vertices that no brush moves."""
        self.came_by: np.ndarray | None = None
        """The place that the brush came by last."""
        self.grabbed: tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray] | None = None
        """What follows the pointer: vertices, where they were, how much each follows, and where the pointer was."""
        self.likeness: np.ndarray | None = None
        """How much a brush that goes by colour reaches each vertex, 0 to 1."""
        self._aside: tuple = None, None, None
        self._towards: tuple[Mesh, np.ndarray] | None = None
        self._leaves = leaves_of(mesh.tree)
        self._flags = np.zeros(len(self.vertices), dtype=bool)
        self._moved = np.zeros(len(self.vertices), dtype=bool)

    def within(self, point: np.ndarray, radius: float) -> np.ndarray:
        """The vertices that hang together, within a ball, with the triangle closest to its middle.

        Nothing of another shell or of the far side of a wall is among them, however near it lies.

        Parameters
        ----------
        point : ndarray, shape (3,)
            mm.
        radius : float
            mm.

        Returns
        -------
        ndarray of int32, shape (K,)
            Ascending.
        """
        point = np.asarray(point, dtype=np.float64)
        faces = self.before.faces
        here = self._triangles_within(point - radius, point + radius)
        if len(here) == 0:
            return np.zeros(0, dtype=np.int32)
        own = _once(faces[here])
        inside = np.linalg.norm(self.vertices[own] - point, axis=1) <= radius
        corners = np.searchsorted(own, faces[here])
        nearest = int(closest_points(self.tree, point[None], polled_here())[1][0])
        seeds = np.searchsorted(own, faces[nearest])
        seeds = seeds[(seeds < len(own)) & (own[np.minimum(seeds, len(own) - 1)] == faces[nearest])]
        a, b = corners[:, [0, 1, 2]].ravel(), corners[:, [1, 2, 0]].ravel()
        joins = inside[a] & inside[b]
        links = coo_array((np.ones(joins.sum(), dtype=np.int8), (a[joins], b[joins])), shape=(len(own), len(own)))
        label = connected_components(links, directed=False)[1]
        return own[inside & np.isin(label, label[seeds[inside[seeds]]])].astype(np.int32)

    def triangles_at(self, vertices: np.ndarray) -> np.ndarray:
        """The triangles that have one of some vertices as a corner, int32, shape (T,), ascending."""
        places = self.vertices[vertices]
        return self._with_corners(vertices, places.min(axis=0), places.max(axis=0)) if len(vertices) else vertices

    def normals_at(self, vertices: np.ndarray) -> np.ndarray:
        """Area-weighted unit normals at some vertices, float32, shape (K, 3); to the bit as for all of the mesh."""
        round_them = self.before.faces[self.triangles_at(vertices)]
        own = _once(round_them)
        normals = vertex_normals(self.vertices[own], np.searchsorted(own, round_them).astype(np.int32))
        out = np.zeros((len(vertices), 3), dtype=np.float32)
        places = np.searchsorted(own, vertices)
        known = (places < len(own)) & (own[np.minimum(places, max(len(own) - 1, 0))] == vertices)
        out[known] = normals[places[known]]
        return out

    def move(self, vertices: np.ndarray, places: np.ndarray) -> np.ndarray:
        """Move vertices.

        Parameters
        ----------
        vertices : ndarray of int, shape (K,)
        places : ndarray, shape (K, 3)
            mm.

        Returns
        -------
        ndarray of int32, shape (T,)
            The triangles that are others by it.
        """
        touched = self.triangles_at(vertices)
        self.touched.append(touched)
        self.vertices[vertices] = places
        self._moved[vertices] = True
        refit(self.tree, self._leaves[touched])
        return touched

    def change_sides(self) -> None:
        """Go on with what is known of the stroke's mirrored side, and the next time with that of its own again."""
        now = self.came_by, self.grabbed, self.likeness
        self.came_by, self.grabbed, self.likeness = self._aside
        self._aside = now

    def go_towards(self, raw: Mesh, frame: np.ndarray) -> None:
        """Let `goals` lie on a surface that a 4x4 matrix has moved."""
        self._towards = raw, frame

    def goals(self, points: np.ndarray) -> np.ndarray:
        """The places of the surface gone towards that are next to points, mm, shape (K, 3)."""
        raw, frame = self._towards
        here = np.ascontiguousarray(moved_points(np.linalg.inv(frame), points))
        feet = np.empty_like(here)
        closest_points(raw.tree, here, polled_here(), feet)
        return moved_points(frame, feet)

    def finished(self) -> Mesh:
        """The mesh as it is now, which it is the end of: nothing moves any more. The very one, if nothing did.

        Triangles that were measured and moved are marked as shifted.
        """
        before = self.before
        some = np.flatnonzero(self._moved)
        self._moved[some] = (self.vertices[some] != before.vertices[some]).any(axis=1)  # some only came by
        if not self._moved.any():
            return before
        touched = self.triangles_at(np.flatnonzero(self._moved))
        provenance = before.provenance.copy()
        provenance[touched[before.provenance[touched] == MEASURED]] = SHIFTED
        mesh = before.moved(self.vertices, provenance)
        self.tree.boxes.setflags(write=False)
        remember(mesh, Mesh.tree, self.tree)
        some = np.flatnonzero(self._moved)
        was, now, (low, high) = before.vertices[some], self.vertices[some], before.box
        if (was > low).all() and (was < high).all():  # what the box ends at stays
            remember(mesh, Mesh.box, np.stack([np.minimum(low, now.min(axis=0)), np.maximum(high, now.max(axis=0))]))
        return mesh

    def farthest(self) -> float:
        """How far any vertex has moved at most, mm."""
        some = np.flatnonzero(self._moved)
        steps = self.vertices[some] - self.before.vertices[some]
        return float(np.sqrt((steps**2).sum(axis=1).max(initial=0.0)))

    def _with_corners(self, vertices: np.ndarray, low: np.ndarray, high: np.ndarray) -> np.ndarray:
        here = self._triangles_within(low, high)
        self._flags[vertices] = True
        found = here[self._flags[self.before.faces[here]].any(axis=1)]
        self._flags[vertices] = False
        return found

    def _triangles_within(self, low: np.ndarray, high: np.ndarray) -> np.ndarray:
        return np.sort(triangles_in_boxes(self.tree, low[None], high[None], polled_here())[:, 1])
