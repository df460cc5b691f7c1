"""The start script: whatever stops a set-up, and however many begin at once, the next start works.

With a Python of its own that makes environments in a moment, so that only the script is on trial.
"""

import os
import random
import shutil
import signal
import subprocess
import tempfile
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PYTHON = """#!/usr/bin/env bash
# stands in for Python: makes environments, "installs" into them, and says that it works
case "$*" in
    *version_info*) [ ! -e "$STAGE/old" ] ;;
    *ensurepip*) ;;
    "-m venv "*)
        mkdir -p "$3/bin" "$3/lib/python3.11/site-packages"
        sleep 0.1
        cp "$STAGE/python3" "$3/bin/python" ;;
    *"pip install"*)
        if [ -e "$STAGE/failing" ]; then cat "$STAGE/failing" >&2; exit 1; fi
        here="$(dirname "$(dirname "$0")")"
        echo >>"$STAGE/installs"
        sleep 0.1
        touch "$here/one" && sleep 0.1 && touch "$here/two" ;;
    "-c import numba"*) ;;
    "-m tinsnip"*)
        here="$(dirname "$(dirname "$0")")"
        [ -e "$here/one" ] && [ -e "$here/two" ] && [ -e "$here/lib/python3.11/site-packages/tinsnip.pth" ] || exit 9
        [ "$3" = stay ] && touch "$STAGE/staying" && sleep 20
        [ -e "$here/two" ] && echo works ;;
esac
"""


class Starts(unittest.TestCase):
    def setUp(self) -> None:
        self.keep = tempfile.TemporaryDirectory()
        self.addCleanup(self.keep.cleanup)
        self.home = Path(self.keep.name) / "a folder"
        self.stage = Path(self.keep.name) / "stage"
        for folder in (self.home, self.stage):
            folder.mkdir()
        for name in ("tinsnip", "requirements.lock", "pyproject.toml"):
            shutil.copy(ROOT / name, self.home)
        for version in ("", ".11", ".12", ".13", ".14"):  # under each name that is looked for
            (self.stage / f"python3{version}").write_text(PYTHON)
            (self.stage / f"python3{version}").chmod(0o755)
        for name in ("apt-get", "sudo"):
            (self.stage / name).write_text("#!/bin/sh\nexit 0\n")
            (self.stage / name).chmod(0o755)

    def start(self, *arguments: str) -> subprocess.Popen:
        environment = {**os.environ, "PATH": f"{self.stage}:/usr/bin:/bin", "STAGE": str(self.stage)}
        return subprocess.Popen(
            [str(self.home / "tinsnip"), *arguments], env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            text=True, start_new_session=True,
        )  # fmt: skip

    def ended(self, process: subprocess.Popen, code: int = 0) -> tuple[str, str]:
        out, err = process.communicate(timeout=60)
        self.assertEqual(process.returncode, code, err)
        return out.strip(), err

    def installs(self) -> int:
        path = self.stage / "installs"
        return len(path.read_text().splitlines()) if path.exists() else 0

    def test_killed_at_any_moment(self) -> None:
        chance = random.Random(time.time_ns())
        for _ in range(20):
            process = self.start("check")
            time.sleep(chance.uniform(0.0, 0.8))
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate()
            if chance.random() < 0.3:  # now and then begin at nothing again
                shutil.rmtree(self.home / ".setup", ignore_errors=True)
        self.assertEqual(self.ended(self.start("check"))[0], "works")
        left = sorted(p.name.split("-")[0] for p in (self.home / ".setup").iterdir())
        self.assertNotIn("new", left)
        before = self.installs()
        self.assertEqual(self.ended(self.start("check")), ("works", ""))
        self.assertEqual(self.installs(), before)

    def test_several_at_once_set_up_once(self) -> None:
        results = [self.ended(one) for one in [self.start("check") for _ in range(4)]]
        self.assertEqual([out for out, _ in results], ["works"] * 4)
        self.assertEqual(self.installs(), 1)
        self.assertTrue(any("waiting: another start is setting up" in err for _, err in results))

    def test_a_working_environment_is_not_taken_away(self) -> None:
        self.assertEqual(self.ended(self.start("check"))[0], "works")
        staying = self.start("stay")
        while not (self.stage / "staying").exists():
            time.sleep(0.02)
        aside = self.stage / "aside"  # another Python in PATH changes nothing
        (self.stage / "python3").rename(aside)
        self.assertEqual(self.ended(self.start("check")), ("works", ""))
        aside.rename(self.stage / "python3")
        with (self.home / "requirements.lock").open("a") as lock:  # other packages have another environment
            lock.write("another==1\n")
        self.assertEqual(self.ended(self.start("check"))[0], "works")
        self.assertEqual(self.installs(), 2)
        self.assertEqual(len(list((self.home / ".setup").glob("env-*"))), 2)
        os.killpg(staying.pid, signal.SIGKILL)
        staying.communicate()
        with (self.home / "requirements.lock").open("a") as lock:
            lock.write("one-more==1\n")
        self.assertEqual(self.ended(self.start("check"))[0], "works")
        self.assertEqual(len(list((self.home / ".setup").glob("env-*"))), 1)

    def test_what_is_in_the_way_is_one_line(self) -> None:
        cases = {
            "ERROR: Could not install packages due to an OSError: [Errno 28] No space left on device": "no space left",
            "WARNING: Retrying\nERROR: Could not find a version: Temporary failure in name resolution": "connected",
            "ERROR: something else broke": "something else broke",
        }
        for text, told in cases.items():
            (self.stage / "failing").write_text(text + "\n")
            _, err = self.ended(self.start("check"), 2)
            lines = err.splitlines()
            self.assertEqual(lines[0], "tinsnip: setting up (once)")
            self.assertEqual(len(lines), 2, err)
            self.assertIn(told, lines[1])
        (self.stage / "failing").unlink()
        (self.stage / "old").touch()
        _, err = self.ended(self.start("check"), 2)
        self.assertRegex(err, r"^tinsnip: Python 3\.11 or newer is needed.*\n$")
        (self.stage / "old").unlink()
        self.assertEqual(self.ended(self.start("check"))[0], "works")


if __name__ == "__main__":
    unittest.main()
