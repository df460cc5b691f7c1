"""Runs treatments and routines over meshes whose arrays lie in memory that the system lets nobody write to.

In a process of its own, which a write would end at once: ``python -m tests.read_only``. Kernels take read-only arrays
as if they could be written, so that only this shows that none is.
"""

import ctypes
import mmap
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

import tinsnip.mesh.remembered as facts

_LIBC = ctypes.CDLL(None, use_errno=True)
_kept: list[mmap.mmap] = []


def sealed(array: np.ndarray) -> np.ndarray:
    """A copy that nothing in this process can write to."""
    if array.nbytes == 0 or array.dtype.hasobject:
        return array
    memory = mmap.mmap(-1, array.nbytes)
    copy = np.frombuffer(memory, array.dtype).reshape(array.shape)
    copy[...] = array
    if _LIBC.mprotect(ctypes.c_void_p(copy.ctypes.data), ctypes.c_size_t(len(memory)), mmap.PROT_READ) != 0:
        raise OSError(ctypes.get_errno(), "mprotect")
    copy.setflags(write=False)
    _kept.append(memory)
    return copy


def seal_facts(fact: Any) -> Any:
    """A fact about a mesh, if it is an array, or a tuple with names that holds some."""
    if isinstance(fact, np.ndarray):
        return sealed(fact)
    if isinstance(fact, tuple) and hasattr(fact, "_fields"):
        return type(fact)(*map(seal_facts, fact))
    return fact


_remembered = facts.remembered


def remembered(work: Callable) -> Callable:
    """As the product's, with what is remembered sealed."""

    def worked_out(mesh: Any) -> Any:
        return seal_facts(work(mesh))

    worked_out.__module__, worked_out.__qualname__ = work.__module__, work.__qualname__
    return _remembered(worked_out)


facts.remembered = remembered

from tests import specimens  # noqa: E402
from tests.seeds import share  # noqa: E402
from tinsnip.errors import BadInput  # noqa: E402
from tinsnip.formats import read_scan, write_mesh  # noqa: E402
from tinsnip.job import load_routine  # noqa: E402
from tinsnip.mesh import Attribute, Domain, Mesh  # noqa: E402
from tinsnip.survey import examine  # noqa: E402
from tinsnip.treat import TREATMENTS, Combine, Context, Recast, Reduce  # noqa: E402

_made = Mesh.__init__


def _sealed_mesh(self: Mesh, *arguments: Any, **named: Any) -> None:
    _made(self, *arguments, **named)
    self.vertices, self.faces, self.provenance = map(sealed, (self.vertices, self.faces, self.provenance))


def main() -> None:
    """All treatments, the routines, a combination."""
    Mesh.__init__ = _sealed_mesh
    rng = np.random.default_rng(7)
    whole = specimens.torus(80.0, 32)
    hurt = specimens.damage(whole, rng).mesh
    ball = specimens.sphere(60.0, 14).mesh
    shades = rng.integers(0, 255, (len(hurt.vertices), 3)).astype(np.uint8)
    painted = hurt.with_attribute("colour", Attribute(Domain.VERTEX, shades))
    done = 0
    for mesh in (painted, ball):
        examine(mesh)
        for make in share((*TREATMENTS.values(), lambda: Reduce(percent=30)), f"sealed {len(mesh.faces)}", 8):
            treatment = make(deviation_mm=4.0) if make is Recast else make()
            try:
                treatment.apply(mesh, Context(raw=mesh))
                done += 1
            except BadInput:
                pass
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "scan.ply"
        write_mesh(hurt, path)
        for name in ("print-solid", "reverse-mesh"):
            load_routine(name).run(read_scan(path, "mm"))
    Combine(how="join").apply([whole.mesh, ball], Context())
    print(done)


if __name__ == "__main__":
    main()
