"""Colours and the style sheet: paper ticket, dark view, one copper button."""

from importlib import resources

from PySide6.QtGui import QColor, QFont, QFontDatabase

__all__ = ["MUTED", "OCHRE", "RUST", "VIOLET", "mono_font", "style_sheet"]

VIOLET = QColor("#7a45bd")
OCHRE = QColor("#9a6b12")
RUST = QColor("#a03a1c")
MUTED = QColor("#6d675c")


def style_sheet() -> str:
    """The style sheet of the whole window."""
    images = resources.files("tinsnip.app") / "images"
    return _STYLE.replace("TICK", str(images / "tick.svg")).replace("ARROW", str(images / "arrow.svg"))


def mono_font(size: float | None = None, bold: bool = False) -> QFont:
    """The system's fixed-width font, for figures and ids."""
    font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
    if size is not None:
        font.setPointSizeF(size)
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
QPushButton#state { border-radius: 3px; padding: 6px 12px; text-align: left; font-weight: bold; }
QPushButton#state[ready="no"] { background: #552d1a; color: #ffcfae; border: 1px solid #7d4424; }
QPushButton#state[ready="yes"] { background: #17452f; color: #bdf0d4; border: 1px solid #2e7a55; }
QPushButton#state[ready="open"] { background: #2f3d46; color: #d3e3ec; border: 1px solid #55707f; }
QPushButton#state[ready="none"] { background: #2a2e31; color: #a9adaf; border: 1px solid #3a3f43; }
QWidget#viewrow { background: #33383b; }
QWidget#viewrow QToolButton { color: #dcd9d2; padding: 5px 10px; border-radius: 3px; }
QWidget#viewrow QToolButton:checked { background: #5a6064; color: #ffffff; }
QFrame#viewline { color: #565c60; margin: 3px 4px; }
QWidget#ticket, QScrollArea#ticketscroll, QWidget#ticketbody { background: #f3efe6; color: #26241f; }
QScrollArea { border: 0; }
QWidget#tray, QStackedWidget, QScrollArea#trayscroll { background: #e4e0d8; color: #26241f; }
QWidget#trayhead { background: #d5d0c5; border-bottom: 1px solid #bdb7a9; }
QWidget#log { background: #dbd6cc; border-top: 1px solid #bdb7a9; }
QLabel#title { font-weight: bold; font-size: 15px; color: #1d1b17; }
QLabel#muted { color: #5f594e; }
QLabel#heading { font-weight: bold; color: #5f594e; }
QLabel#figure { font-weight: bold; color: #1d1b17; }
QLabel#warning { background: #f6e3c4; color: #573a08; border: 1px solid #d9b677; padding: 7px; border-radius: 3px; }
QWidget#tray QPushButton { background: #f7f5f0; color: #26241f; border: 1px solid #b9b3a6; border-radius: 3px;
    padding: 7px 10px; }
