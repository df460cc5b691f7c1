"""Alignment: how one piece lies on another that shows a part of the same thing, and how sure that is."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress, stoppable
from tinsnip.space.posing import are_apart, find_poses, moments
from tinsnip.space.registration import Agreement, Fit, Freedom, Surface, agreement, freedoms, refine, refine_all
from tinsnip.survey.surfaces import surface_without_bed
from tinsnip.words import grouped_number, millimetres

__all__ = ["Alignment", "AllAligned", "align", "align_all", "find_alignment"]

_PLACES = 2_500.0
_MOST_PLACES = 9_000.0
"""Places by which the smaller piece's shape is told, and the most for the larger one."""
_TRIED = 10
"""Poses that are looked at closely."""
_HOPELESS = 0.25
"""Share of the best one's worth below which a pose is not looked at."""
_NEAR = 0.6
"""Spacings of places within which the poses to look at are right, if they are."""
_COARSE = 3_000
_JUDGED_BY = 12_000
_TOLD_FROM = 4.0
"""Spreads of the distances up to which a place lies on the other piece."""
_FINEST = 0.05
"""Spread, in edges, below which no scan is trusted: flats on flats agree better than scans of one thing do."""
_NOISE, _TRIANGLES, _SCANNER = 0.35, 0.04, 1e-4
"""By what two scans of one thing may lie apart over stretches of their surface: of their noise, of an edge, and of the
size for what the scanner does. Right poses came to 0.2 of the noise, wrong ones of a lumpy ball to 0.9 and more."""
_RIVAL, _LESS = 0.05, 0.25
"""By how much less a rival pose may agree, and the share of the best one's support that it needs. How much of one lies
on the other tells little: a thing that is the same from several sides has more in common when it is turned."""
_AGREES = 0.8
"""Of what both pieces show, the share that has to agree: two scans of one thing with bed remains gave 0.85 and more,
other poses of free shapes 0.4 and less."""
_SUPPORT = 0.06
"""Support that a pose needs to be sure of itself."""
_LINKED = 0.03
"""Share of a piece that has to lie on another one for both to be adjusted to each other."""
_ONE_POSE = 3.0
"""Spacings of places by which two poses are two."""


@dataclass(frozen=True, eq=False)
class Alignment:
    """How one piece lies on another.

    Attributes
    ----------
    matrix : ndarray, shape (4, 4)
        The move that brings it there.
    overlap : float
        Share of its area that lies on the other.
    agrees : float
        Of what both show, the share that agrees.
    rms_mm, p95_mm : float
        How far apart the two are where they lie on each other.
    freedoms : tuple of Freedom
        What nothing binds.
    rivals : tuple of ndarray, shape (4, 4)
        Other poses that are nearly as good.
    doubt : str
        Why it is not sure; empty where it is.
    """

    matrix: np.ndarray
    overlap: float
    agrees: float
    rms_mm: float
    p95_mm: float
    freedoms: tuple[Freedom, ...]
    rivals: tuple[np.ndarray, ...]
    doubt: str

    @property
    def sure(self) -> bool:
        """Whether nothing speaks against it."""
        return not self.doubt

    def facts(self) -> dict[str, object]:
        """What a program reads of it."""
        return {
            "matrix": self.matrix.tolist(),
            "overlap": self.overlap,
            "agrees": self.agrees,
            "rms_mm": self.rms_mm,
            "p95_mm": self.p95_mm,
            "free": [
                {"turns": f.turns, "point_mm": f.point.tolist(), "direction": f.way.tolist()} for f in self.freedoms
            ],
            "rivals": [r.tolist() for r in self.rivals],
            "sure": self.sure,
            "doubt": self.doubt,
        }


def _ready(moving: Mesh, fixed: Mesh) -> tuple[Surface, Surface]:
    for mesh in (moving, fixed):
        if len(mesh.faces) == 0 or not len(surface_without_bed(mesh).points):
            raise BadInput("one of the pieces has no surface to align by; choose another")
    return surface_without_bed(moving), surface_without_bed(fixed)


def _told(
    moving: Surface, fixed: Surface, fit: Fit, found: Agreement, rivals: tuple[np.ndarray, ...] = ()
) -> Alignment:
    free = tuple(freedoms(moving, fixed, fit))
    doubt = ""
    if found.overlap == 0.0 or found.support < _SUPPORT:
        doubt = "too little of one lies on the other"
    elif found.apart > _plausible(moving, fixed):
        doubt = f"they lie {millimetres(found.apart)} mm apart over whole stretches, which is more than their noise"
    elif found.agrees < _AGREES:
        doubt = f"{100 * (1 - found.agrees):.0f} % of what both show does not agree"
    elif free:
        doubt = _said(free)
    elif rivals:
        some = "another pose is" if len(rivals) == 1 else f"{len(rivals)} other poses are"
        doubt = f"{some} nearly as good"
    return Alignment(
        fit.matrix, found.overlap, found.agrees, found.rms, found.p95, free, rivals, doubt
    )  # fmt: skip


