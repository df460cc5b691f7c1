"""The cards and notices that stand over the view, and where they stand."""

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, QTimer, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QWidget

from tinsnip.app.frame.emptyview import EmptyView, RecentJob
from tinsnip.app.frame.firstlook import FirstLook
from tinsnip.app.frame.leftovers import LeftOvers
from tinsnip.app.frame.opening import JobFiles
from tinsnip.app.frame.selectionbar import SelectionBar
from tinsnip.app.state.saving import LeftOver, Saving, left_over_jobs
from tinsnip.app.state.session import Session
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import px
from tinsnip.errors import BadInput
from tinsnip.job import is_job_file, read_document
from tinsnip.progress import Progress
from tinsnip.words import counted

__all__ = ["Cards"]

_NOTICE_MS = 12_000


class Cards(QObject):
    """What the view shows before anything is open, the cards after, what is said loudly, and what is offered."""

    recent_found = Signal(object)

    def __init__(self, session: Session, viewport: Viewport, saving: Saving, opening: JobFiles) -> None:
        super().__init__(viewport)
        self._session, self._viewport, self._saving, self._opening = session, viewport, saving, opening
        self.empty = EmptyView(viewport)
        self.empty.open_asked.connect(opening.ask_open)
        self.empty.demo_asked.connect(lambda names: opening.open_demo(*names))
        self.empty.recent_asked.connect(lambda path: opening.open([path]))
        self.first_look = FirstLook(session, viewport)
        self.first_look.put_away.connect(self._first_look_gone)
        self.left_overs = LeftOvers(viewport)
        self.left_overs.open_asked.connect(self._recover)
        self.left_overs.let_go_asked.connect(self._let_go)
        self.left_overs.put_away.connect(self._put_left_overs_away)
        self.notice = QLabel(viewport)
        self.notice.setObjectName("warning")
        self.notice.setWordWrap(True)
        self.notice.hide()
        self._notice_timer = QTimer(self, singleShot=True, interval=_NOTICE_MS)
        self._notice_timer.timeout.connect(self.notice.hide)
        self.offer = _Offer(viewport)
        self.offer.fit.clicked.connect(viewport.framing.fit)
        viewport.framing.shrunk.connect(self._offer_fit)
        viewport.framing.touched.connect(self.offer.hide)
        self.bar: SelectionBar | None = None
        self.floating: list[QWidget] = []
        """Further things that stand at the lower middle of the view."""
        viewport.installEventFilter(self)
        session.message.connect(self._say)
        session.station_changed.connect(self._station_opened)
        session.mesh_changed.connect(self.notice.hide)  # what was said spoke of another mesh
        session.opening.opened.connect(lambda paths: self.show_first_look())
        session.opening.job_opened.connect(lambda opened, path: self.first_look.hide())
        for card in (self.first_look, self.left_overs, self.offer):
            session.job_left.connect(card.hide)
        self._first_station = session.station
        session.preparation.changed.connect(self._show_preparing)
        session.tasks.behind("left over", lambda p: left_over_jobs(), self._offer_left_overs)

    def _show_preparing(self) -> None:
        ready = self._session.preparation
        self.empty.show_preparing(ready.done, ready.total if ready.is_under_way else 0, ready.can_open)
        self.place()

    # ---- the first look

    def show_first_look(self) -> None:
        """Show the card of the first look."""
        if self._session.job.piece is not None and self.first_look.is_wanted():
            self.first_look.show()
            self.first_look.refresh()
            self.first_look.raise_()
            self.place()
            self._viewport.framing.covered_left = self.first_look.width() + 20.0
            self._viewport.framing.fit()

    def _first_look_gone(self) -> None:
        """The whole view is the part's again."""
        if self._viewport.framing.covered_left:
            self._viewport.framing.covered_left = 0.0
            self._viewport.framing.fit()

    def _station_opened(self, name: str) -> None:
        if name != self._first_station:
            self.first_look.hide()
        self.notice.hide()

    # ---- jobs that were left over

    def _offer_left_overs(self, jobs: list[LeftOver]) -> None:
        """Show the jobs that can be gone on with; where something is open already, only say that there are some."""
        if jobs and (self._session.mesh is not None or self._session.tasks.busy is not None):
            self._say(f"{counted(len(jobs), 'unfinished job')} can be opened again: see the Job menu", True)
        else:
            self._list_left_overs(jobs)

    def show_left_overs(self) -> None:
        """Look for jobs that can be gone on with, and list them."""

        def show(jobs: list[LeftOver]) -> None:
            self._list_left_overs(jobs)
            if not jobs:
                self._say("there is no unfinished job", True)

        self._session.tasks.behind("left over", lambda p: left_over_jobs(), show)

    def _list_left_overs(self, jobs: list[LeftOver]) -> None:
        self.left_overs.show_jobs(jobs)
        self.refresh()
        self.place()
        self.left_overs.raise_()

    def _recover(self, one: LeftOver) -> None:
        def go() -> None:
            self.left_overs.show_jobs([job for job in self.left_overs.jobs if job is not one])
            self.left_overs.hide()
            self._saving.recover(one)

        self._opening.before_losing(go)

    def _put_left_overs_away(self) -> None:
        self.left_overs.hide()
        self.refresh()

    def _let_go(self, one: LeftOver) -> None:
        self._saving.let_go(one)
        self._list_left_overs([job for job in self.left_overs.jobs if job is not one])

    # ---- what was opened lately

    def find_recent(self) -> None:
        """Look the recent scans and jobs up, and show them."""
        there = self._opening.recent()

        def look(progress: Progress) -> tuple[list[Path], list[RecentJob]]:
            del progress
            scans, jobs = [], []
            for path in there:
                if not is_job_file(path):
                    scans.append(path)
                    continue
                try:
                    doc, picture = read_document(path)
                except BadInput:
                    continue
                jobs.append((path, picture, path.stat().st_mtime, len(doc.log.steps)))
            return scans, jobs

        def show(found: tuple[list[Path], list[RecentJob]]) -> None:
            self.empty.show_recent(found[0])
            self.empty.show_jobs(found[1])
            self.place()

        self.recent_found.emit(there)
        self._session.tasks.behind("recent", look, show)

    # ---- what is said and offered

    def _say(self, text: str, is_error: bool) -> None:
        if is_error:
            self.notice.setText(text)
            self.notice.show()
            self.notice.raise_()
            self._notice_timer.start()
            self.place()

    def _offer_fit(self, is_smaller: bool) -> None:
        self.offer.setVisible(is_smaller)
        if is_smaller:
            self.offer.raise_()
            self.place()

    # ---- showing

    def put_away(self) -> bool:
        """Put the uppermost card away; False when there was none."""
        if self.left_overs.isVisible():
            self._put_left_overs_away()
        elif self.first_look.isVisible():
            self.first_look.hide()
        elif self.notice.isVisible():
            self.notice.hide()
            return False  # what it was said about is left as well
        else:
            return False
        return True

    def refresh(self) -> None:
        """Show the session as it is."""
        was = self.empty.isVisible()
        self.empty.setVisible(self._session.mesh is None and not self.left_overs.isVisible())
        if self.empty.isVisible() and not was:
            QTimer.singleShot(0, self.place)

    def place(self) -> None:
        """Put everything where it belongs in a view of this size."""
        view = self._viewport.rect()
        up = view.height() - px(56)
        if self.bar is not None:
            self.bar.fit(px(150), px(130))
            up = min(up, self.bar.y() - px(8)) if self.bar.isVisible() else up
        for widget in (*self.floating, self.offer):
            widget.adjustSize()
            widget.move((view.width() - widget.width()) // 2, up - widget.height())
            if widget.isVisible():
                up -= widget.height() + px(8)
        self.notice.setFixedWidth(min(px(560), view.width() - px(40)))
        self.notice.adjustSize()
        self.notice.move((view.width() - self.notice.width()) // 2, px(16))
        self.first_look.adjustSize()
        self.first_look.move(px(16), px(16))
        self.empty.fit(view.size())
        self.left_overs.fit(view.size())
        for card in (self.empty, self.left_overs):
            card.move(max(0, (view.width() - card.width()) // 2), max(0, (view.height() - card.height()) // 2))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize:
            self.place()
        return super().eventFilter(watched, event)


class _Offer(QFrame):
    """Offers to fit the view to a part that became much smaller."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("busy")
        box = QHBoxLayout(self)
        box.setContentsMargins(px(14), px(8), px(10), px(8))
        box.addWidget(QLabel("The part is much smaller now"))
        self.fit = Button("Fit all    F")
        self.fit.setAccessibleName("Fit all")
        self.fit.clicked.connect(self.hide)
        box.addWidget(self.fit)
        self.hide()
