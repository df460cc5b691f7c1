"""What a station is."""

import importlib
import pkgutil
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import pairwise

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLayout, QWidget

from tinsnip.app import tools
from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.app.stations.tooloptions import ToolOptions
from tinsnip.app.view.hand import Tool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.form import Form
from tinsnip.app.widgets.panels import Column, Panel, Section
from tinsnip.app.widgets.pictograms import PictogramRow
from tinsnip.regions import Region
from tinsnip.survey import Examination, Finding
from tinsnip.survey.readiness import Check
from tinsnip.treat import TREATMENTS, Mend, Orient, Treatment

__all__ = ["PartedTray", "PreviewTray", "Station", "Tray", "offered_tools"]


class Tray(Panel):
    """What a station can do; it may take tools in hand over the view."""

    def __init__(self, session: Session, view: Viewport) -> None:
        self.view = view
        super().__init__(session)

    def add_offers(self, station: str) -> None:
        """Offer the treatments and tools that say they belong to the station, below what it has itself."""
        self.offered: dict[str, tuple[Form, Button]] = {}
        for treatment in TREATMENTS.values():
            if treatment.station == station:
                place, form = self.place_for(treatment.name), Form(treatment())
                place.heading(treatment.title)
                place.add(form)
                button = place.button(treatment.title, lambda form=form: self._apply(form))
                self.belong(button, *form.controls())
                self.offered[treatment.name] = form, button
        self.offer_tools([kind(self.view) for kind in offered_tools(station)])
        self.give_keys()

    def follow(self, before: QWidget) -> None:
        """Let the Tab key come to its controls after what stands before it, in the order in which they stand."""
        chain = [w for w in _standing(self.column) if w.focusPolicy() & Qt.FocusPolicy.TabFocus]
        for one, following in pairwise([before, *chain, *([self.copper] if self.copper is not None else [])]):
            QWidget.setTabOrder(one, following)

    def offer_tools(self, tools: list[Tool]) -> None:
        """Offer tools that say they belong to the station, each with what can be set about it."""
        self.tool_buttons = {}
        for tool in tools:
            place = self.place_for(tool.name)
            self.tool_buttons[tool.name] = place.button(tool.name, lambda tool=tool: self.view.hand.take(tool))
            if tool.options:
                place.add(ToolOptions(tool))

    def place_for(self, name: str) -> Column:
        """Where what is offered under a name stands; below everything else by default."""
        return self

    def mend(self) -> None:
        """Mend and orient, which several stations need first."""
        self.session.do_all([Mend(), Orient()])

    def _apply(self, form: Form) -> None:
        """Do what a form says, to what is selected where it can be."""
        try:
            action = form.action()
        except ValueError as error:
            self.session.message.emit(str(error), True)
            return
        selected, mesh = self.session.selected.triangles, self.session.mesh
        areas = [name for name, value in action if isinstance(value, Region) and not value]
        if areas and self.session.selected.count:
            self.session.do_made(action.title, lambda: action.model_copy(update={areas[0]: Region.of(mesh, selected)}))
        else:
            self.session.apply(action)


class PartedTray(Tray):
    """A tray with parts of its own, one of which is in hand at a time; a row of pictograms chooses it."""

    about: Mapping[str, str]
    """What each part does, by its name, which is that of its pictogram too."""
    across: int = 5
    """How many pictograms stand side by side."""

    def build_parts(self) -> None:
        """Make the row, and a section for each part; the first is in hand."""
        self.part = next(iter(self.about))
        self.parts = {name: Section() for name in self.about}
        self.part_row = PictogramRow(self.across)
        self.add(self.part_row)
        for name, section in self.parts.items():
            self.part_row.offer(name.lower(), name, name, lambda n=name: self.choose(n))
            self.add(section)

    def choose(self, part: str) -> None:
        """Show another part of the tray."""
        if part != self.part:
            self.leave_part()
        self.part = part
        self.show_part()
        self.scroll.verticalScrollBar().setValue(0)
        self.refresh()

    def leave_part(self) -> None:
        """Another part is shown from now on."""

    def show_part(self) -> None:
        """Show the part that is in hand."""
        self.head_text.setText(self.about[self.part])
        self.part_row.check([self.part])
        for name, section in self.parts.items():
            section.setVisible(name == self.part)


def _standing(layout: QLayout) -> list[QWidget]:
    """All widgets of a layout, in the order in which they stand."""
    found: list[QWidget] = []
    for i in range(layout.count()):
        item = layout.itemAt(i)
        if item.layout() is not None:
            found += _standing(item.layout())
        elif item.widget() is not None:
            inner = item.widget().layout()
            found += [item.widget()] if inner is None else [item.widget(), *_standing(inner)]
    return found


class PreviewTray(Tray):
    """A tray whose treatment is worked out and shown before it is done.

    Left with Esc, figures and button are as if nothing had been previewed, until it is asked for again: by the
    copper button, or by changing anything.
    """

    previews: type[Treatment]
    """The treatment it previews."""

    def __init__(self, session: Session, view: Viewport) -> None:
        self.is_left = False
        super().__init__(session, view)
        session.preview_changed.connect(self._show_preview)

    def treatment(self) -> Treatment:
        """The treatment as it is set up."""
        raise NotImplementedError

    def show_figures(self, preview: Preview | None) -> None:
        """Show what a preview makes; None: there is none, or it is not there yet."""
        raise NotImplementedError

    def enter(self) -> None:
        self.ask_anew()

    def ask_anew(self, *_: object) -> None:
        """Something was changed, or it was asked for: preview it."""
        self.is_left = False
        self.refresh()

    def put_away(self) -> bool:
        if self.is_left or self.why_not:
            return False
        self.is_left = True
        self.session.cancel_preview()
        self.refresh()
        return True

    def do(self) -> None:
        """Do what is previewed; preview it first, where that was left."""
        if self.is_left:
            self.ask_anew()
        else:
            self.session.apply(self.treatment())

    def show_or_ask(self) -> None:
        """Show what the preview that stands makes, or have it worked out."""
        known, treatment = self.session.preview, self.treatment()
        if known is not None and known.before is self.session.mesh and known.treatment == treatment:
            self.show_figures(known)
        else:
            self.session.ask_preview(treatment)

    def _show_preview(self) -> None:
        preview = self.session.preview
        if preview is not None and isinstance(preview.treatment, self.previews):
            self.show_figures(preview)


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
            if isinstance(thing, type) and issubclass(thing, Tool) and thing.station == station and thing.name:
                found[thing.name] = thing
    return [found[name] for name in sorted(found)]
