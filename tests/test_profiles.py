"""Profiles: each thing that can be asked, failed and passed on parts whose figures are known, and how they are kept."""

import json
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import Qt, QTimer
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.test_command_line import inside
from tests.test_deforming import BOX
from tests.test_slices import stacked
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan, write_mesh
from tinsnip.job import (
    Profile,
    Writing,
    checks_of,
    judged_by,
    load_profile,
    profiles,
    release,
    remove_profile,
    save_profile,
)
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.progress import Progress
from tinsnip.space.solids import box_solid
from tinsnip.survey import examine
from tinsnip.survey.buildroom import fit_into
from tinsnip.survey.readiness import Check
from tinsnip.treat import Context, Subdivide

if SCREEN:
    from tinsnip.app.stations.profileeditor import ProfileEditor


def block(*size: float) -> Mesh:
    """On the bed, its corner at the origin."""
    vertices, faces = box_solid(np.array(size, dtype=float))
    return Mesh(vertices - vertices.min(axis=0), faces)


def shifted(mesh: Mesh, *by: float) -> Mesh:
    return Mesh(mesh.vertices + np.array(by), mesh.faces)


def joined(*meshes: Mesh) -> Mesh:
    starts = np.cumsum([0, *(len(m.vertices) for m in meshes)])
    faces = [m.faces + s for m, s in zip(meshes, starts, strict=False)]
    return Mesh(np.concatenate([m.vertices for m in meshes]), np.concatenate(faces))


def asked(mesh: Mesh, format_name: str = "stl", **fields: object) -> dict[str, Check]:
    return {c.name: c for c in checks_of(Profile(**fields), examine(mesh), format_name, Progress())}


def hollow(size: float, wall: float) -> Mesh:
    inner = block(*[size - 2 * wall] * 3)
    return joined(block(size, size, size), Mesh(inner.vertices + wall, inner.faces[:, ::-1]))


PLATE = Subdivide(times=3).apply(Mesh(BOX.vertices * [5.0, 5.0, 0.05], BOX.faces), Context()).mesh
"""20 x 20 x 1 mm, with vertices within its sides."""
T_SHAPE = stacked((0, 10, 4, 0), (10, 12, 12, 0))
RIBBED = joined(block(10, 10, 5), shifted(block(6, 0.3, 8), 2, 4, 6))
COLOURED = PLATE.with_attribute(
    "colour", Attribute(Domain.VERTEX, np.zeros((len(PLATE.vertices), 3), dtype=np.uint8))
)  # fmt: skip


