"""How a surface bends at each vertex, and what stands out of it or lies back."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.evening import drawn_in
from tinsnip.mesh.measures import vertex_normals
from tinsnip.progress import check_here, polled_here

__all__ = ["Curvature", "curvature_of", "relief_of"]

_ROUNDS = 3
"""How often bending is led over to the neighbours: three edges even out a scanner's noise and keep what is round."""
_STEPS = 20
_STRENGTH = 0.5
"""After which waves under some 9 edges are told by more than half, and those over 25 by less than a twentieth."""


class Curvature(NamedTuple):
    """Bending at each vertex, one over a radius in mm, float32, shape (V,); above 0 where the surface is round outward.

    Attributes
    ----------
    mean : ndarray
        Of all ways across the vertex.
    largest : ndarray
        That of the way in which it bends most.
    """

    mean: np.ndarray
    largest: np.ndarray


@kernel
def _bending(vertices, faces, normals, out, weight, state):
    """Add each triangle's second fundamental form to its corners, as a tensor in space: xx, xy, xz, yy, yz, zz."""
    e, dn = np.empty((3, 3)), np.empty((3, 3))
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        for k in range(3):
            p, q = faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
            for i in range(3):
                e[k, i] = vertices[q, i] - vertices[p, i]
                dn[k, i] = normals[q, i] - normals[p, i]
        nx = e[0, 1] * e[1, 2] - e[0, 2] * e[1, 1]
        ny = e[0, 2] * e[1, 0] - e[0, 0] * e[1, 2]
        nz = e[0, 0] * e[1, 1] - e[0, 1] * e[1, 0]
        double = np.sqrt(nx * nx + ny * ny + nz * nz)
        length = np.sqrt(e[0, 0] ** 2 + e[0, 1] ** 2 + e[0, 2] ** 2)
        if not (double > 0.0 and length > 0.0):
            continue
        nx, ny, nz = nx / double, ny / double, nz / double
        tx, ty, tz = e[0, 0] / length, e[0, 1] / length, e[0, 2] / length
        bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
        w0 = w1 = w2 = m0 = m1 = m2 = 0.0
        for k in range(3):
            u = e[k, 0] * tx + e[k, 1] * ty + e[k, 2] * tz
            v = e[k, 0] * bx + e[k, 1] * by + e[k, 2] * bz
            du = dn[k, 0] * tx + dn[k, 1] * ty + dn[k, 2] * tz
            dv = dn[k, 0] * bx + dn[k, 1] * by + dn[k, 2] * bz
            w0 += u * u
            w1 += u * v
            w2 += v * v
            m0 += u * du
            m1 += u * dv + v * du
            m2 += v * dv
        # least squares of [[w0, w1, 0], [w1, w0 + w2, w1], [0, w1, w2]]
        middle = w0 + w2 - w1 * w1 / w0
        if not (w0 > 0.0 and middle > 0.0):
            continue
        last = w2 - w1 * w1 / middle
        if not last > 1e-12 * w2:
            continue
        r1 = m1 - m0 * w1 / w0
        c = (m2 - r1 * w1 / middle) / last
        b = (r1 - w1 * c) / middle
        a = (m0 - w1 * b) / w0
        share = double
        for k in range(3):
            vertex = faces[f, k]
            weight[vertex] += share
            out[vertex, 0] += share * (a * tx * tx + 2 * b * tx * bx + c * bx * bx)
            out[vertex, 1] += share * (a * tx * ty + b * (tx * by + ty * bx) + c * bx * by)
            out[vertex, 2] += share * (a * tx * tz + b * (tx * bz + tz * bx) + c * bx * bz)
            out[vertex, 3] += share * (a * ty * ty + 2 * b * ty * by + c * by * by)
            out[vertex, 4] += share * (a * ty * tz + b * (ty * bz + tz * by) + c * by * bz)
            out[vertex, 5] += share * (a * tz * tz + 2 * b * tz * bz + c * bz * bz)


@kernel
def _led_over(faces, values, weight, out, more, state):
    """Means over triangles of what stands at their corners, added to the corners."""
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        share = weight[a] + weight[b] + weight[c]
        for i in range(6):
            mean = values[a, i] + values[b, i] + values[c, i]
            out[a, i] += mean
            out[b, i] += mean
            out[c, i] += mean
        more[a] += share
        more[b] += share
        more[c] += share


