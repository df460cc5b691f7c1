"""Compiled kernels: one decorator, and a cache that can never hand out stale code.

numba keys its cache by the file a kernel stands in, so a helper edited in another module would leave a
stale kernel behind. The cache folder is therefore keyed by a hash over all sources that may hold kernels
and by where they are installed.
"""

import hashlib
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
import platformdirs

__all__ = ["cache_folder", "is_compiled", "kernel", "mark_compiled", "registered"]

_KEPT_CACHES = 6
_registered: list[Any] = []


def _digest() -> str:
    package = Path(__file__).parent
    sources = hashlib.sha256(f"{package} {numba.__version__}".encode())
    for source in sorted(package.rglob("*.py")):
        if "app" not in source.relative_to(package).parts[:1]:
            text = source.read_bytes()
            if b"@kernel" in text:
                sources.update(text)
    return sources.hexdigest()[:16]


def _make_cache_folder() -> Path:
    root = Path(platformdirs.user_cache_dir("tinsnip")) / "kernels"
    folder = root / _digest()
    if not folder.exists():
        folder.mkdir(parents=True, exist_ok=True)
        stale = sorted(root.iterdir(), key=lambda p: p.stat().st_mtime)[:-_KEPT_CACHES]
        for old in stale:
            shutil.rmtree(old, ignore_errors=True)
    return folder


cache_folder: Path = _make_cache_folder()
numba.config.CACHE_DIR = str(cache_folder)


def kernel(function: Callable) -> Any:
    """Compile a loop over triangles: releases the GIL, is cached on disk, divides like numpy."""
    compiled = numba.njit(nogil=True, cache=True, error_model="numpy")(function)
    _registered.append(compiled)
    return compiled


def registered() -> list[Any]:
    """All kernels of the modules imported so far."""
    return list(_registered)


def is_compiled() -> bool:
    """Whether the warm-up has been through for exactly these sources."""
    return (cache_folder / "complete").exists()


def mark_compiled() -> None:
    """Note that the warm-up has been through."""
    (cache_folder / "complete").touch()
