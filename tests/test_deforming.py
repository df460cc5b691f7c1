"""Subdividing, bending, tapering and twisting, against what can be worked out by hand."""

import unittest

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from tests import specimens
from tests.hands import WindowTest
from tests.random_scans import random_scan
from tests.seeds import seeds
from tests.test_remesh import COLOURS, coloured
from tinsnip.errors import BadInput
from tinsnip.job.datumsteps import FitDatums
from tinsnip.job.step import moved_action
from tinsnip.mesh import MADE, SHIFTED, Mesh
from tinsnip.regions import Region
from tinsnip.survey.crossings import crossings_of
from tinsnip.treat import Bend, Context, Extrude, Subdivide

BOX = Mesh(
    [[x, y, z] for x in (0.0, 4.0) for y in (0.0, 4.0) for z in (0.0, 20.0)],
    [[0, 1, 3], [0, 3, 2], [4, 6, 7], [4, 7, 5], [0, 4, 5], [0, 5, 1], [2, 3, 7], [2, 7, 6], [0, 2, 6], [0, 6, 4],
     [1, 5, 7], [1, 7, 3]],
)  # fmt: skip


def fine_box() -> Mesh:
    return Subdivide(times=5).apply(BOX, Context()).mesh


class Subdividing(unittest.TestCase):
    def test_the_same_surface_in_four_and_no_cracks(self) -> None:
        shape = specimens.bored_box(60.0, 48)
        chosen = shape.mesh.vertices[shape.mesh.faces].mean(axis=1)[:, 0] > 0
        mesh = coloured(shape.mesh, 60.0)
        for only, times, count in ((Region(), 2, 16 * len(chosen)), (Region.of(mesh, chosen), 1, None)):
            new = Subdivide(times=times, only=only).apply(mesh, Context()).mesh
            self.assertEqual(specimens.closed_faults(new.vertices, new.faces), "")
            self.assertEqual(crossings_of(new).total, 0)
            self.assertAlmostEqual(new.volume / mesh.volume, 1.0, places=6)
            self.assertAlmostEqual(new.area / mesh.area, 1.0, places=6)
            self.assertFalse((new.provenance == SHIFTED).any())
            self.assertLess(np.abs(new.colour - 255 * (0.5 + new.vertices / 240.0 @ COLOURS.T)).max(), 1.6)
            corners = new.vertices[new.faces].reshape(-1, 3) @ COLOURS.T[:, :2] / 60.0
            self.assertLess(np.abs(new.attributes["texture"].values - corners).max(), 1e-5)
            if count:
                self.assertEqual(len(new.faces), count)
        away = specimens.triangle_set(
            mesh.vertices, mesh.faces[~chosen & ~np.isin(mesh.faces, mesh.faces[chosen]).any(axis=1)]
        )
        self.assertLessEqual(away, specimens.triangle_set(new.vertices, new.faces))

    def test_loop_rounds_a_polyhedron_and_keeps_the_border(self) -> None:
        ball = specimens.sphere(60.0, 6)
        rough = np.abs(ball.distance(ball.mesh.vertices[ball.mesh.faces].mean(axis=1))).max()
        new = Subdivide(times=3, smooth=True).apply(ball.mesh, Context()).mesh
        radius = np.linalg.norm(new.vertices, axis=1)
        self.assertEqual(specimens.closed_faults(new.vertices, new.faces), "")
        self.assertLess(np.ptp(radius), 0.6 * rough)  # rounder than it was, if a little smaller
        # a regular grid's inner vertices: 5/8 itself and 1/16 of each neighbour
        grid = Mesh(
            [[x, y, float(x == y == 2)] for x in range(5) for y in range(5)], specimens.grid_faces(5, 5, False, False)
        )
        flat = Subdivide(smooth=True).apply(grid, Context()).mesh
        self.assertAlmostEqual(flat.vertices[12, 2], 5 / 8, places=6)
        rim = np.unique(grid.faces.ravel()[grid.loops.halfedges])
        self.assertTrue(np.array_equal(flat.vertices[rim], grid.vertices[rim]))

    def test_no_scan_comes_out_worse(self) -> None:
        for seed in seeds(24, "subdivide"):
            mesh = random_scan(seed).mesh
            for smooth in (False, True):
                with self.subTest(seed=seed, smooth=smooth):
                    new = Subdivide(smooth=smooth).apply(mesh, Context()).mesh
                    proper = (mesh.faces != np.roll(mesh.faces, 1, axis=1)).all(axis=1).sum()
                    self.assertEqual(len(new.faces), len(mesh.faces) + 3 * proper)
                    self.assertEqual((new.edges.open, new.edges.flipped), (2 * mesh.edges.open, 2 * mesh.edges.flipped))
                    self.assertTrue(np.isfinite(new.vertices).all())
        with self.assertRaisesRegex(BadInput, "are the most"):
            Subdivide(times=6).apply(specimens.sphere(10.0, 50).mesh, Context())


