"""Job files: saving a job so that nothing that was there is lost, and opening one as far as it is whole."""

import contextlib
import os
import shutil
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from tinsnip.datums.datum import Datum
from tinsnip.errors import BadInput
from tinsnip.formats.files import shortened
from tinsnip.job.bookkeeping import Noted
from tinsnip.job.job import Edit, Job
from tinsnip.job.jobdoc import EditDoc, JobDoc, LogDoc, MeshDoc, PieceDoc, StepDoc, parse, written
from tinsnip.job.keeping import Held, Keeper, Kept, arrays_of, put_arrays
from tinsnip.job.piece import Origin, Piece
from tinsnip.job.shelf import Damaged, Shelf, Slot, open_archive
from tinsnip.job.step import ACTIONS, Action, Change, Step
from tinsnip.mesh import Domain
from tinsnip.progress import Progress, check_here, stoppable
from tinsnip.treat import Account
from tinsnip.words import counted

__all__ = ["DOCUMENT", "PICTURE", "SUFFIX", "OpenedJob", "is_job_file", "open_job", "read_document", "save_job"]

SUFFIX = ".snipjob"
DOCUMENT, PICTURE = "job.json", "picture.png"
_LARGEST_DOCUMENT = 1 << 29
_LARGEST_PICTURE = 1 << 24
_DEAD_SHARE = 0.5
"""A file is written anew when more of it than this is no longer wanted."""
_ROWS = {"vertex": "vertices", "triangle": "faces"}


@dataclass
class OpenedJob:
    """A job that was opened, what its window showed, what of it was lost, and the left-over file it came from."""

    job: Job
    view: dict[str, Any]
    lost: list[str]
    shelf: Shelf
    saved_as: str = ""
    unsaved: bool = False
    left_over: Path | None = None


def is_job_file(path: Path) -> bool:
    """Whether a file is a job, whole or not; by what it holds, and by its name where that tells nothing.

    Parameters
    ----------
    path : Path
    """
    if not path.is_file():
        return False
    with contextlib.suppress(OSError, BadInput):
        file = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            if os.pread(file, 4, 0) != b"PK\x03\x04":  # no need to search all of a scan for a directory
                return path.suffix.lower() == SUFFIX
            return DOCUMENT in open_archive(file, path)[0]
        finally:
            os.close(file)
    return path.suffix.lower() == SUFFIX


def read_document(path: Path) -> tuple[JobDoc, bytes | None]:
    """What a job file says of itself, and its small picture, without its arrays.

    Parameters
    ----------
    path : Path

    Raises
    ------
    BadInput
    """
    shelf = _open_shelf(path)
    try:
        members, _ = open_archive(shelf.file, path)
        doc = parse(_bytes(shelf, members.get(DOCUMENT), _LARGEST_DOCUMENT), str(path))
        picture = members.get(PICTURE)
        if picture is None or picture.size > _LARGEST_PICTURE:
            return doc, None
        with contextlib.suppress(Damaged, OSError):
            return doc, shelf.read(picture, np.dtype("u1"), (picture.size,)).tobytes()
        return doc, None
    finally:
        shelf.close()


def _open_shelf(path: Path) -> Shelf:
    try:
        return Shelf(path, read_only=True)
    except OSError as error:
        what = (error.strerror or str(error)).lower()
        raise BadInput(f"{path}: {what}; choose a job file that is there and readable") from error


def _bytes(shelf: Shelf, slot: Slot | None, most: int) -> bytes:
    if slot is None:
        raise BadInput(f"{shelf.path}: holds no {DOCUMENT}; it is no job file")
    if slot.size > most:
        raise BadInput(f"{shelf.path}: its {slot.name} has {slot.size} bytes, more than any job needs")
    try:
        return shelf.read(slot, np.dtype("u1"), (slot.size,)).tobytes()
    except Damaged as error:
        raise BadInput(f"{shelf.path}: its {slot.name} is damaged ({error}); open another copy") from error


# ---- saving


