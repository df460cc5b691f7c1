"""A scan's texture as the graphics card wants it, made off the window's thread."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from PIL import Image

from tinsnip.formats.textures import owners_of_images
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.cornerweights import slopes

__all__ = ["MOST_TEXTURED", "ViewTexture", "make_texture"]

MOST_TEXTURED = 4_000_000
"""Triangles; on more, a colour for each vertex tells as much, and three numbers a triangle would take too much room."""
_HIGHEST = 8192
"""Pixels of the sheet along each side; larger images are made smaller."""
_FAR = 4
"""How many times smaller the sheet is that is looked at from afar."""
_LEFT = -1.0

Part = tuple[float, float, float, float]


@dataclass(frozen=True, eq=False)
class ViewTexture:
    """All images of a mesh on one sheet, and where each triangle lies on it.

    Attributes
    ----------
    images : mapping of int to Image
        By the number of their texture.
    parts : dict of int to tuple of float
        Of the sheet, for each image: its share across and up, where it begins, 1.
    sheet, far : ndarray of uint8, shapes (H, W, 3) and (H / 4, W / 4, 3)
        Rows from the lowest up, images above each other; the same, smaller.
    places : ndarray of float32, shape (3 F, 4)
        For each triangle three rows. The place on its image is straight over the triangle: u is the first row's first
        three times the position, relative to the mesh's origin on the card, and its last; v of the second row. The
        third row is the image's share of the sheet across and up, where it begins, and -1 where there is none.
    """

    images: Mapping[int, Image.Image]
    parts: dict[int, Part]
    sheet: np.ndarray
    far: np.ndarray
    places: np.ndarray


def make_texture(
    mesh: Mesh, origin: np.ndarray, progress: Progress, like: ViewTexture | None = None
) -> ViewTexture | None:
    """Make a mesh's texture ready to be drawn; None where it has no image.

    Parameters
    ----------
    mesh : Mesh
    origin : ndarray, shape (3,)
        What positions on the card are relative to.
    progress : Progress
    like : ViewTexture, optional
        Of another mesh; where that has the same images, its sheet is taken.
    """
    texture = mesh.attributes.get("texture")
    if texture is None or not texture.beside or not 0 < len(mesh.faces) <= MOST_TEXTURED:
        return None
    progress.step("Making the texture ready")
    if like is not None and like.images is texture.beside:
        return replace(like, places=_places(mesh, origin, like.parts))
    sheet, parts = _sheet(texture.beside, progress)
    high, wide = sheet.shape[:2]
    far = Image.fromarray(sheet).resize((max(1, wide // _FAR), max(1, high // _FAR)), Image.Resampling.BOX)
    progress.check()
    return ViewTexture(texture.beside, parts, sheet, np.asarray(far), _places(mesh, origin, parts))


def _sheet(given: Mapping[int, Image.Image], progress: Progress) -> tuple[np.ndarray, dict[int, Part]]:
    """All images above each other, rows upward, and the part of the sheet that each takes up."""
    images = {number: image.convert("RGB") for number, image in given.items()}
    high, wide = sum(i.height for i in images.values()), max(i.width for i in images.values())
    shrunk = min(1.0, _HIGHEST / high, _HIGHEST / wide)
    if shrunk < 1.0:
        images = {
            n: i.resize((max(1, int(i.width * shrunk)), max(1, int(i.height * shrunk))), Image.Resampling.BOX)
            for n, i in images.items()
        }
    high, wide = sum(i.height for i in images.values()), max(i.width for i in images.values())
    sheet = np.zeros((high, wide, 3), dtype=np.uint8)
    parts, low = {}, 0
    for number, image in images.items():
        sheet[low : low + image.height, : image.width] = np.asarray(image)[::-1]
        parts[number] = image.width / wide, image.height / high, low / high, 1.0
        low += image.height
        progress.check()
    return sheet, parts


def _places(mesh: Mesh, origin: np.ndarray, parts: dict[int, Part]) -> np.ndarray:
    uv = mesh.attributes["texture"].values.reshape(-1, 3, 2).astype(np.float64)
    corners = mesh.vertices[mesh.faces] - origin
    rows = np.zeros((len(mesh.faces), 3, 4), dtype=np.float32)
    for k in range(2):
        slope = slopes(corners, uv[:, :, k])
        rows[:, k, :3] = slope
        rows[:, k, 3] = uv[:, 0, k] - (slope * corners[:, 0]).sum(axis=1)
    owner = owners_of_images(mesh)
    rows[:, 2] = (1.0, 1.0, 0.0, _LEFT)
    for number, part in parts.items():
        rows[owner == number, 2] = part
    return rows.reshape(-1, 4)
