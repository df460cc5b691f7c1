"""The whole job on the demo scan, without a window."""

from pathlib import Path

from tinsnip.demo.library import demo_file
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan
from tinsnip.job import load_routine, release
from tinsnip.progress import Progress
from tinsnip.report.pictures import draw
from tinsnip.survey import examine

__all__ = ["headless_demo"]


def headless_demo(folder: Path, triangles: int, progress: Progress) -> list[str]:
    """Scan, run ``print-solid``, release, and draw before and after.

    Parameters
    ----------
    folder : Path
        Where results go.
    triangles : int
        About so many, of the scan.
    progress : Progress

    Returns
    -------
    list of str
        What was done and where the results are.

    Raises
    ------
    BadInput
        When the folder cannot be written.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BadInput(f"{folder}: {(error.strerror or str(error)).lower()}; choose another folder") from error

    def note(text: str, share: float) -> None:
        progress.step(text, 1000)[1] = int(1000 * share)

    with progress.part(0.0, 0.5):
        raw = demo_file("pump-cover", triangles, folder, note)
        scan = read_scan(raw, "mm", progress)
    before = examine(scan.mesh, progress)
    routine = load_routine("print-solid")
    with progress.part(0.5, 0.9):
        done = routine.with_budget(max(1000, triangles // 5), None, "stl").run(scan, progress)
    result = done.mesh
    solid = folder / "pump-cover-solid.stl"
    released = release(result, solid, "stl", progress)
    progress.step("Drawing")
    draw(scan.mesh, folder / "before.png")
    draw(result, folder / "after.png")
    return [
        f"scanned   {raw}  ({len(scan.mesh.faces)} triangles)",
        f"          {before.readiness.state}",
        *(f"{step.name:<15}{step.text}" for step in done.steps),
        f"released  {solid}  ({len(released.mesh.faces)} triangles)",
        f"          {released.readiness.state}",
        f"pictures  {folder / 'before.png'}, {folder / 'after.png'}",
    ]
