"""Which findings are ticked."""

from collections.abc import Iterable

from tinsnip.survey import Examination, Finding, Kind

__all__ = ["Ticks"]


class Ticks:
    """Ticks that differ from those a finding begins with; they belong to one mesh."""

    def __init__(self) -> None:
        self.toggled: set[tuple[str, int]] = set()

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

    def clear(self) -> None:
        """As at first."""
        self.toggled.clear()
