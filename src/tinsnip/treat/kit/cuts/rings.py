"""Open edges along a cut, joined to rings."""

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.progress import check_here
from tinsnip.treat.kit.cuts.splitting import Split
from tinsnip.treat.kit.patches.filling import close_rings

__all__ = ["chains_on_plane", "close_cut", "unit_normal"]


def chains_on_plane(mesh: Mesh, on_plane: np.ndarray) -> tuple[list[np.ndarray], int]:
    """Open edges whose both ends lie on the plane, joined to closed rings.

    Where a scan hole crosses the plane the chain ends; such ends are bridged, each to the nearest free start.

    Parameters
    ----------
    mesh : Mesh
    on_plane : ndarray of bool, shape (V,)

    Returns
    -------
    rings : list of ndarray of int
        Vertices in the direction of the half-edges.
    bridges : int
        How many gaps were bridged.
    """
    corner = mesh.faces.ravel()
    half = np.flatnonzero(mesh.twins == OPEN)
    a, b = corner[half], corner[half - half % 3 + (half + 1) % 3]
    chosen = on_plane[a] & on_plane[b]
    following: dict[int, list[int]] = {}
    for u, v in zip(a[chosen].tolist(), b[chosen].tolist(), strict=True):
        following.setdefault(u, []).append(v)
    entered = set(b[chosen].tolist())
    rings, chains = [], []
    starts = [u for u in following if u not in entered]
    for first in [*starts, *list(following)]:
        while following.get(first):
            chain = [first]
            while following.get(chain[-1]):
                chain.append(following[chain[-1]].pop())
                if chain[-1] == first:
                    break
            if chain[-1] == chain[0]:
                rings.append(np.array(chain[:-1]))
            else:
                chains.append(chain)
    bridges = 0
    while chains:
        chain = chains.pop()
        while True:
            bridges += 1
            end = mesh.vertices[chain[-1]]
            heads = np.array([mesh.vertices[c[0]] for c in [chain, *chains]])
            nearest = int(np.argmin(np.linalg.norm(heads - end, axis=1)))
            if nearest == 0:
                break
            chain += chains.pop(nearest - 1)
        if len(chain) > 2:
            rings.append(np.array(chain))
    return rings, bridges


def unit_normal(normal: tuple[float, float, float]) -> np.ndarray:
    """A plane's normal at unit length.

    Parameters
    ----------
    normal : (float, float, float)

    Raises
    ------
    BadInput
        When it has no length.
    """
    vector = np.array(normal, dtype=float)
    length = float(np.linalg.norm(vector))
    if length == 0:
        raise BadInput("the snip's normal 0,0,0 has no direction; give one such as 0,0,1")
    return vector / length


def close_cut(split: Split, normal: np.ndarray, edge: float | None = None) -> tuple[Mesh, int]:
    """Close what a plane left open, with flat triangles; and how many gaps had to be bridged.

    Parameters
    ----------
    split : Split
    normal : ndarray, shape (3,)
        Towards what was kept.
    edge : float, optional
        Length of the edges of the triangles that close it, mm; by default these are as few as may be.
    """
    check_here()
    rings, bridges = chains_on_plane(split.mesh, split.on_plane)
    check_here()
    return (close_rings(split.mesh, rings, -normal, edge) if rings else split.mesh), bridges
