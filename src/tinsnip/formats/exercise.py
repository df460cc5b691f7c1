"""A small run through all kernels of this room."""

import tempfile
from pathlib import Path

from tinsnip.formats import FORMATS, read_scan, write_mesh
from tinsnip.mesh.exercise import ball, painted

__all__ = ["exercise"]

_CORNERS = "vertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\n"
_TEXTS = {
    "a.stl": f"solid a\nfacet normal 0 0 1\nouter loop\n{_CORNERS}endloop\nendfacet\nendsolid a\n",
    "lists.ply": "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty list uchar int q\n"
    "property float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n"
    "0 1 7 0 0\n1 0 0 0\n0 0 1 0\n3 0 1 2\n",
    "a.ply": "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
    "element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n",
}


def exercise() -> None:
    """Reach every kernel: each format written and read, with and without colour."""
    plain = ball()
    with tempfile.TemporaryDirectory() as folder:
        for mesh in (plain, painted(plain)):
            for suffix in FORMATS:
                write_mesh(mesh, Path(folder) / f"a.{suffix}")
                read_scan(Path(folder) / f"a.{suffix}")
        for name, text in _TEXTS.items():
            (Path(folder) / name).write_text(text, "ascii")
            read_scan(Path(folder) / name)
        write_mesh(plain, Path(folder) / "said.ply", provenance=True)
        read_scan(Path(folder) / "said.ply")