QWidget#tray QPushButton:hover { background: #ffffff; }
QWidget#tray QPushButton:focus { border: 2px solid #1f5fa8; }
QWidget#tray QPushButton:disabled { color: #9a958a; background: #e9e6df; }
QWidget#tray QPushButton:checked { background: #4c5256; color: #ffffff; border-color: #33383b; }
QWidget#tray QPushButton#copper { background: #b4602a; color: #ffffff; border: 0; font-weight: bold; padding: 10px; }
QWidget#tray QPushButton#copper:hover { background: #c56d34; }
QWidget#tray QPushButton#copper:focus { border: 2px solid #1f3f66; }
QWidget#tray QPushButton#copper:disabled { background: #cdb9aa; color: #f2ece6; }
QWidget#tray QCheckBox, QWidget#tray QRadioButton, QWidget#tray QLabel { color: #26241f; background: transparent; }
QWidget#tray QLabel#muted { color: #5f594e; }
QDoubleSpinBox, QSpinBox, QComboBox, QLineEdit { background: #ffffff; color: #1d1b17; border: 1px solid #b9b3a6;
    border-radius: 2px; padding: 3px 5px; selection-background-color: #b4602a; }
QCheckBox::indicator { width: 14px; height: 14px; background: #ffffff; border: 1px solid #6d675c; border-radius: 2px; }
QCheckBox::indicator:checked { image: url(TICK); }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar::handle:vertical { background: #b3ac9d; border-radius: 4px; min-height: 28px; margin: 1px; }
QScrollBar::handle:vertical:hover { background: #8d8778; }
QScrollBar::add-line:vertical, QScrollBar::sub-line:vertical { height: 0; }
QScrollBar::add-page:vertical, QScrollBar::sub-page:vertical { background: transparent; }
QDoubleSpinBox::up-button, QDoubleSpinBox::down-button { width: 0; border: 0; }
QSlider::groove:horizontal { height: 4px; background: #bdb7a9; border-radius: 2px; }
QSlider::handle:horizontal { width: 11px; margin: -7px 0; background: #b4602a; border-radius: 2px; }
QListView { background: transparent; border: 0; color: #26241f; outline: 0; }
QListWidget { background: #f7f5f0; color: #26241f; }
QListWidget::item:selected { background: #4c5256; color: #ffffff; }
QListWidget#loglist { background: transparent; }
QListView#loglist::item { padding: 4px 2px; }
QListView#loglist::item:selected { background: #ffffff; color: #1d1b17; }
QProgressBar { border: 1px solid #5a6064; background: #2a2e31; color: #ffffff; border-radius: 3px; text-align: center; }
QProgressBar::chunk { background: #b4602a; }
QWidget#busy { background: #26292c; border: 1px solid #5a6064; border-radius: 4px; }
QWidget#busy QLabel { color: #f1eee8; }
QWidget#busy QPushButton { background: #3a3f43; color: #ffffff; border: 1px solid #6a7074; border-radius: 3px;
    padding: 5px 14px; }
QFrame#legend { background: rgba(38, 41, 44, 225); border: 1px solid #5a6064; border-radius: 4px; }
QFrame#legend QLabel { color: #f1eee8; background: transparent; }
QFrame#legend QPushButton { background: #3a3f43; color: #ffffff; border: 1px solid #6a7074; border-radius: 3px;
    padding: 4px 8px; }
QWidget#card { background: #f3efe6; border-radius: 4px; }
QPushButton#democard { background: #f3efe6; color: #26241f; border: 1px solid #cfc8b8; border-radius: 4px;
    padding: 14px; text-align: left; }
QPushButton#democard:hover { background: #ffffff; border-color: #b4602a; }
QPushButton#choice { background: #ffffff; color: #26241f; border: 1px solid #b9b3a6; border-radius: 3px;
    padding: 5px 9px; }
QPushButton#choice:checked { background: #4c5256; color: #ffffff; border-color: #33383b; }
QPushButton#recent { background: transparent; color: #26241f; border: 0; text-align: left; padding: 3px 2px; }
QPushButton#recent:hover { color: #b4602a; }
QFrame#card QLabel { color: #26241f; background: transparent; }
QFrame#card { background: #f3efe6; border: 1px solid #cfc8b8; border-radius: 4px; }
QFrame#card QLabel#muted { color: #5f594e; }
QFrame#card QPushButton#plain, QMessageBox QPushButton, QDialog#sheet QPushButton {
    background: #fbf8f0; color: #26241f; border: 1px solid #b9b3a6;
    border-radius: 3px; padding: 7px 14px; min-width: 56px; }
QFrame#card QPushButton#plain:hover, QMessageBox QPushButton:hover { background: #ffffff; border-color: #b4602a; }
QFrame#card QPushButton#copper, QMessageBox QPushButton:default, QDialog#sheet QPushButton:default {
    background: #b4602a; color: #ffffff; border: 0;
    border-radius: 3px; font-weight: bold; padding: 8px 14px; min-width: 56px; }
QFrame#card QPushButton#copper:hover, QMessageBox QPushButton:default:hover { background: #c56d34; }
QFrame#card QPushButton#copper:disabled { background: #cdb9aa; color: #f2ece6; }
QFrame#card QPushButton#plain:focus, QMessageBox QPushButton:focus { border: 2px solid #1f5fa8; }
QMessageBox { background: #f3efe6; }
QMessageBox QLabel { color: #26241f; }
QComboBox::drop-down { border: 0; width: 18px; }
QComboBox::down-arrow { image: url(ARROW); width: 9px; height: 9px; }
QDialog#sheet { background: #f3efe6; }
QDialog#sheet QLabel { color: #26241f; }
QToolTip { background: #fdfbf4; color: #1d1b17; border: 1px solid #b9b3a6; padding: 4px; }
"""
