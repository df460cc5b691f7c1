"""Compiled kernels: told apart by what matters, kept under names that cannot go stale, shared by several processes."""

import importlib.util
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np
from numba import types

from tests.seeds import in_turn
from tinsnip.kernels import Kernel, kernel, registered
from tinsnip.kernels.dispatch import plain, written
from tinsnip.kernels.recorded import _read, read_record, record_lines
from tinsnip.kernels.store import Store

SOURCE = """
import numpy as np
from tinsnip.kernels import kernel

SCALE = 3.0
TABLE = np.array([1.0, 2.0])


@kernel
def far(x):
    return x * SCALE + TABLE[1]


@kernel
def near(x):
    return x - 1.0


@kernel
def whole(values):
    \"\"\"A sum of what another kernel says.\"\"\"
    total = 0.0
    for i in range(values.shape[0]):
        total += far(values[i])
    return total
"""
WORK = """
import sys, numpy as np
from tinsnip.mesh import Mesh
from tinsnip.kernels import registered
mesh = Mesh(np.eye(4)[:, :3], [[0, 1, 2], [0, 2, 3], [0, 3, 1], [1, 3, 2]])
found = len(mesh.shells), len(mesh.loops), mesh.edges.shared
print(sum(len(k.compiled) for k in registered()), *found)
"""


def module_of(folder: Path, source: str, name: str) -> object:
    """A module made of a text."""
    path = folder / f"{name}.py"
    path.write_text(source, "utf-8")
    spec = importlib.util.spec_from_file_location("made_up", path)
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


class Keys(unittest.TestCase):
    def test_an_edit_changes_what_it_concerns_and_nothing_else(self) -> None:
        edits = {
            "SCALE = 3.0": ("SCALE = 4.0", {"far", "whole"}),
            "[1.0, 2.0]": ("[1.0, 2.5]", {"far", "whole"}),
            "x * SCALE": ("x + SCALE", {"far", "whole"}),
            "x - 1.0": ("x - 2.0", {"near"}),
            "total = 0.0": ("total = 1.0", {"whole"}),
            "# nothing": ("# a word", set()),
        }
        source = SOURCE + "# nothing\n"
        with tempfile.TemporaryDirectory() as name:
            first = module_of(Path(name), source, "first")
            keys = {k: getattr(first, k).key for k in ("far", "near", "whole")}
            self.assertEqual(len(set(keys.values())), 3)
            for number, (old, (new, changed)) in enumerate(edits.items()):
                other = module_of(Path(name), source.replace(old, new), f"other{number}")
                self.assertEqual({k for k in keys if getattr(other, k).key != keys[k]}, changed, new)
            values = np.arange(4.0)
            self.assertEqual(first.whole(values), 3 * values.sum() + 8)

    def test_what_matters_tells_signatures_apart(self) -> None:
        @kernel
        def first(values, at):
            return values[at]

        values = np.arange(5.0)
        sealed = values.copy()
        sealed.setflags(write=False)
        for array in (values, sealed):
            for at in (2, np.int32(2), np.uint8(2), np.int64(2)):
                self.assertEqual(first(array, at), 2.0)
        self.assertEqual(len(first.signatures), 1)
        self.assertEqual(first(values.astype(np.float32), 1), 1.0)
        self.assertEqual(len(first.signatures), 2)
        self.assertEqual(plain(types.Array(types.int8, 2, "C", readonly=True)), types.Array(types.int8, 2, "C"))
        self.assertEqual(plain(types.literal(3)), types.int64)

    def test_whatever_lies_in_memory_in_whatever_way_arrives(self) -> None:
        @kernel
        def told(pair, values, flag, at):
            scale, more = pair
            total = 0.0
            for i in range(values.shape[0]):
                for k in range(values.shape[1]):
                    total += values[i, k] * (i + 2 * k + 1)
            first = values[at, 0] if values.shape[0] > at else values.dtype.type(0)
            return total * scale + more[at], first, flag and total > 0.0, (values.shape[1], np.uint64(1 << 63))

        @kernel
        def nothing(out):
            out[0] = 7

        base = np.arange(48.0).reshape(6, 8)
        packed = np.zeros(6, dtype=np.dtype([("mark", np.uint8), ("at", np.float32, (8,))]))  # nowhere aligned
        packed["at"] = base
        more = np.arange(3, dtype=np.int32)
        weights = np.arange(6)[:, None] + 2 * np.arange(8) + 1
        ways = [base, np.asfortranarray(base), base[:, ::-1], base[::2, 1::3], packed["at"], base.astype(np.int16)]
        ways += [base[:0], np.broadcast_to(base[:1], (6, 8)), base.astype(np.uint8)[::-1]]
        for values in ways:
            for flag in (True, False, np.bool_(True)):
                for at in (1, np.int16(1), np.uint8(1)):
                    total, first, is_set, (width, large) = told((2.5, more), values, flag, at)
                    n, m = values.shape
                    self.assertAlmostEqual(total, (values * weights[:n, :m]).sum() * 2.5 + 1)
                    self.assertEqual(first, values[1, 0] if n else 0)
                    self.assertIs(is_set, bool(flag) and n > 0)
                    self.assertEqual((width, large), (m, 1 << 63))
        out = np.zeros(1, dtype=np.uint8)
        self.assertIsNone(nothing(out))
        self.assertEqual(out[0], 7)

    def test_arrays_that_others_make_are_let_go(self) -> None:
        """A kernel that makes none itself, but is handed some, counts who holds them."""

        @kernel
        def ones(count):
            made = np.empty(count)
            for i in range(count):
                made[i] = 1.0
            return made

        @kernel
        def total(count):
            return ones(count)[count - 1]

        def resident() -> int:
            return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGESIZE")

        total(10)
        before = resident()
        for _ in range(300):
            self.assertEqual(total(125_000), 1.0)  # a megabyte each
        self.assertLess(resident() - before, 100e6)


