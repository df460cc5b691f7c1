"""Flying the camera to a finding."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject, QVariantAnimation

from tinsnip.app.view.camera import Camera
from tinsnip.space.picking import first_hit
from tinsnip.survey import Finding, Kind

__all__ = ["Flight"]


class Flight(QObject):
    """Moves a camera smoothly, and says so at every step."""

    def __init__(self, camera: Camera, moved: Callable[[], None], parent: QObject) -> None:
        super().__init__(parent)
        self.camera = camera
        self._moved = moved
        self._animation: QVariantAnimation | None = None

    @property
    def is_under_way(self) -> bool:
        """Whether the camera is on its way to a finding."""
        return self._animation is not None and self._animation.state() == QVariantAnimation.State.Running

    def fly_to(self, finding: Finding, sight: "tuple[np.ndarray, np.ndarray] | None") -> None:
        """Bring a finding to the middle, seen from its open side, large enough to judge.

        Parameters
        ----------
        finding : Finding
        sight : (ndarray, ndarray) or None
            Vertices and triangles that may stand before it.
        """
        camera = self.camera
        is_wide = finding.kind in (Kind.RIM, Kind.BED, Kind.RAGGED)
        size = max(0.6 * camera.reach if is_wide else finding.size, 0.02 * camera.reach)
        if finding.kind is Kind.TANGLE:
            size = camera.reach * 0.05
        scale = 3.2 * size / max(200, min(camera.width, camera.height))
        turn, lift = camera.turn, camera.lift
        if finding.kind is Kind.HOLE and len(finding.outline) >= 3:
            centred = finding.outline - finding.outline.mean(axis=0)
            normal = np.cross(centred, np.roll(centred, -1, axis=0)).sum(axis=0)
            length = np.linalg.norm(normal)
            if length > 0:  # along the half-edges a hole runs clockwise, seen from outside
                eye = _clear_sight(sight, finding.place, -normal / length, 0.02 * finding.size)
                turn, lift = _turned_to(eye, turn)
        elif finding.kind is Kind.CROSSING:  # from where one looks, if it is seen from there
            t, u = np.radians(turn), np.radians(lift)
            now = np.array([np.sin(t) * np.cos(u), -np.cos(t) * np.cos(u), np.sin(u)])
            turn, lift = _turned_to(_clear_sight(sight, finding.place, now, 0.1 * finding.size), turn)
        start = (camera.turn, camera.lift, camera.middle.copy(), np.log(camera.scale))
        swing = (turn - start[0] + 180) % 360 - 180

        def step(t: float) -> None:
            camera.turn = (start[0] + t * swing) % 360
            camera.lift = start[1] + t * (lift - start[1])
            camera.middle = start[2] + t * (finding.place - start[2])
            camera.scale = float(np.exp(start[3] + t * (np.log(scale) - start[3])))
            self._moved()

        self._animation = QVariantAnimation(self, duration=240, startValue=0.0, endValue=1.0)
        self._animation.valueChanged.connect(step)
        self._animation.start()


def _turned_to(eye: np.ndarray, turn: float) -> tuple[float, float]:
    """Turn and lift from which one looks along a direction; the turn as it is for one from above or below."""
    if abs(eye[2]) < 0.995:
        turn = float(np.degrees(np.arctan2(eye[0], -eye[1])))
    return turn, float(np.clip(np.degrees(np.arcsin(np.clip(eye[2], -1, 1))), -75, 75))


def _clear_sight(
    sight: tuple[np.ndarray, np.ndarray] | None, place: np.ndarray, eye: np.ndarray, slack: float
) -> np.ndarray:
    """A direction near `eye` from which nothing stands before a place; `eye` itself if there is none."""
    if sight is None:
        return eye
    side = np.cross(eye, np.eye(3)[int(np.argmin(np.abs(eye)))])
    side /= np.linalg.norm(side)
    other = np.cross(eye, side)
    around = [np.cos(a) * side + np.sin(a) * other for a in np.arange(6) * np.pi / 3]
    leaning = [np.cos(t) * eye + np.sin(t) * r for t in (0.6, 1.1, 1.8, 2.5) for r in around]
    for way in (eye, *leaning):
        hit = first_hit(*sight, place, -way)
        if hit is None or float((hit[1] - place) @ way) < slack:
            return way
    return eye
