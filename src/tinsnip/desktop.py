"""Desktop entry, icon, file types, manual page and completions, for the user's own desktop and shells."""

import os
import shutil
import subprocess
import sys
from importlib import resources
from pathlib import Path

import click
from lxml import etree

from tinsnip import __version__
from tinsnip.errors import BadInput
from tinsnip.manual import completion, manual_page

__all__ = ["install_desktop", "remove_desktop"]

_TYPES = {
    "model/stl": ("STL scan", "*.stl"),
    "model/obj": ("OBJ scan", "*.obj"),
    "model/3mf": ("3MF model", "*.3mf"),
    "model/gltf-binary": ("GLB model", "*.glb"),
    "model/vnd.ply": ("PLY scan", "*.ply"),
    "model/off": ("OFF scan", "*.off"),
    "application/x-tinsnip-job": ("Tinsnip job", "*.snipjob"),
}
_MIME_SPACE = "http://www.freedesktop.org/standards/shared-mime-info"


def _places() -> dict[str, Path]:
    base = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    return {
        "entry": base / "applications" / "tinsnip.desktop",
        "icon": base / "icons" / "hicolor" / "scalable" / "apps" / "tinsnip.svg",
        "types": base / "mime" / "packages" / "tinsnip.xml",
        "about": base / "metainfo" / "tinsnip.metainfo.xml",
        "manual": base / "man" / "man1" / "tinsnip.1",
        "bash": base / "bash-completion" / "completions" / "tinsnip",
        "zsh": base / "zsh" / "site-functions" / "_tinsnip",
        "fish": base / "fish" / "vendor_completions.d" / "tinsnip.fish",
    }


def _about() -> bytes:
    """What software centres show (AppStream 1.0, metainfo of a desktop application)."""
    root = etree.Element("component", type="desktop-application")
    for tag, text in (
        ("id", "tinsnip"), ("name", "Tinsnip"), ("summary", "From a dense 3D scan to a checked, closed solid"),
        ("metadata_license", "MIT"), ("project_license", "MIT"),
    ):  # fmt: skip
        etree.SubElement(root, tag).text = text
    told = etree.SubElement(etree.SubElement(root, "description"), "p")
    told.text = (
        "Trims background and base off dense scans, removes strays and voids, fills holes, reduces, closes, checks "
        "and writes solids for printing or reverse engineering. Says what was measured and what was made."
    )
    etree.SubElement(root, "launchable", type="desktop-id").text = "tinsnip.desktop"
    etree.SubElement(root, "content_rating", type="oars-1.1")
    etree.SubElement(etree.SubElement(root, "provides"), "binary").text = "tinsnip"
    releases = etree.SubElement(root, "releases")
    etree.SubElement(releases, "release", version=__version__, type="development", date="2026-11-29")
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)


def _command() -> str:
    """What starts Tinsnip from a desktop: the installed command, or this Python's module."""
    found = shutil.which("tinsnip")
    beside = Path(sys.executable).parent / "tinsnip"
    command = found or (str(beside) if beside.exists() else f"{sys.executable} -m tinsnip")
    return command if " -m " in command else f'"{command}"'


def _refresh(places: dict[str, Path]) -> None:
    """Tell the desktop, where it has the programs for that."""
    for program, folder in (
        ("update-desktop-database", places["entry"].parent),
        ("update-mime-database", places["types"].parents[1]),
    ):
        if shutil.which(program):
            subprocess.run([program, str(folder)], capture_output=True, check=False)


def install_desktop(commands: click.Group) -> list[Path]:
    """Install entry, icon, types, manual page and completions below the user's data folder.

    Parameters
    ----------
    commands : click.Group
        The command line, of which the manual page and the completions are made.

    Returns
    -------
    list of Path
        The files written.

    Raises
    ------
    BadInput
        When they cannot be written.
    """
    places = _places()
    entry = "\n".join(
        [
            "[Desktop Entry]",
            "Type=Application",
            "Name=Tinsnip",
            "Comment=From a dense 3D scan to a checked, closed solid",
            f"Exec={_command()} %F",
            "Icon=tinsnip",
            "Terminal=false",
            "Categories=Graphics;3DGraphics;Engineering;",
            f"MimeType={';'.join(_TYPES)};",
            "",
        ]
    )
    root = etree.Element("mime-info", nsmap={None: _MIME_SPACE})
    for name, (comment, pattern) in _TYPES.items():
        kind = etree.SubElement(root, "mime-type", type=name)
        etree.SubElement(kind, "comment").text = comment
        etree.SubElement(kind, "glob", pattern=pattern)
    icon = (resources.files("tinsnip") / "app" / "images" / "tinsnip.svg").read_bytes()
    types = etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)
    texts = [manual_page(commands, "tinsnip"), *(completion(commands, "tinsnip", s) for s in ("bash", "zsh", "fish"))]
    contents = (entry.encode(), icon, types, _about(), *(text.encode() for text in texts))
    try:
        for path, content in zip(places.values(), contents, strict=True):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content)
    except OSError as error:
        raise BadInput(f"{error.filename}: {(error.strerror or str(error)).lower()}; check the folder") from error
    _refresh(places)
    return list(places.values())


def remove_desktop() -> list[Path]:
    """Take away what `install_desktop` wrote; returns the files removed."""
    places = _places()
    removed = [path for path in places.values() if path.exists()]
    for path in removed:
        path.unlink()
    _refresh(places)
    return removed
