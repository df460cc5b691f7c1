"""The outlines of layers written from the window."""

from pathlib import Path

from PySide6.QtWidgets import QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.view.layerpanel import LayerPanel
from tinsnip.app.widgets.filedialog import bare_name, choose_target, folder_for
from tinsnip.app.widgets.question import ask
from tinsnip.formats.outlinefiles import write_layers
from tinsnip.progress import Progress

__all__ = ["save_layers"]

_KINDS = {".svg": "SVG", ".dxf": "DXF"}


def save_layers(parent: QWidget, session: Session, settings: Settings, panel: LayerPanel, every: bool) -> None:
    """Ask where to, and write the outlines of the layer that is shown, or of all, a file each."""
    layers, mesh, piece = panel.layers, session.mesh, session.job.piece
    if layers is None or piece is None:
        return
    stem = bare_name(piece.name)
    number = "" if every else f"-layer-{panel.layer + 1:04d}"
    folder = session.exporting.folder or folder_for(piece.scan.path, settings.export_folder)
    title = "Save the outlines of all layers" if every else "Save the outlines of this layer"
    target = choose_target(parent, title, Path(folder) / f"{stem}{number}.svg", _KINDS, [settings.export_folder])
    if target is None:
        return
    chosen = range(len(layers.heights)) if every else [panel.layer]
    names = {i: target.with_name(f"{target.stem}-{i + 1:04d}{target.suffix}") if every else target for i in chosen}
    taken = next((name for name in names.values() if every and name.exists()), None)
    if taken is not None:
        replace = "Replace them"
        text = f"{taken.name} and others may be there already."
        if ask(parent, "Files are replaced", text, str(taken.parent), (replace, "Stop"), "Stop", "Stop") != replace:
            return
    box = mesh.box[:, :2]

    def work(progress: Progress) -> int:
        write_layers(layers, names, box, stem, progress)
        return len(names)

    def done(count: int) -> None:
        told = f"{count} layers beside {target.name}" if every else target.name
        session.message.emit(f"Wrote {told}", False)

    session.tasks.foreground(f"Writing {target.name}", work, done)
