"""What is asked of the session by those that work out more of the part it looks over."""

from typing import Protocol

from PySide6.QtCore import Signal

from tinsnip.app.state.tasks import Tasks
from tinsnip.mesh import Mesh
from tinsnip.survey import Examination

__all__ = ["Examined"]


class Examined(Protocol):
    """The part, what was found on it, and work beside the window."""

    mesh: Mesh | None
    examination: Examination | None
    tasks: Tasks
    mesh_changed: Signal
    examined: Signal
