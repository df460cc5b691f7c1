"""Tinsnip: from a dense 3D scan to a checked, closed solid."""

__version__ = "0.1.0"

import importlib
import importlib.util
import os
from typing import Any

# linear algebra here is many small systems, solved side by side: threads within each would only stand in the way
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

_FACE = "tinsnip.scripting"


def __getattr__(name: str) -> Any:
    """What scripts call, fetched when it is first asked for: a command line that needs none of it starts at once."""
    # `from tinsnip import kernels` asks here first; a module is no reason to fetch all that scripts may call
    if not name.startswith("_") and importlib.util.find_spec(f"{__name__}.{name}") is None:
        face = importlib.import_module(_FACE)
        if name in face.__all__:
            return getattr(face, name)
    raise AttributeError(f"module 'tinsnip' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*globals(), *importlib.import_module(_FACE).__all__])
