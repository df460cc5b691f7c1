"""Working on the line of an open edge: a band of triangles along it that can be changed one by one."""

from collections.abc import Iterable

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["Band", "next_row"]

_TURN = 58.0
"""Turns of the line sharper than this are dealt with, degrees; a little less than is promised."""
_SPIKE = np.cos(np.radians(_TURN))
_SMOOTH = np.cos(np.radians(22.0))
"""Turns of the line up to this are those of a smooth course."""
_RUN, _SHORT_RUN = 6, 2
"""Vertices on either side of a corner at which the line has to run smoothly, or turn on the same way; and so many where
a line has few sharp turns altogether."""
_FEW_TURNS = 8
"""Sharp turns up to which an edge is evened over a short run, that shape is kept."""


class Band:
    """Triangles along open edges.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int, shape (F, 3)
    stays : ndarray of bool, shape (V,)
        Vertices that must neither move nor lose a triangle to others.
    lines : ndarray of bool, shape (V,)
        Vertices on the open edges that are worked on.
    others : ndarray of bool, shape (V,)
        Vertices on other open edges; where these run into the line, they are worked on with it.
    """

    def __init__(
        self, vertices: np.ndarray, faces: np.ndarray, stays: np.ndarray, lines: np.ndarray, others: np.ndarray
    ) -> None:
        self.places = vertices.copy()
        self.came_from = list(range(len(vertices)))
        self.stays: list[bool] = stays.tolist()
        self._lines: list[bool] = lines.tolist()
        self._others: set[int] = set(np.flatnonzero(others & ~lines).tolist())
        self.is_barred = False
        """Whether another open edge runs into the line where it must not be changed."""
        self.faces: dict[int, tuple[int, int, int]] = dict(enumerate(map(tuple, faces.tolist())))
        self.parent: dict[int, int] = {i: i for i in self.faces}
        self._next = len(self.faces)
        starts, ends = faces.ravel().tolist(), np.roll(faces, -1, axis=1).ravel().tolist()
        owners = np.repeat(np.arange(len(faces)), 3).tolist()
        self.at: dict[int, set[int]] = {v: set() for v in starts}
        for v, f in zip(starts, owners, strict=True):
            self.at[v].add(f)
        pairs = list(zip(starts, ends, strict=True))
        self.half: dict[tuple[int, int], int] = dict(zip(pairs, owners, strict=True))
        met = self.half.keys() & set(zip(ends, starts, strict=True))
        self.open: dict[tuple[int, int], None] = dict.fromkeys(pair for pair in pairs if pair not in met)
        """Half-edges without one that runs against them, in the order in which they came to be so."""
        self.spikes = self.notches = self.pinches = self.short = 0
        self.corners: set[int] = set()
        """Vertices at which two smooth runs of the line meet; they stay where they are."""

    def _note(self, f: int, corners: tuple[int, int, int]) -> None:
        for k in range(3):
            self.at.setdefault(corners[k], set()).add(f)
            a, b = corners[k], corners[(k + 1) % 3]
            self.half[a, b] = f
            if (b, a) in self.half:
                self.open.pop((b, a), None)
            else:
                self.open[a, b] = None

    def _drop(self, f: int) -> None:
        corners = self.faces.pop(f)
        for k in range(3):
            self.at[corners[k]].discard(f)
            a, b = corners[k], corners[(k + 1) % 3]
            if self.half.get((a, b)) == f:
                del self.half[a, b]
                self.open.pop((a, b), None)
                if (b, a) in self.half:
                    self.open[b, a] = None

    def _add(self, corners: tuple[int, int, int], parent: int) -> None:
        self.faces[self._next] = corners
        self.parent[self._next] = parent
        self._note(self._next, corners)
        self._next += 1

    def following(self) -> dict[int, int]:
        """Along the open edges: the vertex after each, in the direction of the half-edges."""
        lines = self._lines
        return {a: b for a, b in self.open if lines[a] and lines[b]}

    # ---- pinches

    def split_pinches(self) -> None:
        """Let each fan of triangles at a vertex of the line have a vertex of its own."""
        self._spread()
        starts: dict[int, int] = {}
        for a, _ in self.open:
            starts[a] = starts.get(a, 0) + 1
        for v, count in starts.items():
            if count < 2 or not self._lines[v]:
                continue
            left = set(self.at[v])
            first = True
            while left:
                fan = self._fan(v, next(iter(left)))
                left -= fan
                if not first:
                    self._give_own(v, fan)
                    self.pinches += 1
                first = False

    def _spread(self) -> None:
        """Take in what of other open edges runs into the line."""
        reached = bool(self._others)
        while reached:
            reached = False
            for a, b in self.open:
                for on, beside in ((a, b), (b, a)):
                    if beside in self._others and self._lines[on]:
                        self._others.discard(beside)
                        if self.stays[beside]:
                            self.is_barred = True
                        else:
                            self._lines[beside] = reached = True

    def _fan(self, v: int, seed: int) -> set[int]:
        fan, todo = set(), [seed]
        while todo:
            f = todo.pop()
            if f in fan:
                continue
            fan.add(f)
            corners = self.faces[f]
            k = corners.index(v)
            for other in ((v, corners[(k + 2) % 3]), (corners[(k + 1) % 3], v)):
                g = self.half.get(other)
                if g is not None:
                    todo.append(g)
        return fan

    def _give_own(self, v: int, fan: set[int]) -> None:
        own = len(self.places)
        self.places = np.concatenate([self.places, self.places[v : v + 1]])
        self.came_from.append(self.came_from[v])
        self.stays.append(self.stays[v])
        self._lines.append(self._lines[v])
        for f in fan:
            corners, parent = self.faces[f], self.parent[f]
            self._drop(f)
            self.faces[f], self.parent[f] = tuple(own if c == v else c for c in corners), parent
            self._note(f, self.faces[f])

    # ---- the line

    def mean_edge(self) -> float:
        """Mean length of the line's edges."""
        pairs = list(self.following().items())
        if not pairs:
            return 0.0
        ends = np.array(pairs)
        places = self.places
        return float(np.linalg.norm(places[ends[:, 0]] - places[ends[:, 1]], axis=1).mean())

    def _turns(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Vertices on the line, the cosine of the turn at each, and across the turn, shape (N, 3)."""
        after = self.following()
        before = {b: a for a, b in after.items()}
        mid = [v for v in after if v in before]
        here = np.array(mid, dtype=np.int64)
        places = self.places
        u = places[here] - places[np.array([before[v] for v in mid], dtype=np.int64)]
        w = places[np.array([after[v] for v in mid], dtype=np.int64)] - places[here]
        size = np.linalg.norm(u, axis=1) * np.linalg.norm(w, axis=1)
        cosine = np.where(size > 0, (u * w).sum(axis=1) / np.where(size > 0, size, 1.0), -1.0)
        return here, cosine, np.cross(u, w)

    def keep_corners(self) -> None:
        """Hold the vertices at which two smooth runs of the line meet: they are no spikes, but the part's own."""
        here, cosine, across = self._turns()
        at = {v: i for i, v in enumerate(here.tolist())}
        after = self.following()
        before = {b: a for a, b in after.items()}
        sharp = here[cosine < _SPIKE].tolist()
        turns = self._turns_of_lines(sharp, after)
        for v in sharp:
            i, is_corner = at[v], True
            for way in (after, before):
                beside = v
                for _ in range(_SHORT_RUN if turns[v] <= _FEW_TURNS else _RUN):
                    beside = way.get(beside, -1)
                    j = at.get(beside)
                    if j is None or j == i:
                        break
                    is_corner &= bool(cosine[j] > _SMOOTH or (cosine[j] < _SPIKE and across[j] @ across[i] > 0))
            if is_corner:
                self.corners.add(v)
        for v in self.corners:
            self.stays[v] = True

    @staticmethod
    def _turns_of_lines(sharp: list[int], after: dict[int, int]) -> dict[int, int]:
        """For each vertex at which the line turns sharply, how many there are on its line."""
        found: dict[int, int] = {}
        every = set(sharp)
        for v in sharp:
            if v in found:
                continue
            line, at = [v], after.get(v)
            while at is not None and at != v and len(line) <= len(after):
                line.append(at)
                at = after.get(at)
            own = [x for x in line if x in every]
            found.update(dict.fromkeys(own, len(own)))
        return found

    def is_clean(self, shortest: float) -> bool:
        """Whether the line runs smoothly from corner to corner, without edges shorter than a length, mm."""
        here, cosine, _ = self._turns()
        if len(here) == 0 or self.pinches:
            return False
        smooth = (cosine > _SMOOTH) | np.isin(here, list(self.corners))
        ends = np.array(list(self.following().items()))
        long = np.linalg.norm(self.places[ends[:, 0]] - self.places[ends[:, 1]], axis=1)
        return bool(smooth.all() and (long >= shortest).all())

    def bent(self) -> tuple[list[int], np.ndarray]:
        """Vertices at which the line turns too sharply, and the cosine of each turn."""
        here, cosine, _ = self._turns()
        sharp = (cosine < _SPIKE) & ~np.isin(here, list(self.corners))
        return here[sharp].tolist(), cosine[sharp]

    def _wide(self, v: int) -> float:
        """The angle of the surface at a vertex of the line, rad."""
        total = 0.0
        for f in self.at[v]:
            corners = self.faces[f]
            k = corners.index(v)
            a = self.places[corners[(k + 1) % 3]] - self.places[v]
            b = self.places[corners[(k + 2) % 3]] - self.places[v]
            cross = np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])
            total += float(np.arctan2(np.sqrt(cross @ cross), a @ b))
        return total

    def cut_and_fill(self) -> int:
        """Cut the spikes off and fill the notches, one row of them; how many."""
        done = 0
        after = self.following()
        before = {b: a for a, b in after.items()}
        sharp, cosines = self.bent()
        for v in [v for _, v in sorted(zip(cosines.tolist(), sharp, strict=True))]:
            a, b = before.get(v), after.get(v)
            # what was changed round it since is looked at again next time
            if a is None or b is None or v not in self.at or (a, v) not in self.half or (v, b) not in self.half:
                continue
            if (v, a) in self.half or (b, v) in self.half or a == b:
                continue
            if self._wide(v) < np.pi:
                done += self._cut_off(v)
            else:
                done += self._fill(a, v, b)
        return done

    def _cut_off(self, v: int) -> bool:
        fan = list(self.at[v])
        if self.stays[v] or any(self.stays[c] for f in fan for c in self.faces[f] if c != v and not self._lines[c]):
            return False
        for f in fan:
            for c in self.faces[f]:
                self._lines[c] = True
            self._drop(f)
        self.spikes += 1
        return True

    def _fill(self, a: int, v: int, b: int) -> bool:
        # wound against the open edges
        if (b, a) in self.half or (a, b) in self.half:
            return False
        p, q, r = self.places[b], self.places[v], self.places[a]
        own = np.cross(q - p, r - p)
        size = np.linalg.norm(own)
        if size == 0:
            return False
        for edge in ((a, v), (v, b)):
            corners = self.faces[self.half[edge]]
            x, y, z = (self.places[c] for c in corners)
            n = np.cross(y - x, z - x)
            if n @ own < 0.3 * np.linalg.norm(n) * size:
                return False
        self._add((b, v, a), -1)
        self._lines[v] = False
        self.notches += 1
        return True

    def draw_together(self, shortest: float) -> int:
        """Draw the ends of short edges of the line together; how many."""
        done = 0
        pairs = np.array(list(self.following().items()), dtype=np.int64).reshape(-1, 2)
        long = np.linalg.norm(self.places[pairs[:, 0]] - self.places[pairs[:, 1]], axis=1)
        for a, b in pairs[long < shortest].tolist():
            if (a, b) not in self.half or (b, a) in self.half or self.stays[a] or self.stays[b]:
                continue
            if float(np.linalg.norm(self.places[a] - self.places[b])) >= shortest:  # an end has moved since
                continue
            f = self.half[a, b]
            c = next(x for x in self.faces[f] if x not in (a, b))
            around_a = {x for g in self.at[a] for x in self.faces[g]} - {a}
            around_b = {x for g in self.at[b] for x in self.faces[g]} - {b}
            if around_a & around_b != {c} or len(self.at[a] | self.at[b]) < 3:
                continue
            middle = 0.5 * (self.places[a] + self.places[b])
            if not self._may_move(a, middle, {f}) or not self._may_move(b, middle, {f}):
                continue
            self._drop(f)
            for g in list(self.at[b]):
                corners, parent = self.faces[g], self.parent[g]
                self._drop(g)
                self.faces[g], self.parent[g] = tuple(a if x == b else x for x in corners), parent
                self._note(g, self.faces[g])
            self.places[a] = middle
            self.short += 1
            done += 1
        return done

    def _may_move(self, v: int, to: np.ndarray, besides: Iterable[int] = ()) -> bool:
        """Whether no triangle at a vertex turns over when it goes elsewhere."""
        for f in self.at[v]:
            if f in besides:
                continue
            corners = self.faces[f]
            k = corners.index(v)
            p, q = self.places[corners[(k + 1) % 3]], self.places[corners[(k + 2) % 3]]
            old, new = _across(self.places[v], p, q), _across(to, p, q)
            dot = old[0] * new[0] + old[1] * new[1] + old[2] * new[2]
            size = (old[0] ** 2 + old[1] ** 2 + old[2] ** 2) * (new[0] ** 2 + new[1] ** 2 + new[2] ** 2)
            if dot <= 0.05 * size**0.5:
                return False
        return True

    def smooth(self, strength: float, rounds: int) -> None:
        """Draw each vertex of the line towards the middle of its neighbours on it."""
        after = self.following()
        before = {b: a for a, b in after.items()}
        mid = [v for v in after if v in before and not self.stays[v]]
        if not mid:
            return
        low, high = (np.array([m[v] for v in mid]) for m in (before, after))
        touched = sorted({f for v in mid for f in self.at[v]})
        corners = np.array([self.faces[f] for f in touched])
        mid, places = np.array(mid), self.places.copy()
        for _ in range(rounds):
            fresh = places.copy()
            fresh[mid] += strength * (0.5 * (places[low] + places[high]) - places[mid])
            old = _vectors(places, corners)
            for _ in range(5):  # what would turn a triangle over stays
                new = _vectors(fresh, corners)
                size = np.sqrt((old * old).sum(axis=1) * (new * new).sum(axis=1))
                over = (old * new).sum(axis=1) <= 0.05 * size
                if not over.any():
                    break
                back = np.unique(corners[over])
                fresh[back] = places[back]
            places = fresh
        self.places = places


