"""A scanner's ripple: bands of one wavelength that run over the part, whatever its shape.

A scanner that moves evenly leaves bands square to one way in space. So what stands out of the surface is looked at
along many ways, within pieces that are small against the part, and summed by frequency: letters and ribs have many
frequencies and ways, a ripple has one.
"""

from typing import NamedTuple

import numpy as np
from scipy.optimize import minimize
from scipy.spatial import cKDTree

from tinsnip.mesh import Mesh
from tinsnip.mesh.evening import drawn_in
from tinsnip.mesh.measures import mean_edge, vertex_normals
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import check_here, polled_here

__all__ = ["Ripple", "offsets_at", "ripple_at", "ripple_of"]

_SCALES = ((30, 5.0, 12.0), (120, 10.0, 24.0), (480, 20.0, 60.0))
"""Steps over which detail is told from the form, and the shortest and longest waves looked for in it, edges."""
_STRENGTH = 0.5
_WAYS = 1500
"""Ways looked along, over half a sphere: 4 degrees from one to the next."""
_SAMPLES = 12_000
"""Places whose height is looked at."""
_WAVES_ACROSS, _ACROSS = 8.0, 2.5
"""The longest waves in a piece, or, where these are too few, pieces along the longest side."""
_FEWEST = 60
"""Points in a piece that counts."""
_BINS = 128
_WAVES = 2.5
"""Waves in a piece at least."""
_CLEAR = 6.0
"""How often the middle of all powers at its wavelength a ripple's has to be."""
_CALM = 0.25
"""How far calm places give way, as a share of the width that is evened out: an edge of 90 degrees does by 0.56."""
_MOST = 2.0
"""Offsets count up to so many times the middle one: ribs and letters are no ripple, and far larger."""
_ACROSS_BANDS, _OTHERS, _STANDS_OUT = 0.3, 40, 4.0
_ALL_OVER = 0.95
"""Share of the surface, where it does not run along with the bands, on which a ripple stands out so many times among
others. Ripples put on the demo scans came to 0.94 to 1, rings and ribs of the parts themselves to 0.34 to 0.95."""
_SPACED, _REACH = 0.75, 2.5
"""How far the places lie apart at which a ripple is measured, and how far round it is looked there, wavelengths."""
_MOST_PLACES, _NEAREST = 40_000, 6
_AT_ONCE = 200_000
"""Vertices at a time, some 50 MB."""
_IN_REACH, _FEWEST_POINTS = 300, 20_000
"""Points within reach of a place by which it is measured there, and points in all at least."""
_SAME_SIDE = 0.5
"""Cosine from which two places face the same way."""
_LEAST_TOLD = 0.5
"""Share of a ripple that evening out tells at least; what is told of longer ones is too little, and grows by rounds."""
_CLIP = 3.0
"""Offsets count up to so many times the middle one where the ripple's height is measured."""
_EVEN = 1.4
"""How much higher than in the middle a ripple is anywhere: beside edges more is taken for it than is."""
_LOWEST = 0.02
"""Edges that a ripple is high at least: below it the triangles' own pattern shows."""


class Ripple(NamedTuple):
    """Bands square to one way.

    Attributes
    ----------
    way : ndarray, shape (3,)
        A unit vector.
    wavelength : float
        From band to band, mm.
    height : float
        From hollow to ridge, mm, in the middle of all places.
    """

    way: np.ndarray
    wavelength: float
    height: float


