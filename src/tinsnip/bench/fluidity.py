"""How long the window keeps its user waiting: measured on the real window, driven as a hand would drive it."""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QApplication

from tinsnip.app.main import make_application
from tinsnip.app.view.viewport import Viewport
from tinsnip.demo.meshes import grid_torus
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.treat import BrushStroke, Sweep
from tinsnip.treat.shape.brushes import BRUSHES

__all__ = ["measure_window"]


class _Loop:
    """The event loop turned by hand: notes the longest time that one turn, or one gesture's event, took."""

    def __init__(self, application: QApplication) -> None:
        self.application = application
        self.longest = 0.0

    def serve(self, target: QObject | None = None, event: QEvent | None = None) -> None:
        """Deliver an event, if one is given, and serve all that waits."""
        begun = time.perf_counter()
        if event is not None:
            QApplication.sendEvent(target, event)
        self.application.processEvents()
        self.longest = max(self.longest, time.perf_counter() - begun)

    def wait(self, until: Callable[[], bool], limit: float = 300.0) -> float:
        """Serve until something holds; how long that took, s."""
        begun = time.perf_counter()
        while not until() and time.perf_counter() - begun < limit:
            self.serve()
            time.sleep(0.0005)
        return time.perf_counter() - begun


def measure_window(triangles: int, note: Callable[[str], None]) -> list[dict[str, Any]]:
    """Open, turn, zoom, reduce, undo on a mesh of a size, and time what a user would feel.

    Parameters
    ----------
    triangles : int
    note : callable
        Told each row as it is done.

    Returns
    -------
    list of dict
        ``name, seconds``: the longest time the event loop stood still in each phase (``stall-...``), and how long
        it took until something was on the screen (the others).
    """
    application = make_application()
    from tinsnip.app.frame.window import Window

    rows: list[dict[str, Any]] = []

    def row(name: str, seconds: float) -> None:
        rows.append({"name": name, "seconds": seconds})
        note(f"{name:<18}{1000 * seconds:8.0f} ms")

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "torus.ply"
        write_mesh(Mesh(*grid_torus(triangles)), path)
        window = Window()
        window.show()
        session, view = window.session, window.viewport
        loop = _Loop(application)
        wait = loop.wait

        def rested() -> bool:
            return session.tasks.idle and view.is_settled

        def stall(name: str, work: Callable[[], Any]) -> None:
            loop.longest = 0.0
            work()
            wait(rested)
            row(f"stall-{name}", loop.longest)

        wait(lambda: view.scene is not None and view.scene.is_prepared, 20)  # a window that has just come up
        wait(lambda: False, 0.5)

        def open_file() -> None:
            begun = time.perf_counter()
            session.opening.files([path])
            wait(lambda: view.scene.now is not None and view.scene.now.is_light_ready and session.tasks.busy is None)
            row("first-picture", time.perf_counter() - begun)
            wait(lambda: session.examination is not None)
            row("all-findings", time.perf_counter() - begun)

        stall("open", open_file)
        window.first_look.hide()
        for brush in BRUSHES:
            if brush in ("back", "colour"):  # which do nothing to a part that is as it came
                continue
            moves, end = _stroke(loop, view, triangles, brush)
            row(f"stroke-{brush}", float(np.percentile(moves, 95)))
            if brush == "inflate":
                row("stroke-step", end)
            loop.longest = 0.0
            session.history.undo()
            wait(rested)
        stall("turn", lambda: _drag(loop, view, 40))
        stall("zoom", lambda: _wheel(loop, view, 24))
        levels = window.tray("Reduce").levels
        session.set_station("Reduce")
        loop.longest = 0.0
        wait(lambda: levels.study is not None)
        wait(rested)
        row("stall-study", loop.longest)
        delays = []
        loop.longest = 0.0
        for share in (0.5, 0.3, 0.2, 0.1, 0.05, 0.02, 0.01):
            begun = time.perf_counter()
            levels.ask(int(share * triangles))
            wait(lambda: levels.shown is not None and view.scene.level is not None and view.level_frames > 0)
            delays.append(time.perf_counter() - begun)
            wait(lambda: levels.shown.outcome is not None)
            session.cancel_preview()
            wait(rested)
        row("stall-drag-level", loop.longest)
        row("level-on-screen", max(delays))

        def reduce() -> None:
            levels.ask(int(0.5 * triangles))
            wait(lambda: levels.shown is not None and levels.shown.outcome is not None)
            session.apply(levels.shown.treatment)

        stall("reduce", reduce)
        for name, act in (
            ("undo", session.history.undo),
            ("redo", session.history.redo),
            ("undo-again", session.history.undo),
        ):
            loop.longest = 0.0
            begun = time.perf_counter()
            act()
            wait(lambda: view.scene.now.buffers.mesh is session.mesh and view.scene.now.is_light_ready)
            shown = time.perf_counter() - begun
            wait(rested)
            row(f"stall-{name}", loop.longest)
            row(f"{name}-on-screen", shown)
        stall("sweep", lambda: session.apply(Sweep()))
        window.close()
        application.processEvents()
    return rows


def _stroke(loop: _Loop, view: Viewport, triangles: int, brush: str) -> tuple[list[float], float]:
    """Draw a brush over some two thousand triangles at a time: until each move is on the screen, and the step done."""
    session = view.session
    view.stroking.prepare()
    loop.wait(lambda: session.tasks.idle and view.is_settled)
    reach = float(np.sqrt(2000 / triangles * session.mesh.area / np.pi))
    view.stroking.begin(BrushStroke(brush=brush, radius_mm=reach))
    moves = []
    for i in range(60):
        x, y = view.width() * (0.3 + 0.004 * i), view.height() * (0.5 + 0.002 * i)
        begun, frames = time.perf_counter(), view.frames
        place = view.stroking.hit(*view.camera.ray_from_outside(x, y))
        if place is not None:
            view.stroking.touch(place)
            loop.wait(lambda frames=frames: view.frames > frames, 5.0)
            moves.append(time.perf_counter() - begun)
    before, begun = session.mesh, time.perf_counter()
    view.stroking.end()
    loop.wait(lambda: session.mesh is not before)
    end = time.perf_counter() - begun
    loop.wait(lambda: session.tasks.idle and view.is_settled)
    return moves, end


def _drag(loop: _Loop, view: QObject, steps: int) -> None:
    """Turn the view with the left button held."""
    at = QPointF(view.width() / 2, view.height() / 2)
    for i in range(steps + 2):
        kind = QMouseEvent.Type.MouseButtonPress if i == 0 else QMouseEvent.Type.MouseMove
        kind = QMouseEvent.Type.MouseButtonRelease if i == steps + 1 else kind
        spot = at + QPointF(5.0 * i, 1.5 * i)
        held = Qt.MouseButton.NoButton if i == steps + 1 else Qt.MouseButton.LeftButton
        button = Qt.MouseButton.NoButton if kind == QMouseEvent.Type.MouseMove else Qt.MouseButton.LeftButton
        event = QMouseEvent(kind, spot, view.mapToGlobal(spot), button, held, Qt.KeyboardModifier.NoModifier)
        loop.serve(view, event)


def _wheel(loop: _Loop, view: QObject, steps: int) -> None:
    """Zoom in and out again."""
    at = QPointF(view.width() / 2, view.height() / 2)
    for i in range(steps):
        turn = QPoint(0, 120 if i < steps // 2 else -120)
        event = QWheelEvent(
            at, view.mapToGlobal(at), QPoint(), turn, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        loop.serve(view, event)