@stoppable
def save_job(
    job: Job,
    path: Path,
    view: dict[str, Any],
    progress: Progress | None = None,
    picture: bytes | None = None,
    shelf: Shelf | None = None,
) -> Shelf:
    """Save a job; the file that was there stays readable until the new one is complete and has been checked.

    Parameters
    ----------
    job : Job
    path : Path
    view : dict
        What the window showed, as JSON can hold it.
    progress : Progress, optional
    picture : bytes, optional
        A small PNG of the part.
    shelf : Shelf, optional
        The one this job was saved to, or opened from, last: what is there is not written again.

    Returns
    -------
    Shelf
        What to hand over the next time.

    Raises
    ------
    BadInput
        When it cannot be written; the file that was there is as it was.
    """
    progress = progress or Progress()
    progress.step(f"Saving {path.name}", 3)
    kept = job.all_kept()
    arrays = arrays_of(kept)
    try:
        again = shelf is not None and shelf.is_intact and _is_still(shelf, path) and _is_worth_keeping(shelf, arrays)
        fresh = sum(held.nbytes for held in arrays if not (again and shelf in held.slots))
        free = shutil.disk_usage(path.parent).free
        if free < fresh + (1 << 20):
            told = f"{free / 1e6:.1f} MB free, about {fresh / 1e6:.1f} MB needed"
            raise BadInput(f"{path}: the disk is too full ({told}); make room or choose another")
        if again:
            shelf = _writable(shelf, path)
            _fill(shelf, job, arrays, view, picture, path, progress)
            return shelf
        handle, text = tempfile.mkstemp(dir=path.parent, prefix=f".{shortened(path.name)}.", suffix=".part")
        os.close(handle)
        temporary = Path(text)
        new = Shelf(temporary)
        try:
            _fill(new, job, arrays, view, picture, path, progress)
            umask = os.umask(0)
            os.umask(umask)
            temporary.chmod(0o666 & ~umask)
            progress.check()
            temporary.replace(path)
            new.path = path
            return new
        except BaseException:
            for held in arrays:
                held.slots.pop(new, None)
            new.close()
            temporary.unlink(missing_ok=True)
            raise
    except OSError as error:
        what = (error.strerror or str(error)).lower()
        raise BadInput(f"{path}: {what}; the job is saved where it was before, if it was; choose another place") from (
            error
        )


def _is_still(shelf: Shelf, path: Path) -> bool:
    """Whether a path still names the very file that a shelf has open."""
    try:
        return shelf.file >= 0 and os.path.samestat(os.stat(path), os.fstat(shelf.file))
    except OSError:
        return False


def _is_worth_keeping(shelf: Shelf, arrays: Iterable[Held]) -> bool:
    live = sum(held.slots[shelf].size for held in arrays if shelf in held.slots)
    return live >= (1 - _DEAD_SHARE) * shelf.nbytes - (1 << 22)


def _writable(shelf: Shelf, path: Path) -> Shelf:
    """The shelf, open to be written to; a directory that was cut off at its end is put right first."""
    _, end = open_archive(shelf.file, path)
    shelf.allow_writing(end)
    return shelf


def _fill(
    shelf: Shelf,
    job: Job,
    arrays: list[Held],
    view: dict[str, Any],
    picture: bytes | None,
    path: Path,
    progress: Progress,
) -> None:
    state = progress.step(f"Saving {path.name}", 3)
    before = {id(held) for held in arrays if shelf in held.slots}
    count = max((int(h.slots[shelf].name[7:]) for h in arrays if _is_numbered(h, shelf)), default=0)

    def next_name() -> str:
        nonlocal count
        count += 1
        return f"arrays/{count:06d}"

    put_arrays(shelf, arrays, next_name)
    state[1] = 1
    try:
        document = written(job, shelf, view)
        if picture is not None:
            shelf.put(PICTURE, picture)
        shelf.put(DOCUMENT, document)
        shelf.commit(safely=True)
        state[1] = 2
        members, _ = open_archive(shelf.file, path)
        if _bytes(shelf, members.get(DOCUMENT), _LARGEST_DOCUMENT) != document:
            raise BadInput(f"{path}: what was written does not read back the same; check the disk, then try again")
        for held in arrays:
            if id(held) not in before:
                check_here()
                shelf.read(held.slots[shelf], held.dtype, held.shape)
    except BaseException:
        for held in arrays:
            if id(held) not in before:
                held.slots.pop(shelf, None)
        raise


