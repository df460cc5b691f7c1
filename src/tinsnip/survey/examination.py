"""Everything a survey finds, together."""

from typing import Any

import numpy as np

from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.remembered import is_known, remembered
from tinsnip.progress import Progress, stoppable
from tinsnip.survey.bed import find_beds
from tinsnip.survey.crossings import Crossings, crossing_lines, crossings_of, find_crossings
from tinsnip.survey.finding import Finding
from tinsnip.survey.holes import Boundaries, classify_boundaries, find_holes
from tinsnip.survey.islands import islands_of
from tinsnip.survey.lids import lids_of
from tinsnip.survey.rags import find_rags
from tinsnip.survey.readiness import EndsAs, Readiness, judge
from tinsnip.survey.seams import find_seams, seams_of
from tinsnip.survey.spikes import find_spikes, spikes_of
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
    ends_as : str
        What it is judged as: a closed ``solid``, or a ``surface`` whose rims stay open.
    """

    def __init__(self, mesh: Mesh, wanted_shells: int = 1, ends_as: EndsAs = "solid") -> None:
        self.mesh = mesh
        self.wanted_shells = wanted_shells
        self.ends_as = ends_as
        self.thin_walls: list[Finding] = []
        """Places with walls thinner than `least_wall`, mm, the widest first; None: none were looked for."""
        self.least_wall: float | None = None
        self.layer_faults: list[Finding] = []
        """Layers of `layers_judged`, mm, that no machine can build, from below; None: none were looked at."""
        self.layers_judged: float | None = None
        self.outside: list[Finding] = []
        """Places further off what the part is measured against than is allowed, as far as that was asked."""

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
    def crossings(self) -> Crossings | None:
        """Where it crosses itself; None as long as nobody has had that counted."""
        return crossings_of(self.mesh) if is_known(self.mesh, crossings_of) else None

    @property
    def readiness(self) -> Readiness:
        """Whether it is a closed solid, and if not, why; with its crossings once these are counted."""
        return self._proven if self.crossings is not None else self._so_far

    @property
    @remembered
    def _so_far(self) -> Readiness:
        return judge(self.mesh, self.roles, self.boundaries, self.tangles, self.wanted_shells, self.ends_as)

    @property
    @remembered
    def _proven(self) -> Readiness:
        return self._so_far.with_crossings(crossings_of(self.mesh))

    @property
    @remembered
    def _crossed(self) -> list[Finding]:
        return find_crossings(self.mesh, crossings_of(self.mesh))

    @property
    def crossed(self) -> list[Finding]:
        """Places where the surface crosses itself, the largest first; none as long as they are not counted."""
        return self._crossed if self.crossings is not None else []

    @property
    @remembered
    def crossing_lines(self) -> np.ndarray:
        """Where surfaces meet, mm, shape (N, 2, 3); for meshes whose crossings are counted."""
        return crossing_lines(self.mesh, crossings_of(self.mesh))

    @property
    @remembered
    def strays(self) -> list[Finding]:
        """Strays and voids, largest first."""
        return find_strays(self.mesh, self.roles)

    @property
    @remembered
    def openings(self) -> list[Finding]:
        """Holes, largest first, then rims."""
        fills = {lid.loop: lid.fills_mm3 for lid in lids_of(self.mesh)}
        return find_holes(self.mesh, self.boundaries, islands_of(self.mesh), fills)

    @property
    @remembered
    def knots(self) -> list[Finding]:
        """One finding for each sort of tangle."""
        return find_tangles(self.mesh, self.tangles)

    @property
    @remembered
    def spikes(self) -> list[Finding]:
        """Vertices far off their neighbours, as one finding."""
        return find_spikes(self.mesh)

    @property
    @remembered
    def beds(self) -> list[Finding]:
        """What the scan stands on or in front of, largest first."""
        return find_beds(self.mesh)

    @property
    @remembered
    def seams(self) -> list[Finding]:
        """Seams that were never welded, as one finding."""
        return find_seams(self.mesh)

    @property
    @remembered
    def seam_lines(self) -> np.ndarray:
        """The open edges along seams, mm, shape (N, 2, 3)."""
        half, corner = seams_of(self.mesh).edges, self.mesh.faces.ravel()
        return self.mesh.vertices[np.stack([corner[half], corner[half - half % 3 + (half + 1) % 3]], axis=1)]

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
        """The counted facts under their contract names; `crossings` is null while they are not counted."""
        mesh, crossings = self.mesh, self.crossings
        return {
            "triangles": len(mesh.faces),
            "vertices": len(mesh.vertices),
            "shells": len(mesh.shells),
            "voids": int(self.roles.void.sum()),
            "strays": int((self.roles.crumb | self.roles.chunk | self.roles.inner | self.roles.skin).sum()),
            "crumbs": int(self.roles.crumb.sum()),
            "chunks": int(self.roles.chunk.sum()),
            "inner_solids": int(self.roles.inner.sum()),
            "doubled_skins": int(self.roles.skin.sum()),
            "chunk_share": self.chunk_share,
            "holes": int(self.boundaries.is_hole.sum()),
            "rims": int(self.boundaries.is_rim.sum()),
            "hollows": int(self.roles.hollow.sum()),
            "islands": int(self.roles.island.sum()),
            "beds": len(self.beds),
            "open_edges": mesh.edges.open,
            "tangled_edges": mesh.edges.tangled,
            "pinched_vertices": self.tangles.pinched_vertices,
            "flipped_edges": mesh.edges.flipped,
            "degenerate": self.tangles.degenerate,
            "duplicates": self.tangles.duplicates,
            "spikes": len(spikes_of(mesh).vertices),
            "crossings": None if crossings is None else len(crossings.pairs),
            "folds": None if crossings is None else len(crossings.folds),
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
def examine(
    mesh: Mesh,
    progress: Progress | None = None,
    wanted_shells: int = 1,
    crossings: bool = True,
    ends_as: EndsAs = "solid",
) -> Examination:
    """Survey a mesh for everything that can be found.

    Parameters
    ----------
    mesh : Mesh
    progress : Progress, optional
    wanted_shells : int
        How many shells a ready solid may have.
    crossings : bool
        Whether crossings are counted too, which takes longest.
    ends_as : str
        As for `Examination`.

    Returns
    -------
    Examination
    """
    progress = progress or Progress()
    found = Examination(mesh, wanted_shells, ends_as)
    questions = {
        "Finding edges": lambda: mesh.twins,
        "Finding shells": lambda: found.roles,
        "Finding holes": lambda: found.boundaries,
        "Finding lids": lambda: lids_of(mesh),
        "Finding tangles": lambda: found.tangles,
    }
    if crossings:
        questions["Counting crossings"] = lambda: crossings_of(mesh)
    for i, (title, ask) in enumerate(questions.items()):
        progress.step(title, len(questions))[1] = i
        ask()
    progress.check()
    _ = found.readiness
    return found
