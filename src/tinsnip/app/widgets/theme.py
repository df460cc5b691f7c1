"""Colours and the style sheet: paper ticket, dark view, one copper button."""

import re
from importlib import resources

from PySide6.QtGui import QColor, QFont, QFontDatabase, QFontInfo, QFontMetricsF, QGuiApplication
from PySide6.QtWidgets import QApplication, QWidget

__all__ = ["MUTED", "OCHRE", "PLAIN", "RUST", "VIOLET", "dress", "mono_font", "polish_again", "px", "tint_of"]

_PLAIN_LINE = 13.95
"""Height of a line of text, in pixels, for which all sizes here are written."""
_LARGER = (2880, 1.5), (2400, 1.2)
"""Text on a screen of so many pixels across of which nothing says how large they are, times the usual size."""
_size = 1.0

VIOLET = QColor("#7a45bd")
OCHRE = QColor("#9a6b12")
RUST = QColor("#a03a1c")
MUTED = QColor("#6d675c")
PLAIN = 0.75, 0.745, 0.725
"""Tin, as the shaders light it."""
_TINTS = (
    (0.60, 0.70, 0.78), (0.76, 0.69, 0.58), (0.63, 0.74, 0.60), (0.78, 0.63, 0.64), (0.67, 0.63, 0.77),
)  # fmt: skip
"""Of pieces that are shown besides the one worked on: none as strong as a finding."""


def tint_of(number: int) -> tuple[float, float, float]:
    """The tint that a piece has while another one is worked on, by its lasting number; red, green, blue, 0 to 1."""
    return _TINTS[number % len(_TINTS)]


def px(size: float) -> int:
    """A length on the screen that follows the size of the text; `size` is in pixels where text is of the usual size."""
    return max(1, round(size * _size)) if size > 0 else round(size * _size)


def dress(application: QApplication, text_size: float = 0.0) -> None:
    """Give the application its looks.

    Parameters
    ----------
    application : QApplication
    text_size : float
        How large its text is, 1 being what the desktop says. 0: as the desktop says, but larger on a large screen of
        which the desktop says nothing.
    """
    global _size
    font = application.font()
    if text_size == 0.0:
        text_size = _usual_on(QGuiApplication.primaryScreen())
    if not application.property("plain text"):
        application.setProperty("plain text", QFontInfo(font).pointSizeF())
    font.setPointSizeF(application.property("plain text") * text_size)
    application.setFont(font)
    _size = QFontMetricsF(font).height() / _PLAIN_LINE
    images = resources.files("tinsnip.app") / "images"
    sheet = re.sub(r"\b(\d+)px", lambda found: f"{px(int(found[1]))}px", _STYLE)
    for name in ("tick", "arrow"):
        sheet = sheet.replace(name.upper(), str(images / f"{name}.svg"))
    application.setStyleSheet(sheet)


def polish_again(widget: QWidget) -> None:
    """Let rules that name what a widget stands in hold for all within it; they are looked up before it stands there."""
    for child in widget.findChildren(QWidget):
        child.style().unpolish(child)
        child.style().polish(child)


def _usual_on(screen: object) -> float:
    """How large text is where the user says nothing: larger on a screen of many pixels of unknown size."""
    if screen.devicePixelRatio() != 1.0 or abs(screen.logicalDotsPerInch() - 96.0) >= 1.0:
        return 1.0  # the desktop has said it
    return next((larger for across, larger in _LARGER if screen.size().width() >= across), 1.0)


def mono_font(size: float | None = None, bold: bool = False) -> QFont:
    """The system's fixed-width font, for figures and ids."""
    font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
    font.setPointSizeF(size if size is not None else QFontInfo(QApplication.font()).pointSizeF())
    font.setBold(bold)
    return font


