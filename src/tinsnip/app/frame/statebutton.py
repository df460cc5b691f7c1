"""The button at the upper right: whether the part is ready, or what is missing, and the way there."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QSizePolicy

from tinsnip.app.state.session import Session
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.widgets.theme import px

__all__ = ["StateButton"]


class StateButton(QPushButton):
    """Whether the part is ready, as much of it as there is room for; a click opens the station that helps."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setObjectName("state")
        self.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMinimumWidth(px(150))
        self.clicked.connect(self._go_to_what_is_missing)

    def refresh(self) -> None:
        """Show the state of the present mesh, or the same in a window of another size."""
        if self._session.mesh is None:
            state, ready = "No scan open", "none"
        elif self._session.examination is None:
            state, ready = "Looking the scan over…", "none"
        else:
            verdict = self._session.judging.readiness
            state, ready = verdict.state, "yes" if verdict.proven else "open" if verdict.ready else "no"
        self._show(state)
        self.setProperty("ready", ready)
        self.style().unpolish(self)
        self.style().polish(self)

    def _show(self, state: str) -> None:
        room = max(px(150), min(px(620), self.window().width() - px(430)))
        words = state.split(" · ")
        for count in range(len(words), 0, -1):  # whole words, and how many more there are
            text = " · ".join(words[:count]) + (f" · +{len(words) - count}" if count < len(words) else "")
            if self.fontMetrics().horizontalAdvance(text) <= room:
                break
        self.setText(text)
        self.setToolTip(state)
        self.setAccessibleName(f"Release state: {state}")

    def _go_to_what_is_missing(self) -> None:
        found = self._session.examination
        if found is None:
            return
        checks = self._session.judging.readiness.checks
        failed = next((check for check in checks if check.passed is False), None)
        wanted = next((s.name for s in STATIONS if failed is not None and s.answers(failed, found)), STATIONS[-1].name)
        self._session.set_station(wanted)
