"""Changes a mesh; one module a treatment."""

from tinsnip.treat.account import BUDGET, Account, Undone
from tinsnip.treat.assembly import Assembled, Assembly, Part
from tinsnip.treat.close.extrude import Extrude
from tinsnip.treat.close.foot import Foot
from tinsnip.treat.close.hollow import Hollow
from tinsnip.treat.close.offset import Offset
from tinsnip.treat.close.patch import Patch
from tinsnip.treat.close.plinth import Plinth
from tinsnip.treat.close.recast import Recast
from tinsnip.treat.close.recastplaces import RecastPlaces
from tinsnip.treat.close.simple import AddSolid, Drain
from tinsnip.treat.close.stretch import Stretch
from tinsnip.treat.close.strip import Strip
from tinsnip.treat.close.telling import TellOpenings
from tinsnip.treat.close.thicken import Thicken
from tinsnip.treat.close.window import CloseWindow
from tinsnip.treat.colour.bake import Bake
from tinsnip.treat.cut.apart import SnipApart
from tinsnip.treat.cut.box import BoxSnip
from tinsnip.treat.cut.delete import Delete
from tinsnip.treat.cut.find_bed import FindBed
from tinsnip.treat.cut.outline import OutlineSnip
from tinsnip.treat.cut.round import RoundSnip
from tinsnip.treat.cut.straight import StraightSnip
from tinsnip.treat.cut.tidy import Tidy
from tinsnip.treat.cut.traced import TracedSnip
from tinsnip.treat.pieces.align import Align, AlignAll
from tinsnip.treat.pieces.combine import Combine
from tinsnip.treat.pieces.extract import Extract
from tinsnip.treat.pieces.merge import Merge
from tinsnip.treat.pieces.mergescans import MergeScans
from tinsnip.treat.reduce.reduce import Reduce
from tinsnip.treat.remesh.quads import Quads
from tinsnip.treat.remesh.remesh import Remesh
from tinsnip.treat.remesh.subdivide import Subdivide
from tinsnip.treat.repair.mend import Mend
from tinsnip.treat.repair.orient import Orient
from tinsnip.treat.repair.pullin import PullIn
from tinsnip.treat.repair.seams import WeldSeams
from tinsnip.treat.repair.sweep import Sweep
from tinsnip.treat.repair.untangle import MendCrossings
from tinsnip.treat.repair.weld import Weld
from tinsnip.treat.shape.bend import Bend
from tinsnip.treat.shape.brush import BrushStroke
from tinsnip.treat.shape.ripple import TakeRipple
from tinsnip.treat.shape.sharpen import Sharpen
from tinsnip.treat.shape.smooth import Smooth
from tinsnip.treat.stand.moves import LayFlat, Place, Scale, Turn, TurnInsideOut
from tinsnip.treat.stand.on_bed import StandOnBed
from tinsnip.treat.treatment import Context, Outcome, Treatment

TREATMENTS: dict[str, type[Treatment]] = {
    t.name: t
    for t in (
        Weld,
        WeldSeams,
        Mend,
        Orient,
        MendCrossings,
        PullIn,
        Turn,
        LayFlat,
        StandOnBed,
        Place,
        Scale,
        TurnInsideOut,
        FindBed,
        StraightSnip,
        RoundSnip,
        BoxSnip,
        OutlineSnip,
        TracedSnip,
        Tidy,
        Delete,
        Sweep,
        TellOpenings,
        Strip,
        CloseWindow,
        Stretch,
        Patch,
        Plinth,
        Foot,
        RecastPlaces,
        Recast,
        Hollow,
        Thicken,
        Extrude,
        Offset,
        Drain,
        AddSolid,
        Smooth,
        TakeRipple,
        Sharpen,
        BrushStroke,
        Bend,
        Remesh,
        Quads,
        Subdivide,
        Reduce,
        Bake,
    )
}
"""Every treatment under the name it has in routines."""

ASSEMBLIES: dict[str, type[Assembly]] = {
    a.name: a for a in (SnipApart, Extract, Align, AlignAll, Merge, MergeScans, Combine)
}
"""Every treatment over several pieces under its name in the log."""

__all__ = [
    "ASSEMBLIES",
    "BUDGET",
    "TREATMENTS",
    "Account",
    "AddSolid",
    "Align",
    "AlignAll",
    "Assembled",
    "Assembly",
    "Bake",
    "Bend",
    "BoxSnip",
    "BrushStroke",
    "CloseWindow",
    "Combine",
    "Context",
    "Delete",
    "Drain",
    "Extract",
    "Extrude",
    "FindBed",
    "Foot",
    "Hollow",
    "LayFlat",
    "Mend",
    "MendCrossings",
    "Merge",
    "MergeScans",
    "Offset",
    "Orient",
    "Outcome",
    "OutlineSnip",
    "Part",
    "Patch",
    "Place",
    "Plinth",
    "PullIn",
    "Quads",
    "Recast",
    "RecastPlaces",
    "Reduce",
    "Remesh",
    "RoundSnip",
    "Scale",
    "Sharpen",
    "Smooth",
    "SnipApart",
    "StandOnBed",
    "StraightSnip",
    "Stretch",
    "Strip",
    "Subdivide",
    "Sweep",
    "TakeRipple",
    "TellOpenings",
    "Thicken",
    "Tidy",
    "TracedSnip",
    "Treatment",
    "Turn",
    "TurnInsideOut",
    "Undone",
    "Weld",
    "WeldSeams",
]