class Deforming(unittest.TestCase):
    def test_a_box_bent_tapered_and_twisted_has_the_volume_that_is_worked_out(self) -> None:
        box = fine_box()
        for how, named, volume in (
            ("bend", {"angle_degrees": 90.0}, 320.0),  # Pappus: its middle goes its length
            ("bend", {"angle_degrees": -60.0, "towards_degrees": 90.0}, 320.0),
            ("twist", {"angle_degrees": 90.0}, 320.0),
            ("taper", {"end_size_percent": 50.0}, 320.0 * (1 + 0.5 + 0.25) / 3),
        ):
            with self.subTest(how, **named):
                new = Bend(how=how, **named).apply(box, Context()).mesh
                self.assertEqual(specimens.closed_faults(new.vertices, new.faces), "")
                self.assertEqual(crossings_of(new).total, 0)
                self.assertAlmostEqual(new.volume / volume, 1.0, delta=3e-3)
        end = Bend(angle_degrees=90.0).apply(box, Context()).mesh
        far = 20.0 / (np.pi / 2)
        self.assertTrue(np.allclose(end.vertices[:, 0].max(), 2.0 + far, atol=1e-5))  # towards x, one radius away
        self.assertTrue(np.allclose(end.vertices[:, 2].max(), far + 2.0, atol=1e-5))

    def test_what_lies_below_stays_and_beyond_goes_along(self) -> None:
        box = fine_box()
        new = Bend(angle_degrees=45.0, from_mm=5.0, to_mm=10.0).apply(box, Context()).mesh
        below, beyond = box.vertices[:, 2] <= 5.0, box.vertices[:, 2] >= 10.0
        self.assertTrue(np.array_equal(new.vertices[below], box.vertices[below]))
        old, now = box.vertices[beyond], new.vertices[beyond]
        self.assertTrue(
            np.allclose(np.linalg.norm(old - old[0], axis=1), np.linalg.norm(now - now[0], axis=1), atol=1e-4)
        )
        self.assertFalse(
            (new.provenance[(box.faces[:, :, None] == np.flatnonzero(below)).any(axis=2).all(axis=1)] == SHIFTED).any()
        )
        with self.assertRaisesRegex(BadInput, "fold onto itself"):
            Bend(angle_degrees=700.0).apply(box, Context())
        with self.assertRaisesRegex(BadInput, "not beyond"):
            Bend(from_mm=9.0, to_mm=3.0).apply(box, Context())
        self.assertIn("remesh first", Bend(how="twist", angle_degrees=90.0).apply(BOX, Context()).text)


