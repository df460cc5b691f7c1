"""Dividing triangles exactly along the wall of a cutter; what it does not meet stays to the bit."""

from typing import NamedTuple

import numpy as np
from scipy import sparse

from tinsnip.errors import BadInput
from tinsnip.mesh import Domain, Lineage, Mesh
from tinsnip.mesh.subsets import number_used
from tinsnip.progress import Progress
from tinsnip.space.delaunay import constrained_triangles
from tinsnip.treat.kit.cuts.cutters import BOX, ROUND, SNAP, Crossings, Cutter, crossings_of
from tinsnip.treat.kit.cuts.parting import FACETS, TURN, divide_triangles

__all__ = ["Division", "Pieces", "Side", "divide", "divided_at"]


class Side(NamedTuple):
    """What lies on one side of a cutter's wall.

    Attributes
    ----------
    mesh : Mesh
        The very one that was given where the wall meets nothing.
    segments : ndarray of int64, shape (N, 3)
        The cut edge: two vertices that follow each other, the inside on the left, and the flat of the wall they lie on.
    """

    mesh: Mesh
    segments: np.ndarray


class Division:
    """A mesh, divided along a cutter's wall.

    Attributes
    ----------
    mesh : Mesh
        As it was.
    cutter : Cutter
        The very body it was divided by.
    side : ndarray of int8, shape (F,)
        Of each triangle that the wall does not meet: 1 inside, 0 outside, 2 connected with neither.
    divided : int
        Triangles that the wall runs through.
    """

    def __init__(self, mesh: Mesh, cutter: Cutter, side: np.ndarray, pieces: "Pieces", crossings: Crossings) -> None:
        self.mesh, self.cutter = mesh, cutter
        self._side, self._pieces, self._crossings = side, pieces, crossings
        self.divided = len(pieces.touched)

    @property
    def meets_nothing(self) -> bool:
        """Whether the wall does not pass through the surface."""
        return self.divided == 0

    @property
    def sides(self) -> np.ndarray:
        """Of each triangle: 1 inside, 0 outside, 2 connected with neither; what is divided, as most of its parts."""
        sides, pieces = self._side.copy(), self._pieces
        votes = np.bincount(pieces.parent, weights=np.where(pieces.label, 1.0, -1.0), minlength=len(sides))
        sides[pieces.touched] = votes[pieces.touched] > 0
        return sides

    def count(self, inside: bool) -> int:
        """How many triangles lie whole on one side."""
        whole = self._side == int(inside)
        whole[self._pieces.touched] = False
        return int(np.count_nonzero(whole))

    def side(self, inside: bool, progress: Progress, with_rest: bool = True) -> Side:
        """The mesh on one side, with what is on neither or without; the cut edge is the same to the bit on both.

        Raises
        ------
        Cancelled
        """
        progress.step("Cutting")
        mesh, pieces, met = self.mesh, self._pieces, self._crossings
        whole = self._side == int(inside)
        if with_rest:
            whole |= self._side == 2
        whole[pieces.touched] = False
        if len(mesh.faces) == int(whole.sum()) + self.divided and (pieces.label == inside).all():
            # nothing lies on the other side
            return Side(mesh, np.zeros((0, 3), np.int64))
        kept = np.flatnonzero(whole).astype(np.int32)
        progress.check()
        own = pieces.label == inside
        faces = np.concatenate([mesh.faces[kept], pieces.faces[own]])
        count = len(mesh.vertices)
        number = np.full(count + met.new + len(pieces.point_face), -1, dtype=np.int32)
        number_used(faces, number)
        faces = number[faces]
        old = np.flatnonzero(number[:count] >= 0).astype(np.int32)
        progress.check()
        blends = self._blends()[number[count:] >= 0]
        parent = np.concatenate([kept, pieces.parent[own]])
        lineage = Lineage(old, parent, blends)
        if any(a.domain is Domain.CORNER for a in mesh.attributes.values()):
            lineage = Lineage(old, parent, blends, *_corner_values(parent, len(kept), pieces.weights[own]))
        derived = mesh.derive(faces, lineage)
        segments = pieces.segments.copy()
        segments[:, :2] = number[segments[:, :2]]
        return Side(derived, segments[(segments[:, :2] >= 0).all(axis=1)])

    def _blends(self) -> sparse.csr_matrix:
        """What each new vertex is mixed from: those on edges, then those within triangles."""
        mesh, pieces, met = self.mesh, self._pieces, self._crossings
        fresh = met.node >= len(mesh.vertices)
        two = np.column_stack([1 - met.share[fresh], met.share[fresh]])
        u, v = pieces.point_uv.T
        three = np.column_stack([1 - u - v, u, v])
        weights = np.concatenate([two.ravel(), three.ravel()])
        columns = np.concatenate([met.ends[fresh].ravel(), mesh.faces[pieces.point_face].ravel()])
        start = np.concatenate([2 * np.arange(len(two)), 2 * len(two) + 3 * np.arange(len(three) + 1)])
        return sparse.csr_matrix((weights, columns, start), shape=(len(two) + len(three), len(mesh.vertices)))


