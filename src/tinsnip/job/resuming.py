"""What a run over many scans has done already, so that a run that was stopped goes on where it was.

A file of lines for each folder of results, among the user's own state: each run names what it is to write, then each
scan that is done has a line. A line that was torn by a kill is none.
"""

import contextlib
import hashlib
import json
import os
import time
from collections.abc import Iterable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import platformdirs

from tinsnip import __version__
from tinsnip.errors import BadInput
from tinsnip.job.batch import Order, report_of

__all__ = ["Done"]

_OLD_DAYS = 90
"""A record that nobody added to for so long is let go."""


def _stamp(path: Path) -> list[int] | None:
    try:
        known = path.stat()
    except OSError:
        return None
    return [known.st_size, known.st_mtime_ns]


def _key(order: Order) -> str:
    """The same for orders that come to the same."""
    own = {
        "routine": order.routine.model_dump(mode="json"), "budget": asdict(order.budget), "format": order.format_name,
        "unit": order.unit, "provenance": order.provenance, "keep_voids": order.keep_voids, "version": __version__,
        "report": order.report, "bake": order.bake,
        "profile": None if order.profile is None else order.profile.model_dump(mode="json"),
    }  # fmt: skip
    return hashlib.sha256(json.dumps(own, sort_keys=True).encode()).hexdigest()


class Done:
    """The record of a folder of results.

    Parameters
    ----------
    folder : Path
    order : Order
        What is to be done now: what was done by another order has to be done anew.
    """

    def __init__(self, folder: Path, order: Order) -> None:
        self._folder = folder
        name = hashlib.sha256(str(folder.resolve()).encode()).hexdigest()[:24]
        self._path = Path(platformdirs.user_state_dir("tinsnip")) / "runs" / f"{name}.jsonl"
        self._key = _key(order)
        self.ours: list[Path] = []
        """Every file that some run into this folder was to write."""
        self._done: dict[tuple[str, str], dict[str, Any]] = {}
        self._read()

    @property
    def path(self) -> Path:
        """Where the record lies."""
        return self._path

    def _read(self) -> None:
        try:
            text = self._path.read_text("utf-8")
        except OSError:
            return
        for line in text.splitlines():
            try:
                known = json.loads(line)
            except ValueError:
                continue
            if isinstance(known, dict):
                self.ours += [self._folder / str(name) for name in known.get("targets", [])]
                if "scan" in known:  # the newest line of a scan holds
                    self._done[known["scan"], known["target"]] = known

    def facts_of(self, file: Path, target: Path) -> dict[str, Any] | None:
        """What came of a scan, where it was done by this order, and neither it nor its result has changed since."""
        line = self._done.get((str(file.resolve()), target.name))
        stamps = {"order": self._key, "scan_stamp": _stamp(file), "target_stamp": _stamp(target)}
        if line is None or any(line[name] != value for name, value in stamps.items()):
            return None
        report = report_of(target)
        if "report" in line["facts"] and not report.is_file():
            return None
        again = {"report": str(report)} if "report" in line["facts"] else {}
        return line["facts"] | {"file": str(file), "out": str(target)} | again

    def begin(self, targets: Iterable[Path]) -> None:
        """Note what this run is to write."""
        self._clear_old()
        self._add({"targets": [target.name for target in targets]})

    def note(self, file: Path, target: Path, facts: dict[str, Any]) -> None:
        """Note that a scan is done."""
        self._add(
            {
                "scan": str(file.resolve()), "scan_stamp": _stamp(file), "order": self._key, "target": target.name,
                "target_stamp": _stamp(target), "facts": facts,
            }
        )  # fmt: skip

    def _clear_old(self) -> None:
        with contextlib.suppress(OSError):
            for one in self._path.parent.glob("*.jsonl"):
                if time.time() - one.stat().st_mtime > _OLD_DAYS * 86_400:
                    one.unlink()

    def _add(self, line: dict[str, Any]) -> None:
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            with self._path.open("a", encoding="utf-8") as file:
                # a line that was torn off is ended first
                file.write(("" if file.tell() == 0 else "\n") + json.dumps(line))
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise BadInput(f"{self._path}: {error.strerror or error}; make room there") from error
