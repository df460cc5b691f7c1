"""Places that lie further off what a part is measured against than is allowed."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import triangle_areas
from tinsnip.survey.deviation import FromRaw, triangles_outside
from tinsnip.survey.finding import Finding, Kind
from tinsnip.words import counted, grouped_number

__all__ = ["MOST_PLACES", "PlaceOutside", "find_places_outside", "outside_findings"]

MOST_PLACES = 200
"""Places that are told one by one; where noise alone is more than is allowed, there are thousands."""


class PlaceOutside(NamedTuple):
    """A place that is further off than is allowed.

    Attributes
    ----------
    triangles : ndarray of int, shape (N,)
    place : ndarray, shape (3,)
        Where it is furthest off, mm.
    off_mm : float
        By how much, outward positive.
    size_mm, area_mm2 : float
    """

    triangles: np.ndarray
    place: np.ndarray
    off_mm: float
    size_mm: float
    area_mm2: float

    @property
    def told(self) -> str:
        """How far it is off, in words."""
        return f"{abs(self.off_mm):.3g} mm {'outward' if self.off_mm > 0 else 'inward'}"


def find_places_outside(found: FromRaw, allowed: float) -> tuple[list[PlaceOutside], int]:
    """The places that lie outside what is allowed, those that do so farthest first, and how many there are in all.

    Parameters
    ----------
    found : FromRaw
        What was measured.
    allowed : float
        Distance up to which all is well, mm.

    Returns
    -------
    places : list of PlaceOutside
        At most `MOST_PLACES`.
    count : int

    Examples
    --------
    >>> flat = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]])
    >>> off = FromRaw(flat, flat, np.array([0.0, 0.1, -0.3], dtype=np.float32), summed_up(np.zeros(0)), np.zeros(3))
    >>> places, count = find_places_outside(off, 0.2)
    >>> [place.told for place in places], count
    (['0.3 mm inward'], 1)
    """
    mesh = found.mesh
    own = np.flatnonzero(triangles_outside(found, allowed))
    if len(own) == 0:
        return [], 0
    part = parts_over_edges(mesh.twins, own)
    count = int(part.max()) + 1
    signed = np.nan_to_num(found.signed[: len(mesh.vertices)], posinf=0.0, neginf=0.0)
    worst = np.zeros(count)
    np.maximum.at(worst, part, np.abs(signed)[mesh.faces[own]].max(axis=1))
    area = np.bincount(part, triangle_areas(mesh.vertices, mesh.faces[own]), count)
    order = own[np.argsort(part, kind="stable")]
    groups = np.split(order, np.cumsum(np.bincount(part, minlength=count))[:-1])
    places = []
    for i in np.argsort(-worst, kind="stable")[:MOST_PLACES]:
        corners = mesh.faces[groups[i]].ravel()
        at = corners[np.argmax(np.abs(signed[corners]))]
        size = float(np.linalg.norm(np.ptp(mesh.vertices[corners], axis=0)))
        places.append(PlaceOutside(groups[i], mesh.vertices[at], float(signed[at]), size, float(area[i])))
    return places, count


def outside_findings(found: FromRaw, allowed: float) -> list[Finding]:
    """A finding for each place that `find_places_outside` tells; the last one says how many there are in all.

    Parameters
    ----------
    found : FromRaw
    allowed : float
        In mm.
    """
    places, count = find_places_outside(found, allowed)
    findings = []
    for rank, one in enumerate(places, 1):
        points = found.mesh.vertices[found.mesh.faces[one.triangles].ravel()]
        left = f"; {counted(count, 'place')} in all" if rank == MOST_PLACES < count else ""
        findings.append(
            Finding(
                id=f"A{rank}",
                kind=Kind.OUTSIDE,
                text=one.told,
                place=one.place,
                size=one.size_mm,
                count=len(one.triangles),
                proposal="look",
                key=int(one.triangles.min()),
                outline=points[:: max(1, len(points) // 400)],
                about=f"{grouped_number(one.area_mm2, 2)} mm² further off than {allowed:g} mm{left}",
            )
        )
    return findings
