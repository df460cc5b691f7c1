"""The card after opening: how large, in which unit, what was found, what it would take."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QHideEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QButtonGroup, QFrame, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import px
from tinsnip.formats import UNITS
from tinsnip.job import Open, Rename, SetUnit
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import edge_spread
from tinsnip.survey.surfaces import noise_of
from tinsnip.words import counted, grouped, lengths, millimetres

__all__ = ["FirstLook"]

_FAMILIAR = (
    ("grain of rice", 6.0),
    ("coin", 23.0),
    ("matchbox", 53.0),
    ("hand", 190.0),
    ("sheet of paper", 297.0),
    ("chair", 900.0),
    ("door", 2000.0),
    ("van", 5200.0),
    ("house", 9000.0),
)


class _SizeDrawing(QWidget):
    """The part's longest side as a bar between two familiar things, to one scale."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(px(92))
        self.size_mm = np.zeros(3)

    def show_size(self, size: np.ndarray) -> None:
        self.size_mm = size
        self.setAccessibleName("Size: " + lengths(size) + " mm")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        longest = float(self.size_mm.max()) or 1.0
        nearest = int(np.argmin([abs(np.log(s / longest)) for _, s in _FAMILIAR]))
        other = nearest + (1 if _FAMILIAR[nearest][1] < longest and nearest + 1 < len(_FAMILIAR) else -1)
        things = [_FAMILIAR[i] for i in sorted({max(0, nearest), max(0, other)})]
        rows = sorted([*((n, s, False) for n, s in things), ("this part", longest, True)], key=lambda r: r[1])
        room = self.width() - px(168)
        largest = rows[-1][1]
        for i, (name, size, own) in enumerate(rows):
            y = px(6) + i * px(29)
            length = max(2.0, room * size / largest)
            painter.setPen(QPen(QColor("#8d8778"), 1))
            painter.setBrush(QColor("#b4602a") if own else QColor("#d5d0c5"))
            painter.drawRect(QRectF(px(96), y, length, px(18)))
            painter.setPen(QColor("#26241f"))
            painter.drawText(
                QRectF(0, y, px(90), px(18)), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, name
            )
            text = f"{lengths([size])} mm"
            painter.drawText(QPointF(px(100) + length, y + px(14)), text)


class FirstLook(QFrame):
    """What is known of a scan at once, and the one question worth asking: is it the right size?"""

    put_away = Signal()

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setObjectName("card")
        self.setFixedWidth(px(380))
        box = QVBoxLayout(self)
        box.setContentsMargins(px(22), px(16), px(22), px(16))
        box.setSpacing(px(7))
        self.title = QLabel()
        self.title.setObjectName("title")
        box.addWidget(self.title)
        self.drawing = _SizeDrawing()
        box.addWidget(self.drawing)
        self.reason = QLabel()
        self.reason.setObjectName("muted")
        self.reason.setWordWrap(True)
        box.addWidget(self.reason)
        row = QHBoxLayout()
        row.addWidget(QLabel("Numbers are"))
        self.units = QButtonGroup(self)
        self.unit_buttons: dict[str, Button] = {}
        for unit in UNITS:
            button = Button(unit)
            button.setObjectName("choice")
            button.setCheckable(True)
            button.setAccessibleName(f"Take the file's numbers as {unit}")
            button.clicked.connect(lambda _=False, unit=unit: session.set_unit(unit))
            self.units.addButton(button)
            self.unit_buttons[unit] = button
            row.addWidget(button)
        row.addStretch(1)
        box.addLayout(row)
        self.found = QLabel()
        self.found.setWordWrap(True)
        box.addWidget(self.found)
        self.needs = QLabel()
        self.needs.setWordWrap(True)
        self.needs.setObjectName("muted")
        box.addWidget(self.needs)
        self.keep = Button("The size is right    Esc")
        self.keep.setObjectName("democard")
        self.keep.clicked.connect(self.hide)
        box.addWidget(self.keep)
        self._noise: tuple[Mesh, float] | None = None
        session.examined.connect(self.refresh)
        session.mesh_changed.connect(self.refresh)
        self.hide()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        if not event.spontaneous():
            self.put_away.emit()

    def is_wanted(self) -> bool:
        """Whether the part is still as it came, but for its unit and name."""
        job = self.session.job
        return all(isinstance(step.action, Open | SetUnit | Rename) for step in job.log[: job.cursor])

    def _noise_told(self, mesh: Mesh) -> str:
        """The scan's noise, which is measured beside the window while the card is there."""
        if self._noise is not None and self._noise[0] is mesh:
            return f"{millimetres(self._noise[1])} mm"
        if self.isVisible():

            def take(noise: float) -> None:
                self._noise = mesh, noise
                self.refresh()

            self.session.tasks.latest("noise of the scan", lambda progress: noise_of(mesh), take)
        return "…"

    def refresh(self) -> None:
        """Show what is known."""
        piece, found = self.session.job.piece, self.session.examination
        if piece is None:
            self.hide()
            return
        if not self.is_wanted():
            self.hide()
        scan, mesh = piece.scan, piece.mesh
        name = self.title.fontMetrics().elidedText(piece.name, Qt.TextElideMode.ElideMiddle, px(220))
        self.title.setText(f"First look: {name}")
        self.drawing.show_size(mesh.size)
        self.unit_buttons[scan.unit].setChecked(True)
        self.reason.setText(f"Taken as {scan.unit}: {scan.unit_reason}.")
        if found is None:
            self.found.setText("Looking it over…")
            self.needs.setText("")
            return
        counts = found.counts()
        edge, spread = edge_spread(mesh.vertices, mesh.faces)
        even = "even" if spread < 0.45 else "uneven" if spread < 0.9 else "very uneven"
        words = [
            f"{grouped(len(mesh.faces))} triangles, edges {edge:.3g} mm, {even}",
            f"{counted(counts['shells'], 'shell')}, {'with' if mesh.colour is not None else 'without'} colour",
            f"{counted(counts['holes'], 'hole')}, {counted(counts['rims'], 'rim')}",
            f"{counted(found.tangles.total, 'tangle')}",
            f"noise {self._noise_told(mesh)}",
        ]
        self.found.setText(" · ".join(words) + "".join(f"\n{note}" for note in scan.notes))
        steps = ["weld the seams"] if found.seams else []  # before it is welded, what hangs together looks like strays
        if found.tangles.total:
            steps.append(f"mend {counted(found.tangles.total, 'tangle')}")
        if counts["chunks"]:
            steps.append(f"look at {counted(counts['chunks'], 'chunk')} that may be part of it")
        if counts["crumbs"] + counts["voids"]:
            strays = [counted(counts[k + "s"], k) for k in ("crumb", "void") if counts[k + "s"]]
            steps.append(f"sweep {' and '.join(strays)}")
        if counts["holes"]:
            steps.append(f"patch {counted(counts['holes'], 'hole')}")
        if counts["beds"]:
            steps.append("cut the bed away")
        if counts["rims"]:
            steps.append("close the base")
        self.needs.setText("To a closed solid: " + ", ".join(steps) if steps else "It is a closed solid already.")
        self.adjustSize()
