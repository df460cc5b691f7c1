"""Facts about a mesh that are worked out once and kept on it, for as long as it lives."""

import threading
from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

from tinsnip.progress import check_here

__all__ = ["forget", "hand_on", "is_known", "of_faces", "remember", "remembered"]

Subject = Any
Fact = TypeVar("Fact")
_guard = threading.Lock()
_WAIT_SECONDS = 0.05
_of_faces: set[str] = set()


def remembered(work: Callable[[Subject], Fact]) -> Callable[[Subject], Fact]:
    """Let a fact about a mesh be worked out once, by whoever asks first; the others wait for it.

    What is kept must not hold the mesh itself, or neither would ever be let go. Work that is cancelled or fails
    leaves nothing behind, and who waits for it does it anew.

    Parameters
    ----------
    work : callable
        From a mesh to the fact.

    Returns
    -------
    callable
        The same, answering from memory where it can.
    """
    name = f"{work.__module__}.{work.__qualname__}"

    @wraps(work)
    def asked(mesh: Subject) -> Fact:
        known = mesh.__dict__
        if name in known:
            return known[name]
        with _guard:
            turn = known.setdefault(f"{name} is being worked out", threading.RLock())
        while not turn.acquire(timeout=_WAIT_SECONDS):
            check_here()  # one who waits can be stopped too
        try:
            if name not in known:
                known[name] = work(mesh)
            return known[name]
        finally:
            turn.release()

    asked.fact = name  # type: ignore[attr-defined]
    return asked


def of_faces(fact: Callable[[Subject], Fact]) -> Callable[[Subject], Fact]:
    """Mark a remembered fact as one that tells of the triangles alone, and stays true when vertices move.

    Parameters
    ----------
    fact : callable
        Of a mesh.
    """
    _of_faces.add(fact.fact)  # type: ignore[attr-defined]
    return fact


def hand_on(mesh: Subject, other: Subject) -> None:
    """Tell another mesh, which has the very same triangles, all that is known of them.

    Parameters
    ----------
    mesh : Mesh
        What is known of it.
    other : Mesh
        What is told.
    """
    for name in _of_faces & mesh.__dict__.keys():
        other.__dict__[name] = mesh.__dict__[name]


def _name(fact: Any) -> str:
    return getattr(fact, "fget", fact).fact


def is_known(mesh: Subject, fact: Any) -> bool:
    """Whether asking for a remembered fact, a function or a property, takes no time.

    Parameters
    ----------
    mesh : Mesh
    fact : callable or property
    """
    return _name(fact) in mesh.__dict__


def remember(mesh: Subject, fact: Any, value: Any) -> None:
    """Tell a mesh a fact that is known already, such as one that moving it has not changed.

    Parameters
    ----------
    mesh : Mesh
    fact : callable or property
    value : any
        What it would come to.
    """
    mesh.__dict__[_name(fact)] = value


def forget(mesh: Subject, *facts: Any) -> None:
    """Let go of facts that can be worked out again; who asks for one later waits for it once more.

    Parameters
    ----------
    mesh : Mesh
    *facts : callable or property
    """
    for fact in facts:
        mesh.__dict__.pop(_name(fact), None)