def _corner_values(parent: np.ndarray, whole: int, weights: np.ndarray) -> tuple:
    """Of each corner: the old corner it begins from, and how far it leans towards the two others of its triangle."""
    first = 3 * parent.astype(np.int64)
    corners = np.repeat(first, 3)
    corners[: 3 * whole] += np.tile(np.arange(3), whole)
    second, third = corners.copy(), corners.copy()
    second[3 * whole :] += 1
    third[3 * whole :] += 2
    u, v = weights.reshape(-1, 2).T
    lean = np.zeros((2, len(corners)))
    lean[0, 3 * whole :] = np.where(v < 1, u / np.where(v < 1, 1 - v, 1.0), 0.0)
    lean[1, 3 * whole :] = v
    return corners, ((second, lean[0]), (third, lean[1]))


class Pieces(NamedTuple):
    """What the triangles that the wall meets were divided into; vertices from V on are new ones.

    Attributes
    ----------
    touched : ndarray of int64
        These triangles.
    faces : ndarray of int32, shape (N, 3)
    parent : ndarray of int32, shape (N,)
    label : ndarray of bool, shape (N,)
        Inside.
    weights : ndarray, shape (N, 3, 2)
        Shares of the parent's second and third corner in each corner.
    point_face : ndarray of int32, shape (P,)
    point_uv : ndarray, shape (P, 2)
        New vertices within triangles.
    segments : ndarray of int64, shape (S, 3)
        As in `Side`.
    """

    touched: np.ndarray
    faces: np.ndarray
    parent: np.ndarray
    label: np.ndarray
    weights: np.ndarray
    point_face: np.ndarray
    point_uv: np.ndarray
    segments: np.ndarray


def divide(mesh: Mesh, cutter: Cutter, progress: Progress) -> Division:
    """Divide a mesh along a cutter's wall.

    Parameters
    ----------
    mesh : Mesh
    cutter : Cutter
    progress : Progress

    Returns
    -------
    Division

    Raises
    ------
    BadInput
        When the wall passes the mesh in a way that cannot be told apart in floating point.
    Cancelled
    """
    cutter, own, inside, met = crossings_of(mesh, cutter, progress)
    pieces = divided_at(mesh, cutter, own, inside, met, np.zeros(1, dtype=np.int64), progress)
    if pieces is None:
        raise BadInput("the cut passes too close along an edge of the mesh; move it a little")
    return Division(mesh, cutter, inside[mesh.faces[:, 0]].astype(np.int8), pieces, met)


def divided_at(
    mesh: Mesh,
    cutter: Cutter,
    own: np.ndarray,
    inside: np.ndarray,
    met: Crossings,
    between: np.ndarray,
    progress: Progress,
) -> Pieces | None:
    """What the triangles that a wall meets are divided into; None where its ways do not fit together.

    Parameters
    ----------
    mesh : Mesh
    cutter : Cutter
    own, inside, met
        As `crossings_of` gives them.
    between : ndarray of int64, shape (N + 1,)
        Of a traced line: which of its corners lie between a crossing and the next.
    progress : Progress
    """
    touched = np.flatnonzero((met.count.reshape(-1, 3) > 0).any(axis=1))
    progress.check()
    base = len(mesh.vertices) + met.new
    snap = SNAP * max(mesh.diagonal, 1e-300)
    wall = cutter.kind, cutter.size, cutter.corners, between
    crossings = met.first, met.count, met.share, met.key, met.enters, met.node
    scratch, room = 512 + 4 * len(cutter.corners), 8 * len(touched)
    while True:
        scratch, room = 2 * scratch, room + 32 * scratch
        made = np.empty((room, 3), np.int32), np.empty(room, np.int32), np.empty(room, np.int8), np.empty((room, 3, 2))
        inner = np.empty(room, np.int32), np.empty((room, 2))
        rows = np.empty((room, 3), np.int64)
        n, points, segments = divide_triangles(
            wall, mesh.faces, own, touched, inside, crossings, snap, base, scratch, made, inner, rows
        )
        if n == -2:
            return None
        if n >= 0:
            break
        room *= 2
    progress.check()
    (faces, parent, label, weights), (point_face, point_uv) = made, inner
    pieces = Pieces(
        touched, faces[:n], parent[:n], label[:n] == 1, weights[:n], point_face[:points], point_uv[:points],
        rows[:segments],
    )  # fmt: skip
    for f in met.around:
        pieces = _with_ring(mesh, own, cutter, int(f), base, pieces)
    return pieces