class Kept(unittest.TestCase):
    def setUp(self) -> None:
        self.keep = tempfile.TemporaryDirectory()
        self.addCleanup(self.keep.cleanup)

    def start(self, code: str = WORK) -> subprocess.Popen:
        environment = {**os.environ, "XDG_CACHE_HOME": self.keep.name}
        return subprocess.Popen(
            [sys.executable, "-c", code], env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )

    def ended(self, process: subprocess.Popen) -> list[str]:
        out, err = process.communicate(timeout=300)
        self.assertEqual(process.returncode, 0, err)
        return out.split(maxsplit=1)

    @in_turn(0)
    def test_several_share_the_work_and_later_ones_have_none(self) -> None:
        counts = [self.ended(one) for one in [self.start(), self.start(), self.start()]]
        self.assertEqual({c[1].strip() for c in counts}, {"1 0 6"})
        entries = sorted(Path(self.keep.name).glob("tinsnip/kernels/*/mesh*"))
        used = len(entries)
        self.assertGreaterEqual(used, 5)
        self.assertEqual(sum(int(c[0]) for c in counts), used)
        self.assertEqual(self.ended(self.start())[0], "0")
        # an entry that is cut, one with a wrong byte, and one that is empty are made anew
        for number, path in enumerate(entries):
            whole = path.read_bytes()
            wrong = bytes([*whole[:-9], whole[-9] ^ 1, *whole[-8:]])
            path.write_bytes((whole[: len(whole) // 2], wrong, b"")[number % 3])
        again = self.ended(self.start())
        self.assertEqual((int(again[0]), again[1].strip()), (used, "1 0 6"))
        # nor does it matter that nothing can be kept
        blocked = Path(self.keep.name) / "tinsnip"
        for path in sorted(blocked.rglob("*"), reverse=True):
            path.rmdir() if path.is_dir() else path.unlink()
        blocked.rmdir()
        blocked.write_text("no folder")
        self.assertEqual(int(self.ended(self.start())[0]), used)

    @in_turn(1)
    def test_a_kill_at_any_moment_costs_nothing_but_the_rest(self) -> None:
        chance = random.Random(time.time_ns())
        for _ in range(4):
            process = self.start()
            time.sleep(chance.uniform(0.8, 4.0))
            process.send_signal(signal.SIGKILL)
            process.communicate()
        self.assertEqual(self.ended(self.start())[1].strip(), "1 0 6")

    def test_old_entries_are_cleared(self) -> None:
        store = Store(Path(self.keep.name))
        store.write("new", b"1")
        store.write("old", b"2")
        long_ago = time.time() - 100 * 86400
        os.utime(store.folder / "old", (long_ago, long_ago))
        other = store.folder.parent / "another"
        other.mkdir()
        (other / "entry").write_text("of an older toolchain")
        os.utime(other / "entry", (long_ago, long_ago))
        store.clear_old()
        self.assertEqual((store.read("new"), store.read("old"), list(other.iterdir())), (b"1", None, []))


class Record(unittest.TestCase):
    def test_every_line_names_a_kernel_and_reads_back(self) -> None:
        record = read_record()
        self.assertGreater(len(record), 150)
        self.assertEqual(len(record), len(record_lines()), "lines that fit no kernel any more; take them out")
        for one, kinds in record:
            self.assertEqual(_read(written(one, kinds)), (one, kinds))
            self.assertEqual(tuple(map(plain, kinds)), kinds)
        # every kernel is one that Python calls, or is called by one that is
        used, rest = set(), [one for one, _ in record]
        while rest:
            one = rest.pop()
            if one not in used:
                used.add(one)
                names = [one.py_func.__globals__.get(name) for name in one.py_func.__code__.co_names]
                rest += [other for other in names if isinstance(other, Kernel)]
        own = {one for one in registered() if one.is_kept}
        self.assertEqual({one.name for one in own - used}, set(), "never used, as far as the tests have seen")


class ReadOnly(unittest.TestCase):
    @in_turn(2)
    def test_no_array_of_a_mesh_is_ever_written(self) -> None:
        result = subprocess.run(
            [sys.executable, "-m", "tests.read_only"], capture_output=True, text=True, timeout=600, check=False
        )
        self.assertEqual(result.returncode, 0, result.stderr[-2000:])
        self.assertGreater(int(result.stdout), 4)


if __name__ == "__main__":
    unittest.main()
