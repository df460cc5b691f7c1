"""Joining, cutting, intersecting: volumes a second way, what stays to the bit, colours, and honest refusals."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.optimize import linprog
from scipy.spatial import ConvexHull, HalfspaceIntersection
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.exact_count import counted_exactly
from tests.hands import SCREEN, WindowTest
from tests.seeds import in_turn, seeds
from tests.test_command_line import inside
from tests.test_shapes import together
from tinsnip.demo.library import demo_truth
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan, write_mesh
from tinsnip.mesh import MADE, Attribute, Domain, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.solids import box_solid, cylinder_solid
from tinsnip.survey import examine
from tinsnip.survey.crossings import crossings_of
from tinsnip.treat import AddSolid, Combine, Context, Drain, Foot, Hollow, MendCrossings

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest

HOWS = ("join", "cut", "intersect")


def box(low: tuple[float, ...], high: tuple[float, ...]) -> Mesh:
    vertices, faces = box_solid(np.array(high) - np.array(low))
    return Mesh(vertices + 0.5 * (np.array(low) + np.array(high)), faces)


def cylinder(size: tuple[float, ...]) -> Mesh:
    return Mesh(*cylinder_solid(np.array(size)))


def turned(mesh: Mesh, seed: int, by: np.ndarray) -> Mesh:
    return Mesh(mesh.vertices @ Rotation.random(random_state=seed).as_matrix().T + by, mesh.faces)


def combined(how: str, *meshes: Mesh) -> Mesh:
    return Combine(how=how).apply(meshes, Context()).parts[0].mesh


def hulled(mesh: Mesh) -> Mesh:
    """The convex hull of a mesh, outward."""
    hull = ConvexHull(mesh.vertices)
    faces, corners = hull.simplices.copy(), mesh.vertices[hull.simplices]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    inward = (normal * hull.equations[:, :3]).sum(axis=1) < 0
    faces[inward] = faces[inward][:, ::-1]
    return Mesh(mesh.vertices, faces)


def common_volume(one: Mesh, other: Mesh) -> float:
    """Of two convex solids, by the half-spaces of their hulls; the second way."""
    planes = np.concatenate([ConvexHull(m.vertices).equations for m in (one, other)])
    size = np.linalg.norm(planes[:, :3], axis=1)
    # the ball that fits in best gives a point inside
    best = linprog([0, 0, 0, -1], np.column_stack([planes[:, :3], size]), -planes[:, 3], bounds=[(None, None)] * 4)
    if best.status or best.x[3] <= 1e-9:
        return 0.0
    return float(ConvexHull(HalfspaceIntersection(planes, best.x[:3]).intersections).volume)


class Exactly(unittest.TestCase):
    def proven(self, mesh: Mesh) -> None:
        """A closed solid without tangles or crossings, by the tests' own count."""
        self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
        self.assertEqual(counted_exactly(mesh.vertices, mesh.faces), (0, 0))

    def test_boxes_in_every_position(self) -> None:
        one = box((0, 0, 0), (1, 1, 1))
        for name, other, common in (
            ("general", box((0.5, 0.4, 0.3), (1.5, 1.4, 1.3)), 0.21),
            ("a whole side in common", box((1, 0, 0), (2, 1, 1)), 0.0),
            ("a part of a side in common", box((1, 0.25, 0.25), (2, 0.75, 0.6)), 0.0),
            ("four sides flush", box((0.5, 0, 0), (1.5, 1, 1)), 0.5),
            ("one side flush", box((0.5, 0.25, 0), (1.5, 0.75, 0.5)), 0.125),
            ("in a corner", box((0, 0, 0), (0.5, 0.5, 0.5)), 0.125),
            ("through and through", box((-1, 0.25, 0.25), (2, 0.75, 0.75)), 0.25),
            ("within", box((0.25, 0.25, 0.25), (0.5, 0.5, 0.5)), 0.25**3),
            ("apart", box((3, 3, 3), (4, 4, 4)), 0.0),
            ("the same", one, 1.0),
        ):
            for scale, off in ((1.0, 0.0), (200.0, 1e4)):
                pair = [Mesh(scale * m.vertices + off, m.faces) for m in (one, other)]
                wanted = dict(zip(HOWS, (1 + other.volume - common, 1 - common, common), strict=True))
                for how, volume in wanted.items():
                    with self.subTest(name, how=how, scale=scale):
                        if volume < 1e-12 or (name, how) == ("apart", "cut"):
                            with self.assertRaisesRegex(BadInput, "nothing would be left|do not meet"):
                                combined(how, *pair)
                            continue
                        if (name, how) == ("a whole side in common", "cut"):
                            self.assertAlmostEqual(combined(how, *pair).volume / scale**3, 1.0, delta=1e-9)
                            continue
                        made = combined(how, *pair)
                        self.assertAlmostEqual(made.volume / scale**3, volume, delta=1e-6 * volume)
                        self.proven(made)
                        state = examine(made, wanted_shells=2 if name == "apart" else 1).readiness
                        self.assertTrue(state.ready, state.reasons)

    @in_turn(0)
    def test_convex_pairs_have_the_volume_of_their_half_spaces(self) -> None:
        makes = (
            lambda: specimens.sphere(2.0, 14).mesh,
            lambda: cylinder((1.6, 1.6, 2.0)),
            lambda: box((-0.7, -0.7, -0.7), (0.7, 0.7, 0.7)),
        )
        rng = np.random.default_rng(0)
        for seed in range(9):
            one, other = (hulled(makes[int(rng.integers(3))]()) for _ in range(2))
            other = hulled(turned(other, seed, rng.uniform(-0.9, 0.9, 3)))
            common = common_volume(one, other)
            whole = [one.volume, other.volume]
            with self.subTest(seed=seed):
                for how, volume in zip(HOWS, (sum(whole) - common, whole[0] - common, common), strict=True):
                    made = combined(how, one, other)
                    self.assertAlmostEqual(made.volume / volume, 1.0, delta=1e-6)
                    self.proven(made)

    def test_random_pairs_of_parts(self) -> None:
        """What is common and what is cut away add up, far triangles stay to the bit, and refusals are few."""
        parts = [specimens.sphere(60.0, 20).mesh, specimens.torus(90.0, 48).mesh, specimens.bored_box(70.0, 32).mesh]
        truth = demo_truth("gauge-lantern-lower", 3.0)
        part = Mesh((truth.vertices - truth.vertices.mean(axis=0)).astype(np.float32), truth.faces)
        parts.append(MendCrossings().apply(part, Context()).mesh)
        for part in parts:
            self.assertEqual((part.edges.open, crossings_of(part).total), (0, 0))
        refused = 0
        for seed in seeds(12, self.id()):
            rng = np.random.default_rng(seed)
            one, other = (parts[int(i)] for i in rng.integers(0, len(parts), 2))
            if seed % 3 == 2:  # square to each other, in whole steps: sides lie in one plane
                other = Mesh(other.vertices[:, [1, 2, 0]] + 5.0 * rng.integers(-4, 5, 3), other.faces)
            else:
                other = turned(other, seed, rng.uniform(-30, 30, 3))
            volumes = {}
            for how in HOWS:
                try:
                    made = Combine(how=how).apply([one, other], Context())
                except BadInput as error:
                    refused += "nothing would be left" not in str(error) and "do not meet" not in str(error)
                    continue
                mesh = made.parts[0].mesh
                with self.subTest(seed=seed, how=how):
                    self.proven(mesh)
                    volumes[how] = mesh.volume
                    if not made.account.figures["moved_mm"] and how != "intersect":
                        gone = specimens.triangle_set(one.vertices, one.faces)
                        gone -= specimens.triangle_set(mesh.vertices, mesh.faces)
                        # what is gone lies at the other one, or in it
                        index = [f for f in one.faces if specimens.triangle_set(one.vertices, f[None]) <= gone]
                        middles = one.vertices[np.array(index).reshape(-1, 3)].mean(axis=1)
                        low, high = other.box
                        self.assertTrue(((middles > low - 12) & (middles < high + 12)).all())
            if len(volumes) == 3:
                self.assertAlmostEqual(volumes["join"] + volumes["intersect"], one.volume + other.volume, delta=1e-3)
                self.assertAlmostEqual(volumes["cut"] + volumes["intersect"], one.volume, delta=1e-3)
        self.assertLessEqual(refused, 1)

    def test_colours_come_along_in_any_order(self) -> None:
        pair = [box((0, 0, 0), (2, 2, 2)), box((1, 0, 0), (3, 1, 1))]
        pair = [
            m.with_attribute("colour", Attribute(Domain.VERTEX, np.tile(np.uint8(c), (8, 1))))
            for m, c in zip(pair, ([200, 10, 10], [10, 10, 200]), strict=True)
        ]
        areas = []
        for some in (pair, pair[::-1]):
            made = combined("join", *some)
            red = made.attributes["colour"].values[made.faces][..., 0].mean(axis=1)
            corners = made.vertices[made.faces]
            size = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
            pure = (red == 200) | (red == 10)
            self.assertGreater(size[pure].sum() / size.sum(), 0.5)
            areas.append((size[red > 150].sum(), size[red < 60].sum()))
        np.testing.assert_allclose(areas[0], areas[1], rtol=1e-12)

    def test_what_only_one_of_them_has_is_said_and_a_made_solid_takes_nothing_away(self) -> None:
        one, other = box((0, 0, 0), (2, 2, 2)), box((1, 0.5, 0.5), (3, 1.5, 1.5))
        corner = np.arange(3 * len(one.faces), dtype=float)
        marked = one.with_attribute("texture", Attribute(Domain.CORNER, np.column_stack([corner, corner])))
        marked = marked.with_attribute("colour", Attribute(Domain.VERTEX, np.full((8, 3), 40, np.uint8)))
        outcome = Combine().apply([marked, other], Context())
        self.assertIn("texture left out, as not all of them have it", outcome.text)
        made = AddSolid(middle=(2, 1, 1), size_mm=(2, 1, 1)).apply(marked, Context()).mesh
        self.assertAlmostEqual(made.volume, 9.0, delta=1e-9)
        kept = specimens.triangle_set(one.vertices, one.faces)
        known = {specimens.triangle_set(one.vertices, f[None]).pop(): i for i, f in enumerate(one.faces)}
        stayed = 0
        for i, f in enumerate(made.faces):
            name = specimens.triangle_set(made.vertices, f[None]).pop()
            if name in kept:
                stayed += 1
                own = sorted(map(tuple, made.attributes["texture"].values[3 * i : 3 * i + 3]))
                was = sorted(map(tuple, marked.attributes["texture"].values[3 * known[name] : 3 * known[name] + 3]))
                self.assertEqual(own, was)
        self.assertGreater(stayed, 6)
        grey = made.provenance == MADE
        self.assertGreater(made.attributes["colour"].values[made.faces[grey]].max(), 100)
        self.assertEqual(set(made.attributes["colour"].values[made.vertices[:, 0] < 1].ravel()), {40})

    def test_what_lies_almost_on_each_other_is_moved_and_said_or_refused(self) -> None:
        ring = specimens.torus(1.5, 48).mesh
        made = Combine().apply([ring, Mesh(ring.vertices[:, [1, 2, 0]], ring.faces)], Context())
        self.proven(made.parts[0].mesh)
        self.assertEqual(made.account.figures["moved_mm"] > 0, "moved by" in made.text)
        self.assertLess(made.account.figures["moved_mm"], 1e-6)

    def test_refusals_say_why(self) -> None:
        one = box((0, 0, 0), (1, 1, 1))
        ball = specimens.sphere(1.0, 10).mesh
        crossing = together(ball, Mesh(ball.vertices + 0.3, ball.faces))
        for pieces, how, said in (
            ([one], "join", "two pieces or more"),
            (
                [one, keep_triangles(ball, np.arange(5, len(ball.faces)))],
                "join",
                "piece 2 is no valid solid: it is open",
            ),
            ([crossing, one], "join", "piece 1 is no valid solid: it crosses itself"),
            ([Mesh(ball.vertices, ball.faces[:, ::-1]), one], "cut", "inside out"),
            ([one, Mesh(np.zeros((0, 3)), np.zeros((0, 3), int))], "join", "it is empty"),
            ([one, box((1, 1, 0), (2, 2, 1))], "join", "touch along an edge or in a point only"),
            ([one, box((1, 1, 1), (2, 2, 2))], "join", "touch along an edge or in a point only"),
        ):
            with self.subTest(said), self.assertRaisesRegex(BadInput, said):
                Combine(how=how).apply(pieces, Context())


