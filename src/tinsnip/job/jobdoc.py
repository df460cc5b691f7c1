"""The document in a job file: what it says, to and from JSON."""

import math
from datetime import UTC, datetime
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tinsnip import __version__
from tinsnip.errors import BadInput
from tinsnip.job.job import Edit, Job
from tinsnip.job.keeping import Held, Kept, held_image
from tinsnip.job.piece import Piece
from tinsnip.job.shelf import Shelf
from tinsnip.job.step import Step

__all__ = ["SCHEMA", "JobDoc", "parse", "written"]

SCHEMA = 1
"""Version of the document that this program writes, and the newest that it reads."""

Matrix = Annotated[list[list[float]], Field(min_length=4, max_length=4)]
Index = Annotated[int, Field(ge=0)]


class _Doc(BaseModel):
    model_config = ConfigDict(extra="ignore", allow_inf_nan=False)


class ArrayDoc(_Doc):
    """One array: its member of the archive, how to read it, and its CRC-32."""

    member: str
    dtype: Literal["<f8", "<f4", "<f2", "<i8", "<i4", "<i2", "|i1", "<u8", "<u4", "<u2", "|u1", "|b1"]
    shape: list[Index] = Field(max_length=6)
    crc: int


class AttributeDoc(_Doc):
    """Values that travel with a mesh."""

    name: str = Field(max_length=200)
    domain: Literal["vertex", "triangle", "corner"]
    values: Index
    names: list[str] | None = None
    images: dict[int, Index] | None = None


class MeshDoc(_Doc):
    """One mesh, by the numbers of its arrays."""

    vertices: Index
    faces: Index
    provenance: Index
    attributes: list[AttributeDoc] = []


class OriginDoc(_Doc):
    """Where a piece came from."""

    path: str
    format: str = ""
    unit: Literal["mm", "cm", "m", "in", "ft"] = "mm"
    unit_reason: str = ""
    notes: list[str] = []
    unit_guessed: bool = False


class PieceDoc(_Doc):
    """A piece as it stood at some moment, by the numbers of its meshes."""

    id: int = Field(ge=1)
    name: str
    raw: Index
    mesh: Index
    scan: OriginDoc
    frame: Matrix
    datums: list[dict[str, Any]] = []


class ChangeDoc(_Doc):
    """What a step made of a piece, by the numbers of how it stood before and after."""

    id: int = Field(ge=1)
    before: Index | None = None
    after: Index | None = None


class StepDoc(_Doc):
    """One line of the log."""

    action: str
    fields: dict[str, Any] = {}
    on: list[int] = []
    changes: list[ChangeDoc] = []
    frames: list[Matrix] = []
    given: list[Index] = []
    text: str = ""
    seconds: float = 0.0
    figures: dict[str, Any] = {}
    enabled: bool = True


class LogDoc(_Doc):
    """A log, by the numbers of its steps, and where it stands."""

    steps: list[Index] = []
    cursor: Index = 0


class EditDoc(_Doc):
    """A change of the log."""

    before: LogDoc
    after: LogDoc
    text: str = ""


class JobDoc(_Doc):
    """Everything in a job file but the arrays."""

    schema_version: int
    made_by: str = ""
    saved: str = ""
    saved_as: str = ""
    unsaved: bool = False
    arrays: list[ArrayDoc] = []
    meshes: list[MeshDoc] = []
    pieces: list[PieceDoc] = []
    start: list[Index] = []
    steps: list[StepDoc] = []
    log: LogDoc = LogDoc()
    edits: list[EditDoc] = []
    undone_edits: list[EditDoc] = []
    active: int = 0
    hidden: list[int] = []
    next_id: int = 1
    view: dict[str, Any] = {}


def parse(data: bytes, where: str) -> JobDoc:
    """Read a document.

    Parameters
    ----------
    data : bytes
        JSON.
    where : str
        What the file is called in what is said.

    Raises
    ------
    BadInput
        When it is none, or one of a newer version.
    """
    try:
        doc = JobDoc.model_validate_json(data)
    except (ValidationError, ValueError, RecursionError) as error:
        version = _version_of(data)
        if version is not None and version > SCHEMA:
            raise BadInput(_too_new(where, version)) from None
        told = "it says no schema version" if version is None else str(error).splitlines()[0]
        if isinstance(error, ValidationError) and version is not None:
            first = error.errors()[0]
            told = f"{'.'.join(str(x) for x in first['loc'])}: {first['msg'].lower()}"
        raise BadInput(f"{where}: its job.json is damaged ({told[:200]}); open another copy") from None
    if doc.schema_version > SCHEMA:
        raise BadInput(_too_new(where, doc.schema_version))
    if doc.schema_version < 1:
        raise BadInput(f"{where}: schema version {doc.schema_version} was never written; it is no job file")
    return doc


def _too_new(where: str, version: int) -> str:
    return f"{where}: made by a newer Tinsnip (schema {version}; this one reads up to {SCHEMA}); update Tinsnip"


