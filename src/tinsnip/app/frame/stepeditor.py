"""The tray in which a step of the log is changed."""

from itertools import pairwise

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget

from tinsnip.app.state.editing import Editing
from tinsnip.app.state.session import Session
from tinsnip.app.widgets.form import Form
from tinsnip.app.widgets.panels import Panel
from tinsnip.words import counted

__all__ = ["StepEditor"]


class StepEditor(Panel):
    """The values of one step, and what changing them entails."""

    title = "Change a step"

    def __init__(self, session: Session, editing: Editing) -> None:
        self.editing = editing
        self.form: Form | None = None
        super().__init__(session)

    def build(self) -> None:
        self._about = QLabel()
        self._about.setObjectName("muted")
        self._about.setWordWrap(True)
        self.column.addWidget(self._about)
        self._at = self.column.count()
        self.trouble = self.warning()
        self.copper_button("Do it again", self._do)
        self.leave_button = self.button("Leave it as it was", self.editing.leave, "Esc")

    def refresh(self) -> None:
        number, job = self.editing.number, self.session.job
        if number is None or number >= len(job.log):
            return
        step = job.log[number]
        self.head_title.setText(f"Step {number + 1}: {step.action.title}")
        self.head_text.setText("The view shows the part before this step.")
        after = len(job.log) - number - 1
        told = f"It made: {step.text}." if step.enabled else "It is switched off."
        follows = f" The {counted(after, 'step')} after it are done again." if after else ""
        self._about.setText(told + follows)
        if self.form is not None:
            self.column.removeWidget(self.form)
            self.form.hide()
            self.form.deleteLater()
        self.form = Form(step.action)
        self.form.changed.connect(self._show_change)
        self.column.insertWidget(self._at, self.form)
        for one, following in pairwise([*self.form.controls(), self.copper, self.leave_button]):
            QWidget.setTabOrder(one, following)
        self.copper.setText("Do it again" if not after else f"Do it and {counted(after, 'step')} again")
        self.trouble.hide()
        self._show_change()

    def take_focus(self) -> None:
        """Let keys go to the first of its fields."""
        fields = self.form.controls() if self.form is not None else []
        for field in fields[:1]:
            field.setFocus(Qt.FocusReason.TabFocusReason)

    def _show_change(self) -> None:
        number, job = self.editing.number, self.session.job
        if number is None or self.form is None:
            return
        try:
            changed = self.form.action() != job.log[number].action
            self.trouble.hide()
        except ValueError as error:
            changed = False
            self.trouble.setText(str(error))
            self.trouble.show()
        self.copper.setEnabled(changed)

    def _do(self) -> None:
        try:
            self.editing.change(self.form.action())
        except ValueError as error:
            self.trouble.setText(str(error))
            self.trouble.show()
