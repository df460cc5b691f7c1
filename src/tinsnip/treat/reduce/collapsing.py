"""Quadric edge collapse (Garland and Heckbert 1997) on half-edges.

Two phases, both cheap on memory. While the mesh is large, passes in memory order collapse every edge under
a cost that rises from pass to pass: neighbours in the mesh are neighbours in memory, which is worth more
than a strict order. Then a bucket queue keyed by the bits of the cost takes over; an entry's cost is worked
out again only when it comes up, since quadrics only grow and an old cost is a lower bound.

The order of the collapses depends on the mesh and the options alone, never on where they stop. So a mesh
reduced to fewer triangles is the same run carried further, and one record holds every level (Hoppe 1996).
A pass visits its blocks of memory in strides, so that a level in the middle of a pass is even all over. It is made of
rounds, in each of which every part of the mesh has its turn; as parts do not touch, their turns can be taken at once.
What lies along the seams between them comes last in each pass.
"""

import copy
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.progress import DONE, Progress
from tinsnip.threads import cores
from tinsnip.treat.reduce.collapse import try_collapse
from tinsnip.treat.reduce.parts import SEAM, parts_of
from tinsnip.treat.reduce.quadrics import best_place, gather_quadrics
from tinsnip.treat.reduce.record import Level, Record

__all__ = ["Holds", "Reduction", "record_collapses"]

_RIM_WEIGHT = 30.0
_EVENNESS = 1e-6
_EVEN_ALL_OVER = 0.02
_COLOUR_WEIGHT = 20.0
_QUEUE_FROM = 0.05
"""Share of the triangles at which the queue takes over from the passes; a small mesh is left to it altogether."""
_QUEUE_AT_LEAST = 40_000
_HALFWAY = 3.0
"""Times the triangles asked for at which a reduction is noted, so that its end can be made again."""
_BLOCK = 12288
"""Half-edges that are looked at in one go."""
_ROUNDS = 16
"""Turns of each part in a pass."""
_PASS_SHARE = 0.35
"""Share of the edges, the cheapest, that a pass may collapse; more is faster and no worse up to here."""


@kernel
def _sample_costs(P, Q, faces, twins, out_of, cost, evenness, colours, step, out):
    """What some edges cost, spread over the mesh; those not yet known are worked out."""
    n = 0
    for h in range(0, twins.shape[0], step):
        t = twins[h]
        f = h // 3
        if faces[f, 0] < 0 or (t >= 0 and t < h):
            continue
        if cost[h] < 0.0:
            k = h - 3 * f
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
            _, _, _, cost[h] = best_place(P, Q, a, b, rim_a, rim_b, evenness, colours)
        if n < out.shape[0]:
            out[n] = cost[h]
            n += 1
    return n


@kernel
def _common_divisor(a, b):
    while b:
        a, b = b, a % b
    return a


