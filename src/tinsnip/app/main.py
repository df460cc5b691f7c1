"""Start the window."""

import os
import sys
from importlib import resources
from pathlib import Path
from typing import NoReturn

from PySide6.QtGui import QIcon, QSurfaceFormat
from PySide6.QtWidgets import QApplication

from tinsnip.app.state.settings import Settings
from tinsnip.app.state.worker import finish_up, keep_collecting_here
from tinsnip.app.widgets.theme import dress

__all__ = ["make_application", "run_window"]


def make_application() -> QApplication:
    """The application, with the surface format that the view needs set before anything is drawn."""
    surface = QSurfaceFormat()
    surface.setVersion(3, 3)
    surface.setProfile(QSurfaceFormat.OpenGLContextProfile.CoreProfile)
    surface.setDepthBufferSize(24)
    surface.setSwapInterval(0)
    QSurfaceFormat.setDefaultFormat(surface)
    existing = QApplication.instance()
    if existing is not None:
        return existing
    os.environ.setdefault("QT_API", "pyside6")
    application = QApplication([sys.argv[0]])
    application.setApplicationName("Tinsnip")
    application.setOrganizationName("Tinsnip")
    application.setDesktopFileName("tinsnip")
    application.setWindowIcon(QIcon(str(resources.files("tinsnip.app") / "images" / "tinsnip.svg")))
    application.setStyle("Fusion")
    dress(application, Settings.load().text_size)
    keep_collecting_here(application)
    return application


def run_window(files: list[Path], demo: str | None = None) -> NoReturn:
    """Open the window, on files or on a demo scan, and leave with its exit code."""
    application = make_application()
    from tinsnip.app.frame.starting import Starting

    starting = Starting(Settings.load())
    starting.show()
    if not starting.read_in():
        os._exit(0)
    from tinsnip.app.frame.window import Window

    window = Window()
    window.show()
    starting.hide()
    starting.deleteLater()
    window.session.preparation.start()
    if files:
        window.opening.open(files)
    elif demo is not None:
        window.open_demo(demo)
    code = application.exec()
    finish_up()
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)  # all is saved by now; taking Qt and the driver apart in Python's order gains nothing