def _with_ring(mesh: Mesh, own: np.ndarray, cutter: Cutter, f: int, base: int, pieces: Pieces) -> Pieces:
    """Divide a triangle within which the wall runs round whole."""
    corners = own[mesh.faces[f]]
    uv, flats = _ring_in(cutter, corners)
    if len(uv) < 3:
        return pieces
    area = 0.5 * float((uv[:, 0] * np.roll(uv[:, 1], -1) - uv[:, 1] * np.roll(uv[:, 0], -1)).sum())
    n = len(uv)
    if area < 0:
        uv, flats = uv[::-1], np.roll(flats[::-1], -1)
    ring = np.column_stack([np.arange(n), np.roll(np.arange(n), -1)])
    inner = constrained_triangles(uv, ring)
    both = np.concatenate([uv, [[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]])
    outer = constrained_triangles(both, np.concatenate([ring, [[n, n + 1], [n + 1, n + 2], [n + 2, n]]]))
    if inner is None or outer is None:
        raise BadInput("the cut meets a triangle of the mesh in too small a place; move it a little")
    at = base + len(pieces.point_face)
    ids = np.concatenate([at + np.arange(n), mesh.faces[f]])
    fresh = np.concatenate([inner, outer])
    return pieces._replace(
        touched=np.append(pieces.touched, f),
        faces=np.concatenate([pieces.faces, ids[fresh].astype(np.int32)]),
        parent=np.concatenate([pieces.parent, np.full(len(fresh), f, dtype=np.int32)]),
        label=np.concatenate([pieces.label, np.repeat([True, False], [len(inner), len(outer)])]),
        weights=np.concatenate([pieces.weights, both[fresh]]),
        point_face=np.concatenate([pieces.point_face, np.full(n, f, dtype=np.int32)]),
        point_uv=np.concatenate([pieces.point_uv, uv]),
        segments=np.concatenate([pieces.segments, np.column_stack([at + ring, flats])]),
    )


def _ring_in(cutter: Cutter, corners: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The wall round whole within a triangle: shares of its corners, and the flat after each."""
    if cutter.kind == BOX:
        points = _clipped_to_box(corners, cutter.size)
        edges = corners[1:] - corners[0]
        uv = np.linalg.lstsq(edges.T, (points - corners[0]).T, rcond=None)[0].T
        sides = [
            {2 * k + int(p[k] > 0) for k in range(3) if abs(abs(p[k]) - cutter.size[k]) < 1e-9 * cutter.size.max()}
            for p in points
        ]
        flats = [next(iter(a & b), -1) for a, b in zip(sides, sides[1:] + sides[:1], strict=True)]
        return uv, np.array(flats, dtype=np.int64)
    if cutter.kind == ROUND:
        angle = TURN * np.arange(FACETS)
        places = cutter.size[0] * np.column_stack([np.cos(angle), np.sin(angle)])
    else:
        places = cutter.corners
    edges = (corners[1:] - corners[0])[:, :2]
    uv = np.linalg.solve(edges.T, (places - corners[0, :2]).T).T
    return uv, np.arange(len(uv))


def _clipped_to_box(corners: np.ndarray, size: np.ndarray) -> np.ndarray:
    """What of a triangle lies within a box, as a polygon, shape (N, 3) (Sutherland and Hodgman 1974)."""
    polygon = list(corners)
    for k in range(3):
        for sign in (1.0, -1.0):
            out = []
            for p, q in zip(polygon, polygon[1:] + polygon[:1], strict=True):
                hp, hq = size[k] - sign * p[k], size[k] - sign * q[k]
                if hp >= 0:
                    out.append(p)
                if hp * hq < 0:
                    r = p + hp / (hp - hq) * (q - p)
                    r[k] = sign * size[k]
                    out.append(r)
            polygon = out
    return np.array(polygon).reshape(-1, 3)
