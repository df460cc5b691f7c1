"""The row of tools, at the pointer, in every station."""

from PySide6.QtCore import QSize
from PySide6.QtGui import QCursor, QIcon, QPixmap
from PySide6.QtWidgets import QMenu, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.stations.surface import SurfaceTray
from tinsnip.app.stations.trim import TrimTray
from tinsnip.app.widgets.pictograms import drawn
from tinsnip.app.widgets.theme import px
from tinsnip.treat.shape.brushes import BRUSHES

__all__ = ["tool_menu"]


def tool_menu(parent: QWidget, session: Session, trim: TrimTray, surface: SurfaceTray) -> QMenu:
    """A menu of the snips, which open Trim, of the tools for selecting and the brushes, which work in any station."""
    menu = QMenu(parent)
    menu.setStyleSheet(f"QMenu::icon {{ padding-left: {px(6)}px; }}")

    def snip(section: object) -> None:
        session.set_station("Trim")
        trim.choose(section)

    for section in trim.sections:
        action = menu.addAction(_icon(section.picture), section.name)
        action.triggered.connect(lambda _=False, section=section: snip(section))
    menu.addSeparator()
    for tool in trim.select_tools:
        action = menu.addAction(_icon(tool.picture), tool.name)
        action.triggered.connect(lambda _=False, tool=tool: trim.take(tool))
    brushes = menu.addMenu(_icon("brush"), "Brush the surface")
    for name, kind in BRUSHES.items():
        action = brushes.addAction(_icon(f"brush {name}"), kind.title)
        action.triggered.connect(lambda _=False, name=name: surface.take(name))
    menu.popup(QCursor.pos())
    return menu


def _icon(picture: str) -> QIcon:
    pixmap: QPixmap = drawn(picture, QSize(px(24), px(24)))
    return QIcon(pixmap)
