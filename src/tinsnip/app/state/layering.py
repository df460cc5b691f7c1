"""The present part cut into layers, and which of them no machine can build: worked out beside the window."""

from collections.abc import Hashable

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.examined import Examined
from tinsnip.mesh import Mesh
from tinsnip.space.slicing import Layers
from tinsnip.survey.layers import LayerFault, find_layer_faults, layer_findings, layers_of

__all__ = ["Layering"]

_USUAL_MM = 0.2


class Layering(QObject):
    """Layers of one height, as long as somebody wants them.

    Parameters
    ----------
    session : Session

    Attributes
    ----------
    height_mm : float
        Of each layer.
    layers : Layers or None
        None as long as they are cut, or nobody wants them.
    faults : list of LayerFault or None
        None as long as they are looked for.
    """

    changed = Signal()

    def __init__(self, session: Examined) -> None:
        super().__init__()
        self._session = session
        self.height_mm = _USUAL_MM
        self._forget()
        self._wanted: set[Hashable] = set()
        session.mesh_changed.connect(self._ask)
        session.examined.connect(self._ask)

    def want(self, who: Hashable, on: bool) -> None:
        """Cut the part from now on whenever it changes, or no more once nobody wants it; what is known stays."""
        (self._wanted.add if on else self._wanted.discard)(who)
        if not self._wanted and self.faults is None:
            self._session.tasks.stop_behind("layers", "faults of layers")
            self._forget()
        self._ask()

    def set_height(self, height: float) -> None:
        """Cut it at another height, mm."""
        if height != self.height_mm:
            self.height_mm = height
            self._forget()
            self._ask()

    def _forget(self) -> None:
        self._mesh: Mesh | None = None
        self.layers: Layers | None = None
        self.faults: list[LayerFault] | None = None

    def _ask(self) -> None:
        mesh, height, tasks = self._session.mesh, self.height_mm, self._session.tasks

        def is_meant() -> bool:
            return self._mesh is mesh and self.height_mm == height

        def take_faults(faults: list[LayerFault]) -> None:
            if is_meant():
                self.faults = faults
                self._tell_faults()
                self.changed.emit()

        def take(layers: Layers) -> None:
            if is_meant():
                self.layers = layers
                self.changed.emit()
                tasks.behind("faults of layers", lambda p: find_layer_faults(mesh, layers, p), take_faults)

        if self._mesh is not mesh:
            self._forget()
        if self._wanted and mesh is not None and self._mesh is None:
            self._mesh = mesh
            self.changed.emit()
            tasks.behind("layers", lambda progress: layers_of(mesh, height, progress), take)
        self._tell_faults()

    def _tell_faults(self) -> None:
        """Among the findings of the part, as long as they are known."""
        found = self._session.examination
        if found is None:
            return
        judged = self.height_mm if self.faults is not None and self._mesh is found.mesh else None
        if found.layers_judged != judged:
            found.layers_judged = judged
            found.layer_faults = [] if judged is None else layer_findings(found.mesh, self.layers, self.faults)
            self._session.examined.emit()
