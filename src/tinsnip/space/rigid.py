"""Rigid moves: the one that lays points on points, how far one turns, and what a small one does."""

import numpy as np
from scipy.spatial.transform import Rotation

__all__ = [
    "frame_of", "laid_on", "matrix_of", "moved_points", "small_move", "turn_between", "turned_by_degrees",
]  # fmt: skip


def matrix_of(linear: np.ndarray, shift: np.ndarray) -> np.ndarray:
    """A linear map, shape (3, 3), followed by a shift, shape (3,), as one matrix, shape (4, 4).

    Parameters
    ----------
    linear : ndarray, shape (3, 3)
    shift : ndarray, shape (3,)
        In mm.
    """
    matrix = np.eye(4)
    matrix[:3, :3], matrix[:3, 3] = linear, shift
    return matrix


def moved_points(matrix: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Points, shape (N, 3), moved by a matrix, shape (4, 4).

    Parameters
    ----------
    matrix : ndarray, shape (4, 4)
    points : ndarray, shape (N, 3)
        In mm.
    """
    return points @ matrix[:3, :3].T + matrix[:3, 3]


def laid_on(
    points: np.ndarray, goals: np.ndarray, weights: np.ndarray | None = None, scaled: bool = False
) -> np.ndarray:
    """The turn and shift that lays points nearest to others, by least squares.

    Parameters
    ----------
    points, goals : ndarray, shape (N, 3)
        Pairs; three or more that do not stand in one line bind a move.
    weights : ndarray, shape (N,), optional
    scaled : bool
        Whether an even scale is found too.

    Returns
    -------
    ndarray, shape (4, 4)

    References
    ----------
    Umeyama, Least-squares estimation of transformation parameters between two point patterns, IEEE PAMI 13 (1991).

    Examples
    --------
    >>> corners = np.array([[0.0, 0, 0], [4, 0, 0], [0, 3, 0]])
    >>> laid_on(corners, corners + [1, 2, 3])[:3, 3].round(9).tolist()
    [1.0, 2.0, 3.0]
    """
    w = np.full(len(points), 1.0 / len(points)) if weights is None else weights / weights.sum()
    middle, goal = w @ points, w @ goals
    a, b = points - middle, goals - goal
    u, stretch, vt = np.linalg.svd((b * w[:, None]).T @ a)
    side = np.array([1.0, 1.0, np.sign(np.linalg.det(u @ vt)) or 1.0])
    linear = (u * side) @ vt
    spread = float(w @ (a**2).sum(axis=1))
    if scaled and spread > 0:
        linear = linear * float(stretch @ side) / spread
    return matrix_of(linear, goal - linear @ middle)


def turned_by_degrees(matrix: np.ndarray) -> float:
    """How far a move turns, degrees; of its linear part only, whatever that scales by.

    Parameters
    ----------
    matrix : ndarray, shape (4, 4)
    """
    linear = matrix[:3, :3] / np.cbrt(np.linalg.det(matrix[:3, :3]))
    return float(np.degrees(Rotation.from_matrix(linear).magnitude()))


def small_move(six: np.ndarray, about: np.ndarray) -> np.ndarray:
    """The rigid move of a turn about a point and a shift, shape (4, 4).

    Parameters
    ----------
    six : ndarray, shape (6,)
        The turn as an axis times an angle, rad; the shift, mm.
    about : ndarray, shape (3,)
    """
    linear = Rotation.from_rotvec(six[:3]).as_matrix()
    return matrix_of(linear, about - linear @ about + six[3:])


def frame_of(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """Right-handed axes as columns, shape (3, 3): a unit vector, another made square to it, and the one across.

    Parameters
    ----------
    first : ndarray, shape (3,)
        Unit.
    second : ndarray, shape (3,)
        In mm.
    """
    other = second - (second @ first) * first
    other = other / np.linalg.norm(other)
    return np.stack([first, other, np.cross(first, other)], axis=1)


def turn_between(way: np.ndarray, other: np.ndarray) -> tuple[np.ndarray, float]:
    """The least turn that takes one unit vector into another: its matrix, shape (3, 3), and its angle, degrees.

    Parameters
    ----------
    way : ndarray, shape (3,)
        Unit.
    other : ndarray, shape (3,)
        Unit.
    """
    axis = np.cross(way, other)
    size = float(np.linalg.norm(axis))
    angle = float(np.degrees(np.arctan2(size, way @ other)))
    if size < 1e-12:
        if way @ other > 0:
            return np.eye(3), 0.0
        across = np.eye(3)[int(np.argmin(np.abs(way)))]  # half a turn, about any axis across
        axis = across - (across @ way) * way
        axis /= np.linalg.norm(axis)
        return 2.0 * np.outer(axis, axis) - np.eye(3), 180.0
    return frame_of(other, np.cross(axis, other)) @ frame_of(way, np.cross(axis, way)).T, angle