def offsets_at(mesh: Mesh, steps: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """How far vertices stand out of the surface as it runs on at large; where that is, and how it faces there.

    Parameters
    ----------
    mesh : Mesh
    steps : int
        Over which detail is evened out.

    Returns
    -------
    offsets : ndarray, shape (V,)
        mm.
    places, normals : ndarray, shape (V, 3)
        About the box's middle.
    bends : ndarray, shape (V,)
        How far the form gives way where it is evened out once more, mm: much at edges, little where it is flat.
    """
    before, once, twice = (p.astype(np.float64) for p in drawn_in(mesh, steps, _STRENGTH, polled_here()))
    normals = vertex_normals(twice, mesh.faces).astype(np.float64)
    check_here()
    offsets = ((before - 2.0 * once + twice) * normals).sum(axis=1)
    return offsets, 2.0 * once - twice, normals, np.linalg.norm(once - twice, axis=1)


@remembered
def ripple_of(mesh: Mesh) -> Ripple | None:
    """The ripple of a scan; None where none stands out.

    Parameters
    ----------
    mesh : Mesh

    Raises
    ------
    Cancelled
    """
    if len(mesh.faces) < 10 * _FEWEST or not mesh.area > 0:
        return None
    edge = mean_edge(mesh.vertices, mesh.faces)
    found = []
    for steps, shortest, longest in _SCALES:
        offsets, places, normals, bends = offsets_at(mesh, steps)
        calm = np.flatnonzero(bends < _CALM * 0.5 * np.sqrt(steps) * edge)
        some = np.random.default_rng(0).permutation(calm)[:_SAMPLES]
        if len(some) < _FEWEST:
            continue
        sampled = _Sampled(places[some], normals[some], offsets[some], edge * shortest, edge * longest)
        clear, wave = sampled.clearest()
        if clear > _CLEAR:
            found.append((clear, steps, sampled, wave))
    for _, steps, sampled, wave in sorted(found, key=lambda one: -one[0]):
        wave = sampled.refined(wave)
        size = float(np.linalg.norm(wave))
        height = float(sampled.height(wave) / _told(0.5 * np.sqrt(steps) * edge * size))
        if height > _LOWEST * edge and sampled.spread(wave) > _ALL_OVER:
            return Ripple(wave / size, 1.0 / size, height)
    return None


def _told(width: float | np.ndarray) -> float | np.ndarray:
    """Share of a wave's height that evening out over a width, in wavelengths, tells."""
    return np.maximum((1.0 - np.exp(-2.0 * (np.pi * width) ** 2)) ** 2, _LEAST_TOLD)


def ripple_at(mesh: Mesh, way: np.ndarray, wavelength: float) -> tuple[np.ndarray, np.ndarray]:
    """How far a ripple lifts each vertex, mm, shape (V,), and which way that is, shape (V, 3).

    Its height and where its ridges lie are measured round many places, so that they may change from place to place.

    Parameters
    ----------
    mesh : Mesh
    way : ndarray, shape (3,)
        The unit vector that its bands are square to.
    wavelength : float
        mm.

    Raises
    ------
    Cancelled
    """
    edge, rng = mean_edge(mesh.vertices, mesh.faces), np.random.default_rng(0)
    steps = next((s for s, _, longest in _SCALES if wavelength <= longest * edge), _SCALES[-1][0])
    width = 0.5 * np.sqrt(steps) * edge
    offsets, places, normals, bends = offsets_at(mesh, steps)
    turn = np.exp(2j * np.pi * (places @ way) / wavelength)
    reach = _REACH * wavelength
    points = max(_FEWEST_POINTS, int(_IN_REACH * mesh.area / (np.pi * reach**2)))
    calm = rng.permutation(np.flatnonzero(bends < _CALM * width))[:points]
    if len(calm) == 0:
        return np.zeros(len(places)), normals
    spaced = _SPACED * max(wavelength, float(np.sqrt(mesh.area / _MOST_PLACES)))
    middles = calm[np.unique(np.floor(places[calm] / spaced).astype(np.int64), axis=0, return_index=True)[1]]
    most = _CLIP * float(np.median(np.abs(offsets[calm])))
    told = np.clip(offsets[calm], -most, most) * np.conj(turn[calm])
    trees = cKDTree(places[middles]), cKDTree(places[calm])
    pairs = trees[0].sparse_distance_matrix(trees[1], 2.0 * reach, output_type="coo_matrix")
    check_here()
    own = np.einsum("ij,ij->i", normals[middles[pairs.row]], normals[calm[pairs.col]]) > _SAME_SIDE
    row, col = pairs.row[own], pairs.col[own]
    share = np.exp(-0.5 * (pairs.data[own] / reach) ** 2)
    total = np.bincount(row, share, len(middles))
    waves = np.bincount(row, share * told.real[col], len(middles)) + 1j * np.bincount(
        row, share * told.imag[col], len(middles)
    )
    waves /= np.maximum(total, 1e-300)
    check_here()
    here = np.empty(len(places), dtype=complex)
    for begin in range(0, len(places), _AT_ONCE):
        own = slice(begin, begin + _AT_ONCE)
        here[own] = _between(trees[0], normals[middles], waves, places[own], normals[own], spaced)
        check_here()
    along = np.maximum(1.0 - (normals @ way) ** 2, 0.0)  # bands are wider where the surface runs along with them
    here *= 2.0 / _told(width / wavelength * np.sqrt(along))
    size = np.abs(here)
    most = _EVEN * float(np.median(size[calm]))
    return (here * turn).real * np.minimum(1.0, most / np.maximum(size, 1e-300)), normals


def _between(
    tree: cKDTree, facing: np.ndarray, waves: np.ndarray, places: np.ndarray, normals: np.ndarray, spaced: float
) -> np.ndarray:
    """What was measured at the nearest places that face the same way, at others; nought where there are none."""
    away, near = tree.query(places, k=min(_NEAREST, len(waves)))
    away, near = away.reshape(len(places), -1), near.reshape(len(places), -1)
    share = np.exp(-0.5 * (away / spaced) ** 2)
    share *= np.einsum("ik,ijk->ij", normals, facing[near]) > _SAME_SIDE
    total = share.sum(axis=1)
    return (share * waves[near]).sum(axis=1) / np.maximum(total, 1e-300) * (total > 1e-6)


class _Sampled:
    """Points with their offsets, in pieces: of one box, and facing about one way."""

    def __init__(
        self, places: np.ndarray, normals: np.ndarray, offsets: np.ndarray, shortest: float, longest: float
    ) -> None:
        self.room = min(float(np.ptp(places, axis=0).max()) / _ACROSS, _WAVES_ACROSS * longest)
        box = np.floor((places - places.min(axis=0)) / self.room * (1 - 1e-9)).astype(np.int64)
        side = 2 * np.argmax(np.abs(normals), axis=1) + (np.take_along_axis(
            normals, np.argmax(np.abs(normals), axis=1)[:, None], axis=1)[:, 0] > 0)  # fmt: skip
        key = ((box[:, 0] * 64 + box[:, 1]) * 64 + box[:, 2]) * 6 + side
        _, piece, count = np.unique(key, return_inverse=True, return_counts=True)
        kept = count[piece] >= _FEWEST
        self.places, self.piece = places[kept], np.unique(piece[kept], return_inverse=True)[1]
        offsets = offsets[kept]
        most = _MOST * float(np.median(np.abs(offsets))) if len(offsets) else 0.0
        self.offsets = np.clip(offsets, -most, most)
        self.pieces = int(self.piece.max(initial=-1)) + 1
        self.count = np.bincount(self.piece, minlength=self.pieces)
        self.facing = np.zeros((self.pieces, 3))
        np.add.at(self.facing, self.piece, normals[kept])
        self.facing /= np.maximum(np.linalg.norm(self.facing, axis=1), 1e-300)[:, None]
        if self.pieces:
            mean = np.bincount(self.piece, self.offsets, self.pieces) / self.count
            self.offsets = self.offsets - mean[self.piece]
        self.longest, self.shortest = min(self.room / _WAVES, longest), shortest

    def clearest(self) -> tuple[float, np.ndarray]:
        """How far the strongest wave stands out, and that wave: its way, as long as it has waves a mm."""
        if self.pieces == 0 or not self.longest > self.shortest:
            return 0.0, np.zeros(3)
        width = max(0.5 * self.shortest, 2.0 * self.room * np.sqrt(3) / _BINS)
        i = np.arange(_WAYS) + 0.5
        z, turn = i / _WAYS, np.pi * (1 + 5**0.5) * i
        ways = np.column_stack([np.sqrt(1 - z * z) * np.cos(turn), np.sqrt(1 - z * z) * np.sin(turn), z])
        frequency = np.fft.rfftfreq(_BINS, width)
        inside = (frequency >= 1.0 / self.longest) & (frequency <= 1.0 / self.shortest)
        if inside.sum() < 3:
            return 0.0, np.zeros(3)
        powers = np.empty((_WAYS, int(inside.sum())))
        for k, way in enumerate(ways):
            if k % 64 == 0:
                check_here()
            at = (np.floor(self.places @ way / width).astype(np.int64) % _BINS) + _BINS * self.piece
            line = np.bincount(at, self.offsets, _BINS * self.pieces).reshape(self.pieces, _BINS)
            spectrum = np.fft.rfft(line, axis=1)[:, inside]
            powers[k] = (np.abs(spectrum) ** 2 / self.count[:, None]).sum(axis=0)
        clear = powers / np.maximum(np.median(powers, axis=0), 1e-300)
        k, f = np.unravel_index(np.argmax(clear), clear.shape)
        return float(clear[k, f]), frequency[inside][f] * ways[k]

    def _sums(self, wave: np.ndarray) -> np.ndarray:
        turned = np.exp(-2j * np.pi * (self.places @ wave)) * self.offsets
        return np.bincount(self.piece, turned.real, self.pieces) + 1j * np.bincount(
            self.piece, turned.imag, self.pieces
        )

    def refined(self, wave: np.ndarray) -> np.ndarray:
        """The wave next to one of which the pieces hold most."""

        def missing(x: np.ndarray) -> float:
            check_here()
            return -float((np.abs(self._sums(x)) ** 2 / self.count).sum())

        size = 0.3 / self.room
        simplex = np.concatenate([wave[None], wave + size * np.eye(3)])
        return minimize(missing, wave, method="Nelder-Mead", options={"initial_simplex": simplex, "maxiter": 200}).x

    def spread(self, wave: np.ndarray) -> float:
        """Share of the surface on which a wave stands out among others as long."""
        size = float(np.linalg.norm(wave))
        across = 1.0 - (self.facing @ wave / size) ** 2 > _ACROSS_BANDS
        others = np.random.default_rng(1).normal(size=(_OTHERS, 3))
        others *= size / np.linalg.norm(others, axis=1)[:, None]
        usual = np.median([np.abs(self._sums(one)) ** 2 for one in others], axis=0)
        stands_out = np.abs(self._sums(wave)) ** 2 > _STANDS_OUT * usual
        return float(self.count[across & stands_out].sum() / max(self.count[across].sum(), 1))

    def height(self, wave: np.ndarray) -> float:
        """From hollow to ridge, mm, in the middle piece."""
        return 4.0 * float(np.median(np.abs(self._sums(wave)) / self.count))