class Extruded(unittest.TestCase):
    def test_what_is_lifted_off_or_drawn_out_has_the_volume_of_its_walls(self) -> None:
        mesh = coloured(fine_box(), 20.0)
        middle = mesh.vertices[mesh.faces].mean(axis=1)
        chosen = (middle[:, 2] > 20 - 1e-9) & (np.abs(middle[:, :2] - 2.0).max(axis=1) < 1.0)
        kept = np.unique(mesh.faces[~chosen])
        for asked, grown in (
            ({"along": "z", "by_mm": 3.0}, 12.0),
            ({"along": "z", "by_mm": -1.0}, -4.0),
            ({"by_mm": 2.0}, 8.0),
            ({"along": "z", "to_mm": 50.0}, 120.0),
        ):
            outcome = Extrude(only=Region.of(mesh, chosen), **asked).apply(mesh, Context())
            new = outcome.mesh
            self.assertEqual(specimens.closed_faults(new.vertices, new.faces), "")
            self.assertEqual(crossings_of(new).total, 0)
            self.assertAlmostEqual(new.volume - mesh.volume, grown, places=6)
            np.testing.assert_array_equal(new.vertices[kept], mesh.vertices[kept])
            np.testing.assert_array_equal(new.colour[: len(mesh.vertices)], mesh.colour)
            np.testing.assert_array_equal(new.provenance == MADE, np.arange(len(new.faces)) >= len(mesh.faces))
            self.assertEqual((new.provenance == SHIFTED).sum(), chosen.sum())
            self.assertEqual(outcome.account.made_triangles, 2 * 4 * 16)
        # a rim is drawn out to a plane, and what is open stays open
        ball = specimens.sphere(40.0, 24).mesh
        bowl = Mesh(ball.vertices, ball.faces[ball.vertices[ball.faces].mean(axis=1)[:, 2] < 5.0])
        drawn = Extrude(along="z", to_mm=20.0).apply(bowl, Context()).mesh
        rim = np.unique(drawn.faces.ravel()[drawn.loops.halfedges])
        self.assertEqual((drawn.edges.open, drawn.edges.tangled, drawn.edges.flipped), (bowl.edges.open, 0, 0))
        self.assertTrue((drawn.vertices[rim, 2] == 20.0).all())

    def test_a_patch_of_a_ring_along_its_normals(self) -> None:
        for seed in seeds(8, "extrude"):
            rng = np.random.default_rng(seed)
            ring = specimens.torus(60.0, 60).mesh
            place = ring.vertices[rng.integers(len(ring.vertices))]
            chosen = np.linalg.norm(ring.vertices[ring.faces].mean(axis=1) - place, axis=1) < rng.uniform(4, 9)
            out = float(rng.choice([-1.0, 1.0])) * rng.uniform(0.5, 2.0)
            new = Extrude(only=Region.of(ring, chosen), by_mm=out).apply(ring, Context()).mesh
            self.assertEqual(specimens.closed_faults(new.vertices, new.faces), "")
            self.assertEqual(crossings_of(new).total, 0)
            # between the patch as it was and as it is: a slab's thickness times its middle area, about
            before, after = (Mesh(m.vertices, m.faces[: len(ring.faces)][chosen]).area for m in (ring, new))
            self.assertAlmostEqual((new.volume - ring.volume) / (out * 0.5 * (before + after)), 1.0, delta=0.03)

    def test_what_cannot_be_is_said(self) -> None:
        box = fine_box()
        everything, none = np.ones(len(box.faces), dtype=bool), Mesh(np.zeros((0, 3)), np.zeros((0, 3), int))
        top = box.vertices[box.faces].mean(axis=1)[:, 2] > 20 - 1e-9
        for action, mesh, said in (
            (Extrude(), box, "no open rim"),
            (Extrude(), none, "no surface"),
            (Extrude(only=Region.of(box, everything)), box, "everything is selected"),
            (Extrude(only=Region.of(box, top), to_mm=3.0), box, "choose which"),
            (Extrude(only=Region.of(box, top), along="z", by_mm=-25.0), box, "cross itself"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                action.apply(mesh, Context())


class AlongALine(unittest.TestCase):
    def test_it_is_as_along_an_axis_after_a_turn(self) -> None:
        """Bent along a line that was turned with the part is turned what is bent along the axis."""
        mesh = fine_box()
        turn, _ = np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))
        turn *= np.sign(np.linalg.det(turn))
        middle = mesh.box.mean(axis=0)
        foot = np.array([middle[0], middle[1], 0.0])
        other = Mesh(mesh.vertices @ turn.T + 7.0, mesh.faces)
        line = tuple(tuple((p @ turn.T + 7.0).tolist()) for p in (foot, foot + np.array([0, 0, 3.0])))
        low, high = mesh.box[:, 2]
        for how, named in (("twist", {"angle_degrees": 70.0}), ("taper", {"end_size_percent": 40.0})):
            begin, end = low + 0.2 * (high - low), high - 0.1 * (high - low)
            plain = Bend(how=how, from_mm=begin, to_mm=end, **named).apply(mesh, Context()).mesh
            along = Bend(how=how, line=line, from_mm=begin, to_mm=end, **named).apply(other, Context()).mesh
            np.testing.assert_allclose(along.vertices, plain.vertices @ turn.T + 7.0, atol=1e-4)
        # a bend is to a side that the line does not say: its shape is the same
        plain = Bend(angle_degrees=40.0).apply(mesh, Context()).mesh
        along = [Bend(angle_degrees=40.0, towards_degrees=t, line=line).apply(other, Context()).mesh for t in (0, 90)]
        for one in along:
            self.assertAlmostEqual(one.volume / plain.volume, 1.0, delta=0.03)
        # it goes along with a part that is moved
        matrix = np.eye(4)
        matrix[:3, :3], matrix[:3, 3] = turn, 7.0
        moved = moved_action(Bend(line=((0.0, 0.0, 0.0), (0.0, 0.0, 3.0))), [matrix])
        np.testing.assert_allclose(moved.line, np.array([[0, 0, 0.0], [0, 0, 3.0]]) @ turn.T + 7.0)
        self.assertEqual(moved_action(Bend(), [matrix]).line, ())
        for wrong in (((0.0, 0.0, 0.0),), ((1.0, 1.0, 1.0), (1.0, 1.0, 1.0))):
            with self.assertRaisesRegex(BadInput, "two places"):
                Bend(line=wrong).apply(mesh, Context())


