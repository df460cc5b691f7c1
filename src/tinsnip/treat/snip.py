"""Straight snip: cut along a plane, splitting triangles exactly."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import sparse

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Lineage, Mesh
from tinsnip.mesh.halfedges import ABSENT, OPEN, RING
from tinsnip.mesh.subsets import number_used
from tinsnip.treat.filling import close_rings
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["StraightSnip"]

_ON_PLANE = 1e-9

Number = Annotated[float, Field(allow_inf_nan=False)]


@kernel
def _heights(vertices, n, offset, tolerance, height):
    for v in range(vertices.shape[0]):
        d = vertices[v, 0] * n[0] + vertices[v, 1] * n[1] + vertices[v, 2] * n[2] - offset
        height[v] = 0.0 if abs(d) <= tolerance else d


@kernel
def _count(faces, twins, height, normal, vertices, cut_of, keep, state):
    """Classify triangles (1 stays, 2 is split, 0 goes) and number the cut edges. Returns both counts."""
    n_cut = n_out = 0
    for f in range(faces.shape[0]):
        if f % 65536 == 0:
            if state[0]:
                return -1, -1
            state[1] = f
        ha, hb, hc = height[faces[f, 0]], height[faces[f, 1]], height[faces[f, 2]]
        low, high = min(ha, hb, hc), max(ha, hb, hc)
        if low >= 0:
            keep[f] = 1
            if high == 0:
                # lies in the plane: it bounds the kept side only if it faces the waste side
                a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
                ux, uy, uz = (
                    vertices[b, 0] - vertices[a, 0],
                    vertices[b, 1] - vertices[a, 1],
                    vertices[b, 2] - vertices[a, 2],
                )
                wx, wy, wz = (
                    vertices[c, 0] - vertices[a, 0],
                    vertices[c, 1] - vertices[a, 1],
                    vertices[c, 2] - vertices[a, 2],
                )
                up = normal[0] * (uy * wz - uz * wy) + normal[1] * (uz * wx - ux * wz) + normal[2] * (ux * wy - uy * wx)
                keep[f] = 1 if up < 0 else 0
            n_out += keep[f]
        elif high <= 0:
            keep[f] = 0
        else:
            keep[f] = 2
            below = (ha < 0) + (hb < 0) + (hc < 0)
            zeros = (ha == 0) + (hb == 0) + (hc == 0)
            n_out += 1 if below == 2 or zeros == 1 else 2
            for k in range(3):
                p, q = height[faces[f, k]], height[faces[f, (k + 1) % 3]]
                if (p < 0 and q > 0) or (p > 0 and q < 0):
                    h = 3 * f + k
                    if cut_of[h] < 0:
                        cut_of[h] = n_cut
                        t = twins[h]
                        if t >= 0:
                            cut_of[t] = n_cut
                        elif t <= RING and t != ABSENT:
                            i = RING - t
                            while i != h:
                                cut_of[i] = n_cut
                                i = RING - twins[i]
                        n_cut += 1
    return n_cut, n_out


@kernel
def _cut_points(faces, vertices, height, cut_of, n, offset, ends, share, points):
    """Where the cut edges meet the plane, reckoned from the lower-numbered end."""
    corner = faces.ravel()
    for h in range(cut_of.shape[0]):
        i = cut_of[h]
        if i < 0 or ends[i, 0] >= 0:
            continue
        a, b = corner[h], corner[h - 2 if h % 3 == 2 else h + 1]
        if a > b:
            a, b = b, a
        t = height[a] / (height[a] - height[b])
        ends[i, 0], ends[i, 1], share[i] = a, b, t
        for k in range(3):
            points[i, k] = vertices[a, k] + t * (vertices[b, k] - vertices[a, k])
        # once more onto the plane, against rounding
        off = points[i, 0] * n[0] + points[i, 1] * n[1] + points[i, 2] * n[2] - offset
        for k in range(3):
            points[i, k] -= off * n[k]


@kernel
def _build(faces, height, cut_of, keep, base, out, parent, corner_from):
    """Emit the kept triangles; cut points are numbered from `base`."""
    n = 0
    for f in range(faces.shape[0]):
        if keep[f] == 1:
            for k in range(3):
                out[n, k] = faces[f, k]
                corner_from[3 * n + k] = 3 * f + k
            parent[n] = f
            n += 1
        elif keep[f] == 2:
            # walk round, keeping corners that are not below and adding the cut points
            ring = np.empty(4, dtype=np.int32)
            source = np.empty(4, dtype=np.int64)
            m = 0
            for k in range(3):
                v = faces[f, k]
                if height[v] >= 0:
                    ring[m] = v
                    source[m] = 3 * f + k
                    m += 1
                if cut_of[3 * f + k] >= 0:
                    ring[m] = base + cut_of[3 * f + k]
                    source[m] = 3 * f + (k if height[v] >= 0 else (k + 1) % 3)
                    m += 1
            for i in range(1, m - 1):
                out[n, 0], out[n, 1], out[n, 2] = ring[0], ring[i], ring[i + 1]
                corner_from[3 * n] = source[0]
                corner_from[3 * n + 1] = source[i]
                corner_from[3 * n + 2] = source[i + 1]
                parent[n] = f
                n += 1
    return n


def chains_on_plane(mesh: Mesh, on_plane: np.ndarray) -> tuple[list[np.ndarray], int]:
    """Open edges whose both ends lie on the plane, joined to closed rings.

    Where a scan hole crosses the plane the chain ends; such ends are bridged, each to the nearest free start.

    Returns
    -------
    rings : list of ndarray of int
        Vertices in the direction of the half-edges.
    bridges : int
        How many gaps were bridged.
    """
    corner = mesh.faces.ravel()
    half = np.flatnonzero(mesh.twins == OPEN)
    a, b = corner[half], corner[half - half % 3 + (half + 1) % 3]
    chosen = on_plane[a] & on_plane[b]
    following: dict[int, list[int]] = {}
    for u, v in zip(a[chosen].tolist(), b[chosen].tolist(), strict=True):
        following.setdefault(u, []).append(v)
    entered = set(b[chosen].tolist())
    rings, chains = [], []
    starts = [u for u in following if u not in entered]
    for first in [*starts, *list(following)]:
        while following.get(first):
            chain = [first]
            while following.get(chain[-1]):
                chain.append(following[chain[-1]].pop())
                if chain[-1] == first:
                    break
            if chain[-1] == chain[0]:
                rings.append(np.array(chain[:-1]))
            else:
                chains.append(chain)
    bridges = 0
    while chains:
        chain = chains.pop()
        while True:
            bridges += 1
            end = mesh.vertices[chain[-1]]
            heads = np.array([mesh.vertices[c[0]] for c in [chain, *chains]])
            nearest = int(np.argmin(np.linalg.norm(heads - end, axis=1)))
            if nearest == 0:
                break
            chain += chains.pop(nearest - 1)
        if len(chain) > 2:
            rings.append(np.array(chain))
    return rings, bridges


class StraightSnip(Treatment):
    """Cut along a plane; the side the normal points away from is waste.

    Triangles off the plane stay bit-identical; those it crosses are split exactly on it.
    """

    name: ClassVar[str] = "snip-straight"
    title: ClassVar[str] = "Straight snip"
    changes_area: ClassVar[bool] = True

    normal: tuple[Number, Number, Number] = Field((0.0, 0.0, 1.0), description="towards what is kept")
    offset: Number = Field(0.0, description="distance of the plane from the origin along the normal, mm")
    waste: Literal["below", "above"] = Field("below", description="which side of the plane goes")
    close: bool = Field(False, description="close the cut with flat triangles")

    def plane(self) -> tuple[np.ndarray, float]:
        """Unit normal towards the kept side, and the plane's distance from the origin along it.

        Raises
        ------
        BadInput
            When the normal has no length.
        """
        normal = np.array(self.normal, dtype=float)
        length = float(np.linalg.norm(normal))
        if length == 0:
            raise BadInput("the snip's normal 0,0,0 has no direction; give one such as 0,0,1")
        sign = 1.0 if self.waste == "below" else -1.0
        return sign * normal / length, sign * self.offset

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Cut the mesh.

        Raises
        ------
        BadInput
            When nothing would be left.
        """
        normal, offset = self.plane()
        if len(mesh.faces) == 0:
            return Outcome(mesh, "No snip", {"triangles": 0})
        state = context.progress.step("Cutting", len(mesh.faces))
        height = np.empty(len(mesh.vertices))
        _heights(mesh.vertices, normal, offset, _ON_PLANE * max(mesh.diagonal, 1e-300), height)
        cut_of = np.full(3 * len(mesh.faces), -1, dtype=np.int32)
        keep = np.zeros(len(mesh.faces), dtype=np.uint8)
        n_cut, n_out = _count(mesh.faces, mesh.twins, height, normal, mesh.vertices, cut_of, keep, state)
        context.progress.check()
        if n_out == len(mesh.faces) and n_cut == 0:
            return Outcome(mesh, "The snip meets nothing", {"triangles": 0})
        if n_out == 0:
            raise BadInput("the snip would cut everything away; swap the waste side or move the plane")
        ends = np.full((n_cut, 2), -1, dtype=np.int32)
        share = np.empty(n_cut)
        points = np.empty((n_cut, 3))
        if n_cut:
            _cut_points(mesh.faces, mesh.vertices, height, cut_of, normal, offset, ends, share, points)
        context.progress.check()
        out = np.empty((n_out, 3), dtype=np.int32)
        parent = np.empty(n_out, dtype=np.int32)
        corner_from = np.empty(3 * n_out, dtype=np.int64)
        _build(mesh.faces, height, cut_of, keep, len(mesh.vertices), out, parent, corner_from)
        context.progress.check()
        number = np.full(len(mesh.vertices) + n_cut, -1, dtype=np.int32)
        number_used(out, number)
        out = number[out]
        old = np.flatnonzero(number[: len(mesh.vertices)] >= 0).astype(np.int32)
        rows = np.repeat(np.arange(n_cut), 2)
        weights = np.column_stack([1 - share, share]).ravel()
        blends = sparse.csr_matrix((weights, (rows, ends.ravel())), shape=(n_cut, len(mesh.vertices)))
        context.progress.check()
        vertices = np.concatenate([mesh.vertices[old], points])
        corners = corner_from if any(a.domain.value == "corner" for a in mesh.attributes.values()) else None
        cut = mesh.derive(out, Lineage(old, parent, blends, corners), vertices)
        gone = int(np.count_nonzero(keep == 0))
        figures = {"triangles": gone, "split": int(np.count_nonzero(keep == 2)), "made": 0}
        if not self.close:
            return Outcome(cut, f"Cut away {counted(gone, 'triangle')}", figures)
        context.progress.step("Closing the cut")
        on_plane = np.concatenate([height[old] == 0, np.ones(n_cut, dtype=bool)])
        context.progress.check()
        rings, bridges = chains_on_plane(cut, on_plane)
        context.progress.check()
        closed = close_rings(cut, rings, -normal) if rings else cut
        figures |= {"made": len(closed.faces) - len(cut.faces), "bridges": bridges}
        return Outcome(closed, f"Cut away {counted(gone, 'triangle')}, closed the cut", figures)