@kernel
def _pass(sheet, Q, cost, fans, holds, carried, record, evenness, threshold, clear, listed, span, most, state):
    """Collapse what costs less than the threshold in some blocks of a part; returns how many triangles went.

    The span is the part, `SEAM` for what is in none, its first and last half-edge, of all or of those of the triangles
    listed, and the first and last of its blocks that are looked at, in strides; `most` is how many triangles may go.
    """
    P, faces, twins, out_of = sheet
    colours = carried[1]
    part, low, high, begin, end = span
    gone = 0
    blocks = (high - low + _BLOCK - 1) // _BLOCK
    stride = max(1, int(0.618 * blocks)) | 1
    while blocks > 1 and _common_divisor(stride, blocks) > 1:
        stride += 2
    for i in range(begin * _BLOCK, end * _BLOCK):
        h = low + (i // _BLOCK * stride) % blocks * _BLOCK + i % _BLOCK
        if h >= high:
            continue
        if i % _BLOCK == 0 and state[0]:
            return gone
        if listed.shape[0] > 0:
            h = 3 * listed[h // 3] + h % 3
        if cost[h] > threshold:
            continue
        t = twins[h]
        f = h // 3
        if faces[f, 0] < 0 or (t >= 0 and t < h):
            continue
        k = h - 3 * f
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        if (clear[a] if clear[a] == clear[b] else -1) != part:
            continue
        rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
        x, y, z, c = best_place(P, Q, a, b, rim_a, rim_b, evenness, colours)
        cost[h] = c
        if c > threshold:
            continue
        went = try_collapse(h, x, y, z, sheet, Q, cost, fans, holds, carried, record)
        if went == 0:
            cost[h] = 3.0 * threshold  # looked at again when the threshold has passed that
        gone += went
        if gone >= most:
            break
    return gone


@kernel
def _queue(sheet, Q, cost, fans, holds, carried, record, evenness, live, stop, state):
    """Collapse the cheapest edge again and again; returns the triangles left."""
    P, faces, twins, out_of = sheet
    colours = carried[1]
    head = np.full(65536, -1, dtype=np.int32)
    nxt = np.full(twins.shape[0], -1, dtype=np.int32)
    waiting = np.zeros(twins.shape[0], dtype=np.uint8)
    box = np.empty(1, dtype=np.float32)
    bits = box.view(np.uint32)
    for h in range(twins.shape[0] - 1, -1, -1):
        t = twins[h]
        if faces[h // 3, 0] < 0 or (t >= 0 and t < h):
            continue
        box[0] = max(cost[h], 0.0)
        i = bits[0] >> np.uint32(15)
        nxt[h] = head[i]
        head[i] = h
        waiting[h] = 1
    at = 0
    polls = 0
    begun = live
    while live > stop:
        while at < 65536 and head[at] < 0:
            at += 1
        if at >= 65536:
            break
        polls += 1
        if polls % 8192 == 0:
            if state[0]:
                return live
            state[1] += begun - live
            begun = live
        h = head[at]
        head[at] = nxt[h]
        waiting[h] = 0
        f = h // 3
        if faces[f, 0] < 0:
            continue
        k = h - 3 * f
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
        x, y, z, c = best_place(P, Q, a, b, rim_a, rim_b, evenness, colours)
        box[0] = c
        i = bits[0] >> np.uint32(15)
        if i > at:
            nxt[h] = head[i]
            head[i] = h
            waiting[h] = 1
            continue
        t = twins[h]
        gone = try_collapse(h, x, y, z, sheet, Q, cost, fans, holds, carried, record)
        if gone == 0:
            box[0] = max(4.0 * c, 1e-30)
            i = max(bits[0] >> np.uint32(15), np.uint32(at + 1))
            if i < 65000 and cost[h] < 1e25:
                cost[h] = max(4.0 * cost[h], 1e-30)
                nxt[h] = head[i]
                head[i] = h
                waiting[h] = 1
            continue
        live -= gone
        # two pairs of edges have become one each; see that each still has an entry
        start = out_of[a]
        i2 = start
        while True:
            e = i2 // 3
            m = i2 - 3 * e
            tw = twins[i2]
            if waiting[i2] == 0 and (tw < 0 or waiting[tw] == 0):
                nxt[i2] = head[at]
                head[at] = i2
                waiting[i2] = 1
            s = twins[3 * e + (m + 2) % 3]
            if s < 0:
                last = 3 * e + (m + 2) % 3
                if waiting[last] == 0:
                    nxt[last] = head[at]
                    head[at] = last
                    waiting[last] = 1
                break
            if s == start:
                break
            i2 = s
    return live


@kernel
def _squeeze(P, Q, faces, twins, out_of, cost, source, names, held, colours, parent, new_vertex, new_face):
    """Close the gaps that collapses left, in place; returns how many vertices and triangles there are."""
    n_v = 0
    for v in range(new_vertex.shape[0]):
        new_vertex[v] = -1
        if out_of[v] >= 0:
            new_vertex[v] = n_v
            n_v += 1
    n_f = 0
    for f in range(new_face.shape[0]):
        new_face[f] = -1
        if faces[f, 0] >= 0:
            new_face[f] = n_f
            n_f += 1
    for v in range(new_vertex.shape[0]):
        w = new_vertex[v]
        if w >= 0:
            for k in range(3):
                P[w, k] = P[v, k]
            for k in range(10):
                Q[w, k] = Q[v, k]
            source[w] = source[v]
            names[w] = names[v]
            if held.shape[0] > 0:
                held[w] = held[v]
            if colours.shape[0] > 0:
                for k in range(3):
                    colours[w, k] = colours[v, k]
            out_of[w] = 3 * new_face[out_of[v] // 3] + out_of[v] % 3
    for f in range(new_face.shape[0]):
        g = new_face[f]
        if g >= 0:
            parent[g] = parent[f]
            for k in range(3):
                faces[g, k] = new_vertex[faces[f, k]]
                t = twins[3 * f + k]
                twins[3 * g + k] = 3 * new_face[t // 3] + t % 3 if t >= 0 else t
                cost[3 * g + k] = cost[3 * f + k]
    # an edge's cost stands at its lower half-edge, and squeezing keeps the order
    return n_v, n_f


@kernel
def _shift_back(names, places, vertices, origin):
    """Put places back into the mesh's own frame; one that has not moved gets exactly its old coordinates."""
    for i in range(names.shape[0]):
        for k in range(3):
            old = vertices[names[i], k]
            places[i, k] = old if places[i, k] == old - origin[k] else places[i, k] + origin[k]


@kernel
def _note_deaths(rows, dies):
    """Which collapse takes each triangle away."""
    for n in range(rows.shape[0]):
        for k in range(2, 4):
            if rows[n, k] >= 0:
                dies[rows[n, k]] = n


class Holds(NamedTuple):
    """What a reduction must leave alone, and how it spreads its triangles.

    Attributes
    ----------
    rims : bool
        Leave open edges exactly as they are.
    colours : ndarray of uint8, shape (V, 3), or None
        Vertex colours whose edges are to be held.
    vertices : ndarray of bool, shape (V,), or None
        Vertices that neither move nor go.
    even : bool
        Triangles of one size all over, rather than fewer where the surface is flat.
    """

    rims: bool = False
    colours: np.ndarray | None = None
    vertices: np.ndarray | None = None
    even: bool = False


class _Log:
    """Collapses in their order: who stays, who goes, which triangles go, and where the one that stays then stands."""

    def __init__(self, room: int) -> None:
        self.rows, self.places = np.empty((room, 4), dtype=np.int32), np.empty((room, 3))
        self.counter = np.zeros(1, dtype=np.int64)

    def take_over(self, other: "_Log") -> None:
        """Add what another one holds, and empty that."""
        begin, count = int(self.counter[0]), int(other.counter[0])
        if len(self.rows):
            self.rows[begin : begin + count] = other.rows[:count]
            self.places[begin : begin + count] = other.places[:count]
        self.counter[0] += count
        other.counter[0] = 0


class _Work:
    """The arrays of a reduction under way."""

    def __init__(self, vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, holds: Holds, keep_log: bool):
        if (twins < -1).any():
            raise BadInput("tangled edges cannot be collapsed; cut the mesh into sheets first")
        self.origin = 0.5 * (vertices.min(axis=0) + vertices.max(axis=0))
        self.n_v, self.n_f = len(vertices), len(faces)
        self.P = vertices - self.origin
        self.faces, self.twins = faces.copy(), twins.copy()
        self.Q = np.zeros((self.n_v, 10))
        self.out_of = np.full(self.n_v, -1, dtype=np.int32)
        self.stamp = np.zeros(self.n_v, dtype=np.int32)
        self.marks = 0
        self.cost = np.full(len(twins), -1.0, dtype=np.float32)  # not yet known
        self.source = np.arange(self.n_v, dtype=np.int32)
        self.names = np.arange(self.n_v, dtype=np.int32)
        self.parent = np.arange(self.n_f, dtype=np.int32)
        self.done = 0
        self.queue_from = max(_QUEUE_FROM * self.n_f, _QUEUE_AT_LEAST)
        self.is_gathered = False
        self.rims = bool(holds.rims)
        self.evenness = _EVEN_ALL_OVER if holds.even else _EVENNESS
        colours, held = holds.colours, holds.vertices
        self.colours = np.empty((0, 3), dtype=np.uint8) if colours is None else colours.astype(np.uint8)
        self.held = np.empty(0, dtype=np.uint8) if held is None else held.astype(np.uint8)
        self.log = _Log(self.n_v if keep_log else 0)

    def _shared(self, log: "_Log", marks: np.ndarray) -> tuple:
        """What passes and queue are both given."""
        sheet = self.P, self.faces, self.twins, self.out_of
        record = self.names, self.parent, log.rows, log.places, log.counter
        fans, holds, carried = (self.stamp, marks), (self.rims, self.held), (self.source, self.colours)
        return sheet, self.Q, self.cost, fans, holds, carried, record, self.evenness

    def squeeze(self) -> None:
        """Close the gaps that collapses have left."""
        n_v, n_f = self.n_v, self.n_f
        n_v, n_f = _squeeze(
            self.P, self.Q, self.faces, self.twins, self.out_of, self.cost, self.source, self.names, self.held,
            self.colours, self.parent, np.empty(n_v, dtype=np.int32), np.empty(n_f, dtype=np.int32),
        )  # fmt: skip
        self.n_v, self.n_f = n_v, n_f
        for name in ("P", "Q", "out_of", "source", "names", "stamp", "held", "colours"):
            setattr(self, name, getattr(self, name)[:n_v])
        self.faces, self.twins = self.faces[:n_f], self.twins[: 3 * n_f]
        self.cost, self.parent = self.cost[: 3 * n_f], self.parent[:n_f]

    def copy(self) -> "_Work":
        """What goes on by itself from here."""
        other = copy.copy(self)
        for name, value in vars(self).items():
            if isinstance(value, np.ndarray):
                setattr(other, name, value.copy())
        return other

    def reduce(self, target: int, progress: Progress, halfway: Callable[["_Work"], None] | None = None) -> int:
        """Collapse down to a number of triangles; returns how many are left. `halfway` is shown it once on the way."""
        with ThreadPoolExecutor(cores()) as pool:
            return self._reduce(target, pool, progress, halfway)

    def _reduce(
        self, target: int, pool: ThreadPoolExecutor, progress: Progress, halfway: Callable[["_Work"], None] | None
    ) -> int:
        live, queue_from, self.done = self.n_f, self.queue_from, 0
        state = progress.step("Reducing", max(1, live - target))
        if not self.is_gathered:
            self._gather(pool, state)
            self.is_gathered = True
        progress.check()
        sample = np.empty(40000, dtype=np.float32)
        stalled = 0
        while live > max(queue_from, target) and stalled < 30:
            progress.check()
            n = _sample_costs(
                self.P, self.Q, self.faces, self.twins, self.out_of, self.cost, self.evenness, self.colours,
                max(1, len(self.twins) // 60000) | 1, sample,
            )  # fmt: skip
            if n == 0:
                break
            threshold = np.float32(np.quantile(sample[:n], _PASS_SHARE))
            before = live
            live -= self._pass(threshold, live - max(int(queue_from), target), pool, progress)
            stalled = stalled + 1 if before - live < 0.002 * before else 0
            if live < 0.7 * self.n_f:
                self.squeeze()
                if halfway is not None and target < live <= _HALFWAY * target:
                    halfway(self)
                    halfway = None
        progress.check()
        if live > target:
            self.squeeze()
            if halfway is not None:
                halfway(self)
            live = _queue(*self._shared(self.log, np.array([self.marks], np.int32)), live, target, state)
            progress.check()
        return live

    def _gather(self, pool: ThreadPoolExecutor, state: np.ndarray) -> None:
        """Work out all quadrics."""
        bounds, clear, _ = parts_of(self.faces, self.n_v)

        def gather(part: int, begin: int, end: int) -> None:
            gather_quadrics(
                self.P, self.faces, self.twins, _RIM_WEIGHT, _COLOUR_WEIGHT, self.colours, clear, (part, begin, end),
                self.Q, self.out_of, state,
            )  # fmt: skip

        list(pool.map(gather, range(len(bounds) - 1), bounds[:-1].tolist(), bounds[1:].tolist()))
        if len(bounds) > 2:
            gather(SEAM, 0, self.n_f)

    def _pass(self, threshold: np.float32, most: int, pool: ThreadPoolExecutor, progress: Progress) -> int:
        """Collapse what costs less than the threshold, `most` triangles or a few more; returns how many went."""
        bounds, clear, seams = parts_of(self.faces, self.n_v)
        count, none = len(bounds) - 1, np.empty(0, dtype=np.int32)
        spans = [(k, 3 * int(bounds[k]), 3 * int(bounds[k + 1])) for k in range(count)]
        blocks = [-(-(high - low) // _BLOCK) for _, low, high in spans]
        in_turn = -(-max(blocks) // _ROUNDS)
        room = in_turn * _BLOCK // 3  # each collapse takes one at least of a block's triangles
        logs = [_Log(room if len(self.log.rows) else 0) for _ in spans] if count > 1 else [self.log]
        marks = [np.array([self.marks], dtype=np.int32) for _ in spans]
        gone = 0

        def turn(k: int, begin: int, allowed: int) -> int:
            span = (*spans[k], begin, min(begin + in_turn, blocks[k]))
            return int(_pass(*self._shared(logs[k], marks[k]), threshold, clear, none, span, allowed, progress.state))

        for begin in range(0, max(blocks), in_turn):
            turns = [k for k in range(count) if begin < blocks[k]]
            if len(turns) > 1 and gone + 2 * room * len(turns) < most:
                gone += sum(pool.map(lambda k, begin=begin: turn(k, begin, most), turns))
            else:  # one after another, the same comes of it, and it can end at any collapse
                for k in turns:
                    gone += turn(k, begin, most - gone) if gone < most else 0
            if count > 1:
                for log in logs:
                    self.log.take_over(log)
            progress.state[DONE] = self.done + gone
            progress.check()
        self.marks = max(int(own[0]) for own in marks)
        if count > 1 and gone < most:
            own = np.array([self.marks], dtype=np.int32)
            span = SEAM, 0, 3 * len(seams), 0, -(-3 * len(seams) // _BLOCK)
            gone += int(_pass(*self._shared(self.log, own), threshold, clear, seams, span, most - gone, progress.state))
            self.marks = int(own[0])
        self.done += gone
        return gone


class Reduction:
    """A mesh reduced to a number of triangles; the end of it can be made again with further vertices held.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        Without tangled or flipped edges, pinched or unused vertices.
    twins : ndarray of int32, shape (3 F,)
    target : int
        Triangles wanted; more are left where no collapse is sound.
    holds : Holds
    progress : Progress

    Raises
    ------
    BadInput
        When an edge is tangled.
    Cancelled
    """

    def __init__(
        self, vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, target: int, holds: Holds, progress: Progress
    ) -> None:
        self._vertices, self._target = vertices, target
        self._halfway: _Work | None = None
        work = _Work(vertices, faces, twins, holds, keep_log=False)
        work.reduce(target, progress, self._note)
        self.level = self._level_of(work)

    def _note(self, work: _Work) -> None:
        self._halfway = work.copy()

    def _level_of(self, work: _Work) -> Level:
        work.squeeze()
        _shift_back(work.names, work.P, self._vertices, work.origin)
        return Level(work.P.copy(), work.faces.copy(), work.source.copy(), work.parent.copy())

    @property
    def halfway(self) -> tuple[np.ndarray, np.ndarray] | None:
        """Vertices and triangles on the way, a few times as many as at its end; None where it had none to note."""
        if self._halfway is None:
            return None
        return self._halfway.P + self._halfway.origin, self._halfway.faces

    def again(self, held: np.ndarray, progress: Progress) -> Level:
        """The end of it made anew, with more held.

        Parameters
        ----------
        held : ndarray of bool, shape (H,)
            Of the vertices halfway.
        progress : Progress
        """
        work = self._halfway.copy()
        work.held = held.astype(np.uint8) if len(work.held) == 0 else work.held | held
        work.reduce(self._target, progress)
        return self._level_of(work)


def record_collapses(
    vertices: np.ndarray,
    faces: np.ndarray,
    twins: np.ndarray,
    holds: Holds,
    progress: Progress,
    fewest: int = 300,
    join: Callable[[Level], Level] | None = None,
) -> Record:
    """Reduce a mesh as far as `fewest` triangles and record how, so that any level can be rebuilt.

    Parameters are those of `Reduction`; the record's level of n triangles is what that gives for n, joined.
    """
    work = _Work(vertices, faces, twins, holds, keep_log=True)
    work.reduce(min(fewest, len(faces)), progress)
    count = int(work.log.counter[0])
    rows, places = work.log.rows[:count], work.log.places[:count].copy()
    dies = np.full(len(faces), np.iinfo(np.int32).max, dtype=np.int32)
    _note_deaths(rows, dies)
    log = rows[:, :2].copy()
    _shift_back(log[:, 0].copy(), places, vertices, work.origin)
    return Record(vertices, faces, log, places, dies, join)
