"""A straight snip being set up: its plane, and how tabs and typed values move it."""

import numpy as np

from tinsnip.treat import StraightSnip

__all__ = ["SnipPlan"]


class SnipPlan:
    """A plane with a base direction from which its two tilts are counted.

    Attributes
    ----------
    axes : ndarray, shape (3, 3)
        Rows: the two directions the tilts lean towards, and the base normal.
    tilt : ndarray, shape (2,)
        Degrees by which the normal leans towards each of the first two.
    offset : float
        Distance of the plane from the origin along the normal, mm.
    flipped : bool
        Waste above instead of below.
    close : bool
        Close the cut with flat triangles.
    """

    def __init__(self, box: np.ndarray) -> None:
        self.box = box
        self.axes = np.eye(3)
        self.tilt = np.zeros(2)
        self.offset = 0.0
        self.flipped = False
        self.close = False
        self.set_axis(2)

    def set_axis(self, axis: int) -> None:
        """Square to x, y or z, a little inside the part's lower end."""
        self.axes = np.roll(np.eye(3), -((axis + 1) % 3), axis=0)
        self.tilt = np.zeros(2)
        low, high = self.box[0, axis], self.box[1, axis]
        share = 0.05 if axis == 2 else 0.5
        self.offset = float(low + share * (high - low))

    def set_two_points(self, a: np.ndarray, b: np.ndarray, sight: np.ndarray) -> None:
        """Through two points and along the line of sight."""
        along = b - a
        normal = np.cross(along, sight)
        length = np.linalg.norm(normal)
        if length < 1e-12 * max(1.0, float(np.linalg.norm(along))):
            return
        normal /= length
        first = along / np.linalg.norm(along)
        self.axes = np.stack([first, np.cross(normal, first), normal])
        self.tilt = np.zeros(2)
        self.offset = float(normal @ a)

    @property
    def normal(self) -> np.ndarray:
        """Unit normal of the plane."""
        lean = np.tan(np.radians(self.tilt))
        n = self.axes[2] + lean[0] * self.axes[0] + lean[1] * self.axes[1]
        return n / np.linalg.norm(n)

    def set_tilt(self, which: int, degrees: float) -> None:
        """Lean to a typed angle about the middle of the frame."""
        middle = self.frame()[0]
        self.tilt[which] = np.clip(degrees, -80.0, 80.0)
        self.offset = float(self.normal @ middle)

    def frame(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Middle of the frame round the part, and the two vectors from it to its sides, in the plane."""
        n = self.normal
        centre = self.box.mean(axis=0)
        middle = centre + (self.offset - n @ centre) * n
        u = self.axes[0] - (self.axes[0] @ n) * n
        u /= np.linalg.norm(u)
        v = np.cross(n, u)
        half = 0.5 * (self.box[1] - self.box[0])
        return middle, 1.08 * float(np.abs(u) @ half) * u, 1.08 * float(np.abs(v) @ half) * v

    def slide(self, distance: float) -> None:
        """Move along the normal."""
        self.offset += distance

    def tilt_side(self, which: int, rise: float) -> None:
        """Lift the side of one tab along the normal, about the opposite side."""
        middle, u, v = self.frame()
        side = u if which == 0 else v
        opposite = middle - side
        reach = 2 * float(np.linalg.norm(side))
        lifted = side / np.linalg.norm(side) * reach + rise * self.normal
        other = v if which == 0 else u
        n = np.cross(lifted, other) if which == 0 else np.cross(other, lifted)
        n /= np.linalg.norm(n)
        up = float(n @ self.axes[2])
        if up < 0.2:  # no farther than the typed angles go
            return
        self.tilt = np.degrees(np.arctan2([n @ self.axes[0], n @ self.axes[1]], up))
        self.offset = float(self.normal @ opposite)

    def waste_plane(self) -> tuple[np.ndarray, float]:
        """Normal and offset such that what lies below is waste."""
        sign = -1.0 if self.flipped else 1.0
        return sign * self.normal, sign * self.offset

    def treatment(self) -> StraightSnip:
        """The snip as it stands."""
        return StraightSnip(
            normal=tuple(float(x) for x in self.normal),
            offset=float(self.offset),
            waste="above" if self.flipped else "below",
            close=self.close,
        )
