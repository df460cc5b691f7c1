"""Meshes of steps gone by: in memory as far as a budget allows, on disk beyond it, and back when they are wanted."""

import contextlib
import os
import shutil
import threading
from pathlib import Path

import numpy as np
import platformdirs

from tinsnip.mesh import Attribute, Mesh

__all__ = ["Keeper", "Kept", "default_budget"]


def default_budget() -> int:
    """A quarter of the machine's memory, bytes."""
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 4


class Kept:
    """One mesh, wherever it is."""

    def __init__(self, mesh: Mesh) -> None:
        self._mesh: Mesh | None = mesh
        self._folder: Path | None = None
        self._attributes: dict[str, Attribute] = {}

    @property
    def mesh(self) -> Mesh:
        """The mesh; read back from the disk where it was put there.

        Raises
        ------
        OSError
            When its files are gone.
        """
        mesh = self._mesh
        if mesh is None:
            mesh = self._mesh = self._read()
        return mesh

    @property
    def resident(self) -> Mesh | None:
        """The mesh if it is in memory."""
        return self._mesh

    def spill(self, folder: Path) -> None:
        """Write the mesh to a folder of its own, then let go of it.

        Raises
        ------
        OSError
            When the disk is full or gone; the mesh stays in memory.
        """
        mesh = self._mesh
        if mesh is None:
            return
        if self._folder is None:
            folder.mkdir(parents=True)
            try:
                for name in ("vertices", "faces", "provenance"):
                    np.save(folder / f"{name}.npy", getattr(mesh, name))
                for i, attribute in enumerate(mesh.attributes.values()):
                    np.save(folder / f"attribute-{i}.npy", attribute.values)
            except OSError:
                shutil.rmtree(folder, ignore_errors=True)
                raise
            none = np.empty(0)  # the values are on the disk, what stands beside them stays here
            self._attributes = {name: Attribute(a.domain, none, a.beside) for name, a in mesh.attributes.items()}
            self._folder = folder
        self._mesh = None

    def _read(self) -> Mesh:
        folder = self._folder
        vertices, faces, provenance = (np.load(folder / f"{n}.npy") for n in ("vertices", "faces", "provenance"))
        attributes = {
            name: Attribute(a.domain, np.load(folder / f"attribute-{i}.npy"), a.beside)
            for i, (name, a) in enumerate(self._attributes.items())
        }
        return Mesh(vertices, faces, provenance, attributes)


class Keeper:
    """Keeps the meshes of a job's steps within a memory budget.

    Parameters
    ----------
    budget : int, optional
        Bytes that meshes no longer shown may take; by default a quarter of the machine's memory.
    folder : Path, optional
        Where they go beyond it; by default a folder of this process under the user's cache.
    """

    def __init__(self, budget: int | None = None, folder: Path | None = None) -> None:
        self.budget = default_budget() if budget is None else budget
        self._root = Path(platformdirs.user_cache_dir("tinsnip")) / "steps"
        self.folder = folder or self._root / f"{os.getpid()}-{id(self):x}"
        self._number = 0
        self._turn = threading.Lock()

    def spill(self, kept: list[Kept], in_use: set[int]) -> int:
        """Write meshes to the disk until the rest is within the budget.

        Parameters
        ----------
        kept : list of Kept
            Those that are wanted last come first.
        in_use : set of int
            Ids of meshes that have to stay.

        Returns
        -------
        int
            How many were written.

        Raises
        ------
        OSError
            When the disk is full or gone; what could not be written stays in memory.
        """
        with self._turn:
            waiting = [k for k in kept if k.resident is not None and id(k.resident) not in in_use]
            total = sum(k.resident.nbytes for k in waiting)
            done = 0
            for one in waiting:
                if total <= self.budget:
                    break
                mesh = one.resident
                if mesh is None:
                    continue
                total -= mesh.nbytes
                del mesh
                self._number += 1
                one.spill(self.folder / str(self._number))
                done += 1
            return done

    def close(self) -> None:
        """Remove what was written."""
        shutil.rmtree(self.folder, ignore_errors=True)

    def remove_stale(self) -> None:
        """Remove what processes that are no more have left behind."""
        with contextlib.suppress(OSError):
            for folder in self._root.iterdir():
                owner = folder.name.split("-")[0]
                if owner.isdigit() and not Path(f"/proc/{owner}").exists():
                    shutil.rmtree(folder, ignore_errors=True)
