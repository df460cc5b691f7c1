"""Which findings are ticked."""

from collections.abc import Iterable

from tinsnip.survey import Examination, Finding, Kind

__all__ = ["Ticks", "the_same"]


class Ticks:
    """Ticks that differ from those a finding begins with.

    They belong to one mesh; what a step leaves as it was, the very same shell or hole, stays as it was ticked.
    """

    def __init__(self) -> None:
        self.toggled: set[tuple[str, int]] = set()
        self._known: Examination | None = None
        self._carried: set[tuple] = set()

    def is_on(self, finding: Finding) -> bool:
        """Whether a finding takes part in its station's treatment."""
        facts = finding.kind.facts
        return facts.can_tick and facts.ticked_at_first != ((finding.kind.value, finding.key) in self.toggled)

    def set(self, findings: Iterable[Finding], on: bool) -> None:
        """Tick or untick findings."""
        for finding in findings:
            key = (finding.kind.value, finding.key)
            if on == finding.kind.facts.ticked_at_first:
                self.toggled.discard(key)
            else:
                self.toggled.add(key)

    def keys(self, found: Examination | None, kinds: tuple[Kind, ...]) -> tuple[int, ...] | None:
        """Keys of the ticked findings of some kinds; None when that is all of them."""
        if found is None:
            return None
        every = [f for f in (*found.strays, *found.openings) if f.kind in kinds]
        chosen = [f.key for f in every if self.is_on(f)]
        return None if len(chosen) == len(every) else tuple(chosen)

    def show_again(self, toggled: object) -> None:
        """Tick as a saved job was ticked; what is none is left out."""
        for one in toggled if isinstance(toggled, list) else ():
            if isinstance(one, list) and len(one) == 2 and isinstance(one[0], str) and isinstance(one[1], int):
                self.toggled.add((one[0], one[1]))

    def belong_to(self, found: Examination) -> None:
        """Now that a mesh has been looked over: what is still there is ticked as it was."""
        if self._known is not found:
            self._known = found
            again = [f for f in (*found.strays, *found.openings) if the_same(f) in self._carried]
            self.toggled |= {(f.kind.value, f.key) for f in again}
            self._carried.clear()

    def clear(self) -> None:
        """Another mesh is shown."""
        found = self._known
        if found is not None and self.toggled:
            every = (*found.strays, *found.openings)
            self._carried = {the_same(f) for f in every if (f.kind.value, f.key) in self.toggled}
        self.toggled.clear()


def the_same(finding: Finding) -> tuple:
    """What tells a finding that a step has left as it was from all others."""
    return finding.kind.value, finding.count, finding.size, finding.place.tobytes()