def _said(freedoms: tuple[Freedom, ...]) -> str:
    if sum(freedom.turns for freedom in freedoms) > 1:
        return "it can turn any way"
    return "; ".join(_way_said(freedom) for freedom in freedoms)


def _way_said(freedom: Freedom) -> str:
    way = ", ".join(grouped_number(float(x), 2) for x in freedom.way)
    return f"it can {'turn about' if freedom.turns else 'slide along'} ({way})"


def _plausible(moving: Surface, fixed: Surface) -> float:
    """The most that two scans of one thing lie apart over stretches of their surface."""
    edge, size = 0.5 * (moving.edge + fixed.edge), max(moving.size, fixed.size)
    return _NOISE * float(np.hypot(moving.noise, fixed.noise)) + _TRIANGLES * edge + _SCANNER * size


def _within(spread: float, moving: Surface, fixed: Surface) -> float:
    spread = min(spread, 2.0 * _plausible(moving, fixed))
    return _TOLD_FROM * max(spread, _FINEST * 0.5 * (moving.edge + fixed.edge), 1e-9 * fixed.size)


@stoppable
def align(
    moving: Mesh,
    fixed: Mesh,
    start: np.ndarray,
    progress: Progress | None = None,
) -> Alignment:
    """Lay a piece on another from about where it belongs.

    Parameters
    ----------
    moving, fixed : Mesh
        Each shows some of the same thing.
    start : ndarray, shape (4, 4)
        About where the moving piece belongs: right to a twentieth of its size. A scale in it stays.
    progress : Progress, optional

    Raises
    ------
    BadInput
        When one has no surface, or they do not meet there.

    Examples
    --------
    >>> from tinsnip.demo.meshes import grid_torus
    >>> ring, off = Mesh(*grid_torus(20_000)), np.eye(4)
    >>> off[:3, 3] = 0.4, -0.3, 0.2
    >>> bool(np.abs(align(ring, ring, off).matrix - np.eye(4)).max() < 1e-3)
    True
    """
    progress = progress or Progress()
    progress.step("Aligning")
    mine, theirs = _ready(moving, fixed)
    fit = refine(mine, theirs, start, watch=progress.show)
    if fit is None:
        raise BadInput("the pieces do not meet there; bring them nearer, or mark other points")
    found = agreement(mine, theirs, fit.matrix, _within(fit.spread, mine, theirs))
    return _told(mine, theirs, fit, found)


@stoppable
def find_alignment(
    moving: Mesh, fixed: Mesh, progress: Progress | None = None, starts: tuple[np.ndarray, ...] = ()
) -> Alignment:
    """Lay a piece on another by their shapes alone, wherever it is now.

    Parameters
    ----------
    moving, fixed : Mesh
        Each shows some of the same thing.
    progress : Progress, optional
    starts : tuple of ndarray, shape (4, 4)
        Poses that are tried too, such as the one it has.

    Returns
    -------
    Alignment
        The pose that most speaks for; `sure` says whether any other is nearly as good.

    Raises
    ------
    BadInput
        When one has no surface, or nothing of one lies on the other in any pose.
    """
    progress = progress or Progress()
    progress.step("Finding how the pieces lie")
    mine, theirs = _ready(moving, fixed)
    small, large = sorted((moving.area, fixed.area))
    spacing = float(np.sqrt(max(small / _PLACES, large / _MOST_PLACES)))
    spread = moments(mine.points)
    found = find_poses(mine, theirs, spacing)[:_TRIED]
    poses = [*starts, *(pose.matrix for pose in found if pose.worth > _HOPELESS * found[0].worth)]
    fits: list[Fit] = []
    for number, pose in enumerate(poses):
        progress.step(f"Looking at pose {number + 1} of {len(poses)}")
        fit = refine(mine, theirs, pose, _NEAR * spacing, most=_COARSE, turns=15)
        others = np.array([other.matrix for other in fits]).reshape(-1, 4, 4)
        if fit is not None and are_apart(fit.matrix, others, spread, 0.5 * spacing, 2.0).all():
            fits.append(fit)
    if not fits:
        raise BadInput("nothing of one piece lies on the other in any pose; align them by points")
    least = min(fit.spread for fit in fits)
    within = _within(least, mine, theirs)
    judged = [agreement(mine, theirs, fit.matrix, within, _JUDGED_BY) for fit in fits]
    # what speaks against a pose tells more than how much speaks for it: a thing turned by one of its bolts has plenty
    ranked = sorted(range(len(fits)), key=lambda i: (2.0 * judged[i].support - judged[i].on, i))[::-1]
    best = ranked[0]
    progress.step("Aligning")
    fit = refine(mine, theirs, fits[best].matrix, _NEAR * spacing, turns=40, watch=progress.show)
    fit = fit or fits[best]
    limit = _plausible(mine, theirs)
    rivals = [
        fits[i].matrix
        for i in ranked[1:]
        if judged[i].agrees > judged[best].agrees - _RIVAL
        and judged[i].support > max(_SUPPORT, _LESS * judged[best].support)
        and judged[i].apart < limit
    ]
    apart = [r for r in rivals if are_apart(fit.matrix, r[None], spread, _ONE_POSE * spacing, 6.0)[0]]
    return _told(mine, theirs, fit, agreement(mine, theirs, fit.matrix, within), tuple(apart))


