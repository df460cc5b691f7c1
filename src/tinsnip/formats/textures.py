"""Texture images: found, opened within bounds, and sampled to vertex colours."""

from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from tinsnip.errors import BadInput
from tinsnip.mesh import MADE, Attribute, Mesh

__all__ = ["material_images", "open_image", "owners_of_images", "sample_colours", "texture_of_triangles"]

_MOST_PIXELS = 300_000_000
"""17 thousand pixels square."""


def open_image(source: Any, name: str) -> Image.Image:
    """Open an image; refuses one that would fill the memory.

    Parameters
    ----------
    source : path or file
    name : str
        What it is called in what is said.

    Raises
    ------
    BadInput
        When it is no image, or too large.
    """
    try:
        image = Image.open(source)
        if image.width * image.height > _MOST_PIXELS:
            raise BadInput(f"texture {name} has {image.width} x {image.height} pixels; make it smaller")
        return image.convert("RGB")
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise BadInput(f"texture {name} cannot be read ({error}); export the scan again") from error


def material_images(path: Path, libraries: list[str], material: Attribute | None) -> dict[int, Image.Image]:
    """Texture image of each material number, from the material files beside an OBJ.

    Only files in the scan's own folder or below it are opened; one that is missing is left out.

    Parameters
    ----------
    path : Path
        Of the OBJ.
    libraries : list of str
        Names of material files.
    material : Attribute or None
        The materials of its triangles.
    """
    names = material.beside if material is not None else ("",)
    images: dict[int, Image.Image] = {}
    folder = path.parent.resolve()
    for library in libraries:
        file = (folder / library).resolve()
        if not file.is_relative_to(folder) or not file.is_file() or file.stat().st_size > 10_000_000:
            continue
        current = ""
        for line in file.read_text("utf-8", "replace").splitlines():
            words = line.split(maxsplit=1)
            if len(words) < 2:
                continue
            if words[0] == "newmtl":
                current = words[1].strip()
            elif words[0] == "map_Kd" and (current in names or material is None):
                picture = (folder / words[1].strip().replace("\\", "/")).resolve()
                if not picture.is_file():  # options may stand before the name
                    picture = (folder / words[1].split()[-1]).resolve()
                if picture.is_relative_to(folder) and picture.is_file():
                    number = names.index(current) if material is not None else 0
                    images[number] = open_image(picture, picture.name)
    return images


def texture_of_triangles(mesh: Mesh) -> np.ndarray:
    """Number of the material whose texture colours each triangle, int32, shape (F,).

    -1 for what was made without a place on a texture, as patches are: that has only the colours of its vertices.

    Parameters
    ----------
    mesh : Mesh
    """
    material = mesh.attributes.get("material")
    owner = np.zeros(len(mesh.faces), dtype=np.int32) if material is None else material.values.astype(np.int32)
    nowhere = ~mesh.attributes["texture"].values.reshape(len(mesh.faces), -1).any(axis=1)
    return np.where((mesh.provenance == MADE) & nowhere, np.int32(-1), owner)


def owners_of_images(mesh: Mesh) -> np.ndarray | None:
    """As `texture_of_triangles`, -1 for what has no image too; None where there is no image at all.

    Parameters
    ----------
    mesh : Mesh
    """
    texture = mesh.attributes.get("texture")
    if texture is None or not texture.beside:
        return None
    owner = texture_of_triangles(mesh)
    return np.where(np.isin(owner, list(texture.beside)), owner, np.int32(-1))


def sample_colours(
    faces: np.ndarray, vertices: int, uv: np.ndarray, images: dict[int, Image.Image], material: Attribute | None
) -> np.ndarray:
    """Colour of each vertex from the texture at one of its corners.

    Parameters
    ----------
    faces : ndarray, shape (F, 3)
    vertices : int
    uv : ndarray, shape (3 F, 2)
        Texture coordinates of the corners, v upward.
    images : dict of int to Image
        By material number; number 0 serves where there are no materials.
    material : Attribute or None

    Returns
    -------
    ndarray of uint8, shape (V, 3)
    """
    colour = np.full((vertices, 3), 190, dtype=np.uint8)
    of_corner = np.zeros(3 * len(faces), dtype=np.int32)
    if material is not None:
        of_corner = np.repeat(material.values, 3)
    corner = faces.ravel()
    for number, image in images.items():
        pixels = np.asarray(image)
        own = np.flatnonzero(of_corner == number)
        place = np.nan_to_num(uv[own], nan=0.0, posinf=0.0, neginf=0.0) % 1.0
        x = np.minimum((place[:, 0] * pixels.shape[1]).astype(int), pixels.shape[1] - 1)
        y = np.minimum(((1 - place[:, 1]) * pixels.shape[0]).astype(int), pixels.shape[0] - 1)
        colour[corner[own]] = pixels[y, x]
    return colour
