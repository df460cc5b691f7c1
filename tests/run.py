"""Run the tests: unittest on virtual screens, in a few processes that take module after module, and one line of counts.

``./tinsnip test`` runs all modules, with today's share of the made-up cases; ``--all`` takes all cases, ``--day N``
those of another day, ``--seed N`` one alone. Names such as ``test_mesh`` or ``tests.test_mesh.Sound.test_x`` run these
only, ``--slow`` lists what took longest, ``--record`` notes anew which kernels are used with which types.
"""

import argparse
import datetime
import faulthandler
import json
import os
import re
import resource
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))
from tests import seeds  # noqa: E402

_LONGEST = 1500
"""Seconds after which a module hangs."""
_LONG = (
    "test_window", "test_screens", "test_aligning", "test_window_job", "test_keys", "test_batch", "test_window_work",
    "test_ripple",
    "test_command_line", "test_ready", "test_part_scans", "test_recast", "test_recast_places", "test_how_to_add",
    "test_window_datums", "test_bake", "test_hiding", "test_bounds", "test_monkey", "test_sharpen", "test_demo",
    "test_job_file", "test_print_solid", "test_joining", "test_random_jobs", "test_losing", "test_walk",
    "test_batch_page",
)  # fmt: skip
"""Modules that take long; they begin first, so that the processes end together."""
_DONE = "-- module done "
_NOT_TODAY = "not today, but when it is named and with --all: "


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
    os.environ.setdefault("LP_NUM_THREADS", "0")  # the renderer's threads wait for each other, with a process a core
    return screen


def _cpu_seconds() -> float:
    """Of this process and of those it has waited for."""
    return sum(sum(resource.getrusage(who)[:2]) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))


class Timed(unittest.TextTestResult):
    """Says how long each test took, and how a case that failed is run again."""

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self.begun, self.cpu = time.perf_counter(), _cpu_seconds()

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        cpu, clock = _cpu_seconds() - self.cpu, time.perf_counter() - self.begun
        self.stream.writeln(f"    {test.id()}: {cpu:.1f} CPU s, {clock:.1f} s")

    def addSubTest(self, test: unittest.TestCase, subtest: unittest.TestCase, outcome: object) -> None:
        super().addSubTest(test, subtest, outcome)
        seed = getattr(subtest, "params", {}).get("seed")
        if outcome is not None and seed is not None:
            self.stream.writeln(f"again: ./tinsnip test {test.id()} --seed {seed}")


def of_today(suite: unittest.TestSuite) -> unittest.TestSuite:
    """Without the long ones that have their turn on another day."""
    kept = unittest.TestSuite()
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            kept.addTest(of_today(test))
        elif seeds.is_its_turn(test):
            kept.addTest(test)
        else:
            print(f"{_NOT_TODAY}{test.id()}")
    return kept


def run_named(names: list[str]) -> tuple[int, int, int]:
    """Run some tests in this process: passed, failed, skipped."""
    suite = unittest.TestLoader().loadTestsFromNames(names)
    if all(name.count(".") == 1 for name in names):  # a test that is asked for by its own name runs on any day
        suite = of_today(suite)
    result = unittest.TextTestRunner(stream=sys.stdout, verbosity=2, resultclass=Timed).run(suite)
    # subtests of one test count as that one test
    failed = len({getattr(test, "test_case", test).id() for test, _ in result.failures + result.errors})
    return result.testsRun - failed - len(result.skipped), failed, len(result.skipped)


def work_off() -> None:
    """Run the modules named on the input, one after the other, on one screen."""
    faulthandler.enable()
    for kind in ("CONFIG", "DATA", "STATE"):  # the user's own settings, jobs and notes stay as they are
        os.environ[f"XDG_{kind}_HOME"] = tempfile.mkdtemp(prefix="tinsnip-test-")
    screen = start_screen()
    try:
        for line in sys.stdin:
            faulthandler.dump_traceback_later(_LONGEST, exit=True)  # say where a run hangs rather than hang
            counts = run_named(line.split())
            faulthandler.cancel_dump_traceback_later()
            print(f"{_DONE}{json.dumps(counts)}", flush=True)
    finally:
        if screen is not None:
            screen.kill()
            screen.wait()


