"""Selecting by a rule and a number."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import Qt

from tinsnip.app.tools.selecting import Selects
from tinsnip.app.view.hand import Option
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.regions.rules import deviating, facing, high, long_edged, small_shells

__all__ = ["RuleSelect"]

_UP = np.array([0.0, 0.0, 1.0])
_FACES_EYE, _DEVIATES = "Faces the eye within °", "Deviates by more than mm"
_RULES: dict[str, Callable[[Mesh, float], np.ndarray]] = {
    "Lies above mm": lambda mesh, value: high(mesh, value, True),
    "Lies below mm": lambda mesh, value: high(mesh, value, False),
    "Faces up within °": lambda mesh, value: facing(mesh, _UP, value),
    "Faces down within °": lambda mesh, value: facing(mesh, -_UP, value),
    "Edges longer than mm": lambda mesh, value: long_edged(mesh, value, True),
    "Edges shorter than mm": lambda mesh, value: long_edged(mesh, value, False),
    "Shells of fewer triangles than": lambda mesh, value: small_shells(mesh, int(value)),
}


class RuleSelect(Selects):
    """All triangles that a rule is true of."""

    name = "Select by a rule"
    picture, short = "rule", "Rule"
    cursor = Qt.CursorShape.ArrowCursor
    options = (
        Option("Rule", "rule", next(iter(_RULES)), (*_RULES, _FACES_EYE, _DEVIATES)),
        Option("Number", "value", 10.0, (-1e6, 1e9)),
    )
    act_text = "Select what it is true of"

    def hint(self) -> str:
        return "Set the rule and its number in the tray; Enter selects  (Esc to leave)"

    def enter(self) -> bool:
        self.found(self._work(), Qt.KeyboardModifier.NoModifier)
        return True

    def _work(self) -> Callable[[Mesh, Progress], np.ndarray]:
        value, rule = float(self.value), self.rule
        if rule == _FACES_EYE:
            return partial(_facing_eye, self.view.camera.frame()[2], value)
        if rule == _DEVIATES:
            known = self.session.from_raw
            return partial(_deviates, known if known is not None and known.mesh is self.session.mesh else None, value)
        return lambda mesh, progress: _RULES[rule](mesh, value)


def _facing_eye(eye: np.ndarray, value: float, mesh: Mesh, progress: Progress) -> np.ndarray:
    return facing(mesh, eye, value)


def _deviates(known: object, value: float, mesh: Mesh, progress: Progress) -> np.ndarray:
    if known is None:
        raise BadInput("the deviation is not measured yet; wait until the status line tells it")
    return deviating(mesh, known.signed, value)
