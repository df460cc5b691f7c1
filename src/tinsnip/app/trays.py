"""The trays: what each station can do."""

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
)
from PySide6.QtWidgets import QWidget as Widget

from tinsnip.app.first_trays import IntakeTray, StandTray
from tinsnip.app.panels import Panel, number_field
from tinsnip.app.reducetray import ReduceTray
from tinsnip.app.session import Session
from tinsnip.app.snipplan import SnipPlan
from tinsnip.app.viewport import Viewport
from tinsnip.formats import FORMATS
from tinsnip.mesh import Mesh
from tinsnip.survey import Kind
from tinsnip.treat import (
    Mend,
    Orient,
    Patch,
    Plinth,
    Smooth,
    Sweep,
    Weld,
)
from tinsnip.words import counted, grouped, megabytes

__all__ = ["make_trays"]


class TrimTray(Panel):
    """The straight snip."""

    title = "Straight snip"
    figures_due = Signal()

    def __init__(self, session: Session, viewport: Viewport) -> None:
        self.viewport = viewport
        self.plan: SnipPlan | None = None
        self._filling = False
        super().__init__(session)
        self._later = QTimer(self, singleShot=True, interval=60)
        self._later.timeout.connect(self._count)
        viewport.gestures.snip_edited.connect(self._show_plan)

    def build(self) -> None:
        self.head_text.setText("The hatched side goes. Drag the tabs, or type.")
        row = Widget()
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(QLabel("Square to"))
        self.axis = QButtonGroup(self)
        for i, name in enumerate("xyz"):
            button = QPushButton(name)
            button.setCheckable(True)
            button.setAccessibleName(f"Plane square to {name}")
            button.setFixedWidth(44)
            self.axis.addButton(button, i)
            box.addWidget(button)
        box.addStretch(1)
        self.axis.idClicked.connect(self._take_axis)
        self.column.addWidget(row)
        self.two_points = self.button("From two points…", self.viewport.gestures.begin_two_points)
        row, self.offset = number_field("Offset", -1e6, 1e6, 3, "mm", 0.5)
        self.column.addWidget(row)
        row, self.tilt_0 = number_field("Tilt 1", -80, 80, 2, "°", 0.5)
        self.column.addWidget(row)
        row, self.tilt_1 = number_field("Tilt 2", -80, 80, 2, "°", 0.5)
        self.column.addWidget(row)
        self.offset.valueChanged.connect(self._typed)
        self.tilt_0.valueChanged.connect(self._typed)
        self.tilt_1.valueChanged.connect(self._typed)
        self.swap_button = self.button("Swap the waste side", self.swap, "Tab")
        self.close_box = QCheckBox("close the cut with flat triangles")
        self.close_box.toggled.connect(self._typed)
        self.column.addWidget(self.close_box)
        self.heading("What the preview shows")
        self.goes = self.figure("Triangles that go")
        self.stays = self.figure("Triangles that stay")
        self.copper_button("Cut the hatched side away", self.cut)

    def enter(self) -> None:
        mesh = self.session.mesh
        if mesh is None or len(mesh.faces) == 0:
            return
        if self.plan is None or not np.array_equal(self.plan.box, mesh.box):
            self.plan = SnipPlan(mesh.box)
        self.viewport.set_snip(self.plan)
        self._show_plan()

    def leave(self) -> None:
        self.viewport.gestures.end_two_points()
        self.viewport.set_snip(None)

    def refresh(self) -> None:
        if self.isVisible() and self.viewport.overlay.snip is not None:
            self.enter()

    def _take_axis(self, axis: int) -> None:
        if self.plan is not None:
            self.plan.set_axis(axis)
            self.viewport.show_waste()
            self._show_plan()

    def _typed(self, *_: object) -> None:
        if self._filling or self.plan is None:
            return
        for i, field in enumerate((self.tilt_0, self.tilt_1)):
            if abs(field.value() - self.plan.tilt[i]) > 0.0051:
                self.plan.set_tilt(i, field.value())
        if abs(self.offset.value() - self.plan.offset) > 0.00051:
            self.plan.offset = self.offset.value()
        self.plan.close = self.close_box.isChecked()
        self.viewport.show_waste()
        self._show_plan()

    def swap(self) -> None:
        """Let the other side go."""
        if self.plan is not None:
            self.plan.flipped = not self.plan.flipped
            self.viewport.show_waste()
            self._show_plan()

    def _show_plan(self) -> None:
        if self.plan is None:
            return
        self._filling = True
        self.offset.setValue(self.plan.offset)
        self.tilt_0.setValue(self.plan.tilt[0])
        self.tilt_1.setValue(self.plan.tilt[1])
        axis = int(np.argmax(np.abs(self.plan.axes[2])))
        button = self.axis.button(axis)
        square = bool(np.allclose(self.plan.axes[2], np.eye(3)[axis])) and not self.plan.tilt.any()
        self.axis.setExclusive(False)
        for other in self.axis.buttons():
            other.setChecked(square and other is button)
        self.axis.setExclusive(True)
        self._filling = False
        self._later.start()

    def _count(self) -> None:
        mesh = self.session.mesh
        if self.plan is None or mesh is None:
            return
        normal, offset = self.plan.waste_plane()

        def work(progress: object) -> tuple[Mesh, int]:
            below = mesh.vertices @ normal < offset
            return mesh, int(np.count_nonzero(below[mesh.faces].all(axis=1)))

        self.session.tasks.behind("snip", work, self._show_count)

    def _show_count(self, result: tuple[Mesh, int]) -> None:
        mesh, count = result
        self.goes.setText(grouped(count))
        self.stays.setText(grouped(len(mesh.faces) - count))
        self.copper.setEnabled(len(mesh.faces) - count > 0)

    def cut(self) -> None:
        """Make the cut."""
        if self.plan is not None:
            self.session.apply(self.plan.treatment())


