"""The help sheet and the settings page."""

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QGridLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.state.settings import DRAGS, MEANINGS, Settings
from tinsnip.app.widgets.fields import DropDown, NumberField, TickBox
from tinsnip.app.widgets.theme import mono_font, polish_again, px

__all__ = ["HelpSheet", "SettingsPage"]

_TEXT_SIZES = {"as the desktop says": 0.0, "100 %": 1.0, "125 %": 1.25, "150 %": 1.5, "200 %": 2.0}


class HelpSheet(QDialog):
    """All keys and gestures on one page, made from the actions themselves."""

    def __init__(self, groups: dict[str, list[QAction]], settings: Settings, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys and gestures")
        self.setObjectName("sheet")
        grid = QGridLayout(self)
        grid.setContentsMargins(px(24), px(20), px(24), px(20))
        grid.setHorizontalSpacing(px(24))
        columns: list[list[tuple[str, str]]] = [[] for _ in range(3)]
        for title, actions in groups.items():
            rows = [(a.text(), a.shortcut().toString(QKeySequence.SequenceFormat.NativeText)) for a in actions]
            rows = [row for row in rows if row[1]]
            if rows:
                shortest = min(columns, key=len)
                shortest += [(f"*{title}", ""), *rows, ("", "")]
        drags = [(f"drag {drag}", settings.meaning(drag)) for drag in DRAGS if settings.meaning(drag) != "nothing"]
        drags += [("wheel", "zoom to the pointer"), ("click a tag or row", "go there"), ("Space + drag", "turn")]
        drags += [("hold S", "swap raw and now"), ("click, in Deviation", "read and pin a value")]
        drags += [("arrow keys in the view", "turn"), ("Alt + underlined letter", "a tray's button")]
        drags += [("Ctrl + arrows", "move the pointer"), ("Ctrl + Space", "click where it is")]
        min(columns, key=len).extend([("*In the view", ""), *drags])
        for c, rows in enumerate(columns):
            for r, (what, keys) in enumerate(rows):
                label = QLabel(what.lstrip("*"))
                if what.startswith("*"):
                    label.setObjectName("heading")
                grid.addWidget(label, r, 2 * c)
                value = QLabel(keys)
                value.setFont(mono_font())
                grid.addWidget(value, r, 2 * c + 1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        grid.addWidget(buttons, 100, 0, 1, 6)
        polish_again(self)


class SettingsPage(QDialog):
    """What each drag in the view does, and the units shown."""

    def __init__(self, settings: Settings, parent: QWidget) -> None:
        super().__init__(parent)
        self.settings = settings
        self.setWindowTitle("Settings")
        self.setObjectName("sheet")
        self.setMinimumWidth(px(440))
        box = QVBoxLayout(self)
        box.setContentsMargins(px(24), px(20), px(24), px(20))
        title = QLabel("Drags in the view")
        title.setObjectName("title")
        box.addWidget(title)
        form = QFormLayout()
        form.setVerticalSpacing(px(8))
        self.fields: dict[str, DropDown] = {}
        for drag in DRAGS:
            field = DropDown(f"What dragging with {drag} does")
            field.addItems(MEANINGS)
            field.setCurrentText(settings.meaning(drag))
            form.addRow(f"Drag with {drag}", field)
            self.fields[drag] = field
        box.addLayout(form)
        self.inches = TickBox("show lengths in inches in Stand")
        self.inches.setChecked(settings.show_inches)
        box.addWidget(self.inches)
        self.undo = NumberField("Memory that steps to go back to may take", 0, 90, 0, "% of memory", 5)
        self.undo.setValue(100 * settings.undo_share)
        self.undo.setToolTip("Steps beyond it are kept on the disk")
        form.addRow("Steps to go back to", self.undo)
        self.text_size = DropDown("Size of all text")
        for name, size in _TEXT_SIZES.items():
            self.text_size.addItem(name, size)
        self.text_size.setCurrentIndex(max(0, self.text_size.findData(settings.text_size)))
        form.addRow("Size of all text", self.text_size)
        note = QLabel(
            "The wheel always zooms to the pointer. Turning goes about the point under it. "
            "Another text size holds from the next start on."
        )
        note.setObjectName("muted")
        note.setWordWrap(True)
        box.addWidget(note)
        buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok
            | QDialogButtonBox.StandardButton.Cancel
            | QDialogButtonBox.StandardButton.RestoreDefaults
        )
        buttons.accepted.connect(self._take)
        buttons.rejected.connect(self.reject)
        buttons.button(QDialogButtonBox.StandardButton.RestoreDefaults).clicked.connect(self._defaults)
        box.addWidget(buttons)
        polish_again(self)

    def _defaults(self) -> None:
        plain = Settings()
        for drag, field in self.fields.items():
            field.setCurrentText(plain.meaning(drag))
        self.inches.setChecked(plain.show_inches)
        self.undo.setValue(100 * plain.undo_share)
        self.text_size.setCurrentIndex(0)

    def _take(self) -> None:
        for drag, field in self.fields.items():
            self.settings.set_meaning(drag, field.currentText())
        self.settings.show_inches = self.inches.isChecked()
        self.settings.undo_share = self.undo.value() / 100
        self.settings.text_size = self.text_size.currentData()
        self.settings.save()
        self.accept()
