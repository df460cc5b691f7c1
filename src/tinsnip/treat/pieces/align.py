"""Align: pieces that show parts of one thing are laid on each other."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.space.rigid import laid_on, moved_points, turned_by_degrees
from tinsnip.survey.alignment import Alignment, align, align_all, find_alignment
from tinsnip.treat.account import Account
from tinsnip.treat.assembly import Assembled, Assembly, Part
from tinsnip.treat.treatment import Context
from tinsnip.words import counted, degrees_told, millimetres, percent

__all__ = ["Align", "AlignAll"]

Point = tuple[float, float, float]
_LEAST_PAIRS = 3
"""Pairs that bind a move in all six ways."""


class Align(Assembly):
    """Lay the second piece on the first, which stays.

    By points marked on both, from about where it is, or by the shapes alone; then refined over what both show.
    """

    name: ClassVar[str] = "align"
    title: ClassVar[str] = "Align"
    fewest: ClassVar[int] = 2
    points_on: ClassVar[Mapping[str, int]] = {"stays": 0, "moves": 1}

    by: Literal["points", "place", "shape"] = Field(
        "shape", description="points: pairs that are marked; place: from where it lies now; shape: wherever it lies"
    )
    stays: tuple[Point, ...] = Field((), description="points on the piece that stays, mm")
    moves: tuple[Point, ...] = Field((), description="the same places on the piece that moves, mm")
    refined: bool = Field(True, description="brought nearer over all that both pieces show")
    scaled: bool = Field(False, description="made larger or smaller, as the points say")
    choice: int = Field(0, ge=0, description="which of the poses that are nearly as good as each other; 0: the best")

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Move the second piece onto the first.

        Raises
        ------
        BadInput
            When there are other than two pieces, too few pairs of points or all in one line, or the pieces do not meet.
        """
        if len(meshes) != 2:
            raise BadInput(f"aligning takes two pieces, and {len(meshes)} are chosen; choose two")
        fixed, moving = meshes
        found, text = self._found(moving, fixed, context)
        matrix = found.matrix if isinstance(found, Alignment) else found
        figures: dict[str, Any] = {}
        if isinstance(found, Alignment):
            poses = 1 + len(found.rivals)
            if self.choice:
                if self.choice >= poses:
                    raise BadInput(f"there are {counted(poses, 'pose')} to choose from; choose another")
                found = replace(
                    align(moving, fixed, found.rivals[self.choice - 1], context.progress), doubt=found.doubt
                )
                matrix = found.matrix
            figures = {
                "overlap": found.overlap, "rms_mm": found.rms_mm, "p95_mm": found.p95_mm, "sure": found.sure,
                "doubt": found.doubt, "poses": poses,
            }  # fmt: skip
            text += f": {percent(found.overlap)} of it lies on the other, {millimetres(found.rms_mm)} mm apart"
            text += f"; not sure: {found.doubt}" if found.doubt else ""
        if self.by == "points":
            off = np.linalg.norm(moved_points(matrix, np.array(self.moves)) - np.array(self.stays), axis=1)
            figures |= {"pairs": len(off), "pairs_rms_mm": float(np.sqrt((off**2).mean()))}
            if self.scaled:
                factor = float(np.cbrt(np.linalg.det(matrix[:3, :3])))
                figures["factor"] = factor
                text += f"; scaled by {factor:.6g}"
        turn = turned_by_degrees(matrix)
        figures["turned_deg"] = turn
        text += f"; turned by {degrees_told(turn)}°"
        return Assembled((Part(fixed, (0,)), _moved(moving, 1, matrix)), text, Account(figures=figures))

    def _found(self, moving: Mesh, fixed: Mesh, context: Context) -> tuple[Alignment | np.ndarray, str]:
        progress = context.progress
        if self.by == "shape":
            return find_alignment(moving, fixed, progress, (np.eye(4),)), "Aligned by shape"
        if self.by == "place":
            return align(moving, fixed, np.eye(4), progress), "Aligned from where it was"
        start = pose_of_pairs(self.stays, self.moves, self.scaled)
        text = f"Aligned by {counted(len(self.stays), 'pair')} of points"
        return (align(moving, fixed, start, progress) if self.refined else start), text


def _moved(mesh: Mesh, number: int, matrix: np.ndarray) -> Part:
    return Part(mesh.moved(moved_points(matrix, mesh.vertices)), (number,), matrix=matrix)


def pose_of_pairs(stays: Sequence[Point], moves: Sequence[Point], scaled: bool = False) -> np.ndarray:
    """The pose that pairs of points ask for, shape (4, 4).

    Raises
    ------
    BadInput
        When they are too few, not as many on both, or all of one side lie in one line.
    """
    if len(stays) != len(moves) or len(stays) < _LEAST_PAIRS:
        raise BadInput(f"{len(stays)} and {len(moves)} points: mark at least three places on both pieces")
    for points in (np.array(stays), np.array(moves)):
        spread = np.linalg.svd(points - points.mean(axis=0), compute_uv=False)
        if spread[1] < 1e-3 * max(spread[0], 1e-300):
            raise BadInput("the points lie in one line, and the piece could turn about it; mark one beside it")
    return laid_on(np.array(moves), np.array(stays), scaled=scaled)


class AlignAll(Assembly):
    """Lay several pieces on each other, the first of which stays, with one adjustment of all poses at the end."""

    name: ClassVar[str] = "align-all"
    title: ClassVar[str] = "Align all"
    fewest: ClassVar[int] = 2

    by: Literal["place", "shape"] = Field("shape", description="place: from where they lie; shape: wherever they lie")

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Move all pieces but the first.

        Raises
        ------
        BadInput
            When there is one piece only, one has no surface, or none lies on another.
        """
        if len(meshes) < 2:
            raise BadInput("aligning takes two pieces or more; open a further scan as a piece, or show one more")
        laid = align_all(meshes, self.by == "shape", context.progress)
        if len(laid.left) == len(meshes) - 1:
            raise BadInput("no piece lies on another one; align them by points")
        text = f"Aligned {counted(len(meshes) - len(laid.left), 'piece')}: {millimetres(laid.rms_mm)} mm apart"
        if laid.left:
            text += f"; {counted(len(laid.left), 'piece')} on none of the others, left where it was"
        for i, doubt in laid.doubts.items():
            text += f"; piece {i + 1} not sure: {doubt}"
        parts = tuple(
            Part(mesh, (i,)) if np.array_equal(m, np.eye(4)) else _moved(mesh, i, m)
            for i, (mesh, m) in enumerate(zip(meshes, laid.matrices, strict=True))
        )
        figures = {
            "rms_mm": laid.rms_mm, "left_out": list(laid.left), "sure": not laid.doubts and not laid.left,
            "doubt": "; ".join(f"piece {i + 1}: {doubt}" for i, doubt in laid.doubts.items()),
        }  # fmt: skip
        return Assembled(parts, text, Account(figures=figures))
