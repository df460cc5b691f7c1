"""Small files that are written whole or not at all."""

import contextlib
import os
import tempfile
from pathlib import Path

from tinsnip.errors import BadInput

__all__ = ["write_whole"]


def write_whole(path: Path, content: str | bytes, make_folder: bool = False) -> None:
    """Write beside a file and let that take its place: what was there stays until then.

    Parameters
    ----------
    path : Path
    content : str or bytes
        Text goes as UTF-8.
    make_folder : bool
        Whether its folder is made where there is none.

    Raises
    ------
    BadInput
        When it cannot be written; nothing is left behind.
    """
    beside = ""
    try:
        if make_folder:
            path.parent.mkdir(parents=True, exist_ok=True)
        handle, beside = tempfile.mkstemp(dir=path.parent, prefix=".", suffix=".part")
        with os.fdopen(handle, "wb") as file:
            file.write(content.encode() if isinstance(content, str) else content)
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(beside, 0o666 & ~umask)
        os.replace(beside, path)
    except OSError as error:
        if beside:
            with contextlib.suppress(OSError):
                os.unlink(beside)
        raise BadInput(f"{path}: {error.strerror or error}; choose another place, or make room") from error
