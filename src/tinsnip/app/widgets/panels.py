"""Building blocks of the trays: headings, figures, the copper button."""

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.theme import mono_font

__all__ = ["Panel", "figure_row", "number_field"]


_MENU_LETTERS = "jesvh"
"""Letters that open the menus."""


class Panel(QWidget):
    """A tray for one station: heading, explanation, and a column for what it can do."""

    title = ""
    can_swap = False
    """Whether it has two sides that can be swapped."""
    asked = Signal(str)
    """Something that the window has to do, by the name of a command."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.copper: QPushButton | None = None
        self.head_title = QLabel(self.title)
        self.head_title.setObjectName("title")
        self.head_text = QLabel()
        self.head_text.setObjectName("muted")
        self.head_text.setWordWrap(True)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        head = QWidget()
        head.setObjectName("trayhead")
        head.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        head_box = QVBoxLayout(head)
        head_box.setContentsMargins(16, 10, 14, 12)
        head_box.addWidget(self.head_title)
        head_box.addWidget(self.head_text)
        outer.addWidget(head)
        self.column = QVBoxLayout()
        self.column.setContentsMargins(16, 12, 14, 12)
        self.column.setSpacing(8)
        outer.addLayout(self.column)
        outer.addStretch(1)
        self.build()
        self.give_keys()

    def give_keys(self) -> None:
        """Give every button of the tray an underlined letter that presses it together with Alt."""
        taken = set(_MENU_LETTERS)
        for button in self.findChildren(QPushButton):
            text = button.text()
            if "&" in text:
                taken.add(text[text.index("&") + 1].lower())
                continue
            letter = next((c for c in text if c.isalpha() and c.lower() not in taken), None)
            if button is self.copper or letter is None:
                continue
            taken.add(letter.lower())
            if not button.accessibleName():
                button.setAccessibleName(text)
            button.setText(text.replace(letter, "&" + letter, 1))

    def build(self) -> None:
        """Put the controls into the column."""

    def enter(self) -> None:
        """The station has been opened."""

    def leave(self) -> None:
        """Another station has been opened."""

    def refresh(self) -> None:
        """Show the session as it is."""

    def swap(self) -> None:
        """Swap its two sides."""

    def heading(self, text: str) -> None:
        """A small heading."""
        label = QLabel(text)
        label.setObjectName("heading")
        self.column.addWidget(label)

    def figure(self, name: str) -> QLabel:
        """A row of a name and a figure; returns the figure's label."""
        row, value = figure_row(name)
        self.column.addWidget(row)
        return value

    def button(self, text: str, action: Callable[[], None], key: str = "") -> QPushButton:
        """A plain button."""
        button = QPushButton(text + (f"    {key}" if key else ""))
        button.setAccessibleName(text)
        button.clicked.connect(lambda: action())
        self.column.addWidget(button)
        return button

    def copper_button(self, text: str, action: Callable[[], None]) -> QPushButton:
        """The one button that does it; Enter presses it."""
        self.copper = self.button(text, action)
        self.copper.setObjectName("copper")
        self.copper.setToolTip("Enter")
        return self.copper

    def tick_buttons(self, station: str) -> None:
        """Tick all or none of a station's findings."""
        row = QWidget()
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        for text, on in (("Tick all", True), ("Tick none", False)):
            button = QPushButton(text)
            button.clicked.connect(lambda _=False, on=on: self.session.tick(self.session.findings(station), on))
            box.addWidget(button)
        self.column.addWidget(row)

    def warning(self) -> QLabel:
        """A notice, hidden until it has something to say."""
        label = QLabel()
        label.setObjectName("warning")
        label.setWordWrap(True)
        label.hide()
        self.column.addWidget(label)
        return label


def figure_row(name: str) -> tuple[QWidget, QLabel]:
    """A row of a name and a figure."""
    row = QWidget()
    box = QHBoxLayout(row)
    box.setContentsMargins(0, 0, 0, 0)
    box.addWidget(QLabel(name))
    box.addStretch(1)
    value = QLabel("–")
    value.setObjectName("figure")
    value.setFont(mono_font(bold=True))
    value.setAccessibleName(name)
    value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    box.addWidget(value)
    return row, value


def number_field(
    name: str, low: float, high: float, decimals: int, unit: str, step: float
) -> tuple[QWidget, QDoubleSpinBox]:
    """A row of a name and a number to type."""
    row = QWidget()
    box = QHBoxLayout(row)
    box.setContentsMargins(0, 0, 0, 0)
    label = QLabel(name)
    box.addWidget(label)
    box.addStretch(1)
    field = QDoubleSpinBox()
    field.setRange(low, high)
    field.setDecimals(decimals)
    field.setSingleStep(step)
    field.setSuffix(f" {unit}" if unit else "")
    field.setAccessibleName(name)
    field.setKeyboardTracking(False)
    field.setMinimumWidth(112)
    label.setBuddy(field)
    box.addWidget(field)
    return row, field
