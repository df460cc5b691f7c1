"""What of a tool can be set, as fields in a tray."""

from collections.abc import Sequence

from PySide6.QtCore import QSignalBlocker

from tinsnip.app.view.hand import Option, Tool
from tinsnip.app.widgets.fields import Button, DropDown, NumberField, TickBox
from tinsnip.app.widgets.panels import Section

__all__ = ["ToolOptions"]


class ToolOptions(Section):
    """A field for each option of a tool."""

    def __init__(self, tool: Tool, only: Sequence[str] | None = None) -> None:
        super().__init__()
        self._tool = tool
        self.fields: dict[str, NumberField | DropDown | TickBox] = {}
        self._options = [option for option in tool.options if only is None or option.name in only]
        for option in self._options:
            self.fields[option.name] = self._field(option)
        self.act_button: Button | None = None
        if tool.act_text:
            self.act_button = self.button(tool.act_text, tool.enter)
            for field in self.fields.values():
                field.presses = self.act_button
        tool.option_changed.connect(self._show)

    def _field(self, option: Option) -> NumberField | DropDown | TickBox:
        if isinstance(option.value, bool):
            field = self.tick(option.text)
            field.setChecked(option.value)
            field.toggled.connect(lambda on: self._set(option, on))
        elif isinstance(option.value, str):
            field = self.drop_down(option.text, {name: name for name in option.among})
            field.currentTextChanged.connect(lambda text: self._set(option, text))
        else:
            decimals = 0 if isinstance(option.value, int) else 2
            field = self.number(option.text, *option.among, decimals, option.unit, 1.0)
            field.setValue(option.value)
            field.valueChanged.connect(lambda value: self._set(option, value))
        return field

    def _set(self, option: Option, value: object) -> None:
        setattr(self._tool, option.name, value)
        if option.name == "shape":
            self._tool.set_shape(value)
        self._tool.update()

    def _show(self) -> None:
        for option in self._options:
            field = self.fields[option.name]
            with QSignalBlocker(field):
                value = getattr(self._tool, option.name)
                if isinstance(field, TickBox):
                    field.setChecked(value)
                elif isinstance(field, DropDown):
                    field.setCurrentText(value)
                else:
                    field.setValue(value)
