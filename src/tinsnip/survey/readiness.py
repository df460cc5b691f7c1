"""Is the mesh ready for release, and if not, why not."""

from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.survey.crossings import Crossings
from tinsnip.survey.holes import Boundaries
from tinsnip.survey.strays import Roles, describe_chunks
from tinsnip.survey.tangles import Tangles
from tinsnip.words import counted

__all__ = ["Check", "EndsAs", "Readiness", "judge"]

EndsAs = Literal["solid", "surface"]
"""What a part is to end as: closed, or a surface whose rims stay open."""


@dataclass(frozen=True)
class Check:
    """One thing a released solid must be: its name, whether it is (None: not checked), and what is amiss.

    Attributes
    ----------
    name : str
    passed : bool or None
    reason, brief : str
        What is amiss, or why it could not be checked; `brief` in fewer words, for the one-line state.
    figure, limit : str
        What was measured, and what is asked, where there is such.
    place : ndarray, shape (3,), or None
        Where it is worst, mm.
    """

    name: str
    passed: bool | None
    reason: str = ""
    brief: str = ""
    figure: str = ""
    limit: str = ""
    place: np.ndarray | None = field(default=None, compare=False)

    def facts(self) -> dict[str, Any]:
        """As JSON can hold it."""
        own = {"check": self.name, "passed": self.passed, "reason": "" if self.passed else self.reason}
        own |= {"figure": self.figure, "limit": self.limit}
        return own | {"place_mm": None if self.place is None else [float(x) for x in self.place]}


@dataclass(frozen=True)
class Readiness:
    """The checks, and what follows from them."""

    checks: tuple[Check, ...]

    @property
    def ready(self) -> bool:
        """No check failed. What was not checked is listed in `unchecked`, never taken as passed."""
        return all(c.passed is not False for c in self.checks)

    @property
    def reasons(self) -> list[str]:
        """What is amiss, a few words each."""
        return [c.reason for c in self.checks if c.passed is False]

    @property
    def unchecked(self) -> list[str]:
        """Names of what was not checked."""
        return [c.name for c in self.checks if c.passed is None]

    @property
    def state(self) -> str:
        """One line: ready, or what is missing."""
        if not self.ready:
            return "Not ready · " + " · ".join(c.brief or c.reason for c in self.checks if c.passed is False)
        return "Ready" + "".join(f", {name} not checked" for name in self.unchecked)

    @property
    def proven(self) -> bool:
        """Every check was made and passed."""
        return all(c.passed for c in self.checks)

    def with_crossings(self, crossings: Crossings) -> "Readiness":
        """This judgement once crossings have been counted."""
        told = [counted(len(crossings.pairs), "crossing")] * (len(crossings.pairs) > 0)
        told += [counted(len(crossings.folds), "fold")] * (len(crossings.folds) > 0)
        check = Check("crossings", not told, " · ".join(told))
        return Readiness(tuple(check if c.name == check.name else c for c in self.checks))

    def also(self, *checks: Check) -> "Readiness":
        """This judgement with more checks."""
        return Readiness((*self.checks, *checks))


_THINNEST = 1e-6
"""A solid whose mean thickness is below this share of its diagonal has no volume: two skins on one another."""


def judge(
    mesh: Mesh,
    roles: Roles,
    boundaries: Boundaries,
    tangles: Tangles,
    wanted_shells: int = 1,
    ends_as: EndsAs = "solid",
) -> Readiness:
    """Judge a mesh as a solid, or a surface, for release, but for its crossings, which take longest to count.

    Parameters
    ----------
    mesh : Mesh
    roles : Roles
    boundaries : Boundaries
    tangles : Tangles
    wanted_shells : int
    ends_as : EndsAs
        A solid, or a surface.
    """
    if len(mesh.faces) == 0:
        return Readiness((Check("not empty", False, "no triangles"),))
    holes = int(boundaries.is_hole.sum())
    rims = int(boundaries.is_rim.sum())
    walls = int((boundaries.is_hole & (boundaries.mouth >= 0)).sum())
    gaps = [counted(holes - walls, "hole")] * (holes > walls) + [counted(walls, "open wall edge")] * (walls > 0)
    inner = len(gaps)
    gaps += ["open base" if rims == 1 else f"{rims} open rims"] * (rims > 0)
    loose = mesh.edges.open
    if ends_as == "surface":  # its rims are its own; anything else that is open is not
        own = np.diff(mesh.loops.start)[boundaries.is_rim].sum() if rims else 0
        loose, gaps = loose - int(own), gaps[:inner]
    if loose and not gaps:
        gaps = [counted(loose, "open edge")]
    knots = [
        counted(tangles.tangled_edges, "tangled edge") if tangles.tangled_edges else "",
        counted(tangles.pinched_vertices, "pinched vertex", "pinched vertices") if tangles.pinched_vertices else "",
        counted(tangles.duplicates, "doubled triangle") if tangles.duplicates else "",
        counted(tangles.degenerate, "degenerate triangle") if tangles.degenerate else "",
    ]
    knots = [k for k in knots if k]
    total = tangles.total - tangles.flipped_edges
    brief = knots[0] if len(knots) == 1 else counted(total, "tangle")
    shells, voids = mesh.shells, int(roles.void.sum())
    solids = len(shells) - voids - int(roles.hollow.sum())
    inward = int(((shells.open_edges == 0) & (shells.volume < 0) & ~roles.void & ~roles.hollow).sum())
    turned = [counted(tangles.flipped_edges, "flipped edge")] * (tangles.flipped_edges > 0)
    turned += [f"{counted(inward, 'shell')} inside out"] * (inward > 0)
    thin = 2.0 * mesh.volume <= _THINNEST * mesh.diagonal * mesh.area
    volume = Check("volume", not thin if loose == 0 else None, "inside out or without volume")
    return Readiness(
        (
            Check("closed", loose == 0, " · ".join(gaps)),
            Check("manifold", not knots, " · ".join(knots), brief),
            Check("outward", not turned, " · ".join(turned)),
            *([] if ends_as == "surface" and mesh.edges.open else [volume]),
            Check("shells", solids == wanted_shells, *_shells_amiss(mesh, roles, boundaries, solids, wanted_shells)),
            Check("voids", voids == 0, counted(voids, "void")),
            Check("crossings", None),
        )
    )


def _shells_amiss(mesh: Mesh, roles: Roles, boundaries: Boundaries, solids: int, wanted: int) -> tuple[str, str]:
    """What is to be said of the number of shells, at length and in brief."""
    if solids == wanted:
        return "", ""
    if solids < wanted:
        return (f"{solids} of {wanted} shells",) * 2
    crumbs, chunks = int(roles.crumb.sum()), int(roles.chunk.sum())
    within = [counted(int(roles.inner.sum()), "inner solid")] * bool(roles.inner.any())
    within += [counted(int(roles.skin.sum()), "doubled skin")] * bool(roles.skin.any())
    walls = np.isin(np.arange(len(roles.island)), boundaries.wall_shells)
    islands, sides = int((roles.island & ~walls).sum()), int((roles.island & walls).sum())
    within += [counted(islands, "island") + " in holes"] * (islands > 0)
    within += [counted(sides, "side of a wall", "sides of walls") + " by itself"] * (sides > 0)
    told = [counted(crumbs, "stray")] * (crumbs > 0) + within + [describe_chunks(mesh, roles)] * (chunks > 0)
    brief = (
        [counted(crumbs, "stray")] * (crumbs > 0)
        + within
        + [counted(chunks, "chunk") + " beside the part"] * (chunks > 0)
    )
    return " · ".join(told), " · ".join(brief)
