"""What scripts call: reading, looking, treating, comparing, writing, routines. ``import tinsnip`` offers all of it.

These names, their parameters and what they give back stay as they are within one `API`; everything else in the
package may change from one version to the next.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from tinsnip.errors import BadInput
from tinsnip.formats import Scan, write_mesh
from tinsnip.job import Budget, built_in_routines, load_routine
from tinsnip.job.batch import Order, run_file
from tinsnip.job.reading import read_at_most
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey import Examination
from tinsnip.survey import examine as examine_mesh
from tinsnip.survey.deviation import Deviation
from tinsnip.survey.deviation import compare as deviation_of
from tinsnip.treat import ASSEMBLIES, TREATMENTS, Assembly, Context, Outcome, Treatment

__all__ = [
    "API",
    "Assembly",
    "BadInput",
    "Deviation",
    "Examination",
    "Mesh",
    "Outcome",
    "Progress",
    "Scan",
    "Treatment",
    "apply",
    "combine",
    "compare",
    "examine",
    "read",
    "routines",
    "run",
    "treatments",
    "write",
]

API = 1
"""Raised when something here changes in a way that a script would have to follow."""


def read(
    path: str | Path, unit: str | None = None, progress: Progress | None = None, at_most: int | None = None
) -> Scan:
    """Read a scan: STL, PLY, OBJ, OFF, 3MF or GLB.

    Parameters
    ----------
    path : str or Path
    unit : str, optional
        ``mm``, ``cm``, ``m``, ``in`` or ``ft``; guessed by default.
    progress : Progress, optional
    at_most : int, optional
        Triangles to which a scan that has more is reduced while it is read, with little memory (binary STL, PLY); its
        ``notes`` say how far off that is.

    Returns
    -------
    Scan
        Its ``mesh`` is in millimetres.

    Raises
    ------
    BadInput
        When there is no such file, it cannot be read, or memory does not hold it.

    Examples
    --------
    >>> scan = tinsnip.read(folder / "ring.ply")
    >>> scan.unit, len(scan.mesh.faces)
    ('mm', 4096)
    """
    return read_at_most(path, unit, progress or Progress(), at_most)


def write(mesh: Mesh, path: str | Path, provenance: bool = False) -> None:
    """Write a mesh in the format of the file's ending; the file is read back and compared before it takes its name.

    Parameters
    ----------
    mesh : Mesh
    path : str or Path
    provenance : bool
        Whether a PLY says of each triangle whether it was measured, shifted or made.

    Raises
    ------
    BadInput
        When it cannot be written there, or what was read back was not what was written.

    Examples
    --------
    >>> tinsnip.write(ring, folder / "out.stl")
    >>> len(tinsnip.read(folder / "out.stl").mesh.faces)
    4096
    """
    write_mesh(mesh, Path(path), provenance=provenance)


def examine(mesh: Mesh, progress: Progress | None = None) -> Examination:
    """Look a mesh over: everything that stands between it and a closed solid.

    Parameters
    ----------
    mesh : Mesh
    progress : Progress, optional

    Returns
    -------
    Examination
        ``counts()`` gives all figures by name, ``readiness`` says whether it is ready, and if not, why.

    Examples
    --------
    >>> tinsnip.examine(ring).readiness.ready
    True
    >>> found = tinsnip.examine(holed)
    >>> found.counts()["holes"], found.readiness.reasons
    (1, ['1 hole'])
    """
    return examine_mesh(mesh, progress)


def treatments() -> dict[str, type[Treatment]]:
    """All treatments by name; their fields are described in each.

    Returns
    -------
    dict of str to type

    Examples
    --------
    >>> sorted(tinsnip.treatments())[:3]
    ['add-solid', 'bake', 'bend']
    """
    return dict(TREATMENTS)


def apply(mesh: Mesh, treatment: str | Treatment, progress: Progress | None = None, **fields: Any) -> Outcome:
    """Treat a mesh; the one that is given stays as it is.

    Parameters
    ----------
    mesh : Mesh
    treatment : str or Treatment
        A name of `treatments`, or one made already.
    progress : Progress, optional
    **fields
        What the treatment of that name is set to; lengths in mm, angles in degrees.

    Returns
    -------
    Outcome
        ``mesh``, a line of ``text``, and the ``account`` of what was made, went and was shifted.

    Raises
    ------
    BadInput
        When there is no such treatment, a field does not fit, or it cannot keep its promise on this mesh.

    Examples
    --------
    >>> patched = tinsnip.apply(holed, "patch", flow=1.0)
    >>> patched.text
    'Patched 1 hole, 0.43 % of the area was made'
    >>> patched.account.gone_triangles, tinsnip.examine(patched.mesh).readiness.ready
    (0, True)
    """
    if isinstance(treatment, str):
        treatment = _named(TREATMENTS, treatment, fields)
    return treatment.apply(mesh, Context(progress or Progress(), mesh))


def combine(meshes: Sequence[Mesh], how: str = "join", progress: Progress | None = None) -> Mesh:
    """Join closed solids to one, cut the others from the first, or keep what all have in common; exactly.

    Parameters
    ----------
    meshes : sequence of Mesh
    how : str
        ``join``, ``cut`` or ``intersect``.
    progress : Progress, optional

    Returns
    -------
    Mesh

    Raises
    ------
    BadInput
        When one of them is no valid solid, or nothing would be left.

    Examples
    --------
    >>> both = tinsnip.combine([ring, ring.moved(ring.vertices + [5.0, 0, 0])])
    >>> ring.volume < both.volume < 2 * ring.volume
    True
    """
    made = _named(ASSEMBLIES, "combine", {"how": how}).apply(list(meshes), Context(progress or Progress()))
    return made.parts[0].mesh


def compare(a: Mesh, b: Mesh, samples: int = 200_000) -> tuple[Deviation, Deviation]:
    """How far one surface lies from another, and back, at points spread over both; mm.

    Parameters
    ----------
    a, b : Mesh
    samples : int

    Returns
    -------
    a_to_b, b_to_a : Deviation
        ``max``, ``p99``, ``rms`` and ``mean``.

    Examples
    --------
    >>> there, back = tinsnip.compare(ring, ring.moved(ring.vertices + [0, 0, 0.25]), 10_000)
    >>> 0.2 < there.max <= 0.25
    True
    """
    return deviation_of(a, b, samples)


def routines() -> list[str]:
    """The names of the built-in routines.

    Returns
    -------
    list of str

    Examples
    --------
    >>> tinsnip.routines()
    ['print-solid', 'reverse-mesh']
    """
    return list(built_in_routines())


def run(
    routine: str,
    file: str | Path,
    out: str | Path,
    settings: Sequence[str] = (),
    triangles: int | None = None,
    max_deviation: float | None = None,
    max_bytes: float | None = None,
    unit: str | None = None,
    provenance: bool = False,
    progress: Progress | None = None,
) -> dict[str, Any]:
    """Run a routine on one scan and write what comes of it: a function of paths and parameters alone.

    Parameters
    ----------
    routine : str
        A name of `routines`, or the path of a routine file.
    file, out : str or Path
        The scan, and the file that is written, in the format of its ending.
    settings : sequence of str
        Texts ``STEP.FIELD=VALUE``.
    triangles, max_deviation, max_bytes : number, optional
        What the result may be at most: triangles, mm off the scan, bytes.
    unit : str, optional
        The scan's; guessed by default.
    provenance : bool
    progress : Progress, optional
        A `SharedProgress` where this runs in another process than whoever watches.

    Returns
    -------
    dict
        What the command line's ``--json`` says: ``ready``, ``reasons``, ``steps`` and all figures.

    Raises
    ------
    BadInput
        When the scan or routine cannot be read, or a step cannot keep its promise.

    Examples
    --------
    >>> done = tinsnip.run("print-solid", folder / "holed.ply", folder / "done.stl", triangles=1000)
    >>> done["ready"], [step["step"] for step in done["steps"]][-1]
    (True, 'reduce')
    """
    chosen = load_routine(routine).with_settings(list(settings))
    target = Path(out)
    budget = Budget(triangles, max_bytes, max_deviation)
    ending = target.suffix.lstrip(".").lower()
    return run_file(Path(file), target, Order(chosen, budget, ending, unit, provenance), progress)


def _named(known: dict[str, Any], name: str, fields: dict[str, Any]) -> Any:
    if name not in known:
        raise BadInput(f"no treatment {name}; choose of {', '.join(known)}")
    try:
        return known[name](**fields)
    except ValueError as error:
        first = error.errors()[0] if hasattr(error, "errors") else {"loc": (), "msg": str(error)}
        place = ".".join(str(part) for part in first["loc"]) or "value"
        raise BadInput(f"{name}: {place}: {first['msg'].lower()}; correct it") from None
