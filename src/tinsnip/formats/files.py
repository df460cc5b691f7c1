"""Reading and writing scans: the one table of formats, content sniffing, atomic writing."""

import os
import shutil
import stat
import tempfile
import threading
from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.formats import glb, obj, off, ply, stl, threemf
from tinsnip.formats.rows import Rows
from tinsnip.formats.textures import texture_of_triangles
from tinsnip.formats.units import UNITS, guess_unit
from tinsnip.formats.whole import write_whole
from tinsnip.memory import free_memory
from tinsnip.mesh import Mesh
from tinsnip.mesh.quads import quads_first
from tinsnip.mesh.subsets import keep_triangles, reorder
from tinsnip.progress import Progress, check_here, stoppable
from tinsnip.words import grouped

__all__ = [
    "CHECKING",
    "ENDINGS",
    "FORMATS",
    "READING",
    "WORKING",
    "Format",
    "Scan",
    "TooLarge",
    "drop_non_finite",
    "format_for",
    "read_scan",
    "refuse_what_is_too_large",
    "write_mesh",
]

_MOST_OF_NAME = 200
"""Bytes of a file's name that go into the name of what is written beside it."""


class Format(NamedTuple):
    """One file format: how to know it, read it, write it and predict its size.

    `own_unit` is what the reader gives out where the file itself says its unit; a format that holds provenance
    has a further argument to its writer that asks for it, one that keeps its texture in files beside it one for the
    name that they begin with.
    """

    name: str
    suffix: str
    title: str
    sniff: Callable[[bytes, int], bool]
    read: Callable[[Path, Progress], Mesh]
    write: Callable[..., None]
    size_of: Callable[..., int]
    single_precision: bool
    own_unit: str | None
    holds_provenance: bool = False
    holds_texture: bool = False
    beside: Callable[[Mesh, str], dict[str, bytes]] | None = None
    holds_relief: bool = False
    holds_quads: bool = False
    triangles_in: Callable[[Path], int | None] = lambda path: None
    rows_of: Callable[[Path], Rows] | None = None

    def expected(self, path: Path, size: int) -> int:
        """How many triangles a file holds: as it says, where so many fit in it, or as its size lets one expect."""
        told = self.triangles_in(path)
        if told is None:
            return self.triangles_within(size, 0, _MOST_EXPECTED, coloured=False)
        return min(told, size // _LEAST_OF_TRIANGLE)

    def size_for(self, mesh: Mesh) -> int:
        """Bytes that a mesh will take, exactly or about; with its texture, where the format holds one."""
        own = self.size_of(len(mesh.faces), len(mesh.vertices), mesh.colour is not None)
        texture = mesh.attributes.get("texture")
        if not self.holds_texture or texture is None or not texture.beside:
            return own
        pixels = sum(image.width * image.height for image in texture.beside.values())
        return own + _PLACE * len(mesh.faces) + int(_PIXEL * pixels)

    @property
    def holds_colours(self) -> bool:
        """Whether a file of it says colours, of vertices at least."""
        return self.size_of(1000, 500, True) != self.size_of(1000, 500, False)

    def triangles_within(
        self, size: float, least: int, most: int, vertex_share: float = 0.5, coloured: bool = True
    ) -> int:
        """How many triangles a file of a size may hold.

        Parameters
        ----------
        size : float
            Bytes.
        least, most : int
            Triangles that may be answered; `least` also where even that is too large.
        vertex_share : float
            Vertices to a triangle; a half on a closed surface.
        coloured : bool
            Whether vertices have colours.

        Returns
        -------
        int
        """
        counts = range(least, most + 1)
        at = bisect_right(counts, size, key=lambda n: self.size_of(n, round(n * vertex_share), coloured))
        return counts[max(0, at - 1)]


FORMATS: dict[str, Format] = {
    f.name: f
    for f in (
        Format(
            "stl",
            ".stl",
            "STL, binary",
            stl.sniff,
            stl.read,
            stl.write,
            stl.size_of,
            True,
            None,
            triangles_in=stl.triangles_in,
            rows_of=stl.rows_of,
        ),
        Format(
            "stl-text",
            ".stl",
            "STL, text",
            lambda head, size: False,
            stl.read,
            stl.write_text,
            stl.text_size_of,
            True,
            None,
        ),
        Format(
            "ply",
            ".ply",
            "PLY, binary",
            ply.sniff,
            ply.read,
            ply.write,
            ply.size_of,
            True,
            None,
            True,
            holds_quads=True,
            triangles_in=ply.triangles_in,
            rows_of=ply.rows_of,
        ),
        Format(
            "3mf",
            ".3mf",
            "3MF",
            threemf.sniff,
            threemf.read,
            threemf.write,
            threemf.size_of,
            False,
            "mm",
            holds_texture=True,
        ),
        Format(
            "glb",
            ".glb",
            "GLB",
            glb.sniff,
            glb.read,
            glb.write,
            glb.size_of,
            True,
            "mm",
            holds_texture=True,
            holds_relief=True,
        ),
        Format("off", ".off", "OFF, text", off.sniff, off.read, off.write, off.size_of, False, None),
        Format(
            "obj",
            ".obj",
            "OBJ, text",
            obj.sniff,
            obj.read,
            obj.write,
            obj.size_of,
            False,
            None,
            holds_texture=True,
            beside=obj.beside,
            holds_relief=True,
            holds_quads=True,
        ),
    )
}


ENDINGS = tuple(dict.fromkeys(form.suffix for form in FORMATS.values()))
"""Of files in any of the formats, each once."""
_PLACE, _PIXEL = 24, 1.3
"""Bytes that the texture places of a triangle take, and a pixel of a scan's texture as PNG, about."""
_FARTHEST = 1e12
"""Coordinates beyond this are no lengths of any unit; their squares and cubes would run over."""
_MOST_COMMENTS = 1 << 24
_MOST_EXPECTED = 1 << 31
_LEAST_OF_TRIANGLE = 4
"""Bytes that a triangle takes at the least in any format: a count and three indices; what says more was cut short."""
READING, CHECKING, WORKING = 75, 125, 175
"""Bytes of memory that each triangle takes at the most: while it is read; while a scan is looked over; and on the whole
way to a solid. Measured at 52 million, of a closed scan as binary STL."""


@dataclass(frozen=True)
class Scan:
    """What a file held: the mesh in millimetres, and what was learned on the way."""

    path: Path
    mesh: Mesh
    format: str
    unit: str
    unit_reason: str
    notes: tuple[str, ...] = field(default=())
    unit_guessed: bool = False


def format_for(name_or_suffix: str) -> Format:
    """The format of a name (``stl``) or of a file's ending (``part.STL``).

    Parameters
    ----------
    name_or_suffix : str

    Raises
    ------
    BadInput
        When it is none that Tinsnip writes.
    """
    key = Path(name_or_suffix).suffix.lstrip(".").lower() or name_or_suffix.lower().lstrip(".")
    if key not in FORMATS:
        known = ", ".join(FORMATS)
        raise BadInput(f"{name_or_suffix}: not a format Tinsnip writes; choose one of {known}")
    return FORMATS[key]


class TooLarge(BadInput):
    """A scan that the machine's memory does not hold; what it would want, and how much of it fits, is told.

    Attributes
    ----------
    triangles, fitting : int
        How many the file holds, and to how many it could be reduced while it is read; 0 where it could not.
    wanted, free : float
        Bytes.
    """

    def __init__(self, path: Path, form: Format, triangles: int, each: int, free: int) -> None:
        self.path, self.triangles, self.wanted, self.free = path, triangles, float(each * triangles), float(free)
        fits = min(triangles // 2, int(_SPARE * free) // each)
        digits = 10 ** max(0, len(str(fits)) - 2)
        self.fitting = fits // digits * digits if form.rows_of is not None and fits >= _FEWEST_LEFT else 0
        what = (
            f"read {grouped(self.fitting)} of them (--read-at-most {self.fitting})"
            if self.fitting
            else "take a machine that has more"
        )
        super().__init__(
            f"{path}: its {grouped(triangles)} triangles want some {self.wanted / 1e9:.2g} GB of memory, and "
            f"{self.free / 1e9:.2g} GB are free; close other programs, or {what}"
        )

    def __reduce__(self) -> tuple:
        return BadInput, (str(self),)  # from another process


_SPARE, _FEWEST_LEFT = 0.7, 10_000
"""Share of the free memory that a reduced scan may want, and triangles below which it is none any more."""


def _recognised(path: Path) -> tuple[Format, int]:
    """The format that a file is in, by what it begins with, and its size, bytes."""
    try:
        kind = path.stat()
        if stat.S_ISDIR(kind.st_mode):
            raise BadInput(f"{path}: is a folder; choose a scan file in it")
        if not stat.S_ISREG(kind.st_mode):
            raise BadInput(f"{path}: is a pipe or device, not a file; save the scan to a file first")
        size = kind.st_size
        with path.open("rb") as file:
            head = file.read(4096)
            beyond = _beyond_comments(file) if head.startswith((b"#", b"\xef\xbb\xbf", b"\n", b"\r")) else head
    except OSError as error:
        raise BadInput(f"{path}: {(error.strerror or str(error)).lower()}; check the name") from error
    if size == 0:
        raise BadInput(f"{path}: is empty; export the scan again")
    chosen = next((f for h in (head, beyond) for f in FORMATS.values() if f.sniff(h, size)), None)
    if chosen is None:
        known = ", ".join(ending[1:].upper() for ending in ENDINGS)
        raise BadInput(f"{path}: is none of {known}, whatever its name says; export it as one of them")
    return chosen, size


def refuse_what_is_too_large(path: str | Path, each: int = WORKING) -> None:
    """Refuse a scan that the free memory does not hold; by its first bytes, before it is read.

    Parameters
    ----------
    path : path-like
    each : int
        Bytes that each triangle will take: `READING`, `CHECKING`, or `WORKING`.

    Raises
    ------
    TooLarge
    BadInput
        When it is no scan at all.
    """
    path = Path(path)
    form, size = _recognised(path)
    if size < _SMALL:
        return
    try:
        expected = form.expected(path, size)
    except BadInput as error:
        raise BadInput(f"{path}: {error}") from error
    free = free_memory()
    if expected * each > free:
        raise TooLarge(path, form, expected, each, free)


_SMALL = 1_000_000
"""Bytes of a file below which it is not asked how much memory there is."""


@stoppable
def read_scan(
    path: str | Path,
    unit: str | None = None,
    progress: Progress | None = None,
    each: int = WORKING,
    reader: Callable[[Format, Path, Progress], Mesh] | None = None,
) -> Scan:
    """Read a scan, whatever its ending says it is.

    Parameters
    ----------
    path : path-like
    unit : str, optional
        A key of `UNITS`; guessed from the size when not given.
    progress : Progress, optional
    each : int
        Bytes of memory that each triangle will take in what follows.
    reader : callable, optional
        What reads the mesh from a file of a format instead of the format itself; no memory is asked for then.

    Returns
    -------
    Scan
        Its mesh is in millimetres and in a memory order that suits the kernels.

    Raises
    ------
    BadInput
        When it cannot be read; the text says what is wrong, where, and what to do.
    TooLarge
        When memory does not hold it.
    """
    path = Path(path)
    progress = progress or Progress()
    if unit is not None and unit not in UNITS:
        raise BadInput(f"unit {unit}: unknown; choose one of {', '.join(UNITS)}")
    progress.step(f"Reading {path.name}")
    chosen, _ = _recognised(path)
    told = len(progress.notes)
    if reader is None:
        refuse_what_is_too_large(path, each)
    try:
        mesh = chosen.read(path, progress) if reader is None else reader(chosen, path, progress)
    except OSError as error:
        raise BadInput(f"{path}: {(error.strerror or str(error)).lower()}; check the disk") from error
    except BadInput as error:
        raise BadInput(f"{path}: {error}") from error
    except MemoryError as error:
        raise BadInput(f"{path}: does not fit in memory; close other programs or split the scan") from error
    if len(mesh.faces) == 0:
        raise BadInput(f"{path}: holds no triangles; export the scan as a mesh, not as points")
    mesh, lost = drop_non_finite(mesh, path)
    notes = (*progress.notes[told:], *lost)
    farthest = float(np.abs(mesh.vertices).max(initial=0.0))
    if farthest > _FARTHEST:
        raise BadInput(f"{path}: has coordinates of {farthest:.3g}, which no scan reaches; export it again")
    guessed = chosen.own_unit is None and unit is None
    if chosen.own_unit is not None:
        unit, reason = chosen.own_unit, "the file says its unit; shown in mm"
    elif unit is not None:
        reason = "as given"
    else:
        unit, reason = guess_unit(mesh.diagonal)
    progress.check()
    if UNITS[unit] != 1.0:
        mesh = mesh.moved(mesh.vertices * UNITS[unit])
    return Scan(path, reorder(mesh), chosen.name, unit, reason, notes, guessed)


def _beyond_comments(file: BinaryIO) -> bytes:
    """The first bytes of a text file after its mark and the comments and blank lines it begins with."""
    file.seek(0)
    if file.read(3) != b"\xef\xbb\xbf":
        file.seek(0)
    begin = file.tell()
    while file.tell() - begin < _MOST_COMMENTS:
        at = file.tell()
        line = file.readline(_MOST_COMMENTS)
        if not line or (line.strip() and not line.lstrip().startswith(b"#")):
            file.seek(at)
            break
    return file.read(4096)


def drop_non_finite(mesh: Mesh, path: Path) -> tuple[Mesh, tuple[str, ...]]:
    """Leave out triangles with a corner at no finite place, when they are few, and say so.

    Parameters
    ----------
    mesh : Mesh
    path : Path
        Where it came from.

    Raises
    ------
    BadInput
        When they are many.
    """
    finite = np.isfinite(mesh.vertices).all(axis=1)
    if finite.all():
        return mesh, ()
    keep = finite[mesh.faces].all(axis=1)
    lost = int(len(keep) - keep.sum())
    if lost > 0.01 * len(keep):
        raise BadInput(f"{path}: {lost} of {len(keep)} triangles have no finite position; export it again")
    return keep_triangles(mesh, keep), (f"{lost} triangles without a finite position left out",)


@stoppable
def write_mesh(
    mesh: Mesh,
    path: str | Path,
    progress: Progress | None = None,
    name: str | None = None,
    provenance: bool = False,
) -> Mesh:
    """Write a mesh, in mm, so that the old file stays until the new one is complete.

    Parameters
    ----------
    mesh : Mesh
    path : path-like
        Its ending chooses the format unless `name` does.
    progress : Progress, optional
    name : str, optional
        A key of `FORMATS`.
    provenance : bool
        Say of each triangle whether it was measured, shifted or made; PLY only.

    Returns
    -------
    Mesh
        What the file holds, read back and compared before the file took its name.

    Raises
    ------
    BadInput
        When it cannot be written; nothing is left behind.
    """
    path = Path(path)
    progress = progress or Progress()
    chosen = format_for(name or path.suffix)
    if len(mesh.faces) == 0:
        raise BadInput(f"{path}: there is no triangle to write; undo the step that took the last one")
    if provenance and not chosen.holds_provenance:
        raise BadInput(f"{path}: {chosen.title} has no place for provenance; write PLY, or leave provenance out")
    if chosen.holds_quads:
        mesh = quads_first(mesh)
    progress.step(f"Writing {path.name}")
    temporary: Path | None = None
    files = chosen.beside(mesh, path.stem) if chosen.beside is not None else {}
    taken = next((name for name in files if (path.parent / name).exists() and not path.exists()), None)
    if taken is not None:
        raise BadInput(f"{path}: {taken} beside it is another's; choose another name")
    try:
        need = chosen.size_for(mesh)
        free = shutil.disk_usage(path.parent).free
        if free < need:
            told = f"{free / 1e6:.1f} MB free, about {need / 1e6:.1f} MB needed"
            raise BadInput(f"{path}: the disk is too full ({told}); make room or choose another")
        handle, text = tempfile.mkstemp(dir=path.parent, prefix=f".{shortened(path.name)}.", suffix=".part")
        os.close(handle)
        temporary = Path(text)
        wishes = {"provenance": True} if provenance else {"stem": path.stem} if chosen.beside is not None else {}
        chosen.write(mesh, temporary, progress, **wishes)
        _onto_the_disk(temporary, progress)
        back = chosen.read(temporary, progress)
        _compare(mesh, back, chosen, path)
        if provenance and not np.array_equal(back.provenance, mesh.provenance):
            raise BadInput(f"{path}: its provenance does not read back the same; check the disk, then try again")
        umask = os.umask(0)
        os.umask(umask)
        temporary.chmod(0o666 & ~umask)
        progress.check()
        for name, content in files.items():  # the file itself comes last: it is whole once it is there
            write_whole(path.parent / name, content)
        temporary.replace(path)
        temporary = None
    except OSError as error:
        need = chosen.size_for(mesh) / 1e6
        what = (error.strerror or str(error)).lower()
        raise BadInput(f"{path}: {what}; about {need:.1f} MB and a writable folder are needed") from error
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)
    return back


def shortened(name: str) -> str:
    """As much of a file's name as leaves room for more: no more than 255 bytes are a name to most file systems."""
    return name.encode()[:_MOST_OF_NAME].decode(errors="ignore")


def _onto_the_disk(path: Path, progress: Progress) -> None:
    """See a file safely down; a slow disk does not hold up a wish to stop."""
    trouble: list[OSError] = []

    def sync() -> None:
        try:
            with path.open("rb+") as file:
                os.fsync(file.fileno())
        except OSError as error:
            trouble.append(error)

    thread = threading.Thread(target=sync, daemon=True)
    thread.start()
    while thread.is_alive():
        thread.join(0.05)
        progress.check()
    if trouble:
        raise trouble[0]


def _compare(mesh: Mesh, back: Mesh, chosen: Format, path: Path) -> None:
    """Refuse a file that does not read back as it was meant."""
    places = mesh.vertices.astype(np.float32).astype(np.float64) if chosen.single_precision else mesh.vertices
    same = len(back.faces) == len(mesh.faces)
    if same and "texture" in back.attributes and "texture" in mesh.attributes:
        # triangles come back sorted by their texture
        order = np.argsort(texture_of_triangles(mesh), kind="stable")
        mesh = keep_triangles(mesh, order)
        places = mesh.vertices.astype(np.float32).astype(np.float64) if chosen.single_precision else mesh.vertices
    for begin in range(0, len(mesh.faces) if same else 0, 1 << 20):
        check_here()
        part = slice(begin, begin + (1 << 20))
        same &= bool((places[mesh.faces[part]] == back.vertices[back.faces[part]]).all())
    if not same:
        raise BadInput(f"{path}: what was written does not read back the same; check the disk, then try again")
