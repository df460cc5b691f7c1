"""A form made from the fields of an action: whatever can be a step can be typed in, and changed later."""

import types
from typing import Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel, ValidationError
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.widgets.fields import DropDown, NumberField, TextField, TickBox
from tinsnip.app.widgets.theme import px
from tinsnip.regions import Region
from tinsnip.words import counted

__all__ = ["Form"]

_UNITS = {"mm": "mm", "degrees": "°", "percent": "%", "offset": "mm", "mb": "MB", "mm2": "mm²"}
_FARTHEST = 1e7
_FEW = 4


class Form(QWidget):
    """A row for each field of a pydantic model, holding the values of one of them.

    Parameters
    ----------
    model : BaseModel
        The action whose values it holds at first.
    """

    changed = Signal()

    def __init__(self, model: BaseModel) -> None:
        super().__init__()
        self._kind = type(model)
        self._rows: dict[str, _Row] = {}
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(8)
        for name, info in self._kind.model_fields.items():
            row = _row_for(name, info.annotation, info.metadata, getattr(model, name), info.title)
            row.setToolTip(info.description or "")
            row.changed.connect(self.changed)
            self._rows[name] = row
            box.addWidget(row)

    def field(self, name: str) -> QWidget:
        """The row of a field."""
        return self._rows[name]

    def controls(self) -> list[QWidget]:
        """Everything that can be typed, chosen or ticked in it."""
        kinds = (NumberField, DropDown, TickBox, TextField)
        return [widget for widget in self.findChildren(QWidget) if isinstance(widget, kinds)]

    def action(self) -> BaseModel:
        """The action with the values typed.

        Raises
        ------
        ValueError
            When they do not fit; the text says which.
        """
        try:
            return self._kind(**{name: row.value() for name, row in self._rows.items()})
        except ValidationError as error:
            first = error.errors()[0]
            place = _label(str(first["loc"][0])) if first["loc"] else "a value"
            raise ValueError(f"{place}: {first['msg'].lower()}") from None


def _label(name: str) -> str:
    for unit in ("_mm", "_degrees", "_percent", "_mb", "_mm2"):  # these stand behind the number
        name = name.removesuffix(unit)
    words = name.replace("_", " ")
    return words[:1].upper() + words[1:]


class _Row(QWidget):
    """One field; `value` gives what it holds."""

    changed = Signal()

    def __init__(self, name: str) -> None:
        super().__init__()
        self.box = QHBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)
        self.name = _label(name)

    def add_label(self) -> None:
        self.box.addWidget(QLabel(self.name))
        self.box.addStretch(1)

    def value(self) -> Any:
        raise NotImplementedError


class _Flag(_Row):
    def __init__(self, name: str, value: bool) -> None:
        super().__init__(name)
        self.tick = TickBox(self.name.lower())
        self.tick.setChecked(value)
        self.tick.toggled.connect(lambda _: self.changed.emit())
        self.box.addWidget(self.tick)

    def value(self) -> bool:
        return self.tick.isChecked()


def _spin(name: str, bounds: tuple[float, float], whole: bool, value: float) -> NumberField:
    unit = next((u for end, u in _UNITS.items() if name == end or name.endswith(f"_{end}")), "")
    spin = NumberField(_label(name), *bounds, 0 if whole else 4, unit)
    spin.setMinimumWidth(px(112))
    spin.setValue(value)
    return spin


class _Number(_Row):
    """A number; one that may be left out has a tick before it."""

    def __init__(
        self, name: str, value: float | None, bounds: tuple[float, float], whole: bool, optional: bool
    ) -> None:
        super().__init__(name)
        self.whole = whole
        self.tick: TickBox | None = None
        if optional:
            self.tick = TickBox(self.name)
            self.tick.setChecked(value is not None)
            self.box.addWidget(self.tick)
            self.box.addStretch(1)
        else:
            self.add_label()
        self.spin = _spin(name, bounds, whole, value if value is not None else max(bounds[0], 1.0))
        self._exact = value, self.spin.value()
        self.spin.valueChanged.connect(lambda _: self.changed.emit())
        self.box.addWidget(self.spin)
        if self.tick is not None:
            self.spin.setEnabled(self.tick.isChecked())
            self.tick.toggled.connect(self.spin.setEnabled)
            self.tick.toggled.connect(lambda _: self.changed.emit())

    def value(self) -> float | int | None:
        if self.tick is not None and not self.tick.isChecked():
            return None
        if self._exact[0] is not None and self.spin.value() == self._exact[1]:
            return self._exact[0]  # what was not touched stays as exact as it was
        return round(self.spin.value()) if self.whole else self.spin.value()