class InTheWindow(WindowTest):
    size = (900, 640)

    def test_extruded_from_the_tray(self) -> None:
        tray = self.put_up(fine_box())
        mesh = self.session.mesh
        chosen = mesh.vertices[mesh.faces].mean(axis=1)[:, 2] > 20 - 1e-9
        self.session.selected.put(chosen)
        self.click(tray.part_row.buttons["Extrude"])
        self.type_number(tray.offered["extrude"][0].field("by_mm").spin, "6")
        self.wait_for(lambda: tray.part_look.is_on)
        seen = self.session.stand_in.buffers.mesh
        self.click(tray.copper)
        self.settle()
        self.assertIs(self.session.mesh, seen)
        step = self.session.job.log[-1].action
        self.assertEqual((step.name, step.by_mm, step.only.count), ("extrude", 6.0, int(chosen.sum())))
        self.assertAlmostEqual(self.session.mesh.volume, 16.0 * 26.0, places=6)

    def test_a_bend_is_seen_before_it_is_done(self) -> None:
        self.put_up(fine_box())
        mesh = self.session.mesh
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        tray.choose("Bend")
        straight = self.view.grabFramebuffer()
        form = tray.offered["bend"][0]
        self.type_number(form.field("angle_degrees").spin, "45")
        self.wait_for(lambda: tray.part_look.is_on)
        self.settle()
        seen = self.session.stand_in.buffers.mesh
        self.assertIs(self.session.mesh, mesh)
        self.assertNotEqual(self.view.grabFramebuffer(), straight)
        # another number, and what is seen is done at once as it was seen
        self.type_number(form.field("angle_degrees").spin, "30")
        self.wait_for(lambda: self.session.stand_in is not None and self.session.stand_in.buffers.mesh is not seen)
        seen = self.session.stand_in.buffers.mesh
        self.click(tray.copper)
        self.settle()
        self.assertIs(self.session.mesh, seen)
        self.assertIsNone(self.session.stand_in)
        # Esc shows the part again; so does another part of the tray
        for leave in (lambda: self.key(Qt.Key.Key_Escape), lambda: tray.choose("Smooth")):
            self.type_number(form.field("angle_degrees").spin, "50" if self.session.stand_in is None else "40")
            self.wait_for(lambda: tray.part_look.is_on)
            self.view.setFocus()
            leave()
            self.settle()
            self.assertIsNone(self.session.stand_in)
            form.field("angle_degrees").spin.setValue(20)
        self.assertIs(self.session.mesh, seen)

    def test_a_bend_by_its_handles(self) -> None:
        self.put_up(fine_box())
        mesh = self.session.mesh
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        tray.choose("Bend")
        self.view.framing.look_from(0.0, 0.0)
        self.view.framing.fit()
        self.settle()
        tool, form = self.view.hand.rest, tray.offered["bend"][0]
        tabs = {tab.name: tab.at for tab in tool.tabs()}
        self.assertEqual(set(tabs), {"from_mm", "to_mm", "amount"})
        # slid along the axis by a quarter of the part's height, as the view shows it
        quarter = 0.25 * float(mesh.size[2]) / self.view.camera.scale
        for name, up in (("from_mm", -quarter), ("to_mm", quarter)):
            at = tabs[name]
            self.drag((at.x(), at.y()), (at.x() + 3, at.y() + up), Qt.MouseButton.LeftButton)
        bend = form.action()
        low, high = mesh.box[:, 2]
        self.assertAlmostEqual(bend.from_mm, low + 0.25 * (high - low), delta=0.02 * (high - low))
        self.assertAlmostEqual(bend.to_mm, high - 0.25 * (high - low), delta=0.02 * (high - low))
        at = next(tab.at for tab in tool.tabs() if tab.name == "amount")
        self.drag((at.x(), at.y()), (at.x() + 30, at.y()), Qt.MouseButton.LeftButton)
        self.assertAlmostEqual(form.action().angle_degrees, bend.angle_degrees + 15.0, delta=1.0)
        self.wait_for(lambda: tray.part_look.is_on)
        self.click(tray.copper)
        self.assertEqual(self.session.job.log[-1].action, form.action())
        # a drag that is left with Esc puts the number back; another part has no handles
        before = form.action()
        at = next(tab.at for tab in tool.tabs() if tab.name == "amount")
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=at.toPoint())
        QTest.mouseMove(self.view, at.toPoint() + QPoint(40, 0))
        self.assertNotEqual(form.action(), before)
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=at.toPoint() + QPoint(40, 0))
        self.settle()
        self.assertEqual(form.action(), before)
        tray.choose("Smooth")
        self.assertIsNone(self.view.hand.rest)

    def test_a_twist_along_a_datum(self) -> None:
        self.put_up(specimens.bored_box(60.0, 48).mesh)
        mesh = self.session.mesh
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        tray.choose("Bend")
        form = tray.offered["bend"][0]
        self.assertFalse(tray.along.isVisible())
        bore = np.hypot(*mesh.vertices[mesh.faces].mean(axis=1)[:, :2].T) < 0.24 * 60
        self.session.do(FitDatums(regions=(Region.of(mesh, bore),), forms=("cylinder",)))
        self.settle()
        self.assertTrue(tray.along.isVisible())
        self.assertIn("D1", tray.along.itemText(1))
        tray.along.setCurrentIndex(1)
        self.assertFalse(form.field("axis").isVisible())
        line = np.array(form.action().line)
        np.testing.assert_allclose(np.abs(line[1] - line[0]), [0, 0, 1], atol=1e-6)
        self.assertLess(np.abs(line[:, :2]).max(), 1e-6)
        tabs = {tab.name: tab.at for tab in self.view.hand.rest.tabs()}
        self.assertEqual(set(tabs), {"from_mm", "to_mm", "amount"})
        form.field("how").combo.setCurrentText("twist")
        self.click(tray.copper)
        self.assertEqual((self.session.job.log[-1].action.how, len(self.session.job.log[-1].action.line)), ("twist", 2))
        tray.along.setCurrentIndex(0)
        self.assertEqual(form.action().line, ())

    def test_subdivided_and_bent_from_the_tray(self) -> None:
        self.put_up(fine_box())
        count = len(self.session.mesh.faces)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        self.click(tray.part_row.buttons["Divide"])
        self.click(tray.copper)
        self.assertEqual(len(self.session.mesh.faces), 4 * count)
        tray.choose("Bend")
        form = tray.offered["bend"][0]
        self.assertTrue(form.field("towards_degrees").isVisible())
        self.assertFalse(form.field("end_size_percent").isVisible())
        self.type_number(form.field("angle_degrees").spin, "60")
        self.click(tray.copper)
        step = self.session.job.log[-1]
        self.assertEqual((step.action.name, step.action.angle_degrees), ("bend", 60.0))
        self.assertGreater(self.session.mesh.size[0], 8.0)


if __name__ == "__main__":
    unittest.main()
