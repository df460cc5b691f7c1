"""Weld: vertices at exactly the same place become one."""

from typing import ClassVar

import numpy as np

from tinsnip.mesh import Lineage, Mesh
from tinsnip.space.welding import weld_exact
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Weld"]


class Weld(Treatment):
    """Join vertices whose coordinates are equal bit for bit. Nothing moves."""

    name: ClassVar[str] = "weld"
    title: ClassVar[str] = "Weld"

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Join equal vertices."""
        context.progress.step("Welding")
        index, first = weld_exact(mesh.vertices)
        joined = len(mesh.vertices) - len(first)
        if joined == 0:
            return Outcome(mesh, "Nothing to weld", Account(figures={"joined": 0}))
        context.progress.check()
        triangles = np.arange(len(mesh.faces), dtype=np.int32)
        faces = index[mesh.faces]
        context.progress.check()
        welded = mesh.derive(faces, Lineage(first, triangles))
        return Outcome(welded, f"Welded {counted(joined, 'vertex', 'vertices')}", Account(figures={"joined": joined}))
