"""A region: triangles of one mesh, written so that they are found again on another."""

import hashlib
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import check_here

__all__ = ["Region", "fingerprint"]

Finite = Annotated[float, Field(allow_inf_nan=False)]
Anchor = tuple[Finite, Finite, Finite, Finite, Finite, Finite, Annotated[float, Field(ge=0, allow_inf_nan=False)]]
"""A point that lay on the region, how the surface faced there, and how far round it the region reached."""

_ALIKE = 0.5
"""A triangle faces as an anchor does when the cosine between them is above this."""
_MOST_ANCHORS = 600
"""Places by which a region is found again."""
_SAMPLES = 4096
"""Triangles that a fingerprint is taken of."""


@remembered
def fingerprint(mesh: Mesh) -> str:
    """A digest over where some triangles lie, evenly chosen, and how many there are.

    Meshes that share it count their triangles alike, though a few may have been turned over or replaced.

    Parameters
    ----------
    mesh : Mesh
    """
    count = len(mesh.faces)
    chosen = mesh.faces[:: max(1, count // _SAMPLES)]
    digest = hashlib.sha1(str(count).encode(), usedforsecurity=False)
    digest.update(np.ascontiguousarray(mesh.vertices[chosen]).tobytes())
    return digest.hexdigest()


class Region(BaseModel):
    """A set of triangles.

    On the mesh it was made for, its runs of numbers tell the triangles; on any other, its anchors do.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    runs: tuple[tuple[int, int], ...] = Field((), description="triangles, as spans: the first, and one past the last")
    mesh: str = Field("", description="fingerprint of the mesh whose triangles the runs count")
    anchors: tuple[Anchor, ...] = Field(
        (), description="where they lie, for when the mesh is another one: place, facing, and how far round it, mm"
    )

    @classmethod
    def of(cls, mesh: Mesh, triangles: np.ndarray, groups: np.ndarray | None = None) -> "Region":
        """The region of some triangles.

        Parameters
        ----------
        mesh : Mesh
        triangles : ndarray of bool, shape (F,), or of int, shape (K,)
        groups : ndarray of int, shape (K,), optional
            What belongs together, such as the triangles round one hole: each has anchors of its own.

        Returns
        -------
        Region
        """
        chosen = np.flatnonzero(triangles) if triangles.dtype == bool else np.asarray(triangles, dtype=np.int64)
        if groups is None:
            groups = np.zeros(len(chosen), dtype=np.int64)
        order = np.lexsort((chosen, groups))
        chosen, groups = chosen[order], groups[order]
        inside = np.zeros(len(mesh.faces), dtype=bool)
        inside[chosen] = True
        flat = np.flatnonzero(inside)
        ends = np.flatnonzero(np.diff(flat) != 1)
        runs = zip(flat[np.concatenate([[0], ends + 1])], flat[np.concatenate([ends, [-1]])] + 1, strict=True)
        runs = tuple((int(a), int(b)) for a, b in runs) if len(flat) else ()
        return cls(runs=runs, mesh=fingerprint(mesh), anchors=_anchors(mesh, chosen, groups))

    def __bool__(self) -> bool:
        return bool(self.runs or self.anchors)

    @property
    def count(self) -> int:
        """How many triangles it had on its own mesh."""
        return sum(b - a for a, b in self.runs)

    def fits(self, mesh: Mesh) -> bool:
        """Whether its numbers count the triangles of this mesh."""
        return self.mesh == fingerprint(mesh)

    def moved(self, matrix: np.ndarray) -> "Region":
        """The region where a 4x4 matrix takes it; found by its anchors wherever the mesh is not the same."""
        if np.array_equal(matrix, np.eye(4)):
            return self
        linear = matrix[:3, :3]
        scale = float(np.cbrt(abs(np.linalg.det(linear))))
        rows = np.array(self.anchors, dtype=float).reshape(-1, 7)
        moved = np.column_stack(
            [rows[:, :3] @ linear.T + matrix[:3, 3], rows[:, 3:6] @ linear.T / max(scale, 1e-300), scale * rows[:, 6]]
        )
        return Region(runs=self.runs, mesh=self.mesh, anchors=_rows(moved))

    def resolve(self, mesh: Mesh) -> np.ndarray:
        """Its triangles on a mesh, bool, shape (F,).

        Raises
        ------
        BadInput
            When none of it can be found there.
        """
        inside = np.zeros(len(mesh.faces), dtype=bool)
        if not self:
            return inside
        if self.fits(mesh):
            for a, b in self.runs:
                if not 0 <= a < b <= len(inside):
                    raise BadInput(f"triangles {a} to {b} are named, of {len(inside)}; choose the region anew")
                inside[a:b] = True
            return inside
        for near in self._near_anchors(mesh):
            inside[near] = True
        if not inside.any():
            raise BadInput("the places this step names are not on the part any more; choose them anew")
        return inside

    def _near_anchors(self, mesh: Mesh) -> list[np.ndarray]:
        """The triangles round each anchor that face as it does."""
        if len(mesh.faces) == 0 or not self.anchors:
            return []
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        check_here()
        tree = cKDTree(middles)
        check_here()
        facing = face_vectors(mesh.vertices, mesh.faces)
        facing /= np.maximum(np.linalg.norm(facing, axis=1), 1e-300)[:, None]
        rows = np.array(self.anchors, dtype=float).reshape(-1, 7)
        found = []
        for row, near in zip(rows, tree.query_ball_point(rows[:, :3], rows[:, 6]), strict=True):
            near = np.array(near, dtype=np.int64)
            found.append(near[facing[near] @ row[3:6] > _ALIKE])
        return found


def _rows(values: np.ndarray) -> tuple[tuple[float, ...], ...]:
    return tuple(map(tuple, values.tolist()))


def _anchors(mesh: Mesh, chosen: np.ndarray, groups: np.ndarray) -> tuple[tuple[float, ...], ...]:
    """Some triangles of each group, spread over it, that together stand for the rest."""
    if len(chosen) == 0:
        return ()
    corners = mesh.vertices[mesh.faces[chosen]]
    middles = corners.mean(axis=1)
    vectors = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    sizes = np.linalg.norm(vectors, axis=1)
    units = vectors / np.maximum(sizes, 1e-300)[:, None]
    longest = np.sqrt(((corners - middles[:, None]) ** 2).sum(axis=2).max(axis=1))
    starts = np.flatnonzero(np.concatenate([[True], np.diff(groups) != 0]))
    number = np.cumsum(np.concatenate([[0], (np.diff(groups) != 0).astype(np.int64)]))
    each = max(2, _MOST_ANCHORS // len(starts))
    # cells as wide as that about `each` of them are met by a group's surface; few triangles are a cell each
    width = np.sqrt(0.5 * np.add.reduceat(sizes, starts) / each)[number]
    few = (np.diff(np.append(starts, len(groups)))[number] <= each) | (width == 0)
    low = np.minimum.reduceat(middles, starts, axis=0)[number]
    cell = np.floor((middles - low) / np.where(few, 1.0, width)[:, None]).astype(np.int64)
    cell[few] = np.arange(len(groups))[few, None]
    key = number.astype(np.int64)
    for column in cell.T:  # numbers of cells within numbers of groups, made small again at each turn
        key = key * (int(column.max()) + 1) + column
        _, key = np.unique(key, return_inverse=True)
    _, first, which = np.unique(key, return_index=True, return_inverse=True)
    reach = np.zeros(len(first))
    np.maximum.at(reach, which, np.linalg.norm(middles - middles[first][which], axis=1))
    return _rows(np.column_stack([middles[first], units[first], 1.001 * reach + 0.5 * longest[first]]))