class Asked(unittest.TestCase):
    def test_each_is_failed_and_passed_with_figure_and_limit(self) -> None:
        cases = (
            ("room", block(20, 30, 50), {"room_width_mm": 20, "room_height_mm": 50}, {"room_height_mm": 49}, "20.00"),
            ("on the bed", block(1, 1, 1), {"stands_on_the_bed": True}, None, ""),
            (
                "steady",
                block(10, 20, 40),
                {"stands_tilted_by_degrees": 14.0},
                {"stands_tilted_by_degrees": 14.1},
                "14.04°",
            ),
            ("walls", PLATE, {"least_wall_mm": 0.99}, {"least_wall_mm": 1.01}, "mm"),
            ("features", RIBBED, {"least_feature_mm": 0.25}, {"least_feature_mm": 0.4}, "none narrower"),
            ("islands", T_SHAPE, {"no_free_islands": True, "layer_height_mm": 0.5}, None, "none"),
            ("overhang", T_SHAPE, {"most_overhang_mm2": 50}, {"most_overhang_mm2": 40}, "mm²"),
            ("drained", block(9, 9, 9), {"every_hollow_drained": True}, None, "none"),
            ("triangles", block(9, 9, 9), {"most_triangles": 12}, {"most_triangles": 11}, "12"),
            ("file size", PLATE, {"largest_file_mb": 0.5}, {"largest_file_mb": 0.0001}, "MB"),
        )
        for name, mesh, passing, failing, figure in cases:
            with self.subTest(name):
                good = asked(mesh, **passing)[name]
                self.assertEqual((good.passed, bool(good.limit)), (True, True), good)
                self.assertIn(figure, good.figure)
                if failing is not None:
                    bad = asked(mesh, **failing)[name]
                    self.assertIs(bad.passed, False, bad)
                    self.assertTrue(bad.reason and bad.brief and bad.limit)
        self.assertIs(
            asked(shifted(block(1, 1, 1), 3, 3, 3), stands_on_the_bed=True)["on the bed"].passed,
            False,
        )
        hanging = joined(stacked((0, 10, 4, 0), (10, 12, 12, 0)), shifted(block(1, 1, 3), 5, 1, 7))
        islands = asked(hanging, no_free_islands=True, layer_height_mm=0.5)["islands"]
        self.assertEqual((islands.passed, islands.figure), (False, "1 island"))
        np.testing.assert_allclose(islands.place, [5.5, 1.5, 7.25], atol=0.5)
        shut = asked(hollow(20, 2), every_hollow_drained=True)["drained"]
        self.assertEqual((shut.passed, shut.figure), (False, f"{16**3:,} mm³ caught".replace(",", "\u202f")))
        self.assertIs(asked(COLOURED, "ply", with_colours=True)["colours"].passed, True)
        self.assertIn("STL holds none", asked(COLOURED, "stl", with_colours=True)["colours"].reason)
        self.assertIn("the part has none", asked(PLATE, "ply", with_colours=True)["colours"].reason)
        self.assertEqual([asked(PLATE, f, file_format="3mf")["format"].passed for f in ("3mf", "stl")], [True, False])
        two = joined(PLATE, shifted(PLATE, 50, 50, 50))
        verdicts = [judged_by(Profile(shells=n), examine(two), "stl", Progress()) for n in (1, 2)]
        self.assertEqual([v.ready for v in verdicts], [False, True])
        self.assertEqual(asked(PLATE), {})

    def test_figures_by_hand(self) -> None:
        # a block leaning over the edge of its foot falls
        leaning = asked(stacked((0, 1, 4, 0), (1, 20, 4, 3)), stands_tilted_by_degrees=1.0)["steady"]
        self.assertIs(leaning.passed, False)
        over = asked(T_SHAPE, most_overhang_mm2=0)["overhang"]
        self.assertIn("48.00 mm²", over.figure)  # twelve wide, four deep: two blocks, one on the other
        self.assertEqual(over.place[2], 10.0)
        self.assertIs(asked(T_SHAPE, most_overhang_mm2=0, overhang_beyond_degrees=90)["overhang"].passed, True)
        rib = asked(RIBBED, least_feature_mm=0.4, layer_height_mm=0.1)["features"]
        self.assertTrue(6 < rib.place[2] < 14 and 4 < rib.place[1] < 4.3, rib.place)
        self.assertIn("80 layers", rib.figure)
        # a slope that is narrow only at its tip is not called narrow, nor are round and sharp corners
        for mesh in (specimens.sphere(20.0, 24).mesh, specimens.torus(20.0, 60).mesh, block(3, 3, 3)):
            self.assertIs(asked(mesh, least_feature_mm=1.0)["features"].passed, True)

    def test_what_is_open_is_neither_passed_nor_failed(self) -> None:
        open_one = Mesh(PLATE.vertices, PLATE.faces[5:])
        found = asked(
            open_one,
            stands_tilted_by_degrees=5,
            least_wall_mm=0.5,
            least_feature_mm=0.5,
            layer_height_mm=0.2,
            no_free_islands=True,
        )
        self.assertEqual({c.passed for c in found.values()}, {None})
        self.assertEqual({c.reason for c in found.values()}, {"the part is not closed"})
        self.assertEqual(asked(Mesh(np.zeros((0, 3)), np.zeros((0, 3), int)), stands_on_the_bed=True), {})

    def test_what_fits_does_and_what_is_turned_does_too(self) -> None:
        rng = np.random.default_rng(2)
        for number in range(30):
            size = rng.uniform(5, 60, 3)
            lies = Rotation.random(random_state=number).as_matrix() if number % 3 else np.eye(3)
            room = tuple(rng.permutation(size) * rng.uniform(0.8, 1.3))
            solid = block(*size)
            mesh = Mesh((solid.vertices - 5) @ lies.T + rng.normal(size=3) * 100, solid.faces)
            fit = fit_into(mesh, room, Progress())
            if fit.turn is not None:
                self.assertAlmostEqual(np.linalg.det(fit.turn), 1.0)
                turned = np.ptp(mesh.vertices @ fit.turn.T, axis=0)
                self.assertTrue((turned <= np.array(room) + 1e-5).all(), (turned, room))
                self.assertEqual(fit.as_it_lies, bool((mesh.size <= np.array(room) + 1e-6).all()))
            else:  # no fit was overlooked that sides along the axes, or three thousand random turns, would have
                self.assertFalse((np.sort(size) <= np.sort(room)).all(), (size, room))
                for turn in Rotation.random(3000, random_state=number).as_matrix()[: 300 if number else 3000]:
                    self.assertFalse((np.ptp(mesh.vertices @ turn.T, axis=0) <= room).all())
                self.assertLess(fit.share, 1.0)
        diagonal = fit_into(block(50, 5, 10), (40, 40, 60), Progress())
        self.assertEqual((diagonal.as_it_lies, diagonal.laid), (False, False))
        self.assertTrue(38 < abs(diagonal.degrees) < 52)


