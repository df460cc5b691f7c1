"""A piece of a job as it stands at one moment."""

from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from tinsnip.datums.datum import Datum
from tinsnip.formats import Scan
from tinsnip.job.keeping import Kept
from tinsnip.mesh import Mesh

__all__ = ["Origin", "Piece"]


@dataclass(frozen=True)
class Origin:
    """Where a piece came from, and what was learned when it was read."""

    path: Path
    format: str = ""
    unit: str = "mm"
    unit_reason: str = ""
    notes: tuple[str, ...] = ()
    unit_guessed: bool = False

    @classmethod
    def of(cls, scan: Scan) -> "Origin":
        """What is kept of a scan besides its mesh."""
        return cls(scan.path, scan.format, scan.unit, scan.unit_reason, scan.notes, scan.unit_guessed)


@dataclass(frozen=True, eq=False)
class Piece:
    """One mesh of a job with the scan it came from; another mesh or name makes another object.

    Attributes
    ----------
    id : int
        Lasting: the same from the step that bore the piece on.
    name : str
    kept_raw, kept_mesh : Kept
        The scan as it came, and as it stands, in memory or on the disk.
    scan : Origin
    frame : ndarray, shape (4, 4)
        What took the piece from the scanner's frame to where it stands.
    datums : tuple of Datum
        What was fitted to it or made from that, where it stands.
    """

    id: int
    name: str
    kept_raw: Kept
    kept_mesh: Kept
    scan: Origin
    frame: np.ndarray = field(default_factory=lambda: np.eye(4))
    datums: tuple[Datum, ...] = ()

    @property
    def raw(self) -> Mesh:
        """The scan as it came."""
        return self.kept_raw.mesh

    @property
    def mesh(self) -> Mesh:
        """The mesh as it stands."""
        return self.kept_mesh.mesh

    def with_mesh(self, mesh: Mesh, matrix: np.ndarray | None = None) -> "Piece":
        """The piece after a step that gave it another mesh, and perhaps moved it by a 4x4 matrix."""
        made = self if matrix is None else self.moved(matrix)
        return replace(made, kept_mesh=Kept(mesh))

    def moved(self, matrix: np.ndarray) -> "Piece":
        """The piece with its frame and its datums moved by a 4x4 matrix; its mesh is still where it was."""
        return replace(self, frame=matrix @ self.frame, datums=tuple(d.moved(matrix) for d in self.datums))

    def in_scanner_frame(self) -> Mesh:
        """The mesh put back where the scanner saw it."""
        back = np.linalg.inv(self.frame)
        if np.array_equal(back, np.eye(4)):
            return self.mesh
        return self.mesh.moved(self.mesh.vertices @ back[:3, :3].T + back[:3, 3])
