"""What can be typed, chosen, ticked and pressed, with one rule for its keys.

- A typed value is taken before anything else happens: by Enter, by Tab, and by whatever is pressed or clicked next.
- Enter on a field with nothing typed, Esc and undo belong to the window; a field being typed in has them first.
- The wheel scrolls what a field stands in, and never changes it.
- A click leaves the focus with nobody, so that Enter then means the copper button again; Tab gives it.
"""

import re

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent, QKeySequence, QMouseEvent, QValidator, QWheelEvent
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QLineEdit,
    QPushButton,
    QToolTip,
    QWidget,
)

from tinsnip.words import grouped_number

__all__ = ["Button", "DropDown", "NumberField", "TextField", "TickBox", "is_enter", "take_typed"]

_NUMBER = re.compile(r"[-+]?(\d+([.]\d*)?|[.]\d+)(e[-+]?\d+)?")
_TRIMMED = 4
"""A number with so many decimals or more is shown without those at its end that say nothing."""
_BEGUN = re.compile(r"[-+]?\d*[.]?\d*(e[-+]?\d*)?")


def is_enter(event: QKeyEvent) -> bool:
    """Whether a key is one of the two Enter keys, with no other held."""
    plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
    return plain and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)


def _is_undo(event: QKeyEvent) -> bool:
    return event.matches(QKeySequence.StandardKey.Undo) or event.matches(QKeySequence.StandardKey.Redo)


def take_typed() -> None:
    """Take what is being typed anywhere, before something else happens."""
    field = QApplication.focusWidget()
    if isinstance(field, NumberField | TextField):
        field.take()


def _clicked() -> None:
    """A control was clicked: what is typed is taken, and the focus is nobody's."""
    take_typed()
    focused = QApplication.focusWidget()
    if focused is not None and not getattr(focused, "keeps_focus", False):
        focused.clearFocus()


class _Typed:
    """What fields that are typed in have in common: undo is theirs only while something is typed."""

    is_being_typed: bool

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and _is_undo(event) and not self.is_being_typed:
            event.ignore()
            return False
        return super().event(event)


class NumberField(_Typed, QDoubleSpinBox):
    """A number to type, with its unit behind it; comma and point both stand before the decimals.

    Parameters
    ----------
    name : str
        What it is, for those who cannot see it.
    low, high : float
        Its range; a number beyond it is brought to its end, and that is said.
    decimals : int
    unit : str
    step : float
        What the arrow keys add.

    Attributes
    ----------
    follows_part : bool
        Whether its number is fitted to the part, and so is none that was chosen.
    """

    follows_part = False

    def __init__(self, name: str, low: float, high: float, decimals: int, unit: str = "", step: float = 1.0) -> None:
        super().__init__()
        self.setDecimals(decimals)
        self.setRange(low, high)
        self.setSingleStep(step)
        self.setSuffix(f" {unit}" if unit else "")
        self.setAccessibleName(name)
        self.setKeyboardTracking(False)
        self.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)

    @property
    def is_being_typed(self) -> bool:
        """Whether something is typed that is not taken yet."""
        return self.lineEdit().isModified()

    def take(self) -> bool:
        """Take what is typed; False when nothing was."""
        if not self.is_being_typed:
            return False
        wanted = self._number(self.lineEdit().text())
        self.interpretText()
        self.lineEdit().setModified(False)
        if wanted is not None and not self.minimum() <= wanted <= self.maximum():
            ends = f"{self.textFromValue(self.minimum())} to {self.textFromValue(self.maximum())}{self.suffix()}"
            text = f"{self.accessibleName()} goes from {ends}"
            QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), text, self)
        return True

    def leave_typing(self) -> None:
        """Put what was typed away, as if it had not been."""
        self.lineEdit().setText(self.textFromValue(self.value()) + self.suffix())
        self.lineEdit().setModified(False)
        self.lineEdit().selectAll()

    # ---- how numbers are written and read

    def _number(self, text: str) -> float | None:
        bare = "".join(text.removesuffix(self.suffix()).split()).replace(",", ".").lower()
        return float(bare) if _NUMBER.fullmatch(bare) else None

    def textFromValue(self, value: float) -> str:
        text = grouped_number(value, self.decimals())
        return text.rstrip("0").rstrip(".") if self.decimals() >= _TRIMMED else text

    def valueFromText(self, text: str) -> float:
        number = self._number(text)
        return self.value() if number is None else min(max(number, self.minimum()), self.maximum())

    def validate(self, text: str, at: int) -> tuple[QValidator.State, str, int]:
        if self._number(text) is not None:
            return QValidator.State.Acceptable, text, at
        bare = "".join(text.removesuffix(self.suffix()).split()).replace(",", ".").lower()
        begun = _BEGUN.fullmatch(bare) is not None
        return QValidator.State.Intermediate if begun else QValidator.State.Invalid, text, at

    # ---- keys and wheel

    def keyPressEvent(self, event: QKeyEvent) -> None:
        typed = self.is_being_typed
        if is_enter(event):
            event.setAccepted(self.take())
            self.selectAll()
        elif event.key() == Qt.Key.Key_Escape:
            event.setAccepted(typed)
            if typed:
                self.leave_typing()
            self.clearFocus()  # or the next key, meant for a station, would be typed in here
        elif _is_undo(event) and not typed:
            event.ignore()
        else:
            super().keyPressEvent(event)
            if not self.lineEdit().isUndoAvailable():
                self.lineEdit().setModified(False)  # all typing was undone

    def focusOutEvent(self, event: QEvent) -> None:
        self.take()
        super().focusOutEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        event.ignore()


class TextField(_Typed, QLineEdit):
    """A text to type."""

    def __init__(self, name: str, text: str = "") -> None:
        super().__init__(text)
        self.setAccessibleName(name)
        self._taken = text
        self.editingFinished.connect(self.take)

    @property
    def is_being_typed(self) -> bool:
        """Whether something is typed that is not taken yet."""
        return self.text() != self._taken

    def take(self) -> bool:
        """Take what is typed; False when nothing was."""
        was, self._taken = self._taken, self.text()
        return was != self._taken

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if is_enter(event):
            event.setAccepted(self.take())
        elif event.key() == Qt.Key.Key_Escape and self.is_being_typed:
            self.setText(self._taken)
            self.clearFocus()
        elif event.key() == Qt.Key.Key_Escape or (_is_undo(event) and not self.is_being_typed):
            event.ignore()
        else:
            super().keyPressEvent(event)


class DropDown(QComboBox):
    """One of several; Space or the arrow keys choose."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if is_enter(event) or event.key() == Qt.Key.Key_Escape:
            event.ignore()
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        take_typed()
        super().mousePressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        event.ignore()


class _Pressed:
    """What buttons and tick boxes have in common."""

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Shortcut:
            take_typed()
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        _clicked()
        super().mousePressEvent(event)


class Button(_Pressed, QPushButton):
    """Something to do."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)


class TickBox(_Pressed, QCheckBox):
    """Something that is so or not."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
