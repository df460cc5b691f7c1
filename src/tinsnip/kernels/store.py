"""What was compiled, on disk: an entry for each kernel and signature, found by what its code depends on.

An entry's name holds a hash over the kernel's own code, the constants it uses and, the same way, every kernel it calls:
an edit makes anew what it concerns and nothing else, and stale code has no name by which it could be found. Entries are
written beside and moved into place, and checked when read. Of several processes that want one, one compiles and the
others wait.
"""

import contextlib
import fcntl
import hashlib
import os
import platform
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from types import CodeType, ModuleType
from typing import Any

import llvmlite
import llvmlite.binding as llvm
import numba
import numpy as np
import platformdirs

__all__ = ["Store", "code_key"]

_MARK = b"tinsnip kernel 1\n"
_KEPT_DAYS = 60
"""Entries that nobody read for so long are cleared: of edited kernels, of an older Python, of another processor."""


def code_key(function: Callable) -> str:
    """What a kernel's machine code depends on, as a hash of 16 hexadecimal digits.

    Parameters
    ----------
    function : callable
        The Python function; kernels that it calls are found by their names among its globals.
    """
    digest = hashlib.sha256()
    _add_function(digest, function, set())
    return digest.hexdigest()[:16]


def _add_function(digest: Any, function: Callable, seen: set[int]) -> None:
    if id(function) in seen:
        return
    seen.add(id(function))
    names: set[str] = set()
    digest.update(f"{function.__module__}.{function.__qualname__}".encode())
    _add_code(digest, function.__code__, names)
    for name in sorted(names & function.__globals__.keys()):
        value = function.__globals__[name]
        digest.update(name.encode())
        called = getattr(value, "py_func", None)
        if called is not None:
            _add_function(digest, called, seen)
        elif isinstance(value, np.ndarray):
            digest.update(f"{value.dtype}{value.shape}".encode() + value.tobytes())
        elif isinstance(value, ModuleType):
            digest.update(value.__name__.encode())
        else:
            digest.update(repr(value).encode())


def _add_code(digest: Any, code: CodeType, names: set[str]) -> None:
    names.update(code.co_names)
    digest.update(code.co_code + repr((code.co_name, code.co_names, code.co_varnames, code.co_freevars)).encode())
    for constant in code.co_consts:
        if isinstance(constant, CodeType):
            _add_code(digest, constant, names)
        else:
            digest.update(repr(constant).encode())


def _toolchain() -> str:
    """What else machine code depends on: who compiled it, and for which processor."""
    own = hashlib.sha256()
    for name in ("calling.py", "dispatch.py", "lean.py", "store.py"):
        own.update((Path(__file__).parent / name).read_bytes())
    parts = (platform.python_version(), numba.__version__, llvmlite.__version__, np.__version__)
    processor = f"{llvm.get_host_cpu_name()} {llvm.get_host_cpu_features().flatten()}"
    own.update(f"{parts} {processor}".encode())
    return own.hexdigest()[:16]


def _place(name: str) -> int:
    return int.from_bytes(hashlib.sha256(name.encode()).digest()[:7], "big")


class Store:
    """The entries of one toolchain and processor, in the user's cache folder.

    Where the folder cannot be written, nothing is kept, and each process compiles for itself.
    """

    def __init__(self, root: Path | None = None) -> None:
        self.folder = (root or Path(platformdirs.user_cache_dir("tinsnip")) / "kernels") / _toolchain()
        self._lock_file = -1
        with contextlib.suppress(OSError):
            self.folder.mkdir(parents=True, exist_ok=True)
            self._lock_file = os.open(self.folder / "lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)

    def has(self, name: str) -> bool:
        """Whether there is an entry of that name."""
        return (self.folder / name).exists()

    def read(self, name: str) -> bytes | None:
        """An entry's content; None where there is none, or none that is whole."""
        try:
            text = (self.folder / name).read_bytes()
        except OSError:
            return None
        head = len(_MARK) + 32
        if text[: len(_MARK)] != _MARK or hashlib.sha256(text[head:]).digest() != text[len(_MARK) : head]:
            return None
        return text[head:]

    def write(self, name: str, content: bytes) -> None:
        """Keep an entry; where there is no room for it, nothing is kept."""
        beside = None
        with contextlib.suppress(OSError):
            try:
                number, beside = tempfile.mkstemp(prefix=".", dir=self.folder)
                with os.fdopen(number, "wb") as file:
                    file.write(_MARK + hashlib.sha256(content).digest() + content)
                os.replace(beside, self.folder / name)
                beside = None
            finally:
                if beside is not None:
                    os.unlink(beside)

    @contextlib.contextmanager
    def turn(self, name: str) -> Iterator[None]:
        """Wait until no other process is at an entry of that name, and be at it.

        One byte of the lock file stands for each name; the system lets go of it when a process ends, however it ends.
        """
        place, is_held = _place(name), False
        if self._lock_file >= 0:
            with contextlib.suppress(OSError):
                fcntl.lockf(self._lock_file, fcntl.LOCK_EX, 1, place)
                is_held = True
        try:
            yield
        finally:
            if is_held:
                fcntl.lockf(self._lock_file, fcntl.LOCK_UN, 1, place)

    def is_taken(self, name: str) -> bool:
        """Whether another process is at an entry of that name just now."""
        place = _place(name)
        try:
            fcntl.lockf(self._lock_file, fcntl.LOCK_EX | fcntl.LOCK_NB, 1, place)
        except OSError:
            return self._lock_file >= 0
        fcntl.lockf(self._lock_file, fcntl.LOCK_UN, 1, place)
        return False

    def clear_old(self) -> None:
        """Take away entries, of any toolchain, that nobody has read for long, and what was left half written."""
        now = time.time()
        for path in self.folder.parent.glob("*/*"):
            with contextlib.suppress(OSError):
                facts = path.stat()
                days = (now - max(facts.st_atime, facts.st_mtime)) / 86400
                if days > (1 if path.name.startswith(".") else _KEPT_DAYS) and path.name != "lock":
                    path.unlink()
