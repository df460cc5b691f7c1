"""What a profile asks for, a row each: passed, failed or not known, the figure, the limit; a click goes there."""

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.survey.readiness import Check

__all__ = ["AskedList"]

_MARKS = {True: "✓", False: "✗", None: "…"}


class AskedList(QWidget):
    """The rows; each name is a button where there is a place to go to.

    Parameters
    ----------
    go_to : callable
        Told the check whose name was pressed.
    """

    def __init__(self, go_to: Callable[[Check], None]) -> None:
        super().__init__()
        self._go_to = go_to
        self._shown: tuple[Check, ...] = ()
        self.rows: dict[str, _Row] = {}
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(px(8))
        self._grid.setVerticalSpacing(0)
        self._grid.setColumnStretch(1, 1)

    def show_checks(self, checks: tuple[Check, ...]) -> None:
        """Show these; rows stay where they are as long as the same is asked for."""
        if checks == self._shown:
            return
        if [c.name for c in checks] != list(self.rows):
            self._make_rows(checks)
        self._shown = checks
        for check in checks:
            self.rows[check.name].show_check(check)

    def _make_rows(self, checks: tuple[Check, ...]) -> None:
        while self._grid.count():
            self._grid.takeAt(0).widget().deleteLater()
        self.rows = {}
        for i, check in enumerate(checks):
            row = self.rows[check.name] = _Row(check.name)
            row.button.clicked.connect(lambda _=False, name=check.name: self._press(name))
            self._grid.addWidget(row.button, 2 * i, 0, Qt.AlignmentFlag.AlignLeft)
            self._grid.addWidget(row.figure, 2 * i, 1)
            self._grid.addWidget(row.limit, 2 * i + 1, 0, 1, 2)

    def _press(self, name: str) -> None:
        self._go_to(next(check for check in self._shown if check.name == name))


class _Row:
    """What stands in one row: the name, the figure, and below them the limit."""

    def __init__(self, name: str) -> None:
        self.button = Button(name.capitalize())
        self.button.setObjectName("goto")
        self.button.setAccessibleName(f"Go to: {name}")
        self.figure = QLabel()
        self.figure.setObjectName("figure")
        self.figure.setFont(mono_font(bold=True))
        self.figure.setWordWrap(True)
        self.figure.setAccessibleName(name)
        self.figure.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.limit = QLabel()
        self.limit.setObjectName("muted")
        self.limit.setWordWrap(True)

    def show_check(self, check: Check) -> None:
        told = check.figure or ("not yet known" if check.passed is None else "")
        self.figure.setText(f"{_MARKS[check.passed]} {told}".strip())
        self.figure.setToolTip("" if check.passed else check.reason)
        why = f"; {check.reason}" if check.passed is None and check.limit else ""
        self.limit.setText(f"asked: {check.limit}{why}" if check.limit else "")
        can_go = check.place is not None and check.passed is False
        self.button.setText(check.name.capitalize() + (" ›" if can_go else ""))
        self.button.setEnabled(can_go)
        self.button.setToolTip(f"{check.reason}. Go to where it is worst" if can_go else check.reason)
