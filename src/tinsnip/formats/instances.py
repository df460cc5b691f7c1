"""Bounds on what a file may unroll to where it names parts again and again, checked before anything is unrolled."""

from collections.abc import Callable, Hashable, Iterable

from tinsnip.errors import BadInput

__all__ = ["MOST_TRIANGLES", "check_unrolled"]

MOST_TRIANGLES = 60_000_000
"""What repeated parts may unroll to: as much as the largest scans have."""
_ALWAYS = 4_000_000
"""So many are always allowed, however small the file."""
_A_BYTE = 60
"""Triangles for each byte of the file: a part that is placed some thousand times."""
_MOST_PLACED = 20_000
"""Placings besides one for each 20 bytes."""

Key = Hashable


def check_unrolled(
    roots: Iterable[Key], own: Callable[[Key], tuple[int, int]], children: Callable[[Key], Iterable[Key]], size: int
) -> None:
    """Refuse parts within parts that lead back to themselves, or that come to more than a file of its size may hold.

    Parameters
    ----------
    roots : iterable
        Names of the parts that are placed.
    own : callable
        Triangles and placed pieces of a part itself.
    children : callable
        Names of the parts in a part, as often as they occur.
    size : int
        Of the file, bytes.

    Raises
    ------
    BadInput
    """
    totals: dict[Key, tuple[int, int]] = {}
    open_parts: set[Key] = set()
    triangles = placed = 0
    for root in roots:
        stack = [(root, False)]
        while stack:
            key, done = stack.pop()
            if done:
                parts = [totals[c] for c in children(key)]
                mine = own(key)
                totals[key] = mine[0] + sum(p[0] for p in parts), 1 + mine[1] + sum(p[1] for p in parts)
                open_parts.discard(key)
                continue
            if key in totals:
                continue
            if key in open_parts:
                raise BadInput(f"part {key} is a part of itself; export it again")
            open_parts.add(key)
            stack.append((key, True))
            for child in dict.fromkeys(children(key)):
                if child in open_parts:
                    raise BadInput(f"part {child} is a part of itself; export it again")
                stack.append((child, False))
        triangles += totals[root][0]
        placed += totals[root][1]
    allowed = min(MOST_TRIANGLES, max(_ALWAYS, _A_BYTE * size))
    if triangles > allowed or placed > _MOST_PLACED + size // 20:
        raise BadInput(
            f"its parts multiply to {triangles} triangles in {placed} pieces, more than a file of {size} bytes should "
            "hold; export them apart"
        )