@dataclass(frozen=True, eq=False)
class AllAligned:
    """How several pieces lie.

    Attributes
    ----------
    matrices : tuple of ndarray, shape (4, 4)
        What brings each to where it belongs.
    found : tuple of Alignment or None
        How each lies on the one it was laid on; None for those that stay and those that are left out.
    left : tuple of int
        Those that lie on none of the others.
    rms_mm : float
        How far the pieces are apart where they lie on each other.
    """

    matrices: tuple[np.ndarray, ...]
    found: tuple[Alignment | None, ...]
    left: tuple[int, ...]
    rms_mm: float

    @property
    def doubts(self) -> dict[int, str]:
        """Why some of them are not sure to lie as they do."""
        return {i: found.doubt for i, found in enumerate(self.found) if found is not None and found.doubt}


@stoppable
def align_all(meshes: Sequence[Mesh], by_shape: bool, progress: Progress | None = None) -> AllAligned:
    """Lay several pieces on each other; the first stays.

    Each is laid on one that lies already, the surest first; then all are adjusted at once, so that a ring of them
    closes.

    Parameters
    ----------
    meshes : sequence of Mesh
    by_shape : bool
        Whether they may lie anywhere; else they lie about where they belong.
    progress : Progress, optional

    Raises
    ------
    BadInput
        When one has no surface.
    """
    progress = progress or Progress()
    surfaces = [_ready(mesh, meshes[0])[0] for mesh in meshes]
    matrices = [np.eye(4) for _ in meshes]
    found: list[Alignment | None] = [None] * len(meshes)
    tried: dict[tuple[int, int], Alignment | None] = {}
    placed, waiting = [0], list(range(1, len(meshes)))
    while waiting:
        best = _next_placed(meshes, matrices, placed, waiting, by_shape, tried, progress)
        if best is None:
            break
        one, alignment = best
        matrices[one], found[one] = alignment.matrix, alignment
        placed.append(one)
        waiting.remove(one)
    links = _links(surfaces, matrices, placed)
    progress.step("Adjusting all at once")
    smallest = min(surface.size for surface in surfaces)
    edge = max(surface.edge for surface in surfaces)
    matrices = refine_all(surfaces, matrices, links, [0, *waiting], min(4 * edge, 0.05 * smallest))
    squares = []
    for i, j in links:
        pose = np.linalg.inv(matrices[j]) @ matrices[i]
        fit = refine(surfaces[i], surfaces[j], pose, 4 * edge, most=_COARSE, turns=1)
        within = _within(fit.spread if fit else edge, surfaces[i], surfaces[j])
        squares.append(agreement(surfaces[i], surfaces[j], pose, within, _JUDGED_BY).rms ** 2)
    rms = float(np.sqrt(np.mean(squares))) if squares else 0.0
    return AllAligned(tuple(matrices), tuple(found), tuple(waiting), rms)


def _next_placed(
    meshes: Sequence[Mesh],
    matrices: list[np.ndarray],
    placed: list[int],
    waiting: list[int],
    by_shape: bool,
    tried: dict[tuple[int, int], Alignment | None],
    progress: Progress,
) -> tuple[int, Alignment] | None:
    """The next piece to be laid on one that lies: the first that is sure, or that with the most in common.

    How one lies on another is kept in `tried`, as it stays so while others come to lie.
    """
    best: tuple[float, int, Alignment] | None = None
    for one in waiting:
        for other in reversed(placed):  # pieces are mostly named in the order they were scanned in
            if (one, other) not in tried:
                tried[one, other] = _laid_on(meshes[one], meshes[other], matrices[other], by_shape, progress)
            laid = tried[one, other]
            if laid is None:
                continue
            if laid.sure:
                return one, laid
            if best is None or laid.overlap * laid.agrees > best[0]:
                best = laid.overlap * laid.agrees, one, laid
    return None if best is None else best[1:]


def _laid_on(moving: Mesh, fixed: Mesh, where: np.ndarray, by_shape: bool, progress: Progress) -> Alignment | None:
    """How one piece lies on another that has been moved; None where nearly nothing of it does."""
    start = np.linalg.inv(where)
    try:
        laid = find_alignment(moving, fixed, progress, (start,)) if by_shape else align(moving, fixed, start, progress)
    except BadInput:
        return None
    return replace(laid, matrix=where @ laid.matrix) if laid.overlap * laid.agrees >= _SUPPORT else None


def _links(surfaces: list[Surface], matrices: list[np.ndarray], placed: list[int]) -> list[tuple[int, int]]:
    """Which of the pieces that lie have some of what they show in common."""
    links = []
    for j, i in itertools.combinations(sorted(placed), 2):
        pose = np.linalg.inv(matrices[j]) @ matrices[i]
        edge = max(surfaces[i].edge, surfaces[j].edge)
        if agreement(surfaces[i], surfaces[j], pose, edge, _COARSE).overlap > _LINKED:
            links.append((i, j))
    return links
