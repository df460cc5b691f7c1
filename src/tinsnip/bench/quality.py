"""How close reduced meshes stay to what they were, next to plain vertex clustering at the same count."""

from collections.abc import Callable
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table

from tinsnip.demo import demo_file
from tinsnip.demo.meshes import grid_torus
from tinsnip.formats import read_scan
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import Progress
from tinsnip.space.tree import closest_points
from tinsnip.survey.deviation import compare
from tinsnip.treat import Context, Mend, Orient, Reduce, Sweep, Weld

__all__ = ["clustered", "print_quality", "run_quality"]

_SHARES = (10.0, 4.0, 1.0)
_SCANS = ("pump-cover", "fountain-spout", "gauge-lantern-upper", "gauge-lantern-lower")


def _in_cells(mesh: Mesh, cell: float) -> Mesh:
    """One vertex a cell, at the mean of those in it (Rossignac and Borrel 1993)."""
    key = np.floor((mesh.vertices - mesh.box[0]) / cell).astype(np.int64)
    code = (key[:, 0] << 42) | (key[:, 1] << 21) | key[:, 2]
    _, of, count = np.unique(code, return_inverse=True, return_counts=True)
    means = np.stack([np.bincount(of, mesh.vertices[:, k]) for k in range(3)], axis=1) / count[:, None]
    faces = of[mesh.faces]
    alive = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    faces = faces[alive]
    _, first = np.unique(np.sort(faces, axis=1), axis=0, return_index=True)
    return Mesh(means, faces[np.sort(first)])


def clustered(mesh: Mesh, triangles: int) -> Mesh:
    """A mesh clustered in cells of the size that leaves about so many triangles."""
    low, high = mesh.diagonal / 4000.0, mesh.diagonal / 2.0
    for _ in range(18):
        middle = float(np.sqrt(low * high))
        if len(_in_cells(mesh, middle).faces) > triangles:
            low = middle
        else:
            high = middle
    return _in_cells(mesh, high)


def _turned_over(reduced: Mesh, before: Mesh) -> int:
    """Triangles of a reduced mesh that face away from the surface they came from."""
    own = face_vectors(reduced.vertices, reduced.faces)
    centres = reduced.vertices[reduced.faces].mean(axis=1)
    _, nearest = closest_points(before.tree, centres, Progress().state)
    other = face_vectors(before.vertices, before.faces[nearest])
    size = np.linalg.norm(own, axis=1) * np.linalg.norm(other, axis=1)
    return int(np.count_nonzero((own * other).sum(axis=1) < -0.5 * size))


def run_quality(note: Callable[[str], None]) -> list[dict[str, Any]]:
    """Measure reduction against clustering on a smooth shape and on the demo scans, mended first.

    Returns
    -------
    list of dict
        ``scan, percent, triangles, rms, max`` and the same of clustering, as shares of the diagonal; besides
        ``tangled`` edges and triangles ``turned`` over in the reduced mesh.
    """
    rows = []
    meshes: list[tuple[str, Mesh]] = [("smooth torus", Mesh(*grid_torus(500_000, noise=0.0)))]
    for name in _SCANS:
        mesh = read_scan(demo_file(name), "mm").mesh
        for treatment in (Weld(), Mend(), Orient(), Sweep()):
            mesh = treatment.apply(mesh, Context()).mesh
        meshes.append((name, mesh))
    for name, mesh in meshes:
        for share in _SHARES:
            reduced = Reduce(percent=share).apply(mesh, Context()).mesh
            plain = clustered(mesh, len(reduced.faces))
            ours = compare(reduced, mesh, 100_000)
            theirs = compare(plain, mesh, 100_000)
            row = {
                "scan": name,
                "percent": share,
                "triangles": len(reduced.faces),
                "rms": ours[0].rms / mesh.diagonal,
                "max": max(d.max for d in ours) / mesh.diagonal,
                "clustered_rms": theirs[0].rms / mesh.diagonal,
                "clustered_max": max(d.max for d in theirs) / mesh.diagonal,
                "tangled": reduced.edges.tangled,
                "turned": _turned_over(reduced, mesh),
            }
            rows.append(row)
            note(f"{name} {share:g} %: rms {row['rms']:.2e}, clustering {row['clustered_rms']:.2e}")
    return rows


def print_quality(rows: list[dict[str, Any]]) -> None:
    """Print the rows of `run_quality` as a table."""
    table = Table(title="Deviation from the mesh before reducing, as a share of its diagonal")
    headings = ("scan", "%", "triangles", "rms", "clustering", "ratio", "max", "clustering", "tangled", "turned over")
    for heading in headings:
        table.add_column(heading, justify="left" if heading == "scan" else "right")
    for r in rows:
        ratio = r["rms"] / r["clustered_rms"]
        shares = [f"{r[k]:.2e}" for k in ("rms", "clustered_rms")], [f"{r[k]:.2e}" for k in ("max", "clustered_max")]
        counts = str(r["tangled"]), str(r["turned"])
        table.add_row(
            r["scan"], f"{r['percent']:g}", str(r["triangles"]), *shares[0], f"{ratio:.2f}", *shares[1], *counts
        )
    Console(width=120).print(table)
