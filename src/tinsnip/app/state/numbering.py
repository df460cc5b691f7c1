"""Numbers of holes and rims that stay: one that is still there is called what it was called before."""

from dataclasses import replace

from tinsnip.app.state.ticks import the_same
from tinsnip.survey import Examination, Finding, Kind

__all__ = ["Numbering"]

_STAYS = Kind.HOLE, Kind.RIM


class Numbering:
    """Names findings as they were named on the meshes before.

    Once nothing of a kind is as it was, as after the part was moved, the numbers begin anew.
    """

    def __init__(self) -> None:
        self._names: dict[tuple, str] = {}
        self._known: Examination | None = None
        self._named: dict[int, Finding] = {}

    def named(self, found: Examination, findings: list[Finding]) -> list[Finding]:
        """Some findings of an examination under their lasting names."""
        if self._known is not found:
            self._known, self._named = found, {}
            for kind in _STAYS:
                self._name([finding for finding in found.openings if finding.kind is kind])
        return [self._named.get(id(finding), finding) for finding in findings]

    def _name(self, findings: list[Finding]) -> None:
        if not findings:
            return
        letter = findings[0].id[0]
        keys = [the_same(finding) for finding in findings]
        if not any(key in self._names for key in keys):
            self._names = {key: name for key, name in self._names.items() if name[0] != letter}
        last = max((int(name[1:]) for name in self._names.values() if name[0] == letter), default=0)
        for finding, key in zip(findings, keys, strict=True):
            if key not in self._names:
                last += 1
                self._names[key] = f"{letter}{last}"
            if self._names[key] != finding.id:
                self._named[id(finding)] = replace(finding, id=self._names[key])