def _version_of(data: bytes) -> int | None:
    """The version that a document claims, though the rest of it cannot be understood."""

    class Claim(BaseModel):
        schema_version: int

    try:
        return Claim.model_validate_json(data).schema_version
    except (ValidationError, ValueError, RecursionError):
        return None


def plain(value: Any) -> Any:
    """A value as JSON can hold it; what it cannot is left out."""
    if isinstance(value, np.ndarray):
        return plain(value.tolist()) if value.size <= 1000 else None
    if isinstance(value, np.generic):
        return plain(value.item())
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple | set):
        return [plain(v) for v in value]
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return value if isinstance(value, str | int | bool) or value is None else None


class _Numbers:
    """Numbers things in the order they are first met."""

    def __init__(self, describe: Any) -> None:
        self.rows: list[Any] = []
        self._describe = describe
        self._known: dict[int, tuple[Any, int]] = {}

    def __call__(self, thing: Any) -> int:
        known = self._known.get(id(thing))
        if known is None:
            row = self._describe(thing)
            known = self._known[id(thing)] = thing, len(self.rows)
            self.rows.append(row)
        return known[1]


def written(job: Job, shelf: Shelf, view: dict[str, Any], saved_as: str = "", unsaved: bool = False) -> bytes:
    """The document of a job, all of whose arrays are on a shelf.

    Parameters
    ----------
    job : Job
    shelf : Shelf
    view : dict
        How the window looked at it.
    saved_as : str
        Where the user saved it; empty: nowhere.
    unsaved : bool
        Whether something was done since.
    """

    def array(held: Held) -> ArrayDoc:
        slot = held.slots[shelf]
        return ArrayDoc(member=slot.name, dtype=held.dtype.str, shape=list(held.shape), crc=slot.crc)

    def mesh(kept: Kept) -> MeshDoc:
        own = []
        for name, (domain, beside) in kept.attributes.items():
            images = {k: arrays(held_image(v)) for k, v in beside.items()} if isinstance(beside, dict) else None
            names = [str(n) for n in beside] if isinstance(beside, list | tuple) else None
            values = arrays(kept.arrays[f"attribute {name}"])
            own.append(AttributeDoc(name=name, domain=domain.value, values=values, names=names, images=images))
        numbers = {n: arrays(kept.arrays[n]) for n in ("vertices", "faces", "provenance")}
        return MeshDoc(**numbers, attributes=own)

    def piece(one: Piece) -> PieceDoc:
        scan = OriginDoc(
            path=str(one.scan.path), format=one.scan.format, unit=one.scan.unit, unit_reason=one.scan.unit_reason,
            notes=list(one.scan.notes), unit_guessed=one.scan.unit_guessed,
        )  # fmt: skip
        raw, now = meshes(one.kept_raw), meshes(one.kept_mesh)
        datums = [datum.model_dump(mode="json") for datum in one.datums]
        return PieceDoc(
            id=one.id, name=one.name, raw=raw, mesh=now, scan=scan, frame=one.frame.tolist(), datums=datums
        )  # fmt: skip

    def step(one: Step) -> StepDoc:
        changes = [
            ChangeDoc(
                id=c.id,
                before=None if c.before is None else pieces(c.before),
                after=None if c.after is None else pieces(c.after),
            )
            for c in one.changes
        ]
        return StepDoc(
            action=one.action.name,
            fields=one.action.model_dump(mode="json"),
            on=list(one.on),
            changes=changes,
            frames=[f.tolist() for f in one.frames],
            given=[pieces(p) for p in one.given],
            text=one.text,
            seconds=one.seconds,
            figures=plain(one.account.facts()),
            enabled=one.enabled,
        )

    def log(point: tuple[tuple[Step, ...], int]) -> LogDoc:
        return LogDoc(steps=[steps(s) for s in point[0]], cursor=point[1])

    def edit(one: Edit) -> EditDoc:
        return EditDoc(before=log(one.before), after=log(one.after), text=one.text)

    arrays, meshes, pieces, steps = _Numbers(array), _Numbers(mesh), _Numbers(piece), _Numbers(step)
    doc = JobDoc(
        schema_version=SCHEMA,
        made_by=f"Tinsnip {__version__}",
        saved=datetime.now(UTC).isoformat(timespec="seconds"),
        saved_as=saved_as,
        unsaved=unsaved,
        start=[pieces(p) for p in job.start.values()],
        log=log((tuple(job.log), job.cursor)),
        edits=[edit(e) for e in job.edits],
        undone_edits=[edit(e) for e in job.undone_edits],
        active=job.active,
        hidden=sorted(job.hidden),
        next_id=job.next_id,
        view=plain(view),
    )
    doc.arrays, doc.meshes, doc.pieces, doc.steps = arrays.rows, meshes.rows, pieces.rows, steps.rows
    return doc.model_dump_json().encode()