class SimpleSolids(unittest.TestCase):
    def test_added_cut_and_kept(self) -> None:
        block = box((0, 0, 0), (20, 20, 20))
        for shape, area in (("box", 36.0), ("cylinder", 0.25 * 36 * 128 * np.sin(2 * np.pi / 128) / 2)):
            add = AddSolid(shape=shape, middle=(10, 10, 20), size_mm=(6, 6, 8))
            for how, volume in (("join", 8000 + 4 * area), ("cut", 8000 - 4 * area), ("intersect", 4 * area)):
                made = add.model_copy(update={"how": how}).apply(block, Context()).mesh
                self.assertAlmostEqual(made.volume / volume, 1.0, delta=1e-6)
                self.assertTrue(examine(made).readiness.ready)
        joined = AddSolid(middle=(10, 10, 20), size_mm=(6, 6, 8), up=(0, 1, 1)).apply(block, Context()).mesh
        self.assertEqual(counted_exactly(joined.vertices, joined.faces), (0, 0))
        self.assertEqual({MADE}, set(joined.provenance[joined.vertices[joined.faces][..., 2].mean(axis=1) > 20.5]))
        with self.assertRaisesRegex(BadInput, "does not meet"):
            AddSolid(middle=(90, 0, 0)).apply(block, Context())

    def test_feet(self) -> None:
        ball = specimens.sphere(40.0, 24).mesh
        for shape in ("round", "rectangular"):
            outcome = Foot(shape=shape, height_mm=6, margin_mm=2, into_mm=3).apply(ball, Context())
            made = outcome.mesh
            self.assertTrue(examine(made).readiness.ready)
            self.assertAlmostEqual(made.box[0, 2], ball.box[0, 2] - 6, delta=1e-5)
            flat = made.vertices[made.faces][..., 2].max(axis=1) == made.box[0, 2]
            self.assertGreater(flat.sum(), 1)
            self.assertEqual(counted_exactly(made.vertices, made.faces), (0, 0))
            # right round what stands on it: the cap of the ball within three millimetres of its lowest point
            cap = np.sqrt(20**2 - 17**2)
            self.assertAlmostEqual(0.5 * made.size[0], max(20.0, cap + 2), delta=0.5)
        block = box((0, 0, 0), (20, 20, 20))  # flat on flat, as the tray's default may come to lie
        made = Foot(shape="rectangular", height_mm=5, margin_mm=0, into_mm=1).apply(block, Context()).mesh
        self.assertAlmostEqual(made.volume, 10_000, delta=1e-2)

    def test_drains_lead_into_the_hollow(self) -> None:
        ball = specimens.sphere(60.0, 32).mesh
        hollow = Hollow(wall_mm=6.0).apply(ball, Context()).mesh
        for way in ((0, 0, -1.0), (0.6, 0.64, 0.48)):
            at = 30 * np.array(way)
            outcome = Drain(at=tuple(at), diameter_mm=5.0).apply(hollow, Context())
            made = outcome.mesh
            self.assertAlmostEqual(outcome.account.figures["wall_mm"], 6.0, delta=0.15)
            found = examine(made)
            self.assertTrue(found.readiness.ready, found.readiness.reasons)
            self.assertEqual((found.counts()["hollows"], found.counts()["voids"], len(made.shells)), (0, 0, 1))
            self.assertAlmostEqual(hollow.volume - made.volume, np.pi * 2.5**2 * 6.0, delta=4.0)
            # the hole goes right through: no surface within its bore
            off = made.vertices - at
            along = off @ np.array(way)
            across = np.linalg.norm(off - along[:, None] * np.array(way), axis=1)
            self.assertGreater(across[(along > -7) & (along < 1)].min(), 2.25)
        with self.assertRaisesRegex(BadInput, "no hollow"):
            Drain(at=(0, 0, 30.0)).apply(ball, Context())
        with self.assertRaisesRegex(BadInput, "no hollow right behind"):  # a lug of full material on it
            lug = AddSolid(middle=(0, 0, 32.0), size_mm=(8, 8, 8)).apply(hollow, Context()).mesh
            Drain(at=(4.0, 0, 33.0)).apply(lug, Context())


