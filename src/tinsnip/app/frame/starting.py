"""What is on the screen at once, while the window itself is still being read in."""

import importlib

from PySide6.QtCore import QByteArray, Qt
from PySide6.QtGui import QCloseEvent, QGuiApplication
from PySide6.QtWidgets import QApplication, QFrame, QLabel, QProgressBar, QVBoxLayout, QWidget

from tinsnip.app.state.settings import Settings
from tinsnip.app.widgets.theme import px

__all__ = ["Starting", "take_place"]

_PARTS = (
    "numpy", "scipy.sparse", "scipy.spatial", "numba", "tinsnip.mesh", "tinsnip.formats", "tinsnip.survey",
    "tinsnip.treat", "tinsnip.job", "tinsnip.demo", "tinsnip.app.state.session", "tinsnip.app.view.viewport",
    "tinsnip.app.stations.registry", "tinsnip.app.frame.window",
)  # fmt: skip
"""What is read in, in an order in which each brings about as much as the next."""


def take_place(window: QWidget, settings: Settings) -> None:
    """Let a window stand where it stood last, or as large as fits."""
    room = QGuiApplication.primaryScreen().availableGeometry()
    window.resize(min(px(1280), room.width()), min(px(800), room.height()))
    if settings.place:
        window.restoreGeometry(QByteArray.fromBase64(settings.place.encode()))


class Starting(QWidget):
    """Stands where the window will stand, and says how far it is."""

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self.is_closed = False
        self.setObjectName("starting")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setWindowTitle("Tinsnip")
        card = QFrame()
        card.setObjectName("card")
        card.setFixedWidth(px(420))
        box = QVBoxLayout(card)
        box.setContentsMargins(px(28), px(24), px(28), px(24))
        box.setSpacing(px(10))
        title = QLabel("Tinsnip")
        title.setObjectName("title")
        box.addWidget(title)
        self.bar = QProgressBar()
        self.bar.setRange(0, len(_PARTS))
        self.bar.setFormat("Starting, %v of %m parts")
        box.addWidget(self.bar)
        outer = QVBoxLayout(self)
        outer.addWidget(card, 0, Qt.AlignmentFlag.AlignCenter)
        take_place(self, settings)

    def read_in(self) -> bool:
        """Read everything in, part by part; False when it was closed meanwhile."""
        for i, part in enumerate(_PARTS):
            self.bar.setValue(i)
            QApplication.processEvents()
            if self.is_closed:
                return False
            importlib.import_module(part)
        return True

    def closeEvent(self, event: QCloseEvent) -> None:
        self.is_closed = True
        super().closeEvent(event)
