"""Which step of the log made the surface at a place; worked out beside the window."""

from collections.abc import Callable

import numpy as np

from tinsnip.app.state.session import Session
from tinsnip.job.maker import step_that_made

__all__ = ["ask_step_that_made"]


def ask_step_that_made(session: Session, place: np.ndarray, done: Callable[[int | None], None]) -> None:
    """Tell the number of the step, counted from 0, or None; dropped when the piece has changed meanwhile."""
    piece, steps = session.job.piece, session.job.log[: session.job.cursor]
    if piece is None:
        return

    def take(number: int | None) -> None:
        if session.job.piece is piece:
            done(number)

    session.tasks.behind("maker", lambda progress: step_that_made(steps, piece, place), take)