@kernel
def _bends(values, weight, normals, mean, largest):
    """Bending within the plane square to the normal."""
    for v in range(mean.shape[0]):
        nx, ny, nz = normals[v, 0], normals[v, 1], normals[v, 2]
        if not (weight[v] > 0.0 and nx * nx + ny * ny + nz * nz > 0.5):
            continue
        if abs(nx) < 0.6:
            tx, ty, tz = 0.0, nz, -ny
        else:
            tx, ty, tz = -nz, 0.0, nx
        length = np.sqrt(tx * tx + ty * ty + tz * tz)
        tx, ty, tz = tx / length, ty / length, tz / length
        bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
        xx, xy, xz, yy, yz, zz = (
            values[v, 0] / weight[v], values[v, 1] / weight[v], values[v, 2] / weight[v], values[v, 3] / weight[v],
            values[v, 4] / weight[v], values[v, 5] / weight[v],
        )  # fmt: skip
        a = xx * tx * tx + yy * ty * ty + zz * tz * tz + 2 * (xy * tx * ty + xz * tx * tz + yz * ty * tz)
        c = xx * bx * bx + yy * by * by + zz * bz * bz + 2 * (xy * bx * by + xz * bx * bz + yz * by * bz)
        b = xx * tx * bx + yy * ty * by + zz * tz * bz
        b += xy * (tx * by + ty * bx) + xz * (tx * bz + tz * bx) + yz * (ty * bz + tz * by)
        half, off = 0.5 * (a + c), np.sqrt(0.25 * (a - c) ** 2 + b * b)
        mean[v] = half
        largest[v] = half + off if half >= 0.0 else half - off


def curvature_of(mesh: Mesh, rounds: int = _ROUNDS) -> Curvature:
    """Measure how the surface bends at every vertex, by how its normals turn over each triangle.

    Parameters
    ----------
    mesh : Mesh
    rounds : int
        How often it is led over to the neighbours, so that noise does not count as bending.

    Raises
    ------
    Cancelled

    References
    ----------
    Rusinkiewicz, Estimating curvatures and their derivatives on triangle meshes, 3DPVT 2004.

    Examples
    --------
    >>> import numpy as np
    >>> from tinsnip.demo.meshes import grid_torus
    >>> from tinsnip.mesh import Mesh
    >>> bends = curvature_of(Mesh(*grid_torus(20_000, noise=0.0)))
    >>> bool((bends.largest > 0).mean() > 0.9)
    True
    """
    state, count = polled_here(), len(mesh.vertices)
    mean, largest = np.zeros(count, dtype=np.float32), np.zeros(count, dtype=np.float32)
    normals = vertex_normals(mesh.vertices, mesh.faces).astype(np.float64)
    values, weight = np.zeros((count, 6)), np.zeros(count)
    _bending(mesh.vertices, mesh.faces, normals, values, weight, state)
    check_here()
    for _ in range(rounds):
        more, share = np.zeros_like(values), np.zeros_like(weight)
        _led_over(mesh.faces, values, weight, more, share, state)
        check_here()
        top = max(float(share.max(initial=0.0)), 1e-300)  # they grow by round
        values, weight = more / top, share / top
    _bends(values, weight, normals, mean, largest)
    return Curvature(mean, largest)


def relief_of(mesh: Mesh) -> np.ndarray:
    """How far each vertex stands out of the surface as it runs on at large, mm, float32, shape (V,); hollows below 0.

    Detail finer than some 9 edges is told; the form itself, which shrinks by as much when it is drawn in once more, is
    not. Open edges tell nothing.

    Parameters
    ----------
    mesh : Mesh

    Raises
    ------
    Cancelled
    """
    if len(mesh.faces) == 0:
        return np.zeros(len(mesh.vertices), dtype=np.float32)
    before, once, twice = drawn_in(mesh, _STEPS, _STRENGTH, polled_here())
    normals = vertex_normals(twice.astype(np.float64), mesh.faces)
    return ((before - 2.0 * once + twice) * normals).sum(axis=1)
