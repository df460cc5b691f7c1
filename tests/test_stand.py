"""Standing a part: rigid to the last bit that matters, and undone by the scanner's frame."""

import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job import Job
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.treat import Context, LayFlat, Mend, Orient, Place, Scale, Turn, TurnInsideOut
from tinsnip.treat.stand.moves import flat_facing, rotation


def job_on(mesh: Mesh) -> Job:
    job = Job()
    job.open(Scan(Path("part.stl"), mesh, "stl", "mm", "as given"))
    return job


class Standing(unittest.TestCase):
    def test_every_move_keeps_shape_and_is_undone_by_the_frame(self) -> None:
        rng = np.random.default_rng(0)
        box = specimens.bored_box(60.0, 40).mesh
        for _ in range(6):
            job = job_on(box)
            moves = [
                Turn(axis=tuple(rng.normal(size=3)), degrees=float(rng.uniform(-300, 300))),
                LayFlat(down=tuple(rng.normal(size=3))),
                Place(origin=str(rng.choice(["drop", "centre-xy", "bottom-centre", "centre", "corner"]))),
                Turn(axis=(0, 1, 0), degrees=90),
            ]
            for k in rng.permutation(len(moves)):
                job.apply(moves[k])
            now = job.piece.mesh
            self.assertAlmostEqual(now.volume / box.volume, 1.0, places=12)
            self.assertTrue((now.faces == box.faces).all())
            self.assertLess(np.abs(job.piece.in_scanner_frame().vertices - box.vertices).max(), 1e-9)
            job.undo()
            self.assertLess(np.abs(job.piece.in_scanner_frame().vertices - box.vertices).max(), 1e-9)
            job.copy_as_variant()
            job.apply(Scale(factor=2.5))
            self.assertAlmostEqual(job.piece.mesh.volume / box.volume, 2.5**3, places=9)
            self.assertLess(np.abs(job.piece.in_scanner_frame().vertices - box.vertices).max(), 1e-9)

    def test_four_quarter_turns_are_none(self) -> None:
        box = specimens.bored_box(60.0, 40).mesh
        for axis in ((1, 0, 0), (0, 1, 0), (0, 0, 1)):
            mesh = box
            for _ in range(4):
                mesh = Turn(axis=axis, degrees=90).apply(mesh, Context()).mesh
            self.assertLess(np.abs(mesh.vertices - box.vertices).max(), 1e-13 * box.diagonal)

    def test_places_and_scales(self) -> None:
        ball = specimens.sphere(30.0, 12).mesh
        ball = ball.moved(ball.vertices + np.array([7, 8, 9]))
        low = {name: Place(origin=name).apply(ball, Context()).mesh.box for name in ("drop", "corner", "centre")}
        self.assertAlmostEqual(low["drop"][0, 2], 0)
        self.assertLess(np.abs(low["corner"][0]).max(), 1e-12)
        self.assertLess(np.abs(low["centre"].sum(axis=0)).max(), 1e-12)
        scaled = Scale(axis="z", length_mm=12.5).apply(ball, Context()).mesh
        self.assertAlmostEqual(scaled.size[2], 12.5)
        flat = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]])
        for bad in (Scale(axis="z", length_mm=3), Turn(axis=(0, 0, 0), degrees=5), LayFlat(down=(0, 0, 0))):
            with self.assertRaises(BadInput):
                bad.apply(flat, Context())

    def test_a_noisy_flat_is_found_from_any_of_its_triangles(self) -> None:
        rng = np.random.default_rng(2)
        box = specimens.bored_box(60.0, 120).mesh
        turn = rotation(np.array([1.0, 2.0, -0.5]), 63.0)
        noisy = box.moved(box.vertices @ turn.T + rng.normal(0, 0.004, box.vertices.shape))
        vectors = face_vectors(noisy.vertices, noisy.faces)
        units = vectors / np.linalg.norm(vectors, axis=1)[:, None]
        top = np.flatnonzero(units @ turn[:, 2] > 0.97)
        for triangle in rng.choice(top, 12):
            down = flat_facing(noisy, int(triangle))
            self.assertGreater(float(down @ turn[:, 2]), np.cos(np.radians(0.5)))
            laid = LayFlat(down=tuple(down)).apply(noisy, Context()).mesh
            self.assertAlmostEqual(laid.box[0, 2], 0.0, places=9)
            self.assertAlmostEqual(laid.size[2], 18.0, delta=0.2)

    def test_inside_out_is_respected_when_orienting(self) -> None:
        ball = specimens.sphere(30.0, 12).mesh
        positive = TurnInsideOut().apply(ball, Context()).mesh
        self.assertLess(positive.volume, 0)
        damaged = positive.faces.copy()
        damaged[5] = damaged[5][::-1]
        mesh = Mesh(positive.vertices, damaged, None, positive.attributes)
        oriented = Orient().apply(Mend().apply(mesh, Context()).mesh, Context()).mesh
        self.assertEqual(oriented.edges.flipped, 0)
        self.assertLess(oriented.volume, 0)
        twice = TurnInsideOut().apply(positive, Context()).mesh
        self.assertGreater(Orient().apply(twice, Context()).mesh.volume, 0)


class Desktop(unittest.TestCase):
    def test_entry_icon_and_types_come_and_go(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            environment = {**os.environ, "XDG_DATA_HOME": folder}
            command = [sys.executable, "-m", "tinsnip", "desktop"]
            subprocess.run(command, env=environment, check=True, capture_output=True)
            files = [p for p in Path(folder).rglob("*tinsnip*") if p.is_file()]
            names = {p.name for p in files}
            self.assertGreater(names, {"tinsnip.desktop", "tinsnip.svg", "tinsnip.xml", "tinsnip.metainfo.xml"})
            self.assertGreaterEqual(len(files), 8)
            page = next(p for p in files if p.name == "tinsnip.1").read_text("utf-8")
            for called in ("check", "run", "combine", "compare", "warm"):
                self.assertRegex(page, rf"(?m)^\.SS {called} ")
            self.assertIn("max\\-deviation", page)
            bash = next(p for p in files if p.parent.name == "completions")
            tried = {
                **environment,
                "COMP_WORDS": "tinsnip che",
                "COMP_CWORD": "1",
                "_TINSNIP_COMPLETE": "bash_complete",
            }
            told = subprocess.run(command[:3], env=tried, capture_output=True, text=True, timeout=60).stdout
            self.assertIn("_TINSNIP_COMPLETE", bash.read_text("utf-8"))
            self.assertIn("check", told)
            subprocess.run([*command, "--remove"], env=environment, check=True, capture_output=True)
            self.assertEqual([p for p in files if p.exists()], [])


class Settings(unittest.TestCase):
    def test_damaged_settings_fall_back(self) -> None:
        code = (
            "from tinsnip.app.state.settings import Settings; p = Settings.path(); p.parent.mkdir(parents=True);"
            "p.write_text('{nonsense'); s = Settings.load(); s.left = 'pan'; s.save();"
            "import json; print(json.dumps([Settings.load().left, Settings().left]))"
        )
        with tempfile.TemporaryDirectory() as folder:
            environment = {**os.environ, "XDG_CONFIG_HOME": folder + "/new"}
            run = subprocess.run(
                [sys.executable, "-c", code], env=environment, check=True, capture_output=True, text=True
            )
            self.assertEqual(json.loads(run.stdout), ["pan", "turn"])


if __name__ == "__main__":
    unittest.main()
