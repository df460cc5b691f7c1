"""The camera: parallel sight or perspective, z up, never clips the part."""

import math

import numpy as np

__all__ = ["Camera"]

_OUTSIDE = 0.75
"""The eye stays so many sizes of the part before its middle at least, so that none of it ever lies behind the eye."""
_FITS = 6
"""Rounds in which a fit in perspective settles to a pixel."""
_NEAREST = 0.05
"""What lies behind the eye, such as a frame round the part, is drawn as if it were this much of the way before it."""
_MANY = 90_000
"""Points beyond which it is their box that is looked at: these take a millisecond."""


class Camera:
    """Where the view looks from. Lengths in mm, angles in degrees, screen positions in pixels from top left.

    Attributes
    ----------
    turn, lift : float
        Direction round z (0: from the front) and height of the eye (90: from the top).
    middle : ndarray, shape (3,)
        The point in the middle of the view.
    scale : float
        mm a pixel, at the middle.
    angle : float
        Under which the height of the view is seen from the eye; 0: parallel sight.
    """

    def __init__(self) -> None:
        self.turn = 30.0
        self.lift = 32.0
        self.middle = np.zeros(3)
        self.scale = 1.0
        self.angle = 0.0
        self.width, self.height = 800, 600
        self.centre = np.zeros(3)
        self.reach = 1.0

    def frame(self) -> np.ndarray:
        """Unit vectors to the right, up, and towards the eye, as rows, shape (3, 3)."""
        t, p = math.radians(self.turn), math.radians(self.lift)
        sin_t, cos_t, sin_p, cos_p = math.sin(t), math.cos(t), math.sin(p), math.cos(p)
        right, up = (cos_t, sin_t, 0.0), (-sin_p * sin_t, sin_p * cos_t, cos_p)
        return np.array([right, up, (sin_t * cos_p, -cos_t * cos_p, sin_p)])

    @property
    def eye_mm(self) -> float:
        """How far the eye stands before the middle, mm; infinite where sight is parallel."""
        if not self.angle:
            return math.inf
        part = float((self.centre - self.middle) @ self.frame()[2])
        far = 0.5 * self.height * self.scale / math.tan(math.radians(0.5 * self.angle))
        return max(far, part + _OUTSIDE * self.reach)

    def shrink_at(self, points: np.ndarray) -> np.ndarray:
        """By how much things at points, mm, shape (N, 3), are seen larger (below 1) or smaller than at the middle."""
        towards = (np.atleast_2d(points) - self.middle) @ self.frame()[2]
        return np.maximum(1.0 - towards / self.eye_mm, _NEAREST)

    def way_at(self, point: np.ndarray) -> np.ndarray:
        """The direction of sight through a point, away from the eye."""
        towards = self.frame()[2]
        if not self.angle:
            return -towards
        way = point - self.middle - self.eye_mm * towards
        return way / np.linalg.norm(way)

    def set_part(self, box: np.ndarray) -> None:
        """Tell what must never be clipped: lower and upper corner, shape (2, 3)."""
        self.centre = box.mean(axis=0)
        self.reach = max(float(np.linalg.norm(box[1] - box[0])), 1e-6)

    def fit(self, points: np.ndarray, box: np.ndarray, left: float = 0.0) -> None:
        """Show all of some points, shape (N, 3), beside `left` pixels that are covered."""
        flat = points @ self.frame()[:2].T
        low, high = flat.min(axis=0), flat.max(axis=0)
        span = np.maximum(high - low, 1e-9)
        self.scale = 1.12 * max(span[0] / max(self.width - left, 0.3 * self.width, 1), span[1] / max(self.height, 1))
        self.middle = box.mean(axis=0)
        offset = 0.5 * (low + high) - self.frame()[:2] @ self.middle
        self.middle = self.middle + offset @ self.frame()[:2]
        self.pan(0.5 * left, 0.0)
        for _ in range(_FITS if self.angle else 0):  # what is nearer is seen larger, which moves the eye again
            seen = self.project(points)[:, :2]
            low, high = seen.min(axis=0), seen.max(axis=0)
            room = np.array([max(self.width - left, 0.3 * self.width, 1), max(self.height, 1)])
            self.pan(*(0.5 * np.array([self.width + left, self.height]) - 0.5 * (low + high)))
            self.scale *= 1.12 * float(((high - low) / room).max())

    def project(self, points: np.ndarray) -> np.ndarray:
        """Screen positions and nearness, shape (N, 3), of points (N, 3); larger is nearer."""
        seen = (np.atleast_2d(points) - self.middle) @ self.frame().T
        scale = self.scale * np.maximum(1.0 - seen[:, 2] / self.eye_mm, _NEAREST)
        out = seen.copy()
        out[:, 0] = self.width / 2 + seen[:, 0] / scale
        out[:, 1] = self.height / 2 - seen[:, 1] / scale
        return out

    def pixels_round(self, points: np.ndarray, ratio: float) -> tuple[int, int, int, int]:
        """The pixels of the screen that hold points, mm, shape (N, 3), and a few round them; of many, their box.

        Parameters
        ----------
        points : ndarray
        ratio : float
            Pixels of the screen to one of the view.

        Returns
        -------
        tuple of int
            The first column, and row from below; width and height, which are nought or less beside the view.
        """
        if len(points) > _MANY:
            box = np.stack([points.min(axis=0), points.max(axis=0)])
            points = np.stack(np.meshgrid(*box.T), axis=-1).reshape(-1, 3)
        seen = self.project(points)[:, :2]
        low = np.array([seen[:, 0].min(), self.height - seen[:, 1].max()])
        high = np.array([seen[:, 0].max(), self.height - seen[:, 1].min()])
        size = np.array([self.width, self.height]) * ratio
        first = np.clip(np.floor(low * ratio) - 2, 0, size).astype(int)
        last = np.clip(np.ceil(high * ratio) + 3, 0, np.ceil(size)).astype(int)
        return int(first[0]), int(first[1]), int(last[0] - first[0]), int(last[1] - first[1])

    def sides_of(self, rect: tuple[int, int, int, int], ratio: float) -> np.ndarray:
        """The four planes between which lies what is seen in pixels, as `pixels_round` gives them, shape (4, 4).

        Each is a unit normal outward and its offset from the origin, mm.
        """
        right, up, towards = self.frame()
        columns = np.array([rect[0] - 1, rect[0] + rect[2] + 1]) / ratio - self.width / 2
        rows = np.array([rect[1] - 1, rect[1] + rect[3] + 1]) / ratio - self.height / 2
        planes = []
        for side, (low, high) in ((right, self.scale * columns), (up, self.scale * rows)):
            for sign, at in ((-1.0, low), (1.0, high)):
                normal = sign * (side + towards * at / self.eye_mm)
                normal = normal / np.linalg.norm(normal)
                planes.append([*normal, normal @ (self.middle + at * side)])
        return np.array(planes)

    def sees_box(self, box: np.ndarray, rect: tuple[int, int, int, int], ratio: float) -> bool:
        """Whether anything of a box, lower and upper corner, shape (2, 3), may be seen in some pixels."""
        corners = np.array([[box[i, 0], box[j, 1], box[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
        x, y, wide, high = self.pixels_round(corners, ratio)
        return x < rect[0] + rect[2] and rect[0] < x + wide and y < rect[1] + rect[3] and rect[1] < y + high

    def ray(self, x: float, y: float) -> tuple[np.ndarray, np.ndarray]:
        """A point on the line of sight through a pixel, and its direction away from the eye."""
        right, up, _ = self.frame()
        point = self.middle + (x - self.width / 2) * self.scale * right - (y - self.height / 2) * self.scale * up
        return point, self.way_at(point)

    def ray_from_outside(self, x: float, y: float) -> tuple[np.ndarray, np.ndarray]:
        """As `ray`, from a point before all of the part."""
        point, way = self.ray(x, y)
        return point - 4.0 * self.reach * way, way

    def pan(self, dx: float, dy: float) -> None:
        """Move the part with the pointer by so many pixels."""
        right, up, _ = self.frame()
        self.middle = self.middle - dx * self.scale * right + dy * self.scale * up

    def zoom(self, factor: float, x: float, y: float) -> None:
        """Enlarge by a factor, keeping what is under a pixel there."""
        point, _ = self.ray(x, y)
        new = float(np.clip(self.scale / factor, self.reach * 1e-7, self.reach * 0.1))
        right, up, _ = self.frame()
        flat = np.array([(point - self.middle) @ right, (point - self.middle) @ up])
        shift = flat * (1 - new / self.scale)
        self.middle = self.middle + shift[0] * right + shift[1] * up
        self.scale = new

    def turn_about(self, pivot: np.ndarray, d_turn: float, d_lift: float) -> None:
        """Turn the view, keeping a point at its place on the screen."""
        before = self.project(pivot)[0]
        self.turn = (self.turn + d_turn) % 360.0
        self.lift = float(np.clip(self.lift + d_lift, -90.0, 90.0))
        for _ in range(3 if self.angle else 1):  # the eye may come nearer by it
            after, shrunk = self.project(pivot)[0], float(self.shrink_at(pivot)[0])
            self.pan((before[0] - after[0]) * shrunk, (before[1] - after[1]) * shrunk)

    def to_clip(self, origin: np.ndarray) -> np.ndarray:
        """4x4 matrix for positions relative to `origin`; depth spans the whole part."""
        frame = self.frame()
        matrix = np.eye(4)
        matrix[0, :3] = frame[0] * 2 / (self.width * self.scale)
        matrix[1, :3] = frame[1] * 2 / (self.height * self.scale)
        matrix[2, :3] = -frame[2] / self.reach
        offset = np.array([self.middle, self.middle, self.centre])
        if self.angle:
            first, rise, back = self.depths()
            matrix[2, :3], matrix[3, :3] = frame[2] * rise, -frame[2] * back
            offset = np.array([self.middle] * 3)
        matrix[:3, 3] = [matrix[k, :3] @ (origin - offset[k]) for k in range(3)]
        if self.angle:
            matrix[2, 3] += first
            matrix[3, 3] = 1.0 + matrix[3, :3] @ (origin - self.middle)
        return matrix

    def depths(self) -> tuple[float, float, float]:
        """What tells in perspective how far before the middle a depth lies: it is first + rise z over 1 - back z."""
        part, eye = float((self.centre - self.middle) @ self.frame()[2]), self.eye_mm
        near, far = part + 0.6 * self.reach, part - self.reach
        ends = -(1.0 - near / eye), 1.0 - far / eye
        rise = (ends[0] - ends[1]) / (near - far)
        return ends[0] - rise * near, rise, 1.0 / eye
