"""Meshes of a job: in memory as far as a budget allows, on a shelf besides, and back when they are wanted."""

import contextlib
import fcntl
import os
import threading
import time
import weakref
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import platformdirs
from PIL import Image

from tinsnip.errors import Cancelled
from tinsnip.job.shelf import Damaged, Shelf, Slot
from tinsnip.mesh import Attribute, Domain, Mesh

__all__ = ["Held", "Keeper", "Kept", "default_budget", "unfinished_folder"]


_ALIKE = 8
"""Meshes with the same triangles that stay in memory besides the one that is shown: so many strokes are undone at once,
those before them once they are read back, 15 to 20 ms for a million triangles that lie in the disk's cache."""
_ROOM = 1 << 30
"""Bytes of steps that cannot be reached any more, which are not worth another file."""


def default_budget() -> int:
    """A quarter of the machine's memory, bytes."""
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 4


def unfinished_folder() -> Path:
    """Where the jobs lie that are being worked on, and those that were never closed."""
    return Path(platformdirs.user_data_dir("tinsnip")) / "unfinished"


class Held:
    """One array, shared by all meshes that have it: perhaps in memory, perhaps on shelves."""

    _known: ClassVar[dict[int, "weakref.ref[Held]"]] = {}
    _turn = threading.RLock()

    def __init__(self, dtype: np.dtype, shape: tuple[int, ...]) -> None:
        self.dtype, self.shape = np.dtype(dtype), tuple(shape)
        self.slots: dict[Shelf, Slot] = {}
        self._array: weakref.ref[np.ndarray] | None = None

    @classmethod
    def of(cls, array: np.ndarray) -> "Held":
        """The one that stands for an array."""
        with cls._turn:
            known = cls._known.get(id(array))
            held = known() if known is not None else None
            if held is None or held._array is None or held._array() is not array:
                held = cls(array.dtype, array.shape)
                held._take(array)
            return held

    def _take(self, array: np.ndarray) -> None:
        key = id(array)
        self._array = weakref.ref(array, lambda _: Held._known.pop(key, None))
        Held._known[key] = weakref.ref(self)

    @property
    def nbytes(self) -> int:
        """Bytes of the array."""
        return int(np.prod(self.shape, dtype=np.int64)) * self.dtype.itemsize

    @property
    def resident(self) -> np.ndarray | None:
        """The array if something keeps it in memory."""
        return None if self._array is None else self._array()

    def load(self) -> np.ndarray:
        """The array; read from a shelf where it is not in memory.

        Raises
        ------
        Damaged
        OSError
            When no shelf has it any more.
        """
        array = self.resident
        if array is not None:
            return array
        trouble: Exception = OSError(None, "what was kept on the disk is gone")
        for shelf, slot in list(self.slots.items()):
            try:
                array = shelf.read(slot, self.dtype, self.shape)
                break
            except (OSError, Damaged) as error:
                trouble = error
        else:
            raise trouble
        array.setflags(write=False)
        with self._turn:
            self._take(array)
        return array


