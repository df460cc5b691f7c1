"""What the graphics card needs of a mesh, made off the window's thread."""

from dataclasses import dataclass

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.mesh.proxy import light_proxy
from tinsnip.progress import Progress

__all__ = ["ViewBuffers", "make_buffers", "marked"]


@dataclass(frozen=True)
class ViewBuffers:
    """Arrays for one mesh; positions are relative to `origin`."""

    mesh: Mesh
    origin: np.ndarray
    places: np.ndarray  # float32 (V, 3)
    normals: np.ndarray  # float16 (V, 4)
    colours: np.ndarray  # uint8 (V, 4), alpha: role
    faces: np.ndarray  # int32 (F, 3)
    proxy: np.ndarray  # int32 (P, 3): a light stand-in over the same vertices


def marked(mesh: Mesh, base: np.ndarray, shell_role: np.ndarray | None) -> np.ndarray:
    """Colours with the role of each vertex's shell in the alpha channel."""
    colours = base.copy()
    colours[:, 3] = 0
    if shell_role is not None and shell_role.any():
        role = shell_role[mesh.shells.label]
        for k in range(3):
            some = role > 0
            colours[mesh.faces[some, k], 3] = role[some]
    return colours


def make_buffers(mesh: Mesh, progress: Progress) -> ViewBuffers:
    """Normals, colours and a proxy for a mesh."""
    progress.step("Preparing the view", 3)
    origin = mesh.box.mean(axis=0)
    places = (mesh.vertices - origin).astype(np.float32)
    normals = np.zeros((len(places), 4), dtype=np.float16)
    normals[:, :3] = vertex_normals(mesh.vertices, mesh.faces)
    progress.check()
    colours = np.full((len(places), 4), 190, dtype=np.uint8)
    if mesh.colour is not None:
        colours[:, :3] = mesh.colour
    colours[:, 3] = 0
    proxy = light_proxy(places, mesh.faces)
    progress.check()
    return ViewBuffers(mesh, origin, places, normals, colours, mesh.faces, proxy)
