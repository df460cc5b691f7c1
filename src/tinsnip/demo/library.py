"""The demo scans: a waterworks museum restores its engine house of 1911."""

import hashlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import platformdirs

from tinsnip.demo.scanner import Scene, scan, true_surface
from tinsnip.demo.shapes import FOUNTAIN_SPOUT, GAUGE_LANTERN, PUMP_COVER
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh

__all__ = ["DEMO_SCANS", "demo_file", "demo_folder", "demo_scan", "demo_truth"]


def _cast_iron(points: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """Green paint, bare machined faces, and the brown bed."""
    colour = np.tile(np.array([86.0, 112.0, 98.0]), (len(points), 1))
    machined = (normals[:, 2] > 0.97) & (points[:, 2] > 10)
    colour[machined] = [168.0, 166.0, 160.0]
    rust = np.sin(points[:, 0] * 0.11) * np.sin(points[:, 1] * 0.13) * np.sin(points[:, 2] * 0.17) > 0.55
    colour[rust & ~machined] = [134.0, 88.0, 62.0]
    colour[points[:, 2] < 0.8] = [142.0, 124.0, 104.0]
    return colour


def _sandstone(points: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """Warm stone in beds, moss where rain stays, verdigris below the mouth."""
    bed = np.sin(points[:, 2] * 0.35 + 2 * np.sin(points[:, 0] * 0.05))
    colour = np.array([186.0, 158.0, 118.0]) + bed[:, None] * np.array([14.0, 12.0, 8.0])
    moss = (normals[:, 2] > 0.45) & (np.sin(points[:, 0] * 0.21) + np.sin(points[:, 1] * 0.17) > 0.2)
    colour[moss] = [96.0, 112.0, 62.0]
    stain = (np.abs(points[:, 0]) < 9) & (points[:, 1] < -30) & (points[:, 2] < 40)
    colour[stain] = [92.0, 150.0, 132.0]
    return colour


def _brass(points: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """Brass, darker towards the foot."""
    share = np.clip(points[:, 2] / 130.0, 0, 1)[:, None]
    return np.array([122.0, 92.0, 46.0]) + share * np.array([88.0, 74.0, 34.0])


def _lantern(heights: tuple[float, float], station_height: float) -> Scene:
    return Scene(
        kind=GAUGE_LANTERN,
        box=((-44.0, -44.0, -4.0), (44.0, 44.0, 142.0)),
        bed=0.0,
        stations=(*_ring_of_stations(6, 420.0, station_height), *_ring_of_stations(6, 420.0, 60.0, 0.9)),
        reach=(60.0, 60.0),
        noise=0.015,
        crumbs=12,
        spikes=10,
        tangles=2,
        void=None,
        paint=_brass,
        heights=heights,
    )


def _ring_of_stations(
    count: int, radius: float, height: float, turn: float = 0.4
) -> tuple[tuple[float, float, float], ...]:
    angles = turn + 2 * np.pi * np.arange(count) / count
    return tuple((float(radius * np.cos(a)), float(radius * np.sin(a)), height) for a in angles)


_BEYOND = 10.0
"""How far a part may reach below what a scanner sees of it, mm."""

DEMO_SCANS: dict[str, Scene] = {
    "pump-cover": Scene(
        kind=PUMP_COVER,
        box=((-168.0, -160.0, -4.0), (168.0, 160.0, 78.0)),
        bed=1.0,
        stations=(
            *_ring_of_stations(5, 520.0, 380.0),
            *_ring_of_stations(4, 600.0, 70.0, 0.7),
            (-560.0, -140.0, 130.0),
            (60.0, 40.0, 700.0),
        ),
        reach=(150.0, 140.0),
        noise=0.02,
        crumbs=43,
        spikes=24,
        tangles=4,
        void=((5.0, 12.0, 26.0), (11.0, 8.0, 6.0)),
        paint=_cast_iron,
    ),
    "fountain-spout": Scene(
        kind=FOUNTAIN_SPOUT,
        box=((-62.0, -90.0, -2.0), (62.0, 66.0, 128.0)),
        bed=0.0,
        stations=(*_ring_of_stations(6, 480.0, 260.0), *_ring_of_stations(6, 480.0, 30.0, 0.9)),
        reach=(100.0, 110.0),
        noise=0.025,
        crumbs=26,
        spikes=16,
        tangles=3,
        void=((0.0, 6.0, 62.0), (9.0, 7.0, 8.0)),
        paint=_sandstone,
        heights=(11.0, 1e9),
    ),
    "gauge-lantern-upper": _lantern((46.0, 1e9), 300.0),
    "gauge-lantern-lower": _lantern((-1e9, 66.0), 200.0),
}


def demo_scan(
    name: str, triangles: int = 600_000, note: Callable[[str, float], None] = lambda text, share: None
) -> Mesh:
    """Make a demo scan of about `triangles` triangles; deterministic.

    Parameters
    ----------
    name : str
    triangles : int
        About so many.
    note : callable
        Told what is done, and which share of it.

    Raises
    ------
    BadInput
        When there is no demo scan of that name, or the density is out of range.
    """
    if name not in DEMO_SCANS:
        raise BadInput(f"demo scan {name}: unknown; choose one of {', '.join(DEMO_SCANS)}")
    if not 10_000 <= triangles <= 12_000_000:
        raise BadInput(f"{triangles} triangles: a demo scan takes 10000 to 12000000; choose a count in between")
    return scan(DEMO_SCANS[name], triangles, seed=1911, note=note)


def demo_truth(name: str, h: float) -> Mesh:
    """The demo part's true closed surface without bed, for tests; meshed with cubes of width h, mm.

    Parameters
    ----------
    name : str
    h : float
        Width of the cubes, mm.
    """
    scene = DEMO_SCANS[name]
    low, high = np.array(scene.box) + np.array([[-_BEYOND], [_BEYOND]])
    return true_surface(replace(scene, box=(tuple(low), tuple(high))), h, bed=0.0)


def demo_folder() -> Path:
    """Where demo scans are kept, once made, until what makes them changes."""
    made_by = hashlib.sha256()
    for source in sorted(Path(__file__).parent.glob("*.py")):
        made_by.update(source.read_bytes())
    return Path(platformdirs.user_cache_dir("tinsnip")) / "demo" / made_by.hexdigest()[:16]


def demo_file(
    name: str,
    triangles: int = 600_000,
    folder: Path | None = None,
    note: Callable[[str, float], None] = lambda text, share: None,
) -> Path:
    """The demo scan as a PLY file, made on first use and kept.

    Parameters
    ----------
    name : str
    triangles : int
        About so many.
    folder : Path, optional
        Where it is kept; the user's cache by default.
    note : callable
        Told what is done, and which share of it.
    """
    folder = folder or demo_folder()
    path = folder / f"{name}-scan-{triangles // 1000}k.ply"
    if not path.exists():
        mesh = demo_scan(name, triangles, note)
        folder.mkdir(parents=True, exist_ok=True)
        write_mesh(mesh, path)
    return path