class Kept:
    """One mesh, wherever it is.

    Parameters
    ----------
    mesh : Mesh, optional
        The mesh itself.
    arrays : mapping of str to Held, optional
        Or its arrays: ``vertices``, ``faces``, ``provenance``, and ``attribute NAME`` for each attribute.
    attributes : mapping of str to (Domain, object), optional
        What the attributes' values belong to, and what stands beside them; an image there is a `Held`.
    """

    def __init__(
        self,
        mesh: Mesh | None = None,
        arrays: Mapping[str, Held] | None = None,
        attributes: Mapping[str, tuple[Domain, Any]] | None = None,
    ) -> None:
        self._mesh = mesh
        self._turn = threading.Lock()
        if mesh is None:
            self.arrays, self.attributes = dict(arrays or {}), dict(attributes or {})
            self.triangles = self.arrays["faces"].shape[0]
            return
        self.triangles = len(mesh.faces)
        self.arrays = {name: Held.of(getattr(mesh, name)) for name in ("vertices", "faces", "provenance")}
        self.attributes: dict[str, tuple[Domain, Any]] = {}
        for name, attribute in mesh.attributes.items():
            self.arrays[f"attribute {name}"] = Held.of(attribute.values)
            self.attributes[name] = attribute.domain, attribute.beside

    def __repr__(self) -> str:
        return f"Kept({self.triangles} triangles{'' if self._mesh is None else ', in memory'})"

    @property
    def mesh(self) -> Mesh:
        """The mesh; read back from the disk where it is only there.

        Raises
        ------
        Damaged
        OSError
            When its file is gone.
        """
        mesh = self._mesh
        if mesh is None:
            with self._turn:
                mesh = self._mesh
                if mesh is None:
                    mesh = self._mesh = self._read()
        return mesh

    @property
    def resident(self) -> Mesh | None:
        """The mesh if it is in memory."""
        return self._mesh

    @property
    def on_disk(self) -> bool:
        """Whether every array of it is on a shelf."""
        return all(held.slots for held in self.arrays.values())

    def let_go(self) -> None:
        """Hold the mesh in memory no longer; only once it is on a shelf."""
        if self.on_disk:
            self._mesh = None

    def _read(self) -> Mesh:
        vertices, faces, provenance = (self.arrays[n].load() for n in ("vertices", "faces", "provenance"))
        attributes = {}
        for name, (domain, beside) in self.attributes.items():
            if isinstance(beside, dict):
                beside = {k: _image(v.load()) if isinstance(v, Held) else v for k, v in beside.items()}
                self.attributes[name] = domain, beside
            attributes[name] = Attribute(domain, self.arrays[f"attribute {name}"].load(), beside)
        return Mesh(vertices, faces, provenance, attributes)


def _image(pixels: np.ndarray) -> Image.Image:
    return Image.fromarray(pixels, "RGB")


class Keeper:
    """Keeps a job's meshes within a memory budget, and on the disk, where another start finds them.

    Parameters
    ----------
    budget : int, optional
        Bytes that meshes no longer shown may take; by default a quarter of the machine's memory.
    path : Path, optional
        The shelf they go to; by default a new one among the unfinished jobs of this user.
    """

    def __init__(self, budget: int | None = None, path: Path | None = None) -> None:
        self.budget = default_budget() if budget is None else budget
        self.path = path or unfinished_folder() / f"{time.time_ns():x}-{os.getpid()}-{id(self):x}.snipjob"
        self._shelf: Shelf | None = None
        self._count = 0
        self._turn = threading.RLock()
        self._closed = False
        self._spare: tuple[Shelf, Path] | None = None

    @property
    def shelf(self) -> Shelf:
        """The shelf; made when it is first wanted, and locked for as long as this process lives."""
        if self._shelf is None:
            shelf = Shelf(self.path)
            _lock(shelf)
            self._shelf = shelf
        return self._shelf

    def put(
        self,
        kept: Iterable[Kept],
        document: Callable[[Shelf], bytes] | None = None,
        others: Mapping[str, bytes] | None = None,
    ) -> int:
        """Put meshes on the shelf as far as they are not there, and beside them the job's own document.

        Parameters
        ----------
        kept : iterable of Kept
        document : callable, optional
            Writes the document, once all meshes are on the shelf.
        others : mapping of str to bytes, optional
            Further members by their names.

        Returns
        -------
        int
            Bytes that were written.

        Raises
        ------
        OSError
            When the disk is full or gone; what was there before stands.
        """
        with self._turn:
            if self._closed:
                return 0
            kept = list(kept)
            if document is not None:
                self._make_room(kept)
            arrays = [held for held in arrays_of(kept) if self.shelf not in held.slots]
            try:
                written = put_arrays(self.shelf, arrays, self._next_name)
                members = dict(others or {})
                if document is not None:
                    members["job.json"] = document(self.shelf)
                for name, data in members.items():
                    self.shelf.put(name, data)
                    written += len(data)
                self.shelf.commit()
                self._drop_spare(kept)
            except BaseException:
                for held in arrays:
                    held.slots.pop(self.shelf, None)
                raise
            return written

    def _make_room(self, kept: Iterable[Kept]) -> None:
        """Take another file where most of this one belongs to steps that cannot be reached any more."""
        old = self.shelf
        every = arrays_of(kept)
        wanted = sum(held.slots[old].size for held in every if old in held.slots)
        if old.nbytes < 2 * wanted + _ROOM:
            return
        path = self.path.with_name(f"{self.path.stem}-{self._count}{self.path.suffix}")
        fresh = Shelf(path)
        try:
            put_arrays(fresh, every, self._next_name)
            fresh.commit()
        except BaseException:
            for held in every:
                held.slots.pop(fresh, None)
            fresh.close()
            path.unlink(missing_ok=True)
            raise
        _lock(fresh)
        self._spare = old, self.path  # gone once the new one holds the document too
        self._shelf, self.path = fresh, path

    def _drop_spare(self, kept: Iterable[Kept]) -> None:
        if self._spare is not None:
            shelf, path = self._spare
            self._spare = None
            for held in arrays_of(kept):
                held.slots.pop(shelf, None)
            shelf.close()
            path.unlink(missing_ok=True)

    def _next_name(self) -> str:
        if self._closed:  # nobody waits for the rest
            raise Cancelled
        self._count += 1
        return f"arrays/{self._count:06d}"

    def spill(self, kept: list[Kept], in_use: set[int]) -> int:
        """Let go of meshes, which are put on the shelf first, until the rest is within the budget.

        Of those that have the same triangles, as strokes of a brush leave them, only the nearest stay once they are on
        the shelf, whatever the budget.

        Parameters
        ----------
        kept : list of Kept
            Those that are wanted last come first.
        in_use : set of int
            Ids of meshes that have to stay.

        Returns
        -------
        int
            How many were let go of.

        Raises
        ------
        OSError
            When the disk is full or gone; what could not be written stays in memory.
        """
        with self._turn:
            if self._closed:
                return 0
            waiting = [k for k in kept if k.resident is not None and id(k.resident) not in in_use]
            done = 0
            alike = Counter[int]()
            for one in reversed(waiting):
                alike[id(one.arrays["faces"])] += 1
                if alike[id(one.arrays["faces"])] > _ALIKE and one.on_disk:
                    one.let_go()
                    done += 1
            waiting = [k for k in waiting if k.resident is not None]
            total = sum(k.resident.nbytes for k in waiting)
            for one in waiting:
                mesh = one.resident
                if total <= self.budget:
                    break
                if mesh is None:
                    continue
                total -= mesh.nbytes
                del mesh
                if not one.on_disk:
                    self.put([one])
                one.let_go()
                done += 1
            return done

    def close(self) -> None:
        """Remove what was written; nothing is written any more."""
        self._closed = True
        with self._turn:
            self._drop_spare(())
            if self._shelf is not None:
                self._shelf.close()
                self.path.unlink(missing_ok=True)


