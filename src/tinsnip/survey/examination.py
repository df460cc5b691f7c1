"""Everything a survey finds, together."""

from dataclasses import dataclass
from functools import cached_property
from typing import Any

from tinsnip.mesh import MADE, Mesh
from tinsnip.progress import Progress, stoppable
from tinsnip.survey.finding import Finding
from tinsnip.survey.holes import Boundaries, classify_boundaries, find_holes
from tinsnip.survey.readiness import Readiness, judge
from tinsnip.survey.strays import Roles, find_strays, shell_roles
from tinsnip.survey.tangles import Tangles, find_tangles, tangles_of

__all__ = ["Examination", "examine"]


@dataclass(frozen=True, eq=False)
class Examination:
    """What was found on one mesh."""

    mesh: Mesh
    roles: Roles
    boundaries: Boundaries
    tangles: Tangles
    readiness: Readiness

    @cached_property
    def strays(self) -> list[Finding]:
        """Strays and voids, largest first."""
        return find_strays(self.mesh, self.roles)

    @cached_property
    def openings(self) -> list[Finding]:
        """Holes, largest first, then rims."""
        return find_holes(self.mesh, self.boundaries)

    @cached_property
    def knots(self) -> list[Finding]:
        """One finding for each sort of tangle."""
        return find_tangles(self.mesh, self.tangles)

    @cached_property
    def made_share(self) -> float:
        """Share of the surface's area that was made, not measured; 0 to 1."""
        areas = self.mesh.areas
        return float(areas[MADE] / max(areas.sum(), 1e-300))

    @property
    def chunk_share(self) -> float:
        """Share of the area that shells have which may be part of the part; 0 to 1."""
        area = self.mesh.shells.area
        return float(area[self.roles.chunk].sum() / max(area.sum(), 1e-300))

    def counts(self) -> dict[str, Any]:
        """The counted facts under their contract names; `crossings` is null while it is not checked."""
        mesh = self.mesh
        return {
            "triangles": len(mesh.faces),
            "vertices": len(mesh.vertices),
            "shells": len(mesh.shells),
            "voids": int(self.roles.void.sum()),
            "strays": int(self.roles.crumb.sum() + self.roles.chunk.sum()),
            "crumbs": int(self.roles.crumb.sum()),
            "chunks": int(self.roles.chunk.sum()),
            "chunk_share": self.chunk_share,
            "holes": int(self.boundaries.is_hole.sum()),
            "rims": int(self.boundaries.is_rim.sum()),
            "open_edges": mesh.edges.open,
            "tangled_edges": mesh.edges.tangled,
            "pinched_vertices": self.tangles.pinched_vertices,
            "flipped_edges": mesh.edges.flipped,
            "degenerate": self.tangles.degenerate,
            "duplicates": self.tangles.duplicates,
            "crossings": None,
            "volume_mm3": mesh.volume,
            "area_mm2": mesh.area,
            "made_share": self.made_share,
            "size_mm": [float(x) for x in mesh.size],
            "ready": self.readiness.ready,
            "reasons": self.readiness.reasons,
            "unchecked": self.readiness.unchecked,
            "state": self.readiness.state,
        }


@stoppable
def examine(mesh: Mesh, progress: Progress | None = None, wanted_shells: int = 1) -> Examination:
    """Survey a mesh for everything that can be found.

    Parameters
    ----------
    mesh : Mesh
    progress : Progress, optional
    wanted_shells : int
        How many shells a ready solid may have.

    Returns
    -------
    Examination
    """
    progress = progress or Progress()
    progress.step("Finding edges", 4)
    _ = mesh.twins
    state = progress.step("Finding shells", 4)
    state[1] = 1
    roles = shell_roles(mesh)
    state = progress.step("Finding holes", 4)
    state[1] = 2
    boundaries = classify_boundaries(mesh)
    state = progress.step("Finding tangles", 4)
    state[1] = 3
    tangles = tangles_of(mesh)
    progress.check()
    return Examination(mesh, roles, boundaries, tangles, judge(mesh, roles, boundaries, tangles, wanted_shells))
