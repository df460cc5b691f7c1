"""Building blocks of the trays: headings, figures, fields, the copper button."""

from collections.abc import Callable, Sequence

from PySide6.QtCore import QEvent, QObject, QSize, Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QFrame, QHBoxLayout, QLabel, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.fields import Button, DropDown, NumberField, TickBox
from tinsnip.app.widgets.theme import mono_font, px

__all__ = ["Column", "Folded", "Panel", "Section", "line_of"]


_MENU_LETTERS = "jesvh"
"""Letters that open the menus."""


def line_of(*parts: QWidget | str | None, spacing: int = 6) -> tuple[QWidget, QHBoxLayout]:
    """A row of widgets and texts; None is room that stretches."""
    row = QWidget()
    box = QHBoxLayout(row)
    box.setContentsMargins(0, 0, 0, 0)
    box.setSpacing(px(spacing))
    for part in parts:
        if part is None:
            box.addStretch(1)
        else:
            box.addWidget(QLabel(part) if isinstance(part, str) else part)
    return row, box


class Column(QWidget):
    """Rows of controls below each other, put into `column` by name, figure and button.

    Attributes
    ----------
    labels : dict
        The label beside each field.
    """

    column: QVBoxLayout
    labels: dict[QWidget, QLabel]

    def heading(self, text: str) -> QLabel:
        """A small heading."""
        label = QLabel(text)
        label.setObjectName("heading")
        self.column.addWidget(label)
        return label

    def explain(self, text: str = "") -> QLabel:
        """A line or two in small, muted letters."""
        label = QLabel(text)
        label.setObjectName("muted")
        label.setWordWrap(True)
        self.column.addWidget(label)
        return label

    def figure(self, name: str) -> QLabel:
        """A row of a name and a figure; returns the figure's label."""
        value = QLabel("–")
        value.setObjectName("figure")
        value.setFont(mono_font(bold=True))
        value.setAccessibleName(name)
        value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.add(line_of(name, None, value)[0])
        return value

    def number(
        self, name: str, low: float, high: float, decimals: int, unit: str = "", step: float = 1.0
    ) -> NumberField:
        """A row of a name and a number to type."""
        field = NumberField(name, low, high, decimals, unit, step)
        field.setFixedWidth(px(136))
        self.labels[field] = label = QLabel(name)
        label.setBuddy(field)
        self.row(label, None, field)
        return field

    def tick(self, text: str, about: str = "") -> TickBox:
        """A tick box."""
        box = TickBox(text)
        box.setToolTip(about)
        self.add(box)
        return box

    def drop_down(self, name: str, choices: dict[str, object]) -> DropDown:
        """A row of a name and a list to choose from."""
        field = DropDown(name)
        for text, data in choices.items():
            field.addItem(text, data)
        self.add(line_of(name, None, field)[0])
        return field

    def add(self, widget: QWidget) -> None:
        """Add anything below what is there."""
        self.column.addWidget(widget)

    def row(self, *parts: QWidget | str | None) -> QBoxLayout:
        """Add a row of widgets and texts; None is room that stretches."""
        row, box = line_of(*parts)
        self.add(row)
        return box

    def button(self, text: str, action: Callable[[], None], key: str = "") -> Button:
        """A plain button."""
        button = _button(text, action, key)
        self.add(button)
        return button

    @staticmethod
    def belong(button: Button, *fields: QWidget) -> None:
        """Let Enter in some fields press a button other than the copper one."""
        for field in fields:
            field.presses = button

    def more(self, what: str) -> "Folded":
        """What matters less, behind a line that says what it is."""
        folded = Folded(what)
        self.add(folded.line)
        self.add(folded)
        return folded

    def warning(self) -> QLabel:
        """A notice, hidden until it has something to say."""
        label = QLabel()
        label.setObjectName("warning")
        label.setWordWrap(True)
        label.hide()
        self.add(label)
        return label


class Section(Column):
    """A part of a tray that is shown only at times."""

    def __init__(self) -> None:
        super().__init__()
        self.labels = {}
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(px(7))


class Folded(Section):
    """What matters less in a tray, below a line that says what it is and unfolds it.

    Attributes
    ----------
    what : str
        What is in it, in a few words.
    line : Button
    unfolded : Signal
        It was unfolded, or folded again.
    """

    unfolded = Signal(bool)

    def __init__(self, what: str) -> None:
        super().__init__()
        self.what = what
        self.line = Button("")
        self.line.setObjectName("more")
        self.line.setCheckable(True)
        self.line.setAccessibleName(f"More: {what}")
        self.line.toggled.connect(self._show)
        self._at_first: list[tuple[Callable[[], object], object]] = []
        self._show(False)

    def unfold(self, on: bool = True) -> None:
        """Show what is in it, or fold it away."""
        self.line.setChecked(on)

    def watch(self) -> None:
        """Say beside the line from now on whether something in it is not as it is at first."""
        for field in self.findChildren(QWidget):
            if isinstance(field, TickBox):
                changed, read = field.toggled, field.isChecked
            elif isinstance(field, DropDown) and field.count():
                changed, read = field.currentIndexChanged, field.currentIndex
            elif isinstance(field, NumberField) and not field.follows_part:
                changed, read = field.valueChanged, field.value
            else:
                continue
            changed.connect(self._tell)
            self._at_first.append((read, read()))

    def _show(self, on: bool) -> None:
        self.setVisible(on)
        self._tell()
        self.unfolded.emit(on)

    def _tell(self, *_: object) -> None:
        changed = any(read() != value for read, value in self._at_first)
        sign = "▾" if self.line.isChecked() else "▸"
        self.line.setText(f"{sign} More: {self.what}{' · changed' if changed else ''}")