def _lock(shelf: Shelf) -> None:
    """Let no other start take the file for one that was left over, for as long as this process lives."""
    with contextlib.suppress(OSError):  # some network disks know no locks
        fcntl.flock(shelf.file, fcntl.LOCK_EX | fcntl.LOCK_NB)


def arrays_of(kept: Iterable[Kept]) -> list[Held]:
    """All arrays of some meshes, each once, with the images beside their attributes."""
    found: dict[int, Held] = {}
    for one in kept:
        own = list(one.arrays.values())
        for _, beside in one.attributes.values():
            if isinstance(beside, dict):
                own += [held_image(v) for v in beside.values()]
        found |= {id(held): held for held in own}
    return list(found.values())


_images: dict[int, tuple[Any, Held, np.ndarray]] = {}


def held_image(image: Any) -> Held:
    """The array of an image's pixels; each image has one, whatever meshes share it."""
    if isinstance(image, Held):
        return image
    key = id(image)
    known = _images.get(key)
    if known is None or known[0]() is not image:
        pixels = np.asarray(image.convert("RGB"))
        known = _images[key] = weakref.ref(image, lambda _: _images.pop(key, None)), Held.of(pixels), pixels
    return known[1]


def put_arrays(shelf: Shelf, arrays: Iterable[Held], next_name: Any) -> int:
    """Put arrays on a shelf as far as they are not there; how many bytes that took.

    Raises
    ------
    OSError
        When the disk is full; nothing was committed, and no array thinks it is there.
    """
    fresh: dict[Held, Slot] = {}
    for held in arrays:
        if shelf in held.slots or held in fresh:
            continue
        array = np.ascontiguousarray(held.load())
        if array.dtype.byteorder == ">":
            array = array.astype(array.dtype.newbyteorder("<"))
        data = memoryview(array.reshape(-1)).cast("B") if array.size else b""
        fresh[held] = shelf.put(next_name(), data)
    for held, slot in fresh.items():
        held.slots[shelf] = slot
    return sum(slot.size for slot in fresh.values())