def _is_numbered(held: Held, shelf: Shelf) -> bool:
    return shelf in held.slots and held.slots[shelf].name[7:].isdigit()


# ---- opening


@stoppable
def open_job(path: Path, progress: Progress | None = None, keeper: Keeper | None = None) -> OpenedJob:
    """Open a job file as far as it is whole.

    Everything it says is checked against what it holds before anything is believed. What is damaged is left out, and
    said: steps before or after which a mesh is damaged are forgotten, never the mesh that was shown, if it is whole.

    Parameters
    ----------
    path : Path
    progress : Progress, optional
    keeper : Keeper, optional
        What writes its steps to the disk from then on.

    Raises
    ------
    BadInput
        When nothing of it can be opened; the text says why.
    """
    progress = progress or Progress()
    state = progress.step(f"Opening {path.name}", 100)
    shelf = _open_shelf(path)
    try:
        members, end = open_archive(shelf.file, path)
        doc = parse(_bytes(shelf, members.get(DOCUMENT), _LARGEST_DOCUMENT), str(path))
        reader = _Reader(shelf, doc, members, state)
        job, lost = reader.job(keeper)
    except (OSError, ValueError, OverflowError, MemoryError) as error:
        shelf.close()
        raise BadInput(f"{path}: cannot be read as a job ({' '.join(str(error).split())[:200]})") from error
    except BaseException:
        shelf.close()
        raise
    if end < shelf.nbytes:
        lost.append("a save that was cut off before it was whole; this is the job as it was saved before")
    return OpenedJob(job, doc.view, lost, shelf, doc.saved_as, doc.unsaved)


