"""One way to ask before something is lost."""

from collections.abc import Sequence

import shiboken6
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QMessageBox, QWidget

__all__ = ["ask"]


def ask(
    parent: QWidget,
    title: str,
    text: str,
    about: str,
    answers: Sequence[str],
    default: str,
    leave: str,
    picture: QPixmap | None = None,
) -> str:
    """Ask, and wait for an answer.

    Parameters
    ----------
    parent : QWidget
    title, text, about : str
        What it is about; the question; what else there is to know.
    answers : sequence of str
        What the buttons say.
    default, leave : str
        The answers that Enter and Esc give.
    picture : QPixmap, optional
        What it is about, to be seen.

    Returns
    -------
    str
        One of the answers.
    """
    box = QMessageBox(QMessageBox.Icon.NoIcon, title, text, parent=parent)
    box.setInformativeText(about)
    if picture is not None:
        box.setIconPixmap(picture)
    buttons = {box.addButton(answer, QMessageBox.ButtonRole.ActionRole): answer for answer in answers}
    for button, answer in buttons.items():
        if answer == default:
            box.setDefaultButton(button)
        if answer == leave:
            box.setEscapeButton(button)
    box.exec()
    answer = buttons.get(box.clickedButton(), leave)
    shiboken6.delete(box)  # at once, so that the window has the keys again
    return answer
