"""Everything a survey finds, together."""

from typing import Any

from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import Progress, stoppable
from tinsnip.survey.bed import find_beds
from tinsnip.survey.finding import Finding
from tinsnip.survey.holes import Boundaries, classify_boundaries, find_holes
from tinsnip.survey.rags import find_rags
from tinsnip.survey.readiness import Readiness, judge
from tinsnip.survey.strays import Roles, find_strays, shell_roles
from tinsnip.survey.tangles import Tangles, find_tangles, tangles_of

__all__ = ["Examination", "examine"]


class Examination:
    """What can be found on one mesh; each question is answered when it is first asked, and then remembered.

    Parameters
    ----------
    mesh : Mesh
    wanted_shells : int
        How many shells a ready solid may have.
    """

    def __init__(self, mesh: Mesh, wanted_shells: int = 1) -> None:
        self.mesh = mesh
        self.wanted_shells = wanted_shells

    @property
    def roles(self) -> Roles:
        """What each shell is."""
        return shell_roles(self.mesh)

    @property
    def boundaries(self) -> Boundaries:
        """What each open boundary is."""
        return classify_boundaries(self.mesh)

    @property
    def tangles(self) -> Tangles:
        """Triangles that are no surface."""
        return tangles_of(self.mesh)

    @property
    @remembered
    def readiness(self) -> Readiness:
        """Whether it is a closed solid, and if not, why."""
        return judge(self.mesh, self.roles, self.boundaries, self.tangles, self.wanted_shells)

    @property
    @remembered
    def strays(self) -> list[Finding]:
        """Strays and voids, largest first."""
        return find_strays(self.mesh, self.roles)

    @property
    @remembered
    def openings(self) -> list[Finding]:
        """Holes, largest first, then rims."""
        return find_holes(self.mesh, self.boundaries)

    @property
    @remembered
    def knots(self) -> list[Finding]:
        """One finding for each sort of tangle."""
        return find_tangles(self.mesh, self.tangles)

    @property
    @remembered
    def beds(self) -> list[Finding]:
        """What the scan stands on or in front of, largest first."""
        return find_beds(self.mesh)

    @property
    @remembered
    def rags(self) -> list[Finding]:
        """Ragged rims, the worst first."""
        return find_rags(self.mesh)

    @property
    @remembered
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
            "beds": len(self.beds),
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
    found = Examination(mesh, wanted_shells)
    questions = {
        "Finding edges": lambda: mesh.twins,
        "Finding shells": lambda: found.roles,
        "Finding holes": lambda: found.boundaries,
        "Finding tangles": lambda: found.tangles,
    }
    for i, (title, ask) in enumerate(questions.items()):
        progress.step(title, len(questions))[1] = i
        ask()
    progress.check()
    _ = found.readiness
    return found
