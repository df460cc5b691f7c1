"""Aligning, as a part of a tray: which piece is laid on the one that is worked on, by what, and how well it lies."""

from collections.abc import Sequence

from PySide6.QtCore import QObject, Qt, Signal

from tinsnip.app.state.preview import TogetherPreview
from tinsnip.app.state.session import Session
from tinsnip.app.tools.pairs import PairTool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import DropDown
from tinsnip.app.widgets.panels import Section
from tinsnip.app.widgets.theme import px
from tinsnip.job import Piece
from tinsnip.treat import Align, AlignAll, Assembly, MergeScans
from tinsnip.words import counted, degrees_told, millimetres, percent

__all__ = ["AligningPart"]

_FEWEST = 3
_NAME_WIDTH = 170


class AligningPart(QObject):
    """Puts the ways to lay pieces on each other into a part of a tray, and what a preview of one tells.

    Parameters
    ----------
    session : Session
    view : Viewport
    part : Section

    Signals
    -------
    changed
        What the copper button would do is another thing.
    """

    changed = Signal()

    def __init__(self, session: Session, view: Viewport, part: Section) -> None:
        super().__init__()
        self._session, self._view = session, view
        self._asked: Assembly | None = None
        self._on: tuple[int, ...] = ()
        self._tool: PairTool | None = None
        self.stays = part.figure("Stays")
        self.moving = part.drop_down("Moves", {"–": None})
        # names of files are as long as they like; the list shows them whole once it is open
        self.moving.setSizeAdjustPolicy(DropDown.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.moving.setMinimumContentsLength(14)
        self.scaled = part.tick("its size may change", "For part-scans in different units; by pairs of points only")
        self.by_shape = part.button("Find how it lies", lambda: self._ask("shape"))
        self.by_shape.setToolTip("From its shape alone, wherever it is now")
        self.by_points = part.button("Mark pairs of points…", self._mark)
        self.by_points.setToolTip("Three places or more that both pieces show, clicked on both")
        self.by_place = part.button("Bring it nearer", lambda: self._ask("place"))
        self.by_place.setToolTip("From where it lies now, if that is about right")
        self.heading = part.heading("How it would lie")
        self.overlap, self.apart = part.figure("Lies on the other"), part.figure("Apart there")
        self.turned = part.figure("Turned by")
        self.colours = part.explain()
        self.doubt = part.warning()
        self.next_pose = part.button("Show the next pose", self._next)
        part.heading("All shown pieces")
        self.all = part.button("Align all", self._align_all)
        self.all.setToolTip("Each on those that lie already, by shape; this one stays. Then all are adjusted at once")
        self.merge = part.button("Merge part-scans into one surface", self._merge)
        self.merge.setToolTip("Where they overlap the better-measured surface stays; the seams are sewn")
        self.told = part.explain()
        self.moving.currentIndexChanged.connect(self._other_chosen)
        session.pieces_changed.connect(self._show_pieces)
        session.preview_changed.connect(self.changed)
        self._show_pieces()

    # ---- what is chosen

    def _others(self) -> list[Piece]:
        return [p for p in self._session.shown_pieces() if p.id != self._session.job.active]

    def _moving(self) -> Piece | None:
        return self._session.job.present.get(self.moving.currentData())

    def _show_pieces(self) -> None:
        piece, others = self._session.job.piece, self._others()
        name = "–" if piece is None else piece.name
        self.stays.setText(self.stays.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, px(_NAME_WIDTH)))
        self.stays.setToolTip(name)
        was = self.moving.currentData()
        if [self.moving.itemData(i) for i in range(self.moving.count())] != [p.id for p in others]:
            self.moving.blockSignals(True)
            self.moving.clear()
            for other in others:
                self.moving.addItem(other.name, other.id)
            at = self.moving.findData(was)
            self.moving.setCurrentIndex(max(at, 0) if others else -1)
            self.moving.blockSignals(False)
        some = bool(others)
        for control in (self.moving, self.scaled, self.by_shape, self.by_points, self.by_place, self.all, self.merge):
            control.setEnabled(some)
        count = counted(1 + len(others), "piece")
        self.told.setText(f"{count} shown." if some else "One piece is shown. Open or show another one in Intake.")
        self.changed.emit()

    def _other_chosen(self) -> None:
        if self._tool is not None and self._view.hand.tool is self._tool:
            self._view.hand.put_away()
        self._session.cancel_preview()
        self._asked = None
        self.changed.emit()

    # ---- asking

    def _ask(self, by: str, choice: int = 0) -> None:
        moving = self._moving()
        if moving is None:
            return
        if self._view.hand.tool is self._tool:
            self._view.hand.put_away()
        self._show(Align(by=by, choice=choice), (self._session.job.active, moving.id), "Finding how it lies")

    def _show(self, action: Assembly, on: Sequence[int], title: str) -> None:
        self._asked, self._on = action, tuple(on)
        self._session.together.ask(action, on, title)
        self.changed.emit()

    def _align_all(self) -> None:
        self._show(AlignAll(by="shape"), self._session.job.shown(), "Aligning all")

    def _next(self) -> None:
        if isinstance(self._asked, Align) and (preview := self._preview()) is not None:
            poses = int(preview.step.account.figures.get("poses", 1))
            self._ask("shape", (self._asked.choice + 1) % max(poses, 1))

    def _merge(self) -> None:
        self._session.do(MergeScans(), self._session.job.shown())

    def _mark(self) -> None:
        moving = self._moving()
        if moving is not None:
            self._session.cancel_preview()
            self._asked = None
            self._tool = PairTool(self._view, moving.id)
            self._tool.changed.connect(self._points_changed)
            self._view.hand.take(self._tool)
            self.changed.emit()

    def _marked(self, refined: bool) -> Align | None:
        """Aligning by the pairs that are marked, where there are enough."""
        tool = self._tool
        if tool is None or self._view.hand.tool is not tool or tool.pairs < _FEWEST:
            return None
        stays, moves = (
            tuple(tuple(float(x) for x in place) for place in on[: tool.pairs]) for on in (tool.stays, tool.moves)
        )
        return Align(by="points", stays=stays, moves=moves, refined=refined, scaled=self.scaled.isChecked())

    def _points_changed(self) -> None:
        action = self._marked(refined=False)
        if action is not None and len(self._tool.offs()):
            self._asked, self._on = action, (self._tool.staying.id, self._tool.moving.id)
            self._session.together.ask(action, self._on)
        elif isinstance(self._asked, Align) and self._asked.by == "points":
            self._asked = None
            self._session.cancel_preview()
        self.changed.emit()

    # ---- what is shown

    def _preview(self) -> TogetherPreview | None:
        known = self._session.together.preview
        stands = known is not None and self._asked is not None and known.stands(self._session.job.present)
        return known if stands and known.step.action == self._asked and known.step.on == self._on else None

    def refresh(self) -> None:
        """Show what the preview tells."""
        preview = self._preview()
        figures = {} if preview is None else preview.step.account.figures
        shown = preview is not None
        self.overlap.setText(percent(figures["overlap"]) if "overlap" in figures else "–")
        apart = figures.get("rms_mm", figures.get("pairs_rms_mm"))
        self.apart.setText("–" if apart is None else f"{millimetres(apart)} mm")
        self.turned.setText(f"{degrees_told(figures['turned_deg'])}°" if "turned_deg" in figures else "–")
        self._tell_colours()
        doubt = str(figures.get("doubt", ""))
        self.doubt.setText(f"Not sure: {doubt}." if doubt else "")
        self.doubt.setVisible(bool(doubt))
        poses = int(figures.get("poses", 1))
        self.next_pose.setVisible(shown and isinstance(self._asked, Align) and self._asked.by == "shape" and poses > 1)
        if poses > 1:
            self.next_pose.setText(f"Show the next pose ({self._asked.choice + 1} of {poses})")

    def _tell_colours(self) -> None:
        """Say what the colours of the piece that is shown moved mean."""
        lying = self._session.together.lying
        if lying:
            end = millimetres(max(one.limit for one in lying))
            self.colours.setText(
                f"Copper stands out of the other piece, petrol lies within it, up to {end} mm; "
                "beyond that hatched. Violet: nothing of the other is there."
            )
        self.colours.setVisible(bool(lying))

    def offered(self) -> tuple[str, str]:
        """What the copper button would do, and why it cannot; nothing where it can."""
        tool = self._tool
        if tool is not None and self._view.hand.tool is tool:
            less = max(0, _FEWEST - tool.pairs)
            why = f"mark {counted(less, 'more pair')} of points" if less else ""
            return f"Align by {counted(tool.pairs, 'pair')}", why or ("" if len(tool.offs()) else "points in one line")
        if self._preview() is not None:
            return "Let it lie so", ""
        return "Let it lie so", "find how it lies, or mark pairs of points, first"

    def do(self) -> None:
        """Do what is shown, or align by what is marked."""
        marked = self._marked(refined=True)
        if marked is not None:
            on = self._tool.staying.id, self._tool.moving.id
            self._view.hand.put_away()
            self._asked = None
            self._session.cancel_preview()
            self._session.do(marked, on)
        elif self._preview() is not None:
            self._session.together.do(self._asked, self._on)
            self._asked = None

    def put_away(self) -> bool:
        """Leave what is shown."""
        was = self._asked is not None
        self._asked = None
        self._session.cancel_preview()
        self.changed.emit()
        return was
