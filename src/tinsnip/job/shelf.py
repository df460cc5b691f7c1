"""A shelf of arrays in a ZIP that only ever grows: what was complete once stays readable, whatever happens after."""

import fcntl
import io
import mmap
import os
import struct
import zipfile
import zlib
from pathlib import Path
from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.progress import check_here

__all__ = ["Damaged", "Shelf", "Slot", "open_archive"]

_END = b"PK\x05\x06"
_MOST_TRIES = 64
"""Ends of a directory that are tried in a damaged file."""
_MOST_MEMBERS = 1_000_000
"""Arrays of a job; more is no job."""
_CHUNK = 1 << 24


class Damaged(BadInput):
    """Something on the shelf is not what was put there."""


class Slot(NamedTuple):
    """Where one member lies in the file, and the checksum (CRC-32) of its bytes."""

    name: str
    offset: int
    size: int
    crc: int


class Shelf:
    """A file of named members, stored as they are.

    Members are put behind what is there; `commit` puts a new directory behind them. Until it is whole, the old one
    stays in place, so that a file that was cut off in between opens as it was committed last.

    Parameters
    ----------
    path : Path
        A file that is there is added to; its directory must be whole.
    read_only : bool
        Only to read from; the file must be there.

    Raises
    ------
    OSError
    """

    def __init__(self, path: Path, read_only: bool = False) -> None:
        self.path = path
        if read_only:
            self._file = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        self._archive: zipfile.ZipFile | None = None
        self._known = self._stamp()

    def _stamp(self) -> tuple[int, int]:
        found = os.fstat(self._file)
        return found.st_size, found.st_mtime_ns

    @property
    def is_intact(self) -> bool:
        """Whether nobody else has written to the file."""
        return self._file >= 0 and self._stamp() == self._known

    @property
    def file(self) -> int:
        """Descriptor of the open file, good for as long as the shelf is."""
        return self._file

    def put(self, name: str, data: memoryview | bytes) -> Slot:
        """Put a member there; one of the same name is no longer in the directory.

        Raises
        ------
        OSError
            When the disk is full or gone; what was committed stands.
        """
        try:
            archive = self._begin()
            old = archive.NameToInfo.pop(name, None)
            if old is not None:
                archive.filelist.remove(old)
            view = memoryview(data).cast("B") if len(data) else memoryview(b"")
            info = zipfile.ZipInfo(name)
            with archive.open(info, "w", force_zip64=True) as member:
                for begin in range(0, len(view), _CHUNK):
                    check_here()
                    member.write(view[begin : begin + _CHUNK])
        except BaseException:
            self._give_up()
            raise
        return Slot(name, _data_offset(self._file, info), len(view), info.CRC)

    def commit(self, safely: bool = False) -> None:
        """Let everything that was put there be found from now on.

        Parameters
        ----------
        safely : bool
            See it down onto the disk too, against a loss of power.
        """
        archive, self._archive = self._archive, None
        if archive is None:
            return
        try:
            if safely:
                archive.fp.flush()
                os.fsync(self._file)
            archive.close()
            if safely:
                os.fsync(self._file)
            self._known = self._stamp()
        except BaseException:
            self._archive = archive
            self._give_up()
            raise

    def _begin(self) -> zipfile.ZipFile:
        if self._archive is None:
            self._size = self.path.stat().st_size
            self._archive = zipfile.ZipFile(self.path, "a", zipfile.ZIP_STORED, allowZip64=True)
            self._archive.start_dir = self._size  # behind the old directory, which stays until the new one stands
        return self._archive

    def _give_up(self) -> None:
        """Take back what was put since the last commit."""
        archive, self._archive = self._archive, None
        if archive is not None and archive.fp is not None:
            archive._didModify = False  # so that closing writes nothing
            archive._writing = False
            archive.close()
        os.truncate(self._file, self._size)
        self._known = self._stamp()

    def allow_writing(self, end: int) -> None:
        """Open a shelf that could only be read for writing too; what lies behind the end of its directory goes.

        Raises
        ------
        OSError
        """
        if fcntl.fcntl(self._file, fcntl.F_GETFL) & os.O_ACCMODE == os.O_RDONLY:
            file = os.open(self.path, os.O_RDWR | os.O_CLOEXEC)
            os.dup2(file, self._file, inheritable=False)
            os.close(file)
        if end < self.nbytes:
            os.truncate(self._file, end)
            self._known = self._stamp()

    def read(self, slot: Slot, dtype: np.dtype, shape: tuple[int, ...]) -> np.ndarray:
        """The array that lies in a slot; may be called on any thread.

        Raises
        ------
        Damaged
            When its bytes are not those that were put there.
        OSError
        """
        return read_slot(self._file, self.path, slot, dtype, shape)

    @property
    def nbytes(self) -> int:
        """Size of the file."""
        return os.fstat(self._file).st_size

    def close(self) -> None:
        """Let go of the file; what was not committed is lost."""
        if self._archive is not None:
            self._give_up()
        if self._file >= 0:
            os.close(self._file)
            self._file = -1