class OnTheCommandLine(unittest.TestCase):
    def test_files_are_combined(self) -> None:
        with tempfile.TemporaryDirectory() as keep:
            folder = Path(keep)
            one, other, out = folder / "one.stl", folder / "other.stl", folder / "out.stl"
            write_mesh(box((0, 0, 0), (20, 20, 20)), one)
            write_mesh(box((10, 5, 5), (40, 15, 15)), other)
            result = inside("combine", "cut", one, other, "--unit", "mm", "--out", out, "--json")
            self.assertEqual(result.returncode, 0, result.stderr)
            facts = json.loads(result.stdout)
            self.assertAlmostEqual(facts["volume_mm3"], 7000, delta=1e-3)
            self.assertAlmostEqual(read_scan(out, "mm").mesh.volume, 7000, delta=1e-3)
            for arguments, said in (
                ((one, other, "--out", out), "it is there already"),
                ((one, other, "--out", one, "--replace"), "never written over"),
                ((one, "--out", folder / "x.stl"), "two files or more"),
                ((one, one, "--out", folder / "x.stl"), "nothing would be left"),
            ):
                result = inside("combine", "cut", *arguments, "--unit", "mm")
                self.assertEqual((result.returncode, said in result.stderr), (2, True), result.stderr)
            self.assertFalse((folder / "x.stl").exists())


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_pieces_are_joined_and_cut(self) -> None:
        tray = self.put_up(box((0, 0, 0), (200, 200, 200)), box((100, 50, 50), (400, 150, 150)))
        self.click(tray.part_row.buttons["Join"])
        self.assertIn("2 pieces shown", tray.together.text())
        active = self.session.mesh.volume
        self.assertEqual(tray.copper.text(), "Join the shown pieces")
        self.click(tray.copper)
        self.settle()
        self.assertEqual(len(self.session.job.pieces), 1)
        self.assertAlmostEqual(self.session.mesh.volume / 1e6, 8 + 3 - 1, delta=1e-6)
        self.assertEqual(self.window.state_button.text(), "Ready")
        self.assertFalse(tray.copper.isEnabled() or tray.combining[0].isEnabled())
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertEqual(len(self.session.job.pieces), 2)
        self.click(tray.combining[0])
        self.settle()
        self.assertAlmostEqual(self.session.mesh.volume, active - 1e6, delta=1.0)

    def test_a_solid_is_dragged_into_place_and_cut_out(self) -> None:
        tray = self.put_up(box((0, 0, 0), (200, 200, 200)))
        self.view.framing.look_from(30.0, 20.0)
        self.settle()
        self.click(tray.part_row.buttons["Join"])
        self.click(tray.tool_buttons["Place a solid"])
        tool = self.view.hand.tool
        tool_option = next(w for w in tray.parts["Join"].findChildren(type(tray.form)) if w.count() == 3)
        tool_option.setCurrentText("cut")
        size = tool.plan.size.copy()
        tab = next(t for t in tool.tabs() if t.name == "side-2+1")
        start = (tab.at.x(), tab.at.y())
        self.drag(start, (start[0], start[1] - 40), Qt.MouseButton.LeftButton)
        self.assertGreater(tool.plan.size[2], size[2] + 1)
        plan = tool.plan.treatment()
        self.assertEqual((tray.copper.text(), tray.copper.isEnabled()), ("Join or cut it", True))
        self.click(tray.copper)
        self.settle()
        self.assertEqual(self.session.job.log[-1].action, plan)
        depth = 200 - (plan.middle[2] - 0.5 * plan.size_mm[2])
        self.assertAlmostEqual(self.session.mesh.volume, 8e6 - plan.size_mm[0] * plan.size_mm[1] * depth, delta=1.0)
        self.click(tray.part_row.buttons["Hollow"])
        self.assertIsNone(self.view.hand.tool)

    def test_a_drain_by_a_click(self) -> None:
        hollow = Hollow(wall_mm=20.0).apply(specimens.sphere(200.0, 24).mesh, Context()).mesh
        tray = self.put_up(specimens.sphere(200.0, 24).mesh)
        self.session.apply(Hollow(wall_mm=20.0))
        self.settle()
        self.assertEqual(len(self.session.mesh.faces), len(hollow.faces))
        self.click(tray.part_row.buttons["Drain"])
        self.click(tray.tool_buttons["Drill a drain hole"])
        # where it would go in, and through how much, is seen before the click
        x, y = self.view.width() // 2, self.view.height() // 2
        QTest.mouseMove(self.view, QPoint(x, y))
        drill = self.view.hand.tool
        self.wait_for(lambda: drill.aim is not None)
        self.assertAlmostEqual(drill.aim.wall_mm, 20.0, delta=0.4)
        QTest.mouseMove(self.view, QPoint(3, 3))
        self.wait_for(lambda: drill.aim is None)
        self.click(self.view, x, y)
        self.settle()
        self.assertEqual(self.session.job.log[-1].action.name, "drain")
        self.assertEqual(len(self.session.mesh.shells), 1)
        self.assertEqual(self.window.state_button.text(), "Ready")


if __name__ == "__main__":
    unittest.main()
