"""The row above the view: how the surface is painted, what is shown of it, and fitting it."""

from collections.abc import Sequence

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QAction, QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QToolButton, QWidget

from tinsnip.app.frame.menus import Menus
from tinsnip.app.widgets.theme import px

__all__ = ["ViewRow"]


class ViewRow(QWidget):
    """A switch for each look and each thing shown; where there is no room for all, one for each group, with a menu."""

    def __init__(self, menus: Menus) -> None:
        super().__init__()
        self.setObjectName("viewrow")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._box = QHBoxLayout(self)
        self._box.setContentsMargins(px(6), px(5), px(6), px(5))
        self._box.setSpacing(px(2))
        self._wide: list[list[QWidget]] = []
        self._narrow: list[QToolButton] = []
        for actions, about in (
            (menus.looks, "How the surface is painted"),
            (menus.aids, "Aids"),
            (menus.shows, "What is shown"),
        ):
            self._add_group(actions, about)
        self._box.addStretch(1)
        self._measure, self._fit = QToolButton(), QToolButton()
        for button, action, text in ((self._measure, menus.measure, "Measure"), (self._fit, menus.fit, "Fit")):
            button.setDefaultAction(action)
            button.setText(text)
            self._box.addWidget(button)

    def _add_group(self, actions: Sequence[QAction], about: str) -> None:
        buttons: list[QWidget] = []
        if self._wide:
            line = QFrame()
            line.setFrameShape(QFrame.Shape.VLine)
            line.setObjectName("viewline")
            self._box.addWidget(line)
            buttons.append(line)
        for action in actions:
            button = QToolButton()
            button.setDefaultAction(action)
            self._box.addWidget(button)
            buttons.append(button)
        one = QToolButton()
        one.setObjectName("choosing")
        one.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        one.setAccessibleName(about)
        menu = QMenu(one)
        menu.addActions(list(actions))
        one.setMenu(menu)
        one.hide()
        self._box.addWidget(one)
        self._wide.append(buttons)
        self._narrow.append(one)

        def name() -> None:
            one.setText(next((a.text() for a in actions if a.isChecked()), about) + " ▾")

        for action in actions:
            action.toggled.connect(lambda _: name())
        name()

    def _width_of(self, widgets: Sequence[QWidget]) -> int:
        return sum(w.sizeHint().width() + self._box.spacing() for w in widgets)

    def minimumSizeHint(self) -> QSize:
        return QSize(self._width_of([*self._narrow, self._fit]) + px(14), super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        room = self.width() - px(16) - self._width_of([self._fit])
        measure = self._width_of([self._measure])
        has_measure = self._width_of(self._narrow) + measure <= room  # else its key and the menu have to do
        self._measure.setVisible(has_measure)
        room -= measure * has_measure
        # what is shown keeps its switches longest, the looks theirs the shortest
        width = [self._width_of(group) for group in self._wide]
        small = [self._width_of([one]) for one in self._narrow]
        fits = [False] * len(width)
        taken = sum(small)
        for i in reversed(range(len(width))):
            taken += width[i] - small[i]
            fits[i] = taken <= room
        for group, one, is_wide in zip(self._wide, self._narrow, fits, strict=True):
            for button in group:
                button.setVisible(is_wide)
            one.setVisible(not is_wide)