class StraysTray(Panel):
    """Sweeping strays and voids."""

    title = "Sweep strays"

    def build(self) -> None:
        self.head_text.setText("Shells beside the part. The main shell always stays.")
        self.question = self.warning()
        self.crumbs, self.chunks, self.voids = (self.figure(n) for n in ("Crumbs", "Chunks", "Inner skins"))
        self.goes = self.figure("Triangles that go")
        self.tick_buttons(3)
        self.copper_button("Sweep", self.sweep)
        self.session.ticks_changed.connect(self.refresh)

    def _chosen(self) -> list:
        found = self.session.examination
        return [f for f in found.strays if self.session.is_ticked(f)] if found else []

    def refresh(self) -> None:
        chosen = self._chosen()
        found = self.session.examination
        chunks = int(found.roles.chunk.sum()) if found else 0
        if chunks:
            check = next(c for c in found.readiness.checks if c.name == "shells")
            self.question.setText(f"{check.reason}\nChunks are ticked by you alone: look at each first.")
        self.question.setVisible(chunks > 0)
        for label, kind in ((self.crumbs, Kind.CRUMB), (self.chunks, Kind.CHUNK), (self.voids, Kind.VOID)):
            label.setText(str(sum(f.kind is kind for f in chosen)))
        self.goes.setText(grouped(sum(f.count for f in chosen)))
        voids = sum(f.kind is Kind.VOID for f in chosen)
        parts = [counted(len(chosen) - voids, "stray")] * (len(chosen) > voids) + [counted(voids, "void")] * (voids > 0)
        self.copper.setText("Sweep " + " and ".join(parts) if parts else "Nothing ticked")
        self.copper.setEnabled(bool(parts))

    def sweep(self) -> None:
        """Sweep what is ticked."""
        chunks, rest = (self.session.ticked_keys(k) for k in ((Kind.CHUNK,), (Kind.CRUMB, Kind.VOID)))
        if rest is None and chunks in (None, ()):  # whole kinds are named by a rule, which fits the next scan too
            self.session.apply(Sweep(chunks="keep" if chunks == () else "sweep"))
        else:
            self.session.apply(Sweep(shells=self.session.ticked_keys((Kind.CRUMB, Kind.CHUNK, Kind.VOID))))


