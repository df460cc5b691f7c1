"""Spheres that touch a surface at a place, and are as large as what is opposite lets them be."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.space.morton import morton_order
from tinsnip.space.tree import Tree, on_triangle
from tinsnip.threads import in_chunks

__all__ = ["shrunk_spheres"]


@kernel
def _shrink(V, faces, order, boxes, places, inward, radius, beside, done, which, begin, end, state):
    """Shrink spheres that touch places until no triangle reaches into them, in one walk down the tree each."""
    leaves = boxes.shape[0] // 2 + 1
    count = order.shape[0]
    stack = np.empty(128, dtype=np.int64)
    for w in range(begin, end):
        if w % 256 == 0 and state[0]:
            return
        i = which[w]
        r, nx, ny, nz = radius[i], inward[i, 0], inward[i, 1], inward[i, 2]
        vx, vy, vz = places[i, 0], places[i, 1], places[i, 2]
        x, y, z = vx + r * nx, vy + r * ny, vz + r * nz
        near = (r * (1.0 - done)) ** 2
        stack[0] = 0
        height = 1
        while height > 0:
            height -= 1
            node = stack[height]
            dx = max(boxes[node, 0] - x, x - boxes[node, 3], 0.0)
            dy = max(boxes[node, 1] - y, y - boxes[node, 4], 0.0)
            dz = max(boxes[node, 2] - z, z - boxes[node, 5], 0.0)
            if dx * dx + dy * dy + dz * dz >= near:
                continue
            if node < leaves - 1:
                one, other = 2 * node + 1, 2 * node + 2
                first = second = 0.0
                for k in range(3):
                    at = x if k == 0 else (y if k == 1 else z)
                    first += abs(boxes[one, k] + boxes[one, 3 + k] - 2 * at)
                    second += abs(boxes[other, k] + boxes[other, 3 + k] - 2 * at)
                if second < first:  # what is likelier to reach in comes first
                    one, other = other, one
                stack[height], stack[height + 1] = other, one
                height += 2
                continue
            leaf = node - leaves + 1
            for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
                f = order[t]
                a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
                ux, uy, uz = V[b, 0] - V[a, 0], V[b, 1] - V[a, 1], V[b, 2] - V[a, 2]
                wx, wy, wz = V[c, 0] - V[a, 0], V[c, 1] - V[a, 1], V[c, 2] - V[a, 2]
                mx, my, mz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
                off = mx * (x - V[a, 0]) + my * (y - V[a, 1]) + mz * (z - V[a, 2])
                if off * off >= near * (mx * mx + my * my + mz * mz):
                    continue
                qx, qy, qz = on_triangle(V, a, b, c, x, y, z)
                tx, ty, tz = qx - x, qy - y, qz - z
                square = tx * tx + ty * ty + tz * tz
                if square >= near:
                    continue
                cosine = -(tx * nx + ty * ny + tz * nz)
                if cosine > beside * np.sqrt(square):
                    continue
                ox, oy, oz = qx - vx, qy - vy, qz - vz
                along = ox * nx + oy * ny + oz * nz
                if along <= 0.0:
                    continue
                smaller = (ox * ox + oy * oy + oz * oz) / (2.0 * along)
                if smaller < r:
                    r = smaller
                    x, y, z = vx + r * nx, vy + r * ny, vz + r * nz
                    near = (r * (1.0 - done)) ** 2
        radius[i] = r


def shrunk_spheres(
    tree: Tree, places: np.ndarray, inward: np.ndarray, radius: np.ndarray, beside: float, done: float
) -> np.ndarray:
    """Radii of spheres that touch places from one side and have nothing of the surface within.

    Parameters
    ----------
    tree : Tree
    places, inward : ndarray, shape (N, 3)
        Where each touches, and the unit direction of its middle from there.
    radius : ndarray, shape (N,)
        From which each is shrunk.
    beside : float
        What is met within the angle of this cosine of the place, seen from the middle, is the place's own noise.
    done : float
        Reaching in by less than this share of the radius counts as touching.

    Returns
    -------
    ndarray, shape (N,)

    Raises
    ------
    Cancelled
    """
    if len(places) == 0:
        return radius.astype(np.float64)
    places, inward = np.ascontiguousarray(places, np.float64), np.ascontiguousarray(inward, np.float64)
    found, state, which = radius.astype(np.float64), polled_here(), morton_order(places)

    def work(begin: int, end: int) -> None:
        _shrink(
            tree.vertices, tree.faces, tree.order, tree.boxes, places, inward, found, beside, done, which, begin, end,
            state,
        )  # fmt: skip

    in_chunks(work, len(places), 2_000)
    check_here()
    return found
