"""Forms fitted to points, and the forms that a part is made of, found by themselves."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.part_pieces import noisy, two_pieces
from tests.test_joining import inside
from tinsnip.datums.finding import find_forms
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.space.forms import FORMS, Form, distances, fit_form, form_through, normals_of

_TAKES = {"plane": 1, "sphere": 2, "cylinder": 2, "cone": 3, "torus": 4}


def sampled(kind: str, count: int, arc: float, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Points of a form about the z axis, round a part of it, and the normals there."""
    t, z = rng.uniform(0, arc, count), rng.uniform(-1, 1, count)
    out = np.column_stack([np.cos(t), np.sin(t), 0 * t])
    up = np.array([0, 0, 1.0])
    if kind == "plane":
        return np.column_stack([rng.uniform(-20, 20, (count, 2)), 0 * t]), np.tile(up, (count, 1))
    if kind == "cylinder":
        return 10 * out + 15 * z[:, None] * up, out
    if kind == "cone":
        h = (20 + 10 * z)[:, None]
        return h * (np.tan(0.4) * out + up), np.cos(0.4) * out - np.sin(0.4) * up
    p = rng.uniform(-np.pi, np.pi, count)[:, None] if kind == "torus" else np.arcsin(z)[:, None]
    ways = np.cos(p) * out + np.sin(p) * up
    return (20 * out + 6 * ways if kind == "torus" else 10 * ways), ways


class Fits(unittest.TestCase):
    def test_forms_are_as_near_the_truth_as_their_points_tell(self) -> None:
        noise, count = 0.05, 5_000
        for number, kind in enumerate(FORMS):
            for arc, astray, at in ((2 * np.pi, 0.0, 0.0), (2 * np.pi, 0.3, 0.0), (2 * np.pi, 0.0, 1e5), (2.0, 0.1, 0)):
                rng = np.random.default_rng(number)
                points, ways = sampled(kind, count, arc, rng)
                turn, middle = Rotation.random(random_state=number).as_matrix(), np.array([at, -at, 0.5 * at])
                points = points @ turn.T + middle + rng.normal(size=points.shape) * noise
                wrong = int(astray * count)
                points[:wrong] = middle + rng.uniform(-30, 30, (wrong, 3))
                best, least = None, np.inf
                for _ in range(60):
                    own = rng.choice(count, _TAKES[kind], replace=False)
                    form = form_through(kind, points[own], ways[own] @ turn.T)
                    off = np.inf if form is None else float(np.median(np.abs(distances(form, points))))
                    if off < least:
                        best, least = form, off
                form, _ = fit_form(points, best)
                truth = {
                    "plane": Form(kind, middle, turn[:, 2]), "sphere": Form(kind, middle, np.zeros(3), 10.0),
                    "cylinder": Form(kind, middle, turn[:, 2], 10.0), "cone": Form(kind, middle, turn[:, 2], 0.0, 0.4),
                    "torus": Form(kind, middle, turn[:, 2], 20.0, 6.0),
                }[kind]  # fmt: skip
                # the fitted form lies on the true one, wherever there were points of it
                clean, _ = sampled(kind, 500, arc, rng)
                off = distances(form, clean @ turn.T + middle)
                self.assertLess(float(np.sqrt((off**2).mean())), 0.1 * noise, (kind, arc, astray, at))
                if arc > 6:
                    self.assertLess(abs(form.radius - truth.radius), 0.1 * noise, (kind, astray, at))
                    self.assertLess(abs(form.tube - truth.tube), 0.1 * noise, (kind, astray, at))
                    self.assertGreater(abs(form.way @ truth.way), 1 - 1e-6) if kind != "sphere" else None

    def test_distances_and_normals_agree(self) -> None:
        rng = np.random.default_rng(2)
        for kind in FORMS:
            points, ways = sampled(kind, 200, 2 * np.pi, rng)
            form = Form(
                kind, np.zeros(3), np.array([0, 0, 1.0]) * (kind != "sphere"), {"torus": 20.0}.get(kind, 10.0),
                {"torus": 6.0, "cone": 0.4}.get(kind, 0.0),
            )  # fmt: skip
            np.testing.assert_allclose(distances(form, points), 0, atol=1e-9)
            np.testing.assert_allclose(distances(form, points + 0.01 * ways), 0.01, atol=1e-9)
            np.testing.assert_allclose(normals_of(form, points + 0.01 * ways), ways, atol=1e-7)
        with self.assertRaisesRegex(BadInput, "too few"):
            fit_form(np.zeros((3, 3)), Form("torus", np.zeros(3), np.array([0, 0, 1.0]), 2.0, 1.0))


