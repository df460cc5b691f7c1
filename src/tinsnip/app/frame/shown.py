"""What the window shows besides the job: saved with it, and shown again."""

import contextlib
from pathlib import Path
from typing import Any

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QObject, Qt

from tinsnip.app.frame.menus import Menus
from tinsnip.app.state.session import Session
from tinsnip.app.tools.pins import Pins
from tinsnip.app.view.looks import DEVIATION, LOOKS
from tinsnip.app.view.viewport import Viewport
from tinsnip.job import OpenedJob
from tinsnip.regions import Region

__all__ = ["Shown"]

_PICTURE = 320, 200


class Shown(QObject):
    """Camera, station, look, ticks and readings, and a small picture of it all."""

    def __init__(self, session: Session, viewport: Viewport, pins: Pins, parent: QObject) -> None:
        super().__init__(parent)
        self._session, self._viewport, self._pins = session, viewport, pins
        self.menus: Menus | None = None

    def values(self) -> dict[str, Any]:
        """What is shown, as JSON can hold it."""
        camera = self._viewport.camera
        return {
            "station": self._session.station,
            "look": LOOKS.index(self._viewport.look),
            "camera": {
                "turn": camera.turn, "lift": camera.lift, "middle": camera.middle.tolist(), "scale": camera.scale,
            },
            "toggled": [list(key) for key in sorted(self._session.ticks.toggled)],
            "selections": {n: r.model_dump(mode="json") for n, r in self._session.selected.named.items()},
            "reference": self._session.references.key,
            "measured": self._viewport.readings.values(),
            "readings": [{"place": p.place.tolist(), "text": p.text} for p in self._pins.pins if p.look == DEVIATION],
        }  # fmt: skip

    def picture(self) -> bytes | None:
        """A small picture of the part as the view shows it, PNG."""
        if not self._viewport.isVisible() or self._viewport.scene is None or self._session.mesh is None:
            return None
        wide = self._viewport.grabFramebuffer().scaled(*_PICTURE, Qt.AspectRatioMode.KeepAspectRatioByExpanding)
        left, top = (wide.width() - _PICTURE[0]) // 2, (wide.height() - _PICTURE[1]) // 2
        data = QByteArray()
        buffer = QBuffer(data)
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        wide.copy(left, top, *_PICTURE).save(buffer, "PNG")
        return bytes(data.data())

    def show_again(self, opened: OpenedJob, path: Path | None) -> None:
        """Show a job as it was left; what does not fit is left as it is."""
        self._viewport.framing.show_again(opened.view.get("camera"))
        self._session.set_station(str(opened.view.get("station")))
        look = opened.view.get("look")
        if self.menus is not None and isinstance(look, int) and 0 <= look < len(self.menus.looks):
            self.menus.looks[look].trigger()
        self._pins.show_again(opened.view.get("readings"))
        self._viewport.readings.show_again(opened.view.get("measured"))
        self._session.references.choose(str(opened.view.get("reference") or ""))
        kept = opened.view.get("selections")
        for name, value in kept.items() if isinstance(kept, dict) else ():
            with contextlib.suppress(ValueError):
                self._session.selected.named[str(name)[:80]] = Region.model_validate(value)
        self._session.show_ticks_again(opened.view.get("toggled"))
