"""What Tinsnip remembers between starts: recent files, folders, view drags, units shown."""

import contextlib
from pathlib import Path
from typing import Literal, get_args

import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tinsnip.errors import BadInput
from tinsnip.formats.whole import write_whole

__all__ = ["DRAGS", "MEANINGS", "Settings"]

DRAGS = ("left", "middle", "right", "shift+left", "ctrl+left", "ctrl+right")
"""Ways to drag in the view that can be given a meaning."""

_JOB = ".snipjob"
_MOST_RECENT = 8
"""Scans that are remembered, and as many jobs."""
Meaning = Literal["turn", "pan", "zoom", "light", "nothing"]
MEANINGS: tuple[str, ...] = get_args(Meaning)
"""What a drag may do."""


class Settings(BaseModel):
    """The settings, kept as one JSON file in the user's configuration folder."""

    model_config = ConfigDict(extra="ignore", validate_assignment=True)

    recent: list[str] = []
    open_folder: str = ""
    export_folder: str = ""
    job_folder: str = ""
    profile: str = ""
    show_inches: bool = False
    undo_share: float = Field(0.25, ge=0.0, le=0.9)
    text_size: float = Field(0.0, ge=0.0, le=4.0)
    place: str = ""
    ticket_folded: bool = False
    tray_folded: bool = False
    unfolded: list[str] = []
    log_height: int = Field(0, ge=0, le=10_000)
    walk: int = Field(0, ge=0, le=9)
    left: Meaning = "turn"
    middle: Meaning = "turn"
    right: Meaning = "pan"
    shift_left: Meaning = "pan"
    ctrl_left: Meaning = "zoom"
    ctrl_right: Meaning = "light"
    shades_depth: bool = True
    has_ground: bool = True
    perspective: bool = False

    @staticmethod
    def path() -> Path:
        """Where they are kept."""
        return Path(platformdirs.user_config_dir("tinsnip")) / "settings.json"

    @classmethod
    def load(cls) -> "Settings":
        """Read them; what cannot be read falls back to the defaults."""
        try:
            return cls.model_validate_json(cls.path().read_text("utf-8"))
        except (OSError, ValidationError, UnicodeDecodeError):
            return cls()

    def save(self) -> None:
        """Write them, whole or not at all; a read-only home is no reason to stop."""
        with contextlib.suppress(BadInput):
            write_whole(self.path(), self.model_dump_json(indent=2), make_folder=True)

    def meaning(self, drag: str) -> str:
        """What a drag of `DRAGS` does."""
        return getattr(self, drag.replace("+", "_"))

    def set_meaning(self, drag: str, meaning: str) -> None:
        """Give a drag another meaning."""
        setattr(self, drag.replace("+", "_"), meaning)

    def note_opened(self, path: Path) -> None:
        """Put a file at the head of the recent ones, and remember its folder."""
        name = str(path.resolve())
        names = [name, *(r for r in self.recent if r != name)]
        like = [r for r in names if r.endswith(_JOB) == name.endswith(_JOB)]  # scans do not push jobs out
        self.recent = [r for r in names if r not in like[_MOST_RECENT:]]
        self.open_folder = str(path.resolve().parent)
        self.save()