class Kept(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        patch = mock.patch.dict(os.environ, {"XDG_CONFIG_HOME": str(self.folder / "config")})
        patch.start()
        self.addCleanup(patch.stop)

    def test_by_name_by_file_and_refused_in_one_line(self) -> None:
        self.assertEqual(profiles(), {})
        own = Profile(name="Bench printer", room_width_mm=120, least_wall_mm=0.8)
        path = save_profile(own)
        self.assertEqual(
            (load_profile("Bench printer"), load_profile(str(path)), list(profiles())), (own, own, [own.name])
        )
        path.write_bytes(b"\xef\xbb\xbf" + path.read_bytes())
        self.assertEqual(load_profile(own.name), own)
        for text, told in (
            ('{"least_wal_mm": 1}', "least_wal_mm: is no field of a profile"),
            ('{"least_wall_mm": -1}', "least_wall_mm: input should be greater than 0"),
            ('{"name": "../x"}', "name: "),
            ('{"largest_file_mb": NaN}', "largest_file_mb: "),
            ('{"file_format": "doc"}', "file_format: "),
            ("[1]", "the file: "),
            ("{", "the file: "),
        ):
            path.write_text(text)
            with self.assertRaisesRegex(BadInput, told) as raised:
                load_profile(str(path))
            self.assertNotIn("\n", str(raised.exception))
        with self.assertRaisesRegex(BadInput, "neither one of yours"):
            load_profile("nobody's")

    def test_a_file_in_another_unit_is_judged_in_millimetres(self) -> None:
        ball = specimens.sphere(50.8, 30).mesh
        for unit, factor in (("in", 25.4), ("cm", 10.0)):
            path = self.folder / f"{unit}.stl"
            found = release(ball, path, unit=unit)
            self.assertTrue(found.readiness.proven)
            np.testing.assert_allclose(found.mesh.size, ball.size, rtol=1e-6)
            np.testing.assert_allclose(read_scan(path, "mm").mesh.size, ball.size / factor, rtol=1e-6)
            release(ball, self.folder / "same.3mf", unit=unit)
            np.testing.assert_allclose(read_scan(self.folder / "same.3mf").mesh.size, ball.size, rtol=1e-6)

    def test_on_the_command_line(self) -> None:
        part, profile = self.folder / "part.stl", self.folder / "own.json"
        write_mesh(specimens.bored_box(40.0, 60).mesh, part)
        profile.write_text(
            json.dumps({"most_triangles": 900, "file_format": "ply", "file_unit": "in", "room_height_mm": 5})
        )
        checked = inside("check", part, "--unit", "mm", "--profile", profile, "--json")
        facts = json.loads(checked.stdout)
        self.assertEqual((checked.returncode, facts["ready"]), (1, False))
        by_name = {c["check"]: c for c in facts["checks"]}
        self.assertEqual(
            [by_name[n]["passed"] for n in ("closed", "room", "triangles", "format")], [True, False, False, False]
        )
        self.assertIn("room", inside("check", part, "--unit", "mm", "--profile", profile).stdout)
        out = self.folder / "out"
        ran = inside("run", "print-solid", part, "--unit", "mm", "--out", out, "--profile", profile, "--json")
        facts = json.loads(ran.stdout)["results"][0]
        self.assertEqual((ran.returncode, facts["triangles"] <= 900, Path(facts["out"]).suffix), (1, True, ".ply"))
        self.assertEqual([c["check"] for c in facts["checks"] if c["passed"] is False], ["room"])
        np.testing.assert_allclose(read_scan(out / "part.ply", "in").mesh.size.max(), 40.0, rtol=0.05)
        profile.write_text('{"wrong": 1}')
        for command in (["check", part], ["run", "print-solid", part, "--out", out]):
            refused = inside(*command, "--profile", profile)
            self.assertEqual((refused.returncode, refused.stderr.count("\n")), (2, 1), refused.stderr)
            self.assertIn("wrong: is no field", refused.stderr)
        self.assertEqual(json.loads(inside("profiles", "new").stdout)["shells"], 1)


class InTheWindow(WindowTest):
    def setUp(self) -> None:
        super().setUp()
        for name in profiles():
            remove_profile(name)
        self.addCleanup(lambda: [remove_profile(name) for name in profiles()])

    def fill_in(self, act: object) -> None:
        """Answer the profile's page once it is open; without a window manager nobody hands the keys back after it."""
        QTimer.singleShot(100, lambda: act(self.application.activeModalWidget()))

    def test_made_chosen_looked_at_and_mended(self) -> None:
        mesh = Subdivide(times=4).apply(block(60, 10, 20), Context()).mesh
        self.put_up(mesh)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_9)
        tray = self.window.tray("Release")

        def make(page: ProfileEditor) -> None:
            fields = page.form
            fields.field("name").line.setText("Small")
            for name, value in (
                ("room_width_mm", 50),
                ("room_depth_mm", 50),
                ("least_wall_mm", 11),
                ("most_triangles", 2000),
            ):
                fields.field(name).tick.click()
                fields.field(name).spin.setValue(value)
            fields.field("file_format").combo.setCurrentText("3mf")
            page.save.click()

        self.fill_in(make)
        tray.profile.setCurrentIndex(tray.profile.count() - 1)
        self.window.activateWindow()
        self.settle()
        self.assertEqual((tray.profile.currentText(), list(profiles())), ("Small", ["Small"]))
        self.assertEqual(tray.format.currentData(), "3mf")
        rows = tray.profile_checks.rows
        self.assertEqual(list(rows), ["room", "walls", "triangles", "format"])
        self.assertEqual([row.figure.text()[0] for row in rows.values()], ["✗", "✗", "✗", "✓"])
        self.assertIn("larger than the machine", self.window.state_button.text())
        # the state leads to where the first thing that is missing is put right
        self.click(self.window.state_button)
        self.assertEqual(self.session.station, "Stand")
        self.key(Qt.Key.Key_9)
        self.assertEqual(self.session.station, "Release")
        scale = self.view.camera.scale
        self.click(rows["walls"].button)
        self.wait_for(lambda: self.view.camera.scale < 0.6 * scale)
        self.assertFalse(rows["room"].button.isEnabled())
        tray.scroll.ensureWidgetVisible(tray.turn)
        self.click(tray.turn)
        self.settle()
        self.assertEqual(rows["room"].figure.text()[0], "✓")
        self.assertLess(self.session.mesh.size.max(), 50.0)

        def change(page: ProfileEditor) -> None:
            page.form.field("least_wall_mm").tick.click()
            page.form.field("name").line.setText("Smaller")
            page.save.click()

        self.fill_in(change)
        tray.scroll.ensureWidgetVisible(tray.edit)
        self.click(tray.edit)
        self.assertEqual((tray.profile.currentText(), list(profiles())), ("Smaller", ["Smaller"]))
        self.assertNotIn("walls", tray.profile_checks.rows)
        path = Path(self.folder.name) / "out.3mf"
        self.session.exporting.write(Writing(path))
        self.wait_for(lambda: self.session.exporting.last is not None)
        told = "3 072 triangles where 2 000 are allowed; reduce it".replace(" 0", "\u202f0")
        self.assertEqual(self.session.exporting.last[1].reasons, [told])
        # another window remembers which one is in use; a profile that was taken away is none any more
        self.assertEqual(self.view.settings.profile, "Smaller")
        self.fill_in(lambda page: page.remove.click())
        self.click(tray.edit)
        self.assertEqual(
            (tray.profile.currentText(), tray.profile_checks.rows, self.window.state_button.text()),
            ("none", {}, "Ready"),
        )