def read_slot(file: int, path: Path, slot: Slot, dtype: np.dtype, shape: tuple[int, ...]) -> np.ndarray:
    """Read an array from an open file, and check it.

    Raises
    ------
    Damaged
    OSError
    """
    array = np.empty(shape, dtype=dtype)
    if array.nbytes != slot.size:
        raise Damaged(f"{path}: an array of {array.nbytes} bytes is kept in {slot.size}")
    view = memoryview(array.reshape(-1)).cast("B") if array.size else memoryview(bytearray())
    done, crc = 0, 0
    while done < slot.size:
        check_here()
        part = view[done : done + _CHUNK]
        got = os.preadv(file, [part], slot.offset + done)
        if got == 0:
            raise Damaged(f"{path}: ends in the middle of an array")
        crc = zlib.crc32(part[:got], crc)
        done += got
    if crc != slot.crc:
        raise Damaged(f"{path}: an array does not match its checksum")
    return array


def _data_offset(file: int, info: zipfile.ZipInfo) -> int:
    """Where a member's bytes begin: behind its own header, whose length that header tells."""
    head = os.pread(file, 30, info.header_offset)
    if len(head) < 30 or head[:4] != b"PK\x03\x04":
        raise Damaged(f"{info.filename}: has no header of its own")
    name, extra = struct.unpack("<HH", head[26:30])
    return info.header_offset + 30 + name + extra


class _Head(io.RawIOBase):
    """The first bytes of a file, as a file."""

    def __init__(self, file: int, size: int) -> None:
        self._file, self._size, self._at = file, size, 0

    def seekable(self) -> bool:
        return True

    def readable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        self._at = max(0, offset + {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: self._size}[whence])
        return self._at

    def readinto(self, buffer: memoryview) -> int:
        room = max(0, min(len(buffer), self._size - self._at))
        data = os.pread(self._file, room, self._at)
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)


def open_archive(file: int, path: Path) -> tuple[dict[str, Slot], int]:
    """The members of an archive that may be damaged or hostile, by their names, and where its directory ends.

    Where the file goes on behind that, what was being put there was cut off.

    Parameters
    ----------
    file : int
        Descriptor of the open file.
    path : Path
        For what is said.

    Raises
    ------
    BadInput
        When no directory can be found, or what it says cannot be.
    """
    size = os.fstat(file).st_size
    for end in _possible_ends(file, size):
        try:
            with zipfile.ZipFile(io.BufferedReader(_Head(file, end))) as archive:
                infos = archive.infolist()
                end = _end_before(file, end) + len(archive.comment)  # what follows is no comment of its own
        except (zipfile.BadZipFile, OSError, ValueError, struct.error, NotImplementedError, UnicodeDecodeError):
            continue
        if len(infos) > _MOST_MEMBERS:
            raise BadInput(f"{path}: lists {len(infos)} members, more than any job has; it is no job file")
        members, there = {}, 0
        for info in infos:
            try:
                offset = _data_offset(file, info)
            except Damaged:
                continue
            there += 1
            if info.compress_type != zipfile.ZIP_STORED or info.flag_bits & 1 or info.file_size != info.compress_size:
                continue  # nothing is unpacked because a file said so
            if offset + info.file_size <= end:
                members[info.filename] = Slot(info.filename, offset, info.file_size, info.CRC)
        if 2 * there > len(infos):  # what only looks like a directory names members that are not there, or none
            return members, end
    raise BadInput(f"{path}: is no job file, or was cut off before its first save was whole; open another")


def _end_before(file: int, end: int) -> int:
    """Where the last directory before a place ends, but for its comment."""
    with mmap.mmap(file, 0, access=mmap.ACCESS_READ) as whole:
        return whole.rfind(_END, 0, end) + 22


def _possible_ends(file: int, size: int) -> list[int]:
    """Where an archive's directory may end, the last first."""
    ends = [size]
    if size < 22:
        return ends
    with mmap.mmap(file, 0, access=mmap.ACCESS_READ) as whole:
        at = size
        while len(ends) < _MOST_TRIES:
            at = whole.rfind(_END, 0, at)
            if at < 0:
                break
            if at + 22 <= size:
                ends.append(at + 22)
    return ends
