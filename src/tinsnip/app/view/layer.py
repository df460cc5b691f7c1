"""One surface among those that make a picture."""

from dataclasses import dataclass, field

import numpy as np

from tinsnip.app.view.looks import TIN
from tinsnip.app.view.surface import Surface
from tinsnip.app.widgets.theme import PLAIN

__all__ = ["Layer"]


@dataclass
class Layer:
    """A surface as it is drawn now: how it has been moved, within which pixels, and painted how."""

    surface: Surface
    frame: np.ndarray = field(default_factory=lambda: np.eye(4))
    scissor: tuple[int, int, int, int] | None = None
    look: int = TIN
    is_now: bool = True
    tint: tuple[float, float, float] = PLAIN
