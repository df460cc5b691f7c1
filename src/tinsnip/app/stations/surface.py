"""Surface: tangles and noise."""

from PySide6.QtWidgets import (
    QLabel,
)

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.widgets.panels import number_field
from tinsnip.treat import (
    Mend,
    Orient,
    Smooth,
    Weld,
)
from tinsnip.words import counted, grouped

__all__ = ["SURFACE", "SurfaceTray"]


class SurfaceTray(Tray):
    """Mending tangles, orienting."""

    title = "Mend the surface"

    def build(self) -> None:
        self.head_text.setText("Triangles that are no surface: tangled, pinched, flipped, doubled, without height.")
        names = ("Tangled edges", "Pinched vertices", "Flipped edges", "Doubled triangles", "Degenerate triangles")
        self.values = [self.figure(name) for name in names]
        self.copper_button("Mend", self.mend)
        self.button("Weld equal vertices", lambda: self.session.apply(Weld()))
        self.heading("Smooth")
        about = QLabel("Takes scanner noise off; the part keeps its size, open edges stay.")
        about.setObjectName("muted")
        about.setWordWrap(True)
        self.column.addWidget(about)
        row, self.passes = number_field("Passes", 1, 200, 0, "", 5)
        self.passes.setValue(10)
        self.column.addWidget(row)
        row, self.strength = number_field("Strength", 0.05, 0.7, 2, "", 0.05)
        self.strength.setValue(0.5)
        self.column.addWidget(row)
        self.smooth_button = self.button("Smooth the surface", self.smooth)

    def refresh(self) -> None:
        found = self.session.examination
        if found is None:
            return
        t = found.tangles
        counts = (t.tangled_edges, t.pinched_vertices, t.flipped_edges, t.duplicates, t.degenerate)
        for label, value in zip(self.values, counts, strict=True):
            label.setText(grouped(value))
        self.copper.setText(f"Mend {counted(t.total, 'tangle')} and orient" if t.total else "Nothing to mend")
        self.copper.setEnabled(t.total > 0)

    def smooth(self) -> None:
        """Smooth."""
        self.session.apply(Smooth(iterations=int(self.passes.value()), strength=self.strength.value()))

    def mend(self) -> None:
        """Mend and orient."""
        self.session.do_all([Mend(), Orient()])


def _state(session: Session) -> tuple[str, int | None]:
    total = session.examination.tangles.total
    return (counted(total, "tangle") if total else "no tangles"), total


_CHECKS = ("manifold", "outward", "volume")
SURFACE = Station(
    "Surface", SurfaceTray, _state, lambda found: found.knots, answers=lambda check, _: check.name in _CHECKS
)
