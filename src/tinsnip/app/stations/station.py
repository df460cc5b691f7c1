"""What a station is."""

import importlib
import pkgutil
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QLabel, QLayout, QWidget

from tinsnip.app import tools
from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.app.stations.outcomelook import OutcomeLook
from tinsnip.app.stations.tooloptions import ToolOptions
from tinsnip.app.view.hand import Tool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.form import Form
from tinsnip.app.widgets.panels import Column, Folded, Panel, Section
from tinsnip.app.widgets.pictograms import PictogramRow
from tinsnip.regions import Region
from tinsnip.survey import Examination, Finding
from tinsnip.survey.readiness import Check
from tinsnip.treat import TREATMENTS, Mend, Orient, Treatment

__all__ = ["Does", "PartedTray", "PreviewTray", "Station", "Tray", "offered_tools"]

_REST_MS = 250
"""After the last change of a field what comes of it is worked out to be looked at."""


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
                if not self.is_whole_part(treatment.name):
                    place.heading(treatment.title)
                place.add(form)
                button = place.button(treatment.title, lambda form=form: self._apply(form))
                self.belong(button, *form.controls())
                self.offered[treatment.name] = form, button
        self.offer_tools([kind(self.view) for kind in offered_tools(station)])
        self.give_keys()
        self._remember_folds(station)

    def is_whole_part(self, name: str) -> bool:
        """Whether what is offered under a name is all that its part of the tray is about."""
        return False

    def reveal(self, control: QWidget) -> None:
        """Show a control that is folded away."""
        for folded in self.findChildren(Folded):
            if folded.isAncestorOf(control):
                folded.unfold()

    def _remember_folds(self, station: str) -> None:
        """Fold what was folded when it was seen last."""
        settings = self.view.settings

        def keep(name: str, on: bool) -> None:
            others = [one for one in settings.unfolded if one != name]
            settings.unfolded = [*others, name] if on else others
            settings.save()

        for folded in self.findChildren(Folded):
            name = f"{station}: {folded.what}"
            folded.unfold(name in settings.unfolded)
            folded.unfolded.connect(lambda on, name=name: keep(name, on))

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
        made = self.for_selected(action)
        if callable(made):
            self.session.do_made(action.title, made)
        else:
            self.session.apply(action)

    def for_selected(self, action: Treatment) -> Treatment | Callable[[], Treatment]:
        """What a form says; where it can be for an area and something is selected, what makes it for that."""
        selected, mesh = self.session.selected.triangles, self.session.mesh
        area = _area_of(action)
        if not area or not self.session.selected.count:
            return action
        return lambda: action.model_copy(update={area: Region.of(mesh, selected)})


def _area_of(action: Treatment) -> str:
    """The field that an area can be given in and is not; empty where there is none."""
    return next((name for name, value in action if isinstance(value, Region) and not value), "")


class Does(NamedTuple):
    """What a part of a tray does: one treatment.

    Attributes
    ----------
    treatment : str
        Its name.
    text : str
        What the copper button says.
    seen : str
        When what comes of it is worked out and shown: once a number of it is "changed", as soon as the part of the
        tray is chosen ("at once"), when "asked" for by a button, as where it takes long, or "never".
    """

    treatment: str
    text: str
    seen: str = "never"


class PartedTray(Tray):
    """A tray with parts of its own, one of which is in hand at a time; a row of pictograms chooses it."""

    about: Mapping[str, str]
    """What each part does, by its name, which is that of its pictogram too."""
    does: Mapping[str, Does] = {}
    """The parts that do one treatment, which the copper button then does, each by its name."""
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
        self.part_look = OutcomeLook(self.session)
        self._refusals: dict[str, QLabel] = {}
        self._part_rest = QTimer(self, interval=_REST_MS, singleShot=True)
        self._part_rest.timeout.connect(self._look_at_part)
        self.session.stand_in_changed.connect(self.tell_looked_at)
        self.session.selected.changed.connect(self._selected_anew)

    def add_offers(self, station: str) -> None:
        super().add_offers(station)
        self.part_look.refused.connect(self.tell_looked_at)
        for part, does in self.does.items():
            form, button = self.offered[does.treatment]
            button.hide()  # the copper one does it
            self._refusals[part] = self.parts[part].warning()
            form.changed.connect(self.tell_looked_at)
            if does.seen in ("changed", "at once"):
                form.changed.connect(self._part_rest.start)
            elif does.seen == "asked":
                form.changed.connect(self.part_look.leave)
                self.place_for(does.treatment).button("Look at it first", self._look_at_part)
        self.tell_looked_at()

    def is_whole_part(self, name: str) -> bool:
        return any(does.treatment == name for does in self.does.values())

    def place_for(self, name: str) -> Column:
        part = next((part for part, does in self.does.items() if does.treatment == name), None)
        return self if part is None else self.parts[part]

    def letter_scopes(self) -> list[list[Button]]:
        of_parts = [section.findChildren(Button) for section in self.parts.values()]
        inside = {button for buttons in of_parts for button in buttons}
        return [[button for button in self.findChildren(Button) if button not in inside], *of_parts]

    def reveal(self, control: QWidget) -> None:
        part = next((name for name, section in self.parts.items() if section.isAncestorOf(control)), None)
        if part is not None:
            self.choose(part)
        super().reveal(control)

    def do_part(self) -> bool:
        """Do the treatment that the part in hand is about; False where it is about another thing."""
        if self.part not in self.does:
            return False
        form, shown = self.offered[self.does[self.part].treatment][0], self.part_look.shown
        if self.part_look.is_on and shown is not None and self._is_of(shown, form):
            self.session.apply(shown)
        else:
            self._apply(form)
        return True

    def _is_of(self, shown: Treatment, form: Form) -> bool:
        """Whether what is shown is what a form says now."""
        try:
            asked = form.action()
        except ValueError:
            return False
        area = _area_of(asked)
        return shown == asked or (bool(area) and shown.model_copy(update={area: Region()}) == asked)

    def part_offer(self) -> str:
        """What the copper button says of the treatment that the part in hand is about."""
        does = self.does[self.part]
        return f"{does.text}, as it is shown" if self.part_look.is_on else does.text

    def tell_looked_at(self, *_: object) -> None:
        """Say on the copper button what it would do, and whether that is shown or cannot be."""
        if self.part in self.does and self.session.mesh is not None:
            self.offer(self.part_offer(), self.part_look.why_not)
            note = self._refusals[self.part]
            note.setText(self.part_look.why_not)
            note.setVisible(bool(self.part_look.why_not))

    def _selected_anew(self) -> None:
        """What is shown was for what was selected before."""
        if self.part_look.is_on and self.isVisible():
            self.part_look.leave()

    def _look_at_part(self) -> None:
        """Show the part as it would be."""
        if self.part not in self.does or self.session.mesh is None or not self.isVisible():
            return
        try:
            self.part_look.ask(self.for_selected(self.offered[self.does[self.part].treatment][0].action()))
        except ValueError:  # it is said where it is done
            self.part_look.leave()

    def choose(self, part: str) -> None:
        """Show another part of the tray."""
        self._part_rest.stop()
        if part != self.part:
            self.leave_part()
        self.part = part
        self.show_part()
        self.scroll.verticalScrollBar().setValue(0)
        self.refresh()
        if part in self.does and self.does[part].seen == "at once":
            self._part_rest.start()

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
