"""What a treatment that is only previewed would make, as the view draws it."""

from collections.abc import Sequence

import numpy as np

from tinsnip.app.state.preview import Preview
from tinsnip.app.view.scene import Scene
from tinsnip.survey.lying import Lying

__all__ = ["draw_lying", "draw_made", "made_by"]

_CREASE = 0.85
"""The cosine up to which corners are lit as if the surface were round there."""
_WEIGHTS = np.array([1.0, 2.0**0.5, 3.0**0.5])


def made_by(preview: Preview) -> np.ndarray:
    """Corners of the triangles a previewed treatment would make, mm, shape (T, 3, 3); they come last in the mesh."""
    after, account = preview.outcome.mesh, preview.outcome.account
    count = (account.made_triangles or 0) + (account.shifted_triangles or 0)
    first = 0 if preview.treatment.remakes else max(0, len(after.faces) - count)
    return after.vertices[after.faces[first:]]


def draw_made(scene: Scene, corners: np.ndarray | None) -> None:
    """Draw made triangles; None: none."""
    if corners is None:
        scene.set_patch(None, None)
        return
    scene.set_patch((corners.reshape(-1, 3) - scene.origin).astype(np.float32), _lit_by(corners))


def _lit_by(corners: np.ndarray) -> np.ndarray:
    """Normals to light corners of loose triangles by, shape (3 T, 3): round ones, and as they are at creases."""
    flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    points = corners.reshape(-1, 3)
    # corners at one place have one sum, to the bit; two places that share one would only be lit alike
    place = np.unique(points @ _WEIGHTS, return_inverse=True)[1]
    around = np.stack([np.bincount(place, np.repeat(flat[:, k], 3)) for k in range(3)], axis=1)[place]
    flat = np.repeat(_unit(flat), 3, axis=0)
    around = _unit(around)
    return np.where((flat * around).sum(axis=1)[:, None] > _CREASE, around, flat)


def _unit(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]


def draw_lying(scene: Scene, pieces: Sequence[Lying]) -> None:
    """Draw pieces as they would lie, painted by how far they are off the others."""
    shifts = [(one.origin - scene.origin).astype(np.float32) for one in pieces]
    corners = np.concatenate([one.corners.reshape(-1, 3) + by for one, by in zip(pieces, shifts, strict=True)])
    normals = np.concatenate([one.normals.reshape(-1, 3) for one in pieces])
    off = np.concatenate([one.off.ravel() for one in pieces])
    scene.set_patch(corners, normals, off, max(one.limit for one in pieces))
