"""The stations in the order of the work, and their trays."""

from tinsnip.app.state.session import Session
from tinsnip.app.stations.holes import HolesTray
from tinsnip.app.stations.intake import IntakeTray
from tinsnip.app.stations.reduce import ReduceTray
from tinsnip.app.stations.release import ReleaseTray
from tinsnip.app.stations.solid import SolidTray
from tinsnip.app.stations.stand import StandTray
from tinsnip.app.stations.strays import StraysTray
from tinsnip.app.stations.surface import SurfaceTray
from tinsnip.app.stations.trim import TrimTray
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.panels import Panel

__all__ = ["make_trays"]


def make_trays(session: Session, viewport: Viewport) -> list[Panel]:
    """One tray for each station, in their order."""
    return [
        IntakeTray(session),
        StandTray(session, viewport),
        TrimTray(session, viewport),
        StraysTray(session),
        HolesTray(session),
        SurfaceTray(session),
        ReduceTray(session, viewport),
        SolidTray(session),
        ReleaseTray(session),
    ]
