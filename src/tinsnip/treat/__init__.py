"""Changes a mesh; one module a treatment."""

from tinsnip.treat.mend import Mend
from tinsnip.treat.orient import Orient
from tinsnip.treat.patch import Patch
from tinsnip.treat.plinth import Plinth
from tinsnip.treat.reduce import Reduce
from tinsnip.treat.smooth import Smooth
from tinsnip.treat.snip import StraightSnip
from tinsnip.treat.stand import LayFlat, Place, Scale, Turn, TurnInsideOut
from tinsnip.treat.sweep import Sweep
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.treat.weld import Weld

TREATMENTS: dict[str, type[Treatment]] = {
    t.name: t
    for t in (
        Weld,
        Mend,
        Orient,
        Turn,
        LayFlat,
        Place,
        Scale,
        TurnInsideOut,
        StraightSnip,
        Sweep,
        Patch,
        Plinth,
        Smooth,
        Reduce,
    )
}
"""Every treatment under the name it has in routines."""

__all__ = [
    "TREATMENTS",
    "Context",
    "LayFlat",
    "Mend",
    "Orient",
    "Outcome",
    "Patch",
    "Place",
    "Plinth",
    "Reduce",
    "Scale",
    "Smooth",
    "StraightSnip",
    "Sweep",
    "Treatment",
    "Turn",
    "TurnInsideOut",
    "Weld",
]
