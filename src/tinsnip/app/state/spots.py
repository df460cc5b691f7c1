"""Clicks on whatever is shown: the piece that is seen there first, not only the one that is worked on."""

import itertools
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from tinsnip.app.state.session import Session
from tinsnip.job import Piece
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.space.picking import first_hit, first_hit_in

__all__ = ["Ray", "Spot", "hit_on", "pick_shown", "piece_under"]

Ray = tuple[np.ndarray, np.ndarray]
"""A point, mm, and a direction away from the eye, shape (3,) each."""
_numbers = itertools.count()


class Spot(NamedTuple):
    """A place on a piece: its triangle, and the point, mm, shape (3,)."""

    piece: Piece
    triangle: int
    point: np.ndarray

    @property
    def mesh(self) -> Mesh:
        """The piece's mesh."""
        return self.piece.mesh


def hit_on(mesh: Mesh, ray: Ray, hidden: np.ndarray | None = None) -> tuple[int, np.ndarray] | None:
    """The first triangle of a mesh that is met along a ray, and where; those hidden, bool, shape (F,), are not."""
    if hidden is None:
        by_tree = is_known(mesh, Mesh.tree)
        return first_hit_in(mesh.tree, *ray) if by_tree else first_hit(mesh.vertices, mesh.faces, *ray)
    shown = np.flatnonzero(~hidden)
    hit = first_hit(mesh.vertices, mesh.faces[shown], *ray)
    return None if hit is None else (int(shown[hit[0]]), hit[1])


def piece_under(session: Session, ray: Ray) -> Piece | None:
    """The piece that is seen along a ray, by what stands lightly for each; takes a few milliseconds."""
    best, nearest = None, np.inf
    for piece in session.shown_pieces():
        buffers = session.known.buffers_of(piece.mesh)
        if buffers is None or len(buffers.faces) == 0:
            continue
        hit = first_hit(piece.mesh.vertices, buffers.light_faces, *ray)
        if hit is not None and (far := float((hit[1] - ray[0]) @ ray[1])) < nearest:
            best, nearest = piece, far
    return best


def pick_shown(
    session: Session, ray: Ray, done: Callable[[Spot], None], missed: Callable[[], None] | None = None
) -> None:
    """Find the first place of all shown pieces along a ray, beside the window, and tell it.

    What comes after a piece has changed is dropped.
    """
    pieces, hidden = session.shown_pieces(), session.selected.hidden
    active = session.job.piece

    def find(progress: object) -> Spot | None:
        hits = [(piece, hit_on(piece.mesh, ray, hidden if piece is active else None)) for piece in pieces]
        spots = [Spot(piece, *hit) for piece, hit in hits if hit is not None]
        return min(spots, key=lambda spot: float((spot.point - ray[0]) @ ray[1]), default=None)

    def take(spot: Spot | None) -> None:
        if spot is not None and session.job.present.get(spot.piece.id) is spot.piece:
            done(spot)
        elif spot is None and missed is not None:
            missed()

    session.tasks.behind(f"pick shown {next(_numbers)}", find, take)
