"""What the view shows before anything is open: where to drop a scan, the demo scans, the recent ones."""

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from tinsnip.formats import FORMATS

__all__ = ["DEMOS", "EmptyView"]

DEMOS = {
    ("pump-cover",): "Demo: pump cover\na cast cover on its bed",
    ("fountain-spout",): "Demo: fountain spout\ncoloured stone, no base",
    ("gauge-lantern-upper", "gauge-lantern-lower"): "Demo: gauge lantern\ntwo part-scans",
}
"""The demo scans that open together, and what their card says."""

_MOST_RECENT = 4


class EmptyView(QFrame):
    """The card in the middle of an empty view."""

    open_asked = Signal()
    demo_asked = Signal(object)
    recent_asked = Signal(object)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        box = QVBoxLayout(self)
        box.setContentsMargins(28, 24, 28, 24)
        box.setSpacing(10)
        title = QLabel("Drop a scan here")
        title.setObjectName("title")
        box.addWidget(title)
        names = [name.upper() for name in FORMATS]
        text = QLabel(f"{', '.join(names[:-1])} or {names[-1]}, up to 10 million triangles")
        text.setObjectName("muted")
        box.addWidget(text)
        open_button = QPushButton("Open a scan…    Ctrl+O")
        open_button.setObjectName("democard")
        open_button.clicked.connect(lambda: self.open_asked.emit())
        box.addWidget(open_button)
        demos = QHBoxLayout()
        for demo, about in DEMOS.items():
            button = QPushButton(about)
            button.setObjectName("democard")
            button.clicked.connect(lambda _=False, demo=demo: self.demo_asked.emit(demo))
            demos.addWidget(button)
        box.addLayout(demos)
        self._recent = QVBoxLayout()
        self._recent.setSpacing(4)
        box.addLayout(self._recent)

    def show_recent(self, paths: list[Path]) -> None:
        """Offer the scans opened lately."""
        while self._recent.count():
            self._recent.takeAt(0).widget().deleteLater()
        if paths:
            label = QLabel("Recent")
            label.setObjectName("heading")
            self._recent.addWidget(label)
        for path in paths[:_MOST_RECENT]:
            button = QPushButton(f"{path.name}    {path.parent}")
            button.setObjectName("recent")
            button.setToolTip(str(path))
            button.clicked.connect(lambda _=False, path=path: self.recent_asked.emit(path))
            self._recent.addWidget(button)
        self.adjustSize()
