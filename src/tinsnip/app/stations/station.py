"""What a station is."""

import importlib
import pkgutil
from collections.abc import Callable
from dataclasses import dataclass

from tinsnip.app import tools
from tinsnip.app.state.session import Session
from tinsnip.app.view.hand import Tool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.form import Form
from tinsnip.app.widgets.panels import Panel
from tinsnip.survey import Examination, Finding
from tinsnip.survey.readiness import Check
from tinsnip.treat import TREATMENTS

__all__ = ["Station", "Tray", "offered_tools"]


class Tray(Panel):
    """What a station can do; it may take tools in hand over the view."""

    def __init__(self, session: Session, view: Viewport) -> None:
        self.view = view
        super().__init__(session)

    def add_offers(self, station: str) -> None:
        """Offer the tools and treatments that say they belong to the station, below what it has itself."""
        for kind in offered_tools(station):
            tool = kind(self.view)
            self.button(tool.name, lambda tool=tool: self.view.hand.take(tool))
        for treatment in TREATMENTS.values():
            if treatment.station == station:
                self.heading(treatment.title)
                form = Form(treatment())
                self.column.addWidget(form)
                self.button(treatment.title, lambda form=form: self._apply(form))
        self.give_keys()

    def _apply(self, form: Form) -> None:
        try:
            self.session.apply(form.action())
        except ValueError as error:
            self.session.message.emit(str(error), True)


def _nothing(found: Examination) -> list[Finding]:
    return []


@dataclass(frozen=True)
class Station:
    """One stage of the work.

    Attributes
    ----------
    name : str
    tray : type of Tray
    state : callable
        From the session to one line of state for the ticket, and how much is open there (None: nothing to count).
    lists : callable
        What it lists of what was found.
    shows_shells : bool
        Whether voids shine through the part while it is open.
    answers : callable
        Whether a check that failed is put right here.
    waits : bool
        Whether its state can be told only once the part has been looked over.
    """

    name: str
    tray: type[Tray]
    state: Callable[[Session], tuple[str, int | None]]
    lists: Callable[[Examination], list[Finding]] = _nothing
    shows_shells: bool = False
    answers: Callable[[Check, Examination], bool] = lambda check, found: False
    waits: bool = True

    def make_tray(self, session: Session, view: Viewport) -> Tray:
        """Its tray, with all that is offered there."""
        tray = self.tray(session, view)
        tray.add_offers(self.name)
        return tray

    def findings(self, found: Examination) -> list[Finding]:
        """What it lists of what was found."""
        return self.lists(found)


def offered_tools(station: str) -> list[type[Tool]]:
    """Tools that say themselves which station offers them, by their names."""
    found: dict[str, type[Tool]] = {}
    for info in pkgutil.iter_modules(tools.__path__):
        module = importlib.import_module(f"{tools.__name__}.{info.name}")
        for thing in vars(module).values():
            if isinstance(thing, type) and issubclass(thing, Tool) and thing.station == station:
                found[thing.name] = thing
    return [found[name] for name in sorted(found)]
