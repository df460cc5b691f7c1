"""Many scans: folders and patterns, in several processes, killed and gone on with."""

import contextlib
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np

from tests import seeds, specimens
from tests.random_scans import random_scan
from tests.seeds import in_turn
from tests.test_command_line import inside
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.job import Order, load_routine, scans_among
from tinsnip.job.resuming import Done


def until(told: str, holds: object, seconds: float = 120.0) -> None:
    end = time.monotonic() + seconds
    while not holds():
        if time.monotonic() > end:
            raise AssertionError(f"in vain waited until {told}")
        time.sleep(0.02)


class Batches(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.keep = tempfile.TemporaryDirectory()
        cls.folder = Path(cls.keep.name)
        cls.scans = cls.folder / "scans"
        cls.scans.mkdir()
        for i in range(7):
            write_mesh(random_scan(i).mesh, cls.scans / f"s{i}.ply")
        large = specimens.damage(specimens.torus(60.0, 160), np.random.default_rng(0), pinches=0.0).mesh
        write_mesh(large, cls.scans / "s7.ply")  # takes a while
        (cls.scans / "s8.stl").write_bytes(b"nothing of a scan")
        (cls.scans / "notes.txt").write_text("no scan")
        ran = inside("run", "print-solid", cls.scans, "--out", cls.folder / "one", "--json")
        cls.alone = json.loads(ran.stdout)["results"]
        cls.code = ran.returncode

    @classmethod
    def tearDownClass(cls) -> None:
        cls.keep.cleanup()

    def same(self, out: Path, results: list[dict] | None = None) -> None:
        """The results are to the bit those of one process, and so is what is said of them."""
        for one in sorted((self.folder / "one").glob("*.stl")):
            self.assertEqual((out / one.name).read_bytes(), one.read_bytes(), one.name)
        for one, other in zip(self.alone, results or (), strict=False):
            for key in ("triangles", "volume_mm3", "ready", "reasons", "error"):
                self.assertEqual(one.get(key), other.get(key), one["file"])

    @staticmethod
    def record(out: Path) -> Path:
        return Done(out, Order(load_routine("print-solid"))).path

    def named(self, out: Path) -> set[str]:
        """The results that the record knows."""
        lines = self.record(out).read_text().splitlines() if self.record(out).exists() else []
        return {json.loads(line)["target"] for line in lines if '"facts"' in line and line.endswith("}")}

    def command(self, out: Path, *more: str) -> list[str]:
        return [sys.executable, "-m", "tinsnip", "run", "print-solid", str(self.scans), "--out", str(out), *more]

    def test_folders_patterns_and_what_is_none(self) -> None:
        self.assertEqual(self.code, 2)  # one is broken, and the others are done
        self.assertEqual(len(self.alone), 9)
        self.assertEqual(["error" in one for one in self.alone], [False] * 8 + [True])
        names = [p.name for p in scans_among([self.scans / "s[0-2].ply", self.scans / "s1.ply", self.scans / "s7.ply"])]
        self.assertEqual(names, ["s0.ply", "s1.ply", "s2.ply", "s7.ply"])
        with self.assertRaisesRegex(BadInput, "fits this pattern"):
            scans_among([self.scans / "*.obj"])
        (empty := self.folder / "empty").mkdir(exist_ok=True)
        with self.assertRaisesRegex(BadInput, "no scan in this folder"):
            scans_among([empty])
        ran = inside(
            "run", "print-solid", self.scans, "--out", self.folder / "x", "--workers", "2", "--cluster", "tcp://h:1"
        )
        self.assertIn("leave one out", ran.stderr)

    @in_turn(2)
    def test_killed_and_gone_on_with(self) -> None:
        out, moments = self.folder / "killed", np.random.default_rng(seeds.share(range(12), "kills")[0])
        done: dict[str, int] = {}
        for _ in range(5):  # some while starting, some within a scan, some between two
            work = subprocess.Popen(self.command(out, "--resume"), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            with contextlib.suppress(subprocess.TimeoutExpired):
                work.wait(moments.uniform(1.0, 5.0))
            work.send_signal(signal.SIGKILL)
            work.wait()
            for name in self.named(out) - set(done):
                done[name] = (out / name).stat().st_mtime_ns
        with self.record(out).open("a") as record:
            record.write('\n{"scan": "torn o')
        ran = inside("run", "print-solid", self.scans, "--out", out, "--resume", "--json")
        self.same(out, json.loads(ran.stdout)["results"])
        for name, written in done.items():
            self.assertEqual((out / name).stat().st_mtime_ns, written, "it was done twice")
        again = inside("run", "print-solid", self.scans, "--out", out, "--resume")
        self.assertEqual(again.stdout.count("done before"), 8)
        # another order, or a scan that has changed, is done anew
        self.assertEqual(
            inside("run", "reverse-mesh", self.scans, "--out", out, "--resume").stdout.count("done before"), 0
        )
        self.assertIn("already", inside("run", "print-solid", self.scans, "--out", out).stderr)
        write_mesh(specimens.sphere(9.0, 8).mesh, self.folder / "own.ply")
        for i in range(2):
            ran = inside("run", "print-solid", self.folder / "own.ply", "--out", self.folder / "own", "--resume")
            self.assertEqual("done before" in ran.stdout, i == 1)
        write_mesh(specimens.sphere(9.5, 8).mesh, self.folder / "own.ply")
        ran = inside("run", "print-solid", self.folder / "own.ply", "--out", self.folder / "own", "--resume")
        self.assertNotIn("done before", ran.stdout)

    @in_turn(0)
    def test_workers_do_the_same_and_one_that_dies_is_replaced(self) -> None:
        out = self.folder / "many"
        work = subprocess.Popen(
            self.command(out, "--workers", "2", "--json"), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        begun = out / ".s7.stl.begun"
        until("a worker is at the large one", lambda: begun.exists() and begun.read_text().endswith("\n"))
        os.kill(int(begun.read_text()), signal.SIGKILL)
        text, said = work.communicate(timeout=300)
        results = json.loads(text)["results"]
        self.same(out, results)
        self.assertEqual(work.returncode, 2)
        self.assertEqual(len(said.strip().splitlines()), 1, said)  # the broken one alone
        self.assertEqual(list(out.glob(".*.begun")), [])
        again = [Path(one["file"]).stem for one in results if "its worker died" in " ".join(one.get("notes", []))]
        self.assertEqual(again, ["s7"])


if __name__ == "__main__":
    unittest.main()
