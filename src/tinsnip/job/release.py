"""Release: a mesh as its file can hold it, written, read back, and judged by what was read."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from tinsnip.formats import UNITS, format_for, write_mesh
from tinsnip.formats.textures import texture_of_triangles
from tinsnip.job.piece import Piece
from tinsnip.mesh import HOLLOW, Mesh
from tinsnip.mesh.attributes import hollow_at
from tinsnip.mesh.quads import quads_first
from tinsnip.progress import Progress
from tinsnip.survey import Examination, examine
from tinsnip.survey.crossings import crossings_of, follow_crossings
from tinsnip.survey.readiness import EndsAs
from tinsnip.survey.tangles import tangles_of
from tinsnip.treat import Context, Mend, MendCrossings, Merge, Orient, Patch, Plinth, Sweep, Weld

__all__ = ["Writing", "fit_to_format", "release", "write_pieces"]

_LOOSE = 4
"""Steps of single precision that what a knot of rounding cuts loose spans at most."""


@dataclass(frozen=True)
class Writing:
    """A file to be written.

    Attributes
    ----------
    path : Path
    pieces : tuple of Piece
        What goes into it, side by side where there are several.
    format_name : str
        A key of `FORMATS`; by the path's ending where it is empty.
    scanner_frame : bool
        Whether turning, placing and scaling are undone.
    provenance : bool
    unit : str
    scale : float
        As for `release`.
    """

    path: Path
    pieces: tuple[Piece, ...] = ()
    format_name: str = ""
    scanner_frame: bool = False
    provenance: bool = False
    unit: str = "mm"
    scale: float = 1.0


def write_pieces(writing: Writing, progress: Progress, wanted_shells: int = 1) -> Examination:
    """Write a file of one piece or several, and judge it by reading it back.

    Parameters
    ----------
    writing : Writing
        With one piece at least.
    progress : Progress
    wanted_shells : int
        How many solids each piece is to have.

    Raises
    ------
    BadInput
        As for `release`.
    """
    meshes = [piece.in_scanner_frame() if writing.scanner_frame else piece.mesh for piece in writing.pieces]
    mesh = meshes[0]
    if len(meshes) > 1:
        mesh = Merge().apply(meshes, Context(progress)).parts[0].mesh
    name = writing.format_name or format_for(writing.path.suffix).name
    said = writing.provenance and format_for(name).holds_provenance
    shells = wanted_shells * len(meshes)
    return release(mesh, writing.path, name, progress, said, shells, unit=writing.unit, scale=writing.scale)


def fit_to_format(mesh: Mesh, name: str, progress: Progress | None = None) -> Mesh:
    """The mesh as a format can hold it.

    Single precision may draw two close vertices together. Where that ties a knot in a sound mesh, the knot
    is undone here, so that what is written is as good as what was shown.

    Parameters
    ----------
    mesh : Mesh
    name : str
        A key of `FORMATS`.
    progress : Progress, optional
    """
    if not format_for(name).single_precision:
        return mesh
    rounded = mesh.vertices.astype(np.float32).astype(np.float64)
    if (rounded == mesh.vertices).all():
        return mesh
    context = Context(progress or Progress())
    fitted = Weld().apply(mesh.moved(rounded), context).mesh
    if tangles_of(fitted).total == 0 and fitted.edges.open == mesh.edges.open:
        if crossings_of(fitted).total and crossings_of(mesh).total == 0:  # what rounding let cross is mended
            mended = MendCrossings().apply(fitted, context).mesh
            fitted = mended.moved(mended.vertices.astype(np.float32).astype(np.float64))
        return fitted
    if tangles_of(mesh).total > 0 or mesh.edges.open:
        return mesh.moved(rounded)  # it had knots or gaps before; rounding is not what has to be undone
    # only what the rounding itself can have cut loose is swept, never a shell that was there
    loose = _LOOSE * float(np.spacing(np.float32(np.abs(mesh.box).max())))
    for treatment in (Mend(), Orient(), Sweep(chunks="keep", under_mm=loose), Patch(), Plinth()):
        fitted = treatment.apply(fitted, context).mesh
        fitted = fitted.moved(fitted.vertices.astype(np.float32).astype(np.float64))
    return fitted


def release(
    mesh: Mesh,
    path: Path,
    name: str | None = None,
    progress: Progress | None = None,
    provenance: bool = False,
    wanted_shells: int = 1,
    ends_as: EndsAs = "solid",
    unit: str = "mm",
    scale: float = 1.0,
) -> Examination:
    """Write a mesh for its user, and judge the file by reading it back.

    Parameters
    ----------
    mesh : Mesh
    path : Path
        Its ending chooses the format unless `name` does.
    name : str, optional
    progress : Progress, optional
    provenance : bool
        Say of each triangle in the file whether it was measured, shifted or made; PLY only.
    wanted_shells : int
        How many solids it is to hold.
    ends_as : str
        What it is to be: a closed ``solid``, or a ``surface`` whose rims stay open.
    unit : str
        What the file's numbers count, a key of `UNITS`; a format that says its unit itself keeps to its own.
    scale : float
        How many times as large the part is in the file.

    Returns
    -------
    Examination
        Of what the file holds, in mm.

    Raises
    ------
    BadInput
        When the file cannot be written, or does not read back the same; the old one is untouched.
    """
    name = name or format_for(path.suffix).name
    one = UNITS[unit] if format_for(name).own_unit is None else 1.0
    fitted = fit_to_format(mesh if one == scale == 1.0 else mesh.moved(mesh.vertices * (scale / one)), name, progress)
    if format_for(name).holds_quads:
        fitted = quads_first(fitted)
    back = _meant_as(fitted, write_mesh(fitted, path, progress, name, provenance))
    follow_crossings(fitted, back)
    if one != 1.0:  # judged in the numbers that were written, told in mm
        back = back.moved(back.vertices * one)
    return examine(back, progress, wanted_shells, ends_as=ends_as)


def _meant_as(mesh: Mesh, back: Mesh) -> Mesh:
    """What a file holds, with the voids that are meant known as such; not every format can say it."""
    if HOLLOW not in mesh.attributes or HOLLOW in back.attributes:
        return back
    chosen = mesh.attributes[HOLLOW].values[mesh.faces[:, 0]] > 0
    if "texture" in mesh.attributes and "texture" in back.attributes:  # they come back sorted by their texture
        chosen = chosen[np.argsort(texture_of_triangles(mesh), kind="stable")]
    return back.with_attribute(HOLLOW, hollow_at(back.faces[chosen], len(back.vertices)))