def _vectors(places: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Across each triangle, twice its area long."""
    a = places[corners[:, 0]]
    u, v = places[corners[:, 1]] - a, places[corners[:, 2]] - a
    return np.column_stack([
        u[:, 1] * v[:, 2] - u[:, 2] * v[:, 1],
        u[:, 2] * v[:, 0] - u[:, 0] * v[:, 2],
        u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0],
    ])  # fmt: skip


def _across(o: np.ndarray, p: np.ndarray, q: np.ndarray) -> tuple[float, float, float]:
    """Across one triangle, twice its area long."""
    ax, ay, az = (p - o).tolist()
    bx, by, bz = (q - o).tolist()
    return ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx


@kernel
def next_row(faces, front, reached, fresh, ahead):
    """One row of triangles more: those not reached yet with a corner in front; and the vertices they lead to.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    front : ndarray of bool, shape (V,)
    reached : ndarray of bool, shape (F,)
    fresh : ndarray of bool, shape (F,)
        Written: the triangles of the row.
    ahead : ndarray of bool, shape (V,)
        Written.
    """
    for f in range(faces.shape[0]):
        if reached[f]:
            continue
        if front[faces[f, 0]] or front[faces[f, 1]] or front[faces[f, 2]]:
            fresh[f] = True
            for k in range(3):
                ahead[faces[f, k]] = True
