"""Changes a mesh; one module a treatment."""

from tinsnip.treat.close.patch import Patch
from tinsnip.treat.close.plinth import Plinth
from tinsnip.treat.cut.straight import StraightSnip
from tinsnip.treat.reduce.reduce import Reduce
from tinsnip.treat.repair.mend import Mend
from tinsnip.treat.repair.orient import Orient
from tinsnip.treat.repair.sweep import Sweep
from tinsnip.treat.repair.weld import Weld
from tinsnip.treat.shape.smooth import Smooth
from tinsnip.treat.stand.moves import LayFlat, Place, Scale, Turn, TurnInsideOut
from tinsnip.treat.treatment import Context, Outcome, Treatment

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
