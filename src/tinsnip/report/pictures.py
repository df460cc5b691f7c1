"""Pictures of a mesh without a display: a small depth-buffer renderer."""

from pathlib import Path

import numpy as np
from PIL import Image

from tinsnip.kernels import kernel
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.measures import face_vectors

__all__ = ["SIDES", "draw", "picture_of"]

_TIN, _VIOLET, _IRON = (196.0, 194.0, 188.0), (166.0, 126.0, 214.0), (52.0, 44.0, 40.0)
_BACKGROUND = (74, 80, 84)
_LIGHT = np.array([-0.35, 0.5, 0.79])

SIDES = {"front": (0.0, 12.0), "right": (90.0, 12.0), "back": (180.0, 12.0), "left": (270.0, 12.0)}
"""Turn about the upright and lift of the eye, degrees."""
_CORNER = (-34.0, 35.0)


@kernel
def _raster(points, faces, shade, depth, picture):
    height, width = depth.shape
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, bx, by, cx, cy = (
            points[a, 0], points[a, 1], points[b, 0], points[b, 1], points[c, 0], points[c, 1],
        )  # fmt: skip
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        for y in range(max(0, int(min(ay, by, cy))), min(height - 1, int(max(ay, by, cy)) + 1) + 1):
            for x in range(max(0, int(min(ax, bx, cx))), min(width - 1, int(max(ax, bx, cx)) + 1) + 1):
                u = ((bx - x) * (cy - y) - (by - y) * (cx - x)) / area
                v = ((cx - x) * (ay - y) - (cy - y) * (ax - x)) / area
                w = 1.0 - u - v
                if u < 0.0 or v < 0.0 or w < 0.0:
                    continue
                z = u * points[a, 2] + v * points[b, 2] + w * points[c, 2]
                if z > depth[y, x]:
                    depth[y, x] = z
                    for k in range(3):
                        picture[y, x, k] = shade[f, k]


def _frame(turn: float, lift: float) -> np.ndarray:
    """Right, up and towards the eye, as columns."""
    t, u = np.radians(turn), np.radians(lift)
    right = np.array([np.cos(t), np.sin(t), 0.0])
    towards = np.array([np.sin(t) * np.cos(u), -np.cos(t) * np.cos(u), np.sin(u)])
    return np.column_stack([right, np.cross(towards, right), towards])


def picture_of(
    mesh: Mesh,
    view: tuple[float, float],
    size: tuple[int, int],
    colours: np.ndarray | None = None,
    background: tuple[int, int, int] = _BACKGROUND,
) -> Image.Image:
    """A picture of a mesh; backs are dark.

    Parameters
    ----------
    mesh : Mesh
    view : tuple of float
        Turn about the upright and lift of the eye, degrees.
    size : tuple of int
        Width and height in pixels; rendered at twice that.
    colours : ndarray, shape (F, 3), optional
        Of each triangle, 0 to 255; tin, with made triangles in violet, if left out.
    background : tuple of int
    """
    width, height = 2 * size[0], 2 * size[1]
    frame = _frame(*view)
    points = (mesh.vertices - mesh.box.mean(axis=0)) @ frame if len(mesh.faces) else np.zeros((0, 3))
    used = points[np.unique(mesh.faces)] if len(mesh.faces) else np.zeros((1, 3))
    points[:, :2] -= 0.5 * (used.min(axis=0) + used.max(axis=0))[:2]
    reach = 0.5 * np.ptp(used, axis=0)
    scale = 0.46 * min(width / max(reach[0], 1e-9), height / max(reach[1], 1e-9))
    points[:, 0] = width / 2 + scale * points[:, 0]
    points[:, 1] = height / 2 - scale * points[:, 1]
    normal = face_vectors(mesh.vertices, mesh.faces)
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    normal = normal @ frame
    level = 0.35 + 0.65 * np.clip(normal @ _LIGHT, 0, 1)
    base = np.where((mesh.provenance == MADE)[:, None], _VIOLET, _TIN) if colours is None else colours
    shade = np.where((normal[:, 2] < 0)[:, None], _IRON, base * level[:, None]).astype(np.uint8)
    picture = np.full((height, width, 3), background, dtype=np.uint8)
    _raster(points, mesh.faces, shade, np.full((height, width), -np.inf), picture)
    return Image.fromarray(picture).resize(size, Image.Resampling.LANCZOS)


def draw(mesh: Mesh, path: Path, size: tuple[int, int] = (1280, 800)) -> None:
    """Write a picture of a mesh, seen from the front, left and above; made triangles in violet, backs dark.

    Parameters
    ----------
    mesh : Mesh
    path : Path
        A PNG file.
    size : tuple of int
        Width and height in pixels.
    """
    picture_of(mesh, _CORNER, size).save(path)
