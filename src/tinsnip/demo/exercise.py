"""A small run through all kernels of this room, and of the picture of a part."""

import tempfile
from pathlib import Path

from tinsnip.demo.library import demo_scan
from tinsnip.picture import draw

__all__ = ["exercise"]


def exercise() -> None:
    """Reach every kernel."""
    scan = demo_scan("pump-cover", 10_000)
    with tempfile.TemporaryDirectory() as folder:
        draw(scan, Path(folder) / "a.png", (64, 64))