class HolesTray(Panel):
    """Patching holes."""

    title = "Patch holes"

    def build(self) -> None:
        self.blocked = self.warning()
        self.unblock = self.button("Mend and orient first", self._mend)
        self.shape_text = QLabel("Shape of the patches: flowing")
        self.column.addWidget(self.shape_text)
        self.flow = QSlider(Qt.Orientation.Horizontal)
        self.flow.setRange(0, 100)
        self.flow.setValue(100)
        self.flow.setAccessibleName("Shape of the patches, taut to flowing")
        self.column.addWidget(self.flow)
        row, self.flow_number = number_field("taut 0 … 1 flowing", 0, 1, 2, "", 0.1)
        self.flow_number.setValue(1.0)
        self.column.addWidget(row)
        self.flow.valueChanged.connect(lambda v: self.flow_number.setValue(v / 100))
        self.flow_number.valueChanged.connect(lambda v: self.flow.setValue(round(v * 100)))
        self.tick_buttons(4)
        self.heading("What the preview shows")
        self.made = self.figure("New triangles")
        self.area = self.figure("Surface made")
        self.left = self.figure("Holes left")
        self.copper_button("Patch", self.patch)
        self._later = QTimer(self, singleShot=True, interval=180)
        self._later.timeout.connect(self._preview)
        self.flow_number.valueChanged.connect(self._changed)
        self.session.ticks_changed.connect(self._changed)
        self.session.preview_changed.connect(self._show_preview)

    def enter(self) -> None:
        self._changed()

    def _treatment(self) -> Patch:
        return Patch(flow=round(self.flow_number.value(), 2), holes=self.session.ticked_keys((Kind.HOLE,)))

    def _count(self) -> tuple[int, int]:
        found = self.session.examination
        holes = [f for f in found.openings if f.kind is Kind.HOLE] if found else []
        return sum(self.session.is_ticked(f) for f in holes), len(holes)

    def refresh(self) -> None:
        self._changed()

    def _changed(self, *_: object) -> None:
        value = self.flow_number.value()
        word = "flowing" if value > 0.8 else "taut" if value < 0.2 else "in between"
        self.shape_text.setText(f"Shape of the patches: {word}")
        chosen, every = self._count()
        found = self.session.examination
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges if found else 0
        self.blocked.setText("Tangled or flipped edges leave the holes without a clear edge.")
        self.blocked.setVisible(knots > 0)
        self.unblock.setVisible(knots > 0)
        self.head_text.setText(f"{chosen} of {every} holes ticked. The outer rim is never patched from here.")
        self.copper.setText(f"Patch {counted(chosen, 'hole')}" if chosen else "No hole to patch")
        self.copper.setEnabled(chosen > 0 and knots == 0)
        self.left.setText(str(every - chosen))
        if not self.isVisible():
            return
        if chosen and not knots:
            self.made.setText("…")
            self.area.setText("…")
            self._later.start()
        else:
            self.session.cancel_preview()
            self.made.setText("0")
            self.area.setText("0 mm²")

    def _preview(self) -> None:
        if self.isVisible():
            self.session.ask_preview(self._treatment())

    def _show_preview(self) -> None:
        preview = self.session.preview
        if preview is None or preview.treatment.name != Patch.name:
            return
        added = len(preview.outcome.mesh.faces) - len(preview.before.faces)
        self.made.setText(f"+{grouped(added)}")
        self.area.setText(f"{preview.outcome.figures.get('area_mm2', 0.0):.4g} mm²")

    def _mend(self) -> None:
        self.session.apply_all([Mend(), Orient()])

    def patch(self) -> None:
        """Patch the ticked holes."""
        self.session.apply(self._treatment())


class SurfaceTray(Panel):
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
        self.session.apply_all([Mend(), Orient()])


