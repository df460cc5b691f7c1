"""The stations, in the order of the work."""

from tinsnip.app.stations.holes import HOLES
from tinsnip.app.stations.intake import INTAKE
from tinsnip.app.stations.reduce import REDUCE
from tinsnip.app.stations.release import RELEASE
from tinsnip.app.stations.solid import SOLID
from tinsnip.app.stations.stand import STAND
from tinsnip.app.stations.station import Station
from tinsnip.app.stations.strays import STRAYS
from tinsnip.app.stations.surface import SURFACE
from tinsnip.app.stations.trim import TRIM

__all__ = ["STATIONS"]

STATIONS: tuple[Station, ...] = (
    INTAKE,
    STAND,
    TRIM,
    STRAYS,
    HOLES,
    SURFACE,
    REDUCE,
    SOLID,
    RELEASE,
)