class _Choice(_Row):
    def __init__(self, name: str, value: Any, choices: tuple[Any, ...]) -> None:
        super().__init__(name)
        self.add_label()
        self.combo = DropDown(self.name)
        for choice in choices:
            self.combo.addItem(str(choice), choice)
        self.combo.setCurrentIndex(max(0, list(choices).index(value) if value in choices else 0))
        self.combo.currentIndexChanged.connect(lambda _: self.changed.emit())
        self.box.addWidget(self.combo)

    def value(self) -> Any:
        return self.combo.currentData()


class _Vector(_Row):
    def __init__(self, name: str, value: tuple[float, ...]) -> None:
        super().__init__(name)
        column = QVBoxLayout()
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(QLabel(self.name))
        line = QHBoxLayout()
        self._exact = value
        self.spins = []
        for axis, one in zip("xyz", value, strict=False):
            spin = _spin(f"{name} {axis}", (-_FARTHEST, _FARTHEST), False, one)
            spin.setMinimumWidth(px(60))
            spin.valueChanged.connect(lambda _: self.changed.emit())
            line.addWidget(spin)
            self.spins.append(spin)
        self._shown = tuple(s.value() for s in self.spins)
        column.addLayout(line)
        self.box.addLayout(column)

    def value(self) -> tuple[float, ...]:
        now = tuple(s.value() for s in self.spins)
        return tuple(e if n == s else n for e, n, s in zip(self._exact, now, self._shown, strict=True))


class _Text(_Row):
    def __init__(self, name: str, value: str) -> None:
        super().__init__(name)
        self.add_label()
        self.line = TextField(self.name, value)
        self.line.textChanged.connect(lambda _: self.changed.emit())
        self.box.addWidget(self.line, 1)

    def value(self) -> str:
        return self.line.text()


class _Kept(_Row):
    """A value that is chosen on the part, not typed."""

    def __init__(self, name: str, value: Any, none: str | None) -> None:
        super().__init__(name)
        self._value, self._none = value, none or "all, or what is selected"
        self.add_label()
        self._label = QLabel(_told(value, self._none))
        self._label.setObjectName("muted")
        self._label.setAccessibleName(self.name)
        self.box.addWidget(self._label)

    def put(self, value: Any) -> None:
        """Take what was chosen elsewhere."""
        if value != self._value:
            self._value = value
            self._label.setText(_told(value, self._none))
            self.changed.emit()

    def value(self) -> Any:
        return self._value


def _told(value: Any, none: str) -> str:
    """A value that is not typed, in a few words; `none` for a region that none is given for."""
    if value is None:
        return "by rule"
    if isinstance(value, Region):
        return f"{counted(value.count, 'triangle')} chosen" if value else none
    if not isinstance(value, tuple) or not value:
        return "none" if value == () else str(value)
    if all(isinstance(one, Region) for one in value):
        return f"{counted(len(value), 'place')}, {counted(sum(one.count for one in value), 'triangle')}"
    if all(isinstance(one, str) for one in value):
        return ", ".join(value) if len(value) <= _FEW else f"{', '.join(value[:_FEW])}, … ({len(value)})"
    return counted(len(value), "place") if all(isinstance(one, tuple) for one in value) else str(value)


def _row_for(name: str, kind: Any, metadata: list[Any], value: Any, title: str | None) -> _Row:
    optional = get_origin(kind) in (Union, types.UnionType) and type(None) in get_args(kind)
    if optional:
        kind = next(k for k in get_args(kind) if k is not type(None))
    if get_origin(kind) is not None and hasattr(kind, "__metadata__"):
        metadata = [*metadata, *kind.__metadata__]
        kind = get_args(kind)[0]
    if kind is bool:
        return _Flag(name, value)
    if kind in (int, float):
        return _Number(name, value, _bounds(metadata), kind is int, optional)
    if get_origin(kind) is Literal:
        return _Choice(name, value, get_args(kind))
    if (
        get_origin(kind) is tuple
        and isinstance(value, tuple)
        and all(isinstance(v, int | float) for v in value)
        and value
    ):
        return _Vector(name, value)
    if kind is str:
        return _Text(name, value)
    return _Kept(name, value, title)


def _bounds(metadata: list[Any]) -> tuple[float, float]:
    """What the field's own limits allow."""
    low, high = -_FARTHEST, _FARTHEST
    for one in metadata:
        for limit in (one, *getattr(one, "metadata", ())):
            low = max(low, getattr(limit, "ge", None) or low, (getattr(limit, "gt", None) or low))
            if getattr(limit, "ge", None) == 0 or getattr(limit, "gt", None) == 0:
                low = max(low, 0.0)
            high = min(high, getattr(limit, "le", None) or high, getattr(limit, "lt", None) or high)
    return low, high
