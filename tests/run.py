"""Run all tests: compile the kernels, unittest on virtual screens, and one closing line of counts.

Each module of tests has a process and a screen of its own; two run at a time. With arguments, only the tests named
(such as ``tests.test_mesh``) are run, in this process.
"""

import faulthandler
import os
import re
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))
_LONGEST = 1740
"""Seconds after which something hangs."""
_LONG = ("test_ready", "test_bounds", "test_tree_and_smooth", "test_screens", "test_monkey")
"""Modules that take long for their size; they begin first."""


def start_screen(size: str = "1400x900") -> subprocess.Popen | None:
    """A virtual screen of its own, so that tests neither need nor disturb the user's."""
    read, write = os.pipe()
    try:
        screen = subprocess.Popen(
            ["Xvfb", "-displayfd", str(write), "-screen", "0", f"{size}x24", "-nolisten", "tcp"],
            pass_fds=[write],
            stderr=subprocess.DEVNULL,
        )
    except FileNotFoundError:
        return None
    os.close(write)
    number = b""
    while not number.endswith(b"\n"):
        byte = os.read(read, 1)
        if not byte:
            break
        number += byte
    os.environ["DISPLAY"] = f":{number.decode().strip()}"
    os.environ.pop("WAYLAND_DISPLAY", None)
    os.environ["QT_QPA_PLATFORM"] = "xcb"
    os.environ.setdefault("LIBGL_ALWAYS_SOFTWARE", "1")
    return screen


class Timed(unittest.TextTestResult):
    """Says how long each test took."""

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self.begun = time.perf_counter()

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.stream.writeln(f"    {time.perf_counter() - self.begun:.1f} s")


def run_named(names: list[str]) -> tuple[int, int, int]:
    """Run some tests in this process, on a screen of their own: passed, failed, skipped."""
    faulthandler.enable()
    faulthandler.dump_traceback_later(_LONGEST, exit=True)  # say where a run hangs rather than hang
    for kind in ("CONFIG", "DATA", "STATE"):  # the user's own settings, jobs and notes stay as they are
        os.environ[f"XDG_{kind}_HOME"] = tempfile.mkdtemp(prefix="tinsnip-test-")
    screen = start_screen()
    try:
        suite = unittest.TestLoader().loadTestsFromNames(names)
        result = unittest.TextTestRunner(verbosity=2, resultclass=Timed).run(suite)
    finally:
        if screen is not None:
            screen.kill()
            screen.wait()
    # subtests of one test count as that one test
    failed = len({getattr(test, "test_case", test).id() for test, _ in result.failures + result.errors})
    return result.testsRun - failed - len(result.skipped), failed, len(result.skipped)


def run_apart(name: str) -> tuple[int, int, int]:
    """Run a module of tests in a process of its own; what it said is printed whole once it is done."""
    begun = time.perf_counter()
    done = subprocess.run(
        [sys.executable, __file__, name], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace"
    )
    print(f"{done.stdout}{name}: {time.perf_counter() - begun:.0f} s", flush=True)
    counts = re.findall(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", done.stdout, re.M)
    if not counts:  # it did not come to its end
        return 0, 1, 0
    passed, failed, skipped = (int(n or 0) for n in counts[-1])
    return passed, max(failed, int(done.returncode != 0)), skipped


def main() -> int:
    """Run the tests named, or all modules of tests, two at a time; the exit code."""
    if sys.argv[1:]:
        counts = [run_named(sys.argv[1:])]
    else:
        folder = ROOT / "tests"
        modules = sorted(folder.glob("test_*.py"), key=lambda path: (path.stem not in _LONG, -path.stat().st_size))
        with ThreadPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
            counts = list(pool.map(run_apart, [f"tests.{path.stem}" for path in modules]))
    passed, failed, skipped = (sum(column) for column in zip(*counts, strict=True))
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)
    return 0 if passed and not failed else 1


if __name__ == "__main__":
    code = main()
    sys.stdout.flush()
    os._exit(code)  # Qt's own teardown has nothing left to say