_STYLE = """
QMainWindow, QMenuBar { background: #1d2023; color: #e9e5dc; }
QMenuBar::item { padding: 6px 9px; background: transparent; }
QMenuBar::item:selected { background: #3a3f43; }
QMenu { background: #2a2e31; color: #efece5; border: 1px solid #4a4f53; }
QMenu::item { padding: 5px 24px; }
QMenu::item:selected { background: #b4602a; }
QMenu::item:disabled { color: #83888b; }
QWidget#topbar, QWidget#statusline { background: #1d2023; color: #cfccc4; }
QWidget#statusline QLabel { color: #cfccc4; padding: 0 10px; }
QWidget#statusline QLabel[unsaved="true"] { color: #f0b184; font-weight: bold; }
QFrame#card QLabel#thumb { background: #494f53; border: 1px solid #bdb7a9; }
QToolButton#jobcard { background: #fbf8f0; color: #26241f; border: 1px solid #cfc8b8; border-radius: 4px;
    padding: 8px; }
QToolButton#jobcard:hover { background: #ffffff; border-color: #b4602a; }
QLabel#brand { color: #ffffff; font-weight: bold; padding: 0 6px 0 12px; }
QToolButton { border: 0; padding: 5px 8px; color: #d9d6cf; }
QToolButton:hover { background: #3a3f43; }
QToolButton:disabled { color: #6f7477; }
QToolButton:focus { border: 2px solid #8fb8e8; border-radius: 3px; padding: 3px 6px; }
QToolButton::menu-indicator { image: none; }
QPushButton#state { border-radius: 3px; padding: 6px 12px; text-align: left; font-weight: bold; }
QPushButton#state[ready="no"] { background: #552d1a; color: #ffcfae; border: 1px solid #7d4424; }
QPushButton#state[ready="yes"] { background: #17452f; color: #bdf0d4; border: 1px solid #2e7a55; }
QPushButton#state[ready="open"] { background: #2f3d46; color: #d3e3ec; border: 1px solid #55707f; }
QPushButton#state[ready="none"] { background: #2a2e31; color: #a9adaf; border: 1px solid #3a3f43; }
QWidget#viewrow { background: #33383b; }
QWidget#viewrow QToolButton { color: #dcd9d2; padding: 5px 9px; border-radius: 3px; }
QWidget#viewrow QToolButton:checked, QWidget#viewrow QToolButton#choosing { background: #5a6064; color: #ffffff; }
QWidget#viewrow QToolButton:focus { border: 2px solid #8fb8e8; padding: 3px 7px; }
QPushButton#state:focus { border: 2px solid #8fb8e8; }
QFrame#viewline { color: #565c60; margin: 3px 4px; }
QWidget#ticket, QScrollArea#ticketscroll, QWidget#ticketbody { background: #f3efe6; color: #26241f; }
QScrollArea { border: 0; }
QDialog#sheet QScrollArea, QWidget#sheetbody { background: transparent; }
QWidget#tray, QStackedWidget, QScrollArea#trayscroll, QWidget#traybody { background: #e4e0d8; color: #26241f; }
QWidget#trayhead { background: #d5d0c5; border-bottom: 1px solid #bdb7a9; }
QWidget#log { background: #dbd6cc; }
QLabel#title { font-weight: bold; font-size: 15px; color: #1d1b17; }
QLabel#muted { color: #5f594e; }
QLabel#heading { font-weight: bold; color: #5f594e; }
QLabel#figure { font-weight: bold; color: #1d1b17; }
QLabel#warning { background: #f6e3c4; color: #573a08; border: 1px solid #d9b677; padding: 7px; border-radius: 3px; }
QWidget#tray QPushButton { background: #f7f5f0; color: #26241f; border: 1px solid #b9b3a6; border-radius: 3px;
    padding: 7px 10px; }
QWidget#tray QPushButton:hover { background: #ffffff; }
QWidget#tray QPushButton:disabled { color: #8d8778; background: #dedad1; border: 1px dashed #b9b3a6; }
QWidget#tray QPushButton:checked { background: #4c5256; color: #ffffff; border-color: #33383b; }
QWidget#tray QPushButton:focus { border: 2px solid #1f5fa8; }
QWidget#tray QPushButton#more, QWidget#tray QPushButton#more:checked { background: transparent; color: #4a463d;
    border: 1px solid transparent; border-top: 1px solid #c9c3b5; border-radius: 0; text-align: left; padding: 5px 0; }
QWidget#tray QPushButton#more:hover { color: #8f3f14; }
QWidget#tray QPushButton#more:focus { border: 2px solid #1f5fa8; }
QWidget#tray QPushButton#goto, QWidget#tray QPushButton#goto:disabled { background: transparent; color: #26241f;
    border: 2px solid transparent; padding: 2px 0; text-align: left; text-decoration: none; }
QWidget#tray QPushButton#goto:enabled { color: #8f3f14; }
QWidget#tray QPushButton#goto:focus { border-color: #1f5fa8; }
QWidget#tray QPushButton#copper { background: #b4602a; color: #ffffff; border: 0; font-weight: bold; padding: 10px; }
QWidget#tray QPushButton#copper:hover { background: #c56d34; }
QWidget#tray QPushButton#copper:disabled { background: #d6cabf; color: #74695e; border: 1px dashed #a79a8d; }
QWidget#tray QPushButton#copper:focus { border: 3px solid #143a66; padding: 7px; }
QWidget#tray QCheckBox, QWidget#tray QRadioButton, QWidget#tray QLabel { color: #26241f; background: transparent; }
QWidget#tray QLabel#muted { color: #5f594e; }
QDoubleSpinBox, QSpinBox, QComboBox, QLineEdit { background: #ffffff; color: #1d1b17; border: 1px solid #b9b3a6;
    border-radius: 2px; padding: 3px 5px; selection-background-color: #b4602a; }
QDoubleSpinBox:focus, QSpinBox:focus, QComboBox:focus, QLineEdit:focus { border: 2px solid #1f5fa8; padding: 2px 4px; }
QDoubleSpinBox:disabled, QSpinBox:disabled, QComboBox:disabled, QLineEdit:disabled { background: #dedad1;
    color: #8d8778; border: 1px dashed #b9b3a6; }
QComboBox QAbstractItemView { background: #ffffff; color: #1d1b17; border: 1px solid #8d8778; padding: 2px;
    selection-background-color: #4c5256; selection-color: #ffffff; outline: 0; }
QComboBox QAbstractItemView::item { min-height: 24px; padding: 2px 6px; }
QCheckBox { spacing: 7px; padding: 2px; border: 2px solid transparent; border-radius: 3px; color: #26241f; }
QCheckBox:focus { border-color: #1f5fa8; }
QCheckBox:disabled { color: #8d8778; }
QCheckBox::indicator { width: 14px; height: 14px; background: #ffffff; border: 1px solid #6d675c; border-radius: 2px; }
QCheckBox::indicator:checked, QListView::indicator:checked { image: url(TICK); }
QCheckBox::indicator:disabled { background: #dedad1; border: 1px dashed #b9b3a6; }
QListView::indicator { width: 14px; height: 14px; background: #ffffff; border: 1px solid #6d675c; border-radius: 2px; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar::handle:vertical { background: #b3ac9d; border-radius: 4px; min-height: 28px; margin: 1px; }
QScrollBar::handle:vertical:hover { background: #8d8778; }
QScrollBar::add-line:vertical, QScrollBar::sub-line:vertical { height: 0; }
QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
QScrollBar::handle:horizontal { background: #b3ac9d; border-radius: 4px; min-width: 28px; margin: 1px; }
QScrollBar::add-line:horizontal, QScrollBar::sub-line:horizontal { width: 0; }
QScrollBar::add-page:vertical, QScrollBar::sub-page:vertical { background: transparent; }
QDoubleSpinBox::up-button, QDoubleSpinBox::down-button { width: 0; border: 0; }
QSlider::groove:horizontal { height: 4px; background: #bdb7a9; border-radius: 2px; }
QSlider::handle:horizontal { width: 11px; margin: -7px 0; background: #b4602a; border-radius: 2px; }
QSlider { border: 2px solid transparent; border-radius: 3px; min-height: 22px; }
QSlider:focus { border-color: #1f5fa8; }
QListView { background: transparent; border: 0; color: #26241f; outline: 0; }
QListWidget { background: #f7f5f0; color: #26241f; }
QListWidget::item:selected { background: #4c5256; color: #ffffff; }
QListWidget#pieces { border: 1px solid #b9b3a6; border-radius: 2px; }
QListWidget#pieces:focus { border: 2px solid #1f5fa8; }
QLineEdit#rename { padding: 1px 4px; border: 2px solid #1f5fa8; }
QTreeWidget#finder { background: #f7f5f0; color: #26241f; border: none; }
QTreeWidget#finder::item { padding: 5px 6px; border: none; }
QTreeWidget#finder::item:selected { background: #4c5256; color: #ffffff; }
QWidget#tray QSplitter::handle:vertical { background: #cbc5b7; border-top: 1px solid #b3ad9f; }
QWidget#tray QSplitter::handle:vertical:hover { background: #b4602a; }
QListWidget#messages { background: #f3efe6; color: #26241f; border: 1px solid #1d2023; padding: 4px; }
QListWidget#loglist { background: transparent; }
QListView#loglist::item { padding: 4px 2px; }
QListView#loglist::item:selected { background: #ffffff; color: #1d1b17; }
QProgressBar { border: 1px solid #5a6064; background: #2a2e31; color: #ffffff; border-radius: 3px; text-align: center; }
QProgressBar::chunk { background: #b4602a; }
QWidget#starting { background: #494f53; }
QWidget#busy { background: #26292c; border: 1px solid #5a6064; border-radius: 4px; }
QWidget#busy QLabel, QFrame#selection QLabel { color: #f1eee8; }
QFrame#selection { background: rgba(38, 41, 44, 235); border: 1px solid #8fae1c; border-radius: 4px; }
QFrame#selection QPushButton { background: #3a3f43; color: #ffffff; border: 1px solid #6a7074; border-radius: 3px;
    padding: 4px 7px; }
QFrame#selection QPushButton:hover { background: #4c5256; }
QFrame#selection QPushButton:disabled { color: #83888b; border: 1px dashed #6a7074; }
QFrame#selection QPushButton:focus { border: 2px solid #8fb8e8; padding: 3px 6px; }
QWidget#busy QPushButton { background: #3a3f43; color: #ffffff; border: 1px solid #6a7074; border-radius: 3px;
    padding: 5px 14px; }
QWidget#busy QPushButton:focus, QFrame#legend QPushButton:focus { border: 2px solid #8fb8e8; }
QLabel#drop { background: rgba(243, 239, 230, 215); color: #1d1b17; border: 4px dashed #b4602a; border-radius: 8px;
    font-weight: bold; font-size: 15px; }
QFrame#legend { background: rgba(38, 41, 44, 225); border: 1px solid #5a6064; border-radius: 4px; }
QFrame#legend QLabel { color: #f1eee8; background: transparent; }
QFrame#legend QCheckBox { color: #f1eee8; background: transparent; }
QFrame#legend QPushButton { background: #3a3f43; color: #ffffff; border: 1px solid #6a7074; border-radius: 3px;
    padding: 4px 8px; }
QFrame#legend QPushButton:checked { background: #c6e83a; color: #1d2023; border-color: #1d2023; }
QWidget#card { background: #f3efe6; border-radius: 4px; }
QPushButton#democard { background: #f3efe6; color: #26241f; border: 1px solid #cfc8b8; border-radius: 4px;
    padding: 14px; text-align: left; }
QPushButton#democard:hover { background: #ffffff; border-color: #b4602a; }
QPushButton#democard:focus, QToolButton#jobcard:focus, QPushButton#choice:focus { border: 2px solid #1f5fa8; }
QPushButton#choice { background: #ffffff; color: #26241f; border: 1px solid #b9b3a6; border-radius: 3px;
    padding: 5px 9px; }
QPushButton#choice:checked { background: #4c5256; color: #ffffff; border-color: #33383b; }
QPushButton#recent { background: transparent; color: #26241f; border: 0; text-align: left; padding: 3px 2px; }
QPushButton#recent:hover { color: #b4602a; }
QPushButton#recent:focus { border: 2px solid #1f5fa8; }
QFrame#card QLabel { color: #26241f; background: transparent; }
QFrame#card { background: #f3efe6; border: 1px solid #cfc8b8; border-radius: 4px; }
QFrame#card QLabel#muted { color: #5f594e; }
QFrame#card QPushButton#plain, QDialog QPushButton {
    background: #fbf8f0; color: #26241f; border: 1px solid #b9b3a6;
    border-radius: 3px; padding: 7px 14px; min-width: 56px; }
QFrame#card QPushButton#plain:hover, QDialog QPushButton:hover { background: #ffffff; border-color: #b4602a; }
QFrame#card QPushButton#copper, QDialog QPushButton:default {
    background: #b4602a; color: #ffffff; border: 0;
    border-radius: 3px; font-weight: bold; padding: 8px 14px; min-width: 56px; }
QFrame#card QPushButton#copper:hover, QDialog QPushButton:default:hover { background: #c56d34; }
QFrame#card QPushButton#copper:disabled { background: #cdb9aa; color: #f2ece6; }
QFrame#card QPushButton:focus, QDialog QPushButton:focus { border: 2px solid #1f5fa8; }
QDialog { background: #f3efe6; }
QDialogButtonBox { dialogbuttonbox-buttons-have-icons: 0; }
QDialog QLabel { color: #26241f; }
QDialog QListView, QDialog QTreeView { background: #ffffff; color: #1d1b17; border: 1px solid #b9b3a6;
    selection-background-color: #4c5256; selection-color: #ffffff; alternate-background-color: #f7f5f0; }
QDialog#sheet QTreeView::item { padding: 4px 3px; }
QDialog QListView:focus, QDialog QTreeView:focus { border: 2px solid #1f5fa8; }
QDialog QHeaderView::section { background: #e4e0d8; color: #26241f; border: 0; border-right: 1px solid #bdb7a9;
    padding: 4px 6px; }
QDialog QToolButton { background: #fbf8f0; color: #26241f; border: 1px solid #b9b3a6; border-radius: 3px;
    padding: 4px; }
QDialog QToolButton:disabled { background: #e4e0d8; }
QDialog QToolButton:focus { border: 2px solid #1f5fa8; }
QComboBox::drop-down { border: 0; width: 18px; }
QComboBox::down-arrow { image: url(ARROW); width: 9px; height: 9px; }
QToolTip { background: #fdfbf4; color: #1d1b17; border: 1px solid #b9b3a6; padding: 4px; }
"""
