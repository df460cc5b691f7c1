"""Pictures of a mesh without a display: a small depth-buffer renderer."""

from pathlib import Path

import numpy as np
from PIL import Image

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh

__all__ = ["draw"]


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


def draw(mesh: Mesh, path: Path, size: tuple[int, int] = (1280, 800)) -> None:
    """Write a picture of a mesh, seen from the front, left and above; made triangles in violet, backs dark.

    Parameters
    ----------
    mesh : Mesh
    path : Path
        A PNG file.
    size : tuple of int
        Width and height in pixels; rendered at twice that.
    """
    width, height = 2 * size[0], 2 * size[1]
    right = np.array([0.83, 0.56, 0.0])
    right /= np.linalg.norm(right)
    towards = np.array([0.46, -0.68, 0.57])
    towards -= (towards @ right) * right
    towards /= np.linalg.norm(towards)
    frame = np.column_stack([right, np.cross(towards, right), towards])
    points = (mesh.vertices - mesh.box.mean(axis=0)) @ frame
    reach = np.abs(points).max(axis=0) if len(points) else np.ones(3)
    scale = 0.46 * min(width / max(reach[0], 1e-9), height / max(reach[1], 1e-9))
    points[:, 0] = width / 2 + scale * points[:, 0]
    points[:, 1] = height / 2 - scale * points[:, 1]
    a, b, c = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    normal = normal @ frame
    light = np.array([-0.35, 0.5, 0.79])
    level = 0.35 + 0.65 * np.clip(normal @ light, 0, 1)
    base = np.where((mesh.provenance == 2)[:, None], [166.0, 126.0, 214.0], [196.0, 194.0, 188.0])
    shade = np.where((normal[:, 2] < 0)[:, None], [52.0, 44.0, 40.0], base * level[:, None]).astype(np.uint8)
    picture = np.full((height, width, 3), (74, 80, 84), dtype=np.uint8)
    _raster(points, mesh.faces, shade, np.full((height, width), -np.inf), picture)
    Image.fromarray(picture).resize(size, Image.Resampling.LANCZOS).save(path)
