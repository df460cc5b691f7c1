"""The part of Surface that meshes the part anew: what is typed, and about how many triangles that makes."""

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.panels import Section
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import mean_edge
from tinsnip.regions import Region
from tinsnip.treat.remesh.quads import Quads, forecast_quads
from tinsnip.treat.remesh.remesh import DEVIATION_OF_EDGE, Remesh, forecast_triangles
from tinsnip.words import grouped, rounded_up

__all__ = ["RemeshPart"]


class RemeshPart(QObject):
    """Edge length, whether it follows the bends and how closely, and what is kept."""

    changed = Signal()

    def __init__(self, session: Session, part: Section) -> None:
        super().__init__(part)
        self.session = session
        self.edge = part.number("Edges", 0.0, 1e6, 4, "mm", 0.1)
        self.edge.setToolTip("Length of all edges, or of the longest where they follow the bends")
        self.now = part.figure("Now, in the mean")
        self.count = part.figure("Becomes about")
        self.quads = part.tick(
            "in quads", "Four-sided faces along edges and bends, to go on with in a modelling program"
        )
        self.adaptive = part.tick("shorter where it bends", "Long edges where it is flat, short ones where it bends")
        self.deviation = part.number("At most off", 0.0, 1e6, 4, "mm", 0.01)
        self.deviation.setToolTip("How far the surface may move; edges become as short as that asks for")
        self.deviation_label = part.labels[self.deviation]
        self.colours = part.tick("keep colour edges", "Lines where the scan's colour changes stay where they are")
        self.told = part.explain()
        self.edge.valueChanged.connect(self._show)
        self.adaptive.toggled.connect(self._show)
        self.quads.toggled.connect(self._show)
        self._of: Mesh | None = None

    def refresh(self) -> None:
        """Show what belongs to the part that is in hand."""
        mesh = self.session.mesh
        if mesh is not self._of and self.edge.isVisible():
            self._of = mesh
            if mesh is not None and len(mesh.faces):
                edge = mean_edge(mesh.vertices, mesh.faces)
                self.now.setText(f"{edge:.3g} mm")
                self.edge.setValue(rounded_up(edge))
                self.deviation.setValue(rounded_up(DEVIATION_OF_EDGE * edge))
        self._tell()

    def _show(self, *_: object) -> None:
        self._tell()
        self.changed.emit()

    def _tell(self) -> None:
        mesh, edge = self.session.mesh, self.edge.value()
        quads = self.quads.isChecked()
        self.adaptive.setVisible(not quads)
        for widget in (self.deviation, self.deviation_label):
            widget.setVisible(self.adaptive.isChecked() and not quads)
        self.colours.setVisible(mesh is not None and mesh.colour is not None and not quads)
        known = mesh is not None and edge > 0 and self.session.examination is not None
        if quads:
            self.count.setText(f"{grouped(forecast_quads(mesh, edge))} quads" if known else "…")
            self.told.setText("All of the part; a few triangles stay between the quads. OBJ and PLY hold them.")
            return
        count = f"{grouped(forecast_triangles(mesh, edge))} triangles" if known else "…"
        self.count.setText(f"> {count}" if self.adaptive.isChecked() else count)
        selected = self.session.selected.count
        where = f"Only the {grouped(selected)} selected triangles" if selected else "All of the part"
        self.told.setText(f"{where}; sharp edges, rims and borders of patches stay.")

    def treatment(self) -> Remesh | Quads:
        """What is asked for."""
        if self.quads.isChecked():
            return Quads(edge_mm=self.edge.value())
        mesh = self.session.mesh
        chosen = Region.of(mesh, self.session.selected.triangles) if self.session.selected.count else Region()
        adaptive = self.adaptive.isChecked()
        return Remesh(
            edge_mm=self.edge.value(),
            adaptive=adaptive,
            max_deviation_mm=(self.deviation.value() or None) if adaptive else None,
            hold_colour_edges=self.colours.isChecked() and mesh.colour is not None,
            only=chosen,
        )

    def offer(self) -> tuple[str, str]:
        """What the button says, and why it cannot be pressed."""
        if self.session.mesh is None or self.edge.value() <= 0:
            return "Remesh", "type how long the edges shall be"
        if self.quads.isChecked():
            return f"Lay quads of {self.edge.value():g} mm", ""
        where = "the selection" if self.session.selected.count else "the part"
        return f"Remesh {where}, {self.edge.value():g} mm", ""
