"""Is the mesh ready for release, and if not, why not."""

from dataclasses import dataclass

from tinsnip.mesh import Mesh
from tinsnip.survey.holes import Boundaries
from tinsnip.survey.strays import Roles
from tinsnip.survey.tangles import Tangles

__all__ = ["Check", "Readiness", "judge"]


@dataclass(frozen=True)
class Check:
    """One thing a released solid must be: its name, whether it is (None: not checked), and what is amiss.

    `brief` says the same in fewer words, for the one-line state.
    """

    name: str
    passed: bool | None
    reason: str = ""
    brief: str = ""


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


def _counted(n: int, one: str, many: str | None = None) -> str:
    return f"{n} {one if n == 1 else many or one + 's'}"


def judge(mesh: Mesh, roles: Roles, boundaries: Boundaries, tangles: Tangles, wanted_shells: int = 1) -> Readiness:
    """Judge a mesh as a solid for release."""
    if len(mesh.faces) == 0:
        return Readiness((Check("not empty", False, "no triangles"),))
    holes = int(boundaries.is_hole.sum())
    rims = int(boundaries.is_rim.sum())
    gaps = [_counted(holes, "hole")] * (holes > 0) + ["open base" if rims == 1 else f"{rims} open rims"] * (rims > 0)
    loose = mesh.edges.open
    if loose and not gaps:
        gaps = [_counted(loose, "open edge")]
    knots = [
        _counted(tangles.tangled_edges, "tangled edge") if tangles.tangled_edges else "",
        _counted(tangles.pinched_vertices, "pinched vertex", "pinched vertices") if tangles.pinched_vertices else "",
        _counted(tangles.duplicates, "doubled triangle") if tangles.duplicates else "",
        _counted(tangles.degenerate, "degenerate triangle") if tangles.degenerate else "",
    ]
    knots = [k for k in knots if k]
    total = tangles.total - tangles.flipped_edges
    brief = knots[0] if len(knots) == 1 else _counted(total, "tangle")
    strays = int(roles.crumb.sum() + roles.chunk.sum())
    voids = int(roles.void.sum())
    shells = len(mesh.shells) - voids
    volume = mesh.volume
    too_many = _counted(strays, "stray") if shells > wanted_shells else f"{shells} of {wanted_shells} shells"
    return Readiness(
        (
            Check("closed", loose == 0, " · ".join(gaps)),
            Check("manifold", not knots, " · ".join(knots), brief),
            Check("outward", tangles.flipped_edges == 0, _counted(tangles.flipped_edges, "flipped edge")),
            Check("volume", volume > 0 if loose == 0 else None, "inside out or without volume"),
            Check("shells", shells == wanted_shells, too_many),
            Check("voids", voids == 0, _counted(voids, "void")),
            Check("crossings", None),
        )
    )