class Worker(threading.Thread):
    """Leads one process that takes module after module; a new one where it did not come to its end."""

    def __init__(self, todo: list[list[str]], printing: threading.Lock) -> None:
        super().__init__()
        self.todo, self.printing = todo, printing
        self.counts: list[tuple[int, int, int]] = []
        self.said: list[str] = []

    def run(self) -> None:
        process = None
        while self.todo:
            names = self.todo.pop(0)
            if process is None:
                process = subprocess.Popen(
                    [sys.executable, __file__, "--work"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT, text=True, errors="replace",
                )  # fmt: skip
            begun, lines, counts = time.perf_counter(), [], None
            process.stdin.write(" ".join(names) + "\n")
            process.stdin.flush()
            for line in process.stdout:
                if line.startswith(_DONE):
                    counts = tuple(json.loads(line.removeprefix(_DONE)))
                    break
                lines.append(line)
            if counts is None:
                process.wait()
                lines.append(f"the process came to an end meanwhile, with {process.returncode}\n")
                process = None
            self.counts.append(counts or (0, 1, 0))
            self.said += lines
            with self.printing:
                print(f"{''.join(lines)}{' '.join(names)}: {time.perf_counter() - begun:.0f} s", flush=True)
        if process is not None:
            process.stdin.close()
            process.wait()


def print_slowest(said: list[str], how_many: int = 20) -> None:
    """The tests that took most CPU seconds."""
    found = re.findall(r"^    (\S+): ([\d.]+) CPU s, ([\d.]+) s$", "".join(said), re.M)
    print("Slowest, CPU seconds and seconds:")
    for name, cpu, clock in sorted(found, key=lambda one: -float(one[1]))[:how_many]:
        print(f"  {float(cpu):7.1f} {float(clock):7.1f}  {name}")


def check_record(log: Path, rewrite: bool, whole: bool) -> int:
    """Compare how kernels were called with what is recorded; how many calls are not, or 0 once they are."""
    from tinsnip.kernels.recorded import RECORD, record_lines

    used = list(dict.fromkeys(log.read_text("utf-8").splitlines())) if log.exists() else []
    missing = [line for line in used if line not in set(record_lines())]
    if rewrite:
        groups = json.loads(RECORD.read_text("utf-8"))
        if whole:  # what is never called any more goes
            groups = {name: [line for line in lines if line in set(used)] for name, lines in groups.items()}
        groups["rest"] += missing
        RECORD.write_text(json.dumps(groups, indent=0) + "\n", "utf-8")
        return 0
    for line in missing:
        print(f"kernel not recorded: {line}; ./tinsnip test --record notes it")
    return len(missing)


def _full(name: str) -> str:
    return name if name.startswith("tests.") else f"tests.{name}"


def main() -> int:
    """Run the tests named, or all modules; the exit code."""
    parser = argparse.ArgumentParser(prog="tinsnip test", description=__doc__, add_help=True)
    parser.add_argument("names", nargs="*", metavar="NAME", help="a module, a class or a test")
    parser.add_argument("--all", action="store_true", help="all made-up cases")
    parser.add_argument("--day", type=int, default=datetime.date.today().toordinal(), help="those of another day")
    parser.add_argument("--seed", type=int, help="one of them alone")
    parser.add_argument("--slow", action="store_true", help="list the twenty slowest")
    parser.add_argument("--record", action="store_true", help="note which kernels are used with which types")
    parser.add_argument("--work", action="store_true", help=argparse.SUPPRESS)
    asked = parser.parse_args()
    if asked.work:
        work_off()
        return 0
    chosen = f"only {asked.seed}" if asked.seed is not None else "all" if asked.all else f"day {asked.day}"
    os.environ[seeds.VARIABLE] = chosen
    os.environ["OPENBLAS_NUM_THREADS"] = "1"  # its idle threads spin, and there is a process a core
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # or each of many processes would translate everything anew
    print(seeds.told(), flush=True)
    begun = time.perf_counter()
    modules = sorted(
        (ROOT / "tests").glob("test_*.py"),
        key=lambda path: (_LONG.index(path.stem) if path.stem in _LONG else 99, -path.stat().st_size),
    )
    todo = [[_full(name)] for name in asked.names] or [[f"tests.{path.stem}"] for path in modules]
    printing = threading.Lock()
    with tempfile.TemporaryDirectory() as folder:
        log = Path(folder) / "kernels"
        os.environ["TINSNIP_KERNEL_LOG"] = str(log)
        # tests of the window wait a third of their time, for the screen and for their own patience
        workers = [Worker(todo, printing) for _ in range(min(len(todo), (os.cpu_count() or 1) + 1))]
        for worker in workers:
            worker.start()
        for worker in workers:
            worker.join()
        unknown = check_record(log, asked.record, asked.all and not asked.names)
    if asked.slow:
        print_slowest([line for worker in workers for line in worker.said])
    passed, failed, skipped = (sum(c[i] for worker in workers for c in worker.counts) for i in range(3))
    failed += bool(unknown) and asked.all  # a day's share may meet what no other has
    others = sum(line.startswith(_NOT_TODAY) for worker in workers for line in worker.said)
    print(f"{others} long tests have their turn on another day; --all runs them too")
    print(f"{time.perf_counter() - begun:.0f} s, {_cpu_seconds():.0f} CPU s")
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)
    return 0 if passed and not failed else 1


if __name__ == "__main__":
    code = main()
    sys.stdout.flush()
    os._exit(code)  # Qt's own teardown has nothing left to say