class _Reader:
    """Builds a job of a document, as far as what it names is there and whole."""

    def __init__(self, shelf: Shelf, doc: JobDoc, members: dict[str, Slot], state: np.ndarray) -> None:
        self.shelf, self.doc, self.where = shelf, doc, shelf.path
        self._hold: list[np.ndarray] = []
        self._spans: dict[int, tuple[float, float]] = {}
        self.arrays = self._read_arrays(members, state)
        self.meshes = [self._mesh(m) for m in doc.meshes]
        self.lost: list[str] = []
        self.pieces = self._read_pieces()
        self.steps = [self._step(s) for s in doc.steps]

    def _read_arrays(self, members: dict[str, Slot], state: np.ndarray) -> list[Held | None]:
        """Each array, read once and checked; those shown at first stay in memory."""
        shown = self._shown()
        found: list[Held | None] = []
        total = sum(slot.size for slot in members.values()) or 1
        done = 0
        for i, row in enumerate(self.doc.arrays):
            held, slot = Held(np.dtype(row.dtype), tuple(row.shape)), members.get(row.member)
            if slot is None or slot.size != held.nbytes or slot.crc != row.crc:
                found.append(None)
                continue
            held.slots[self.shelf] = slot
            try:
                array = held.load()
            except (Damaged, OSError):
                found.append(None)
                continue
            if array.size and array.dtype.kind in "fi":
                self._spans[i] = float(array.min()), float(array.max())
            if i in shown:
                self._hold.append(array)
            found.append(held)
            done += slot.size
            state[1] = int(99 * done / total)
        return found

    def _shown(self) -> set[int]:
        """Numbers of the arrays that the job shows as it stands."""
        doc, states = self.doc, {}
        for i in doc.log.steps[: doc.log.cursor]:
            if i < len(doc.steps):
                states |= {c.id: c.after for c in doc.steps[i].changes}
        shown = set()
        for p in states.values():
            if p is not None and p < len(doc.pieces):
                for m in (doc.pieces[p].raw, doc.pieces[p].mesh):
                    if m < len(doc.meshes):
                        row = doc.meshes[m]
                        shown |= {row.vertices, row.faces, row.provenance, *(a.values for a in row.attributes)}
        return shown

    def _array(self, number: int) -> Held | None:
        return self.arrays[number] if number < len(self.arrays) else None

    def _mesh(self, row: MeshDoc) -> Kept | None:
        """A mesh whose arrays are whole and fit together; None: it is lost."""
        vertices, faces, provenance = (self._array(n) for n in (row.vertices, row.faces, row.provenance))
        if vertices is None or faces is None or provenance is None:
            return None
        kinds = vertices.dtype.str, faces.dtype.str, provenance.dtype.str
        rows, triangles = (vertices.shape or (0,))[0], (faces.shape or (0,))[0]
        shapes = vertices.shape, faces.shape, provenance.shape
        if kinds != ("<f8", "<i4", "|u1") or shapes != ((rows, 3), (triangles, 3), (triangles,)):
            return None
        low, high = self._spans.get(row.faces, (0, 0))
        if triangles and not (low >= 0 and high < rows):
            return None
        if not np.isfinite(self._spans.get(row.vertices, (0.0, 0.0))).all():
            return None
        arrays = {"vertices": vertices, "faces": faces, "provenance": provenance}
        attributes: dict[str, tuple[Domain, Any]] = {}
        for one in row.attributes:
            values = self._array(one.values)
            count = {"vertex": rows, "triangle": triangles, "corner": 3 * triangles}[one.domain]
            if values is None or (values.shape or (0,))[0] != count:
                return None
            if one.name == "colour" and (values.dtype.str, values.shape[1:]) != ("|u1", (3,)):
                return None
            beside: Any = None if one.names is None else tuple(one.names)
            if one.images is not None:
                images = {k: self._array(v) for k, v in one.images.items()}
                if any(
                    h is None or h.dtype.str != "|u1" or len(h.shape) != 3 or h.shape[2] != 3 for h in images.values()
                ):
                    return None
                beside = images
            arrays[f"attribute {one.name}"] = values
            attributes[one.name] = Domain(one.domain), beside
        return Kept(None, arrays, attributes)

    def _kept(self, number: int) -> Kept | None:
        return self.meshes[number] if number < len(self.meshes) else None

    def _read_pieces(self) -> list[Piece | None]:
        """The pieces at their moments; one whose raw scan is damaged stands on its oldest whole mesh."""
        oldest: dict[int, Kept] = {}
        for row in self.doc.pieces:
            kept = self._kept(row.mesh)
            if kept is not None:
                oldest.setdefault(row.id, kept)
        found: list[Piece | None] = []
        told = set()
        for row in self.doc.pieces:
            raw, mesh = self._kept(row.raw), self._kept(row.mesh)
            frame = _matrix(row)
            if mesh is None or frame is None:
                found.append(None)
                continue
            if raw is None:
                raw = oldest[row.id]
                if row.id not in told:
                    told.add(row.id)
                    self.lost.append(f"the raw scan of {row.name}; its oldest whole mesh stands for it")
            origin = row.scan.model_dump() | {"path": Path(row.scan.path), "notes": tuple(row.scan.notes)}
            found.append(Piece(row.id, row.name[:200], raw, mesh, Origin(**origin), frame, self._datums(row)))
        return found

    def _datums(self, row: PieceDoc) -> tuple[Datum, ...]:
        found = []
        for one in row.datums:
            try:
                found.append(Datum.model_validate(one))
            except ValidationError:
                self.lost.append(f"a datum of {row.name}, which cannot be read")
        return tuple(found)

    def _piece(self, number: int | None) -> Piece | None:
        return None if number is None or number >= len(self.pieces) else self.pieces[number]

    def _step(self, row: StepDoc) -> Step | None:
        """A step all of whose pieces are whole; None: it is lost."""
        changes = []
        for change in row.changes:
            before, after = self._piece(change.before), self._piece(change.after)
            if (before is None) != (change.before is None) or (after is None) != (change.after is None):
                return None
            if any(p is not None and p.id != change.id for p in (before, after)):
                return None
            changes.append(Change(change.id, before, after))
        frames = tuple(np.array(f, dtype=float) for f in row.frames)
        action: Action = Noted(what=row.action)
        kind = ACTIONS.get(row.action)
        if kind is not None and len(frames) == len(row.on):
            with contextlib.suppress(ValidationError, ValueError):
                action = kind.model_validate(row.fields)
        account = Account()  # what a step came to is told, and nothing is built on it
        with contextlib.suppress(ValueError):
            account = Account.of_facts(row.figures)
        given = tuple(self._piece(i) for i in row.given)
        if None in given or tuple(p.id for p in given) != tuple(row.on):
            given = ()
        return Step(
            action,
            tuple(row.on),
            tuple(changes),
            frames,
            row.text,
            given,
            row.seconds,
            account,
            row.enabled,
        )

    def _log(self, row: LogDoc) -> tuple[tuple[Step, ...], int] | None:
        steps = [self.steps[i] if i < len(self.steps) else None for i in row.steps]
        if any(s is None for s in steps) or row.cursor > len(steps):
            return None
        return tuple(steps), row.cursor

    def _edits(self, rows: list[EditDoc]) -> list[Edit]:
        found = []
        for row in rows:
            before, after = self._log(row.before), self._log(row.after)
            if before is not None and after is not None:
                found.append(Edit(before, after, row.text))
        return found

    def job(self, keeper: Keeper | None) -> tuple[Job, list[str]]:
        """The job, and what was lost of it."""
        doc, lost = self.doc, self.lost
        states: list[dict[int, Piece] | None] = [self._states({}, [(p, p) for p in doc.start])]
        rows = [doc.steps[i] if i < len(doc.steps) else None for i in doc.log.steps]
        known: dict[int, int] = {doc.pieces[p].id: p for p in doc.start if p < len(doc.pieces)}
        for row in rows:
            if row is not None:
                for change in row.changes:
                    if change.after is None:
                        known.pop(change.id, None)
                    else:
                        known[change.id] = change.after
            states.append(None if row is None else self._states({}, [(i, p) for i, p in known.items()]))
        steps = [self.steps[i] if i < len(self.steps) else None for i in doc.log.steps]
        at = min(doc.log.cursor, len(steps))
        whole = [i for i, s in enumerate(states) if s is not None]
        with_pieces = [i for i in whole if states[i]]
        if doc.pieces and not with_pieces:
            raise BadInput(f"{self.where}: none of its meshes is whole; open another copy, or the scan again")
        # where it stood, if that is whole, though nothing may have been open there
        stand = at if at in whole else min(with_pieces or whole, key=lambda i: (abs(i - at), i > at))
        begin = end = stand
        while begin > 0 and states[begin - 1] is not None and steps[begin - 1] is not None:
            begin -= 1
        while end < len(steps) and states[end + 1] is not None and steps[end] is not None:
            end += 1
        if stand != at:
            lost.append(f"the mesh after step {at}; the job stands after step {stand}")
        if begin > 0:
            lost.append(f"{counted(begin, 'step')} before that cannot be gone back to, as a mesh there is damaged")
        if end < len(steps):
            lost.append(
                f"{counted(len(steps) - end, 'step')} after that cannot be gone on to, as a mesh there is damaged"
            )
        job = Job(keeper)
        job.start = dict(states[begin])
        job.log = list(steps[begin:end])
        edits = self._edits(doc.edits), self._edits(doc.undone_edits)
        if any(len(e) != len(r) for e, r in zip(edits, (doc.edits, doc.undone_edits), strict=True)):
            lost.append("changes of the log that can no longer be taken back")
        if not lost:
            job.edits, job.undone_edits = edits
        job.hidden = {i for i in doc.hidden if i > 0}
        top = max((p.id for p in doc.pieces), default=0)
        job.next_id = max(top + 1, min(doc.next_id, top + 1_000_000))
        job.active = doc.active
        job.go_to(stand - begin)
        if doc.active in job.present:
            job.active = doc.active
        for piece in job.pieces:
            _ = piece.raw, piece.mesh
        self._hold.clear()
        return job, lost

    def _states(self, states: dict[int, Piece], numbers: list[tuple[int, int]]) -> dict[int, Piece] | None:
        for _, number in numbers:
            piece = self._piece(number)
            if piece is None:
                return None
            states[piece.id] = piece
        return states


def _matrix(row: PieceDoc) -> np.ndarray | None:
    """A piece's frame, if it is one that can be gone back through."""
    if any(len(r) != 4 for r in row.frame):
        return None
    frame = np.array(row.frame, dtype=float)
    with np.errstate(all="ignore"):
        determinant = np.linalg.det(frame[:3, :3])
    return frame if np.isfinite(frame).all() and np.isfinite(determinant) and determinant != 0 else None