class SolidTray(Panel):
    """Closing the base."""

    title = "Close the base"

    def build(self) -> None:
        self.head_text.setText("The open rim is closed onto a plane: a flat rim by a flat base, a ragged one by walls.")
        self.auto = QCheckBox("as thin as can be")
        self.auto.setChecked(True)
        self.column.addWidget(self.auto)
        row, self.depth = number_field("Depth below the rim", 0.01, 1000, 2, "mm", 0.5)
        self.depth.setValue(2.0)
        self.column.addWidget(row)
        self.blocked = self.warning()
        self.heading("What the preview shows")
        self.rims = self.figure("Open rims")
        self.made = self.figure("New triangles")
        self.copper_button("Close the base", self.close_base)
        self.auto.toggled.connect(self.refresh)
        self.depth.valueChanged.connect(self.refresh)
        self.session.preview_changed.connect(self._show_preview)

    def enter(self) -> None:
        self.refresh()

    def _treatment(self) -> Plinth:
        return Plinth(depth_mm=None if self.auto.isChecked() else self.depth.value())

    def refresh(self, *_: object) -> None:
        self.depth.setEnabled(not self.auto.isChecked())
        found = self.session.examination
        if found is None:
            return
        rims = int(found.boundaries.is_rim.sum())
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges
        self.blocked.setText("Tangled or flipped edges leave the rim without a clear side: mend them in Surface.")
        self.blocked.setVisible(knots > 0 and rims > 0)
        self.rims.setText(str(rims))
        self.copper.setText("Close the base" if rims == 1 else f"Close {rims} rims" if rims else "No open rim")
        self.copper.setEnabled(rims > 0 and knots == 0)
        self.made.setText("…" if rims and not knots else "0")
        if self.isVisible() and rims and not knots:
            self.session.ask_preview(self._treatment())

    def _show_preview(self) -> None:
        preview = self.session.preview
        if preview is not None and preview.treatment.name == Plinth.name:
            self.made.setText(f"+{grouped(len(preview.outcome.mesh.faces) - len(preview.before.faces))}")

    def close_base(self) -> None:
        """Close the rims."""
        self.session.apply(self._treatment())


class ReleaseTray(Panel):
    """The checks, and writing the file."""

    title = "Release"
    export_asked = Signal(str)

    def build(self) -> None:
        self.head_text.setText("What a closed solid must be. The file is read back and checked before it counts.")
        self.checks: dict[str, QLabel] = {}
        for name in ("closed", "manifold", "outward", "volume", "shells", "voids", "crossings"):
            self.checks[name] = self.figure(name)
        self.column.addSpacing(6)
        row = Widget()
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(QLabel("Format"))
        box.addStretch(1)
        self.format = QComboBox()
        self.format.setAccessibleName("Format of the file")
        for name in FORMATS:
            self.format.addItem(FORMATS[name].title, name)
        box.addWidget(self.format)
        self.column.addWidget(row)
        self.size = self.figure("On disk")
        self.frame = QCheckBox("in the scanner's own frame")
        self.frame.setToolTip("Undo turning, placing and scaling in the file only")
        self.column.addWidget(self.frame)
        self.provenance = QCheckBox("say what was measured and made")
        self.provenance.setToolTip("Each triangle's provenance as a property of the file; PLY only")
        self.column.addWidget(self.provenance)
        self.written = QLabel()
        self.written.setObjectName("muted")
        self.written.setWordWrap(True)
        self.copper_button("Export", lambda: self.export_asked.emit(self.format.currentData()))
        self.column.addWidget(self.written)
        self.format.currentIndexChanged.connect(self.refresh)
        self.session.released.connect(self.refresh)

    def refresh(self, *_: object) -> None:
        found, mesh = self.session.examination, self.session.mesh
        if mesh is None:
            return
        name = self.format.currentData()
        self.provenance.setEnabled(FORMATS[name].holds_provenance)
        self.size.setText(megabytes(FORMATS[name].size_for(mesh)))
        if found is None:
            return
        for check in found.readiness.checks:
            if check.name in self.checks:
                text = {True: "✓ yes", False: f"✗ {check.brief or check.reason}", None: "not checked"}[check.passed]
                label = self.checks[check.name]
                label.setText(label.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 180))
                label.setToolTip(check.reason if check.passed is False else "")
        self.copper.setText(
            f"Export {name.upper()}…" if found.readiness.ready else f"Export {name.upper()}, not ready…"
        )
        last = self.session.last_release
        if last is not None and last[1] is mesh:
            self.written.setText(f"Written and read back: {last[0].name}\n{last[2].readiness.state}")
        else:
            self.written.setText("")


def make_trays(session: Session, viewport: Viewport) -> list[Panel]:
    """One tray for each station, in their order."""
    return [
        IntakeTray(session),
        StandTray(session, viewport),
        TrimTray(session, viewport),
        StraysTray(session),
        HolesTray(session),
        SurfaceTray(session),
        ReduceTray(session, viewport),
        SolidTray(session),
        ReleaseTray(session),
    ]