class Panel(Column):
    """A tray for one station: heading, explanation, a column for what it can do, and below it the copper button.

    The column scrolls where it finds too little room; the copper button always stays in sight.
    """

    title = ""
    can_swap = False
    """Whether it has two sides that can be swapped."""
    asked = Signal(str)
    """Something that the window has to do, by the name of a command."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.copper: Button | None = None
        self.labels = {}
        self.why_not = ""
        """Why the copper button cannot be pressed."""
        self.head_title = QLabel(self.title)
        self.head_title.setObjectName("title")
        self.head_title.setWordWrap(True)
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
        head_box.setContentsMargins(px(16), px(10), px(14), px(10))
        head_box.addWidget(self.head_title)
        head_box.addWidget(self.head_text)
        outer.addWidget(head)
        body = QWidget()
        body.setObjectName("traybody")
        inner = QVBoxLayout(body)
        inner.setContentsMargins(px(16), px(10), px(14), px(10))
        self.column = QVBoxLayout()
        self.column.setSpacing(px(7))
        inner.addLayout(self.column)
        self.scroll = _Scroll(body)
        outer.addWidget(self.scroll)
        self.foot = QVBoxLayout()
        self.foot.setContentsMargins(px(16), px(6), px(14), px(10))
        outer.addLayout(self.foot)
        outer.addStretch(1)
        self.build()
        if self.copper is None:
            self.foot.setContentsMargins(0, 0, 0, 0)
        self.give_keys()

    def give_keys(self) -> None:
        """Give every button of the tray an underlined letter that presses it together with Alt."""
        always, *parts = self.letter_scopes()
        taken = set(_MENU_LETTERS)
        self._give_letters(always, taken)
        for buttons in parts:
            self._give_letters(buttons, set(taken))

    def letter_scopes(self) -> list[list[Button]]:
        """The buttons that may be in sight at any time, and those of each part that is there by itself."""
        return [self.findChildren(Button)]

    def _give_letters(self, buttons: Sequence[Button], taken: set[str]) -> None:
        """Give buttons letters that are not taken, and take them."""
        for button in buttons:
            text = button.text()
            if "&" in text:
                taken.add(text[text.index("&") + 1].lower())
                continue
            letter = next((c for c in text if c.isalpha() and c.lower() not in taken), None)
            if button is self.copper or button.objectName() == "more" or letter is None:
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

    def put_away(self) -> bool:
        """Leave what is set up or previewed, and stay here; False when nothing was."""
        return False

    def copper_button(self, text: str, action: Callable[[], None]) -> Button:
        """The one button that does it; Enter presses it."""
        self.copper = _button(text, action)
        self.copper.setObjectName("copper")
        self.copper.setToolTip("Enter")
        self.foot.addWidget(self.copper)
        return self.copper

    def offer(self, text: str, why_not: str = "") -> None:
        """Say what the copper button does; with a reason, that it cannot be pressed, and why."""
        if self.copper is not None:
            self.why_not = why_not
            self.copper.setText(text)
            self.copper.setEnabled(not why_not)
            self.copper.setToolTip(why_not or "Enter")

    def tick_buttons(self, station: str) -> list[Button]:
        """Two that tick all or none of a station's findings."""
        buttons = []
        for text, on in (("Tick all", True), ("Tick none", False)):
            button = Button(text)
            button.clicked.connect(lambda _=False, on=on: self.session.tick(self.session.findings(station), on))
            buttons.append(button)
        return buttons


class _Scroll(QScrollArea):
    """As high as what it shows, where there is room for it."""

    def __init__(self, body: QWidget) -> None:
        super().__init__()
        self.setObjectName("trayscroll")
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMinimumHeight(px(80))
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self.setWidget(body)
        body.installEventFilter(self)

    def sizeHint(self) -> QSize:
        body = self.widget()
        width = max(self.viewport().width(), 1)
        high = body.heightForWidth(width) if body.hasHeightForWidth() else body.sizeHint().height()
        return QSize(body.sizeHint().width(), high)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.updateGeometry()  # texts wrap otherwise, and take another height

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().eventFilter(watched, event)


def _button(text: str, action: Callable[[], None], key: str = "") -> Button:
    button = Button(text + (f"    {key}" if key else ""))
    button.setAccessibleName(text)
    button.clicked.connect(lambda: action())
    return button
