"""The log: every step, also those that were undone; a click goes back to one."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QListWidget, QListWidgetItem

from tinsnip.app.state.session import Session

__all__ = ["LogList"]


class LogList(QListWidget):
    """The steps of the job."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("loglist")
        self.setAccessibleName("Log: click a line to go back to it")
        self.itemClicked.connect(lambda item: session.go_to(item.data(Qt.ItemDataRole.UserRole)))
        self.setFixedHeight(150)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def refresh(self) -> None:
        """Show the job as it is."""
        job = self.session.job
        self.clear()
        if job.piece is None:
            return
        lines = [(0, "as opened", None), *((i + 1, e.text, e.seconds) for i, e in enumerate(job.log))]
        for cursor, text, seconds in lines:
            label = f"{cursor}  {text}" if cursor else f"0  {text}"
            if cursor > job.cursor:
                label += "  (undone)"
            item = QListWidgetItem(label)
            item.setToolTip(f"{text}{f', {seconds:.2f} s' if seconds is not None else ''}. Click to go here.")
            item.setData(Qt.ItemDataRole.UserRole, cursor)
            if cursor > job.cursor:
                item.setForeground(Qt.GlobalColor.darkGray)
            self.addItem(item)
        self.setCurrentRow(job.cursor)
