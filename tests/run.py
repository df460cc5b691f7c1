"""Run all tests: start a virtual screen, compile the kernels, unittest, and one closing line of counts.

With arguments, only the tests named (such as ``tests.test_mesh``).
"""

import faulthandler
import os
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))


def start_screen() -> subprocess.Popen | None:
    """A virtual screen of its own, so that tests neither need nor disturb the user's."""
    read, write = os.pipe()
    try:
        screen = subprocess.Popen(
            ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp"],
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


def main() -> int:
    """Run, and return the exit code."""
    faulthandler.dump_traceback_later(1740, exit=True)  # say where a run hangs rather than hang
    for kind in ("CONFIG", "DATA", "STATE"):  # the user's own settings, jobs and notes stay as they are
        os.environ[f"XDG_{kind}_HOME"] = tempfile.mkdtemp(prefix="tinsnip-test-")
    screen = start_screen()
    try:
        from tinsnip.warmup import ensure_compiled

        ensure_compiled()
        loader = unittest.TestLoader()
        if sys.argv[1:]:
            suite = loader.loadTestsFromNames(sys.argv[1:])
        else:
            suite = loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
        result = unittest.TextTestRunner(verbosity=2, resultclass=Timed).run(suite)
    finally:
        if screen is not None:
            screen.kill()
            screen.wait()
    # subtests of one test count as that one test
    failed = len({getattr(test, "test_case", test).id() for test, _ in result.failures + result.errors})
    passed = result.testsRun - failed - len(result.skipped)
    tail = f", {len(result.skipped)} skipped" if result.skipped else ""
    print(f"{passed} passed, {failed} failed{tail}", flush=True)
    return 0 if result.wasSuccessful() and result.testsRun > 0 else 1


if __name__ == "__main__":
    code = main()
    sys.stdout.flush()
    os._exit(code)  # Qt's own teardown has nothing left to say