class Found(unittest.TestCase):
    def test_a_bored_box_is_six_planes_and_a_cylinder(self) -> None:
        box = noisy(specimens.bored_box(60.0, 120).mesh, np.random.default_rng(0))
        turn = Rotation.random(random_state=1).as_matrix()
        box = Mesh(box.vertices @ turn.T + [900.0, -40.0, 7.0], box.faces)
        found = find_forms(box)
        self.assertEqual(sorted(d.form.kind for d in found), ["cylinder", *["plane"] * 6])
        self.assertGreater(sum(d.share for d in found), 0.75)
        self.assertEqual(len(found), 7)
        ways = np.array([d.form.way for d in found if d.form.kind == "plane"]) @ turn
        np.testing.assert_allclose(np.sort(np.abs(ways), axis=1)[:, 2], 1.0, atol=1e-3)
        bore = next(d for d in found if d.form.kind == "cylinder")
        self.assertGreater(abs(bore.form.way @ turn).max(), 1 - 1e-4)
        off = np.cross(turn.T @ (bore.form.point - [900.0, -40.0, 7.0]), turn.T @ bore.form.way)
        self.assertLess(np.linalg.norm(off), 0.1)
        # every triangle belongs to one of them at most, and lies on it
        self.assertEqual(int(np.sum([d.triangles for d in found], axis=0).max()), 1)

    def test_a_free_shape_has_none(self) -> None:
        for seed in (1,):
            self.assertEqual(find_forms(two_pieces(seed).parts[0]), [])
        self.assertEqual(find_forms(Mesh(np.zeros((0, 3)), np.zeros((0, 3), dtype=int))), [])

    def test_a_ball_and_a_ring_are_what_they_are(self) -> None:
        for mesh, kind, size in (
            (specimens.sphere(40.0, 40).mesh, "sphere", 20.0),
            (specimens.torus(60.0, 60).mesh, "torus", None),
        ):
            found = find_forms(noisy(mesh, np.random.default_rng(3)))
            self.assertEqual(found[0].form.kind, kind)
            self.assertGreater(found[0].share, 0.9)
            if size is not None:
                self.assertAlmostEqual(found[0].form.radius, size, delta=0.05)

    def test_the_command_line_tells_and_writes_them(self) -> None:
        with tempfile.TemporaryDirectory() as keep:
            path, out = Path(keep) / "box.ply", Path(keep) / "box.json"
            write_mesh(noisy(specimens.bored_box(60.0, 80).mesh, np.random.default_rng(0)), path)
            result = inside("datums", path, "--unit", "mm", "--json", "--out", out)
            self.assertEqual(result.returncode, 0, result.stderr)
            facts = json.loads(result.stdout)
            self.assertEqual(facts, json.loads(out.read_text("utf-8")))
            for own in facts["datums"]:
                self.assertLessEqual(
                    {"name", "form", "point", "direction", "area_mm2", "rms_mm", "max_mm", "share"}, own.keys()
                )
            refused = (("--out", out), "it is there already"), (("--out", "x.png"), "not a kind of drawing")
            for arguments, said in refused:
                result = inside("datums", path, *arguments)
                self.assertEqual((result.returncode, said in result.stderr), (2, True), result.stderr)


if __name__ == "__main__":
    unittest.main()
