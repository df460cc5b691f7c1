"""What is seen, what is hidden, and the snips by hand; hidden triangles outlive every treatment."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import in_turn, share
from tests.test_bed import scene
from tests.test_selecting import two_shells
from tinsnip.errors import BadInput, HiddenInTheWay
from tinsnip.formats import Scan, write_mesh
from tinsnip.job import Job, perform_all
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.regions.backdrop import backdrop
from tinsnip.regions.outlined import Sight, outlined, seen_through
from tinsnip.regions.rules import along_edge, edge_rows, facing, high, long_edged, small_shells, smoothed_border
from tinsnip.treat import TREATMENTS, Context, Delete, Offset, Reduce, Smooth, StraightSnip, Thicken, Turn

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QMenu


def sight_along(mesh: Mesh, towards: np.ndarray, pixels: int) -> Sight:
    """Looking at all of a mesh from a direction."""
    towards = towards / np.linalg.norm(towards)
    right = np.cross([0.0, 0.6, 0.8], towards)
    right /= np.linalg.norm(right)
    frame = np.stack([right, np.cross(towards, right), towards])
    return Sight(frame, mesh.box.mean(axis=0), mesh.diagonal / pixels, pixels, pixels)


class Seen(unittest.TestCase):
    """Against a second, slower way: rays from the eye at every pixel."""

    def test_what_is_drawn_is_taken_and_nothing_from_the_back(self) -> None:
        rng = np.random.default_rng(0)
        whole = np.array([[0.0, 0.0], [90.0, 0.0], [90.0, 90.0], [0.0, 90.0]])
        for make, n in (
            (specimens.sphere, 10),
            (specimens.torus, 16),
            (specimens.bored_box, 20),
            (specimens.sphere, 90),
        ):
            mesh = make(20.0, n).mesh
            for _ in range(3):
                sight = sight_along(mesh, rng.normal(size=3), 90)
                taken = outlined(mesh, sight, whole, Progress())
                corners = mesh.vertices[mesh.faces]
                facing_eye = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]) @ sight.frame[2]
                self.assertTrue((facing_eye[taken] > 0).all())
                # every hit of a ray through a pixel's middle is among it
                ys, xs = np.mgrid[0:90:11, 0:90:11]
                for x, y in zip(xs.ravel() + 0.5, ys.ravel() + 0.5, strict=True):
                    place = sight.middle + sight.scale * ((x - 45) * sight.frame[0] - (y - 45) * sight.frame[1])
                    hit = self.first_hit(corners, place + 100 * sight.frame[2], -sight.frame[2])
                    if hit is not None:
                        self.assertTrue(taken[hit])
                if n == 90:  # smaller than a pixel: all that faces the eye squarely is taken, drawn or not
                    size = np.linalg.norm(
                        np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1
                    )
                    self.assertTrue(taken[facing_eye > 0.5 * size].all())

    @staticmethod
    def first_hit(corners: np.ndarray, start: np.ndarray, way: np.ndarray) -> int | None:
        a, u, v = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        p = np.cross(way, v)
        det = (u * p).sum(axis=1)
        with np.errstate(divide="ignore", invalid="ignore"):
            s = ((start - a) * p).sum(axis=1) / det
            q = np.cross(start - a, u)
            t, far = (q @ way) / det, (v * q).sum(axis=1) / det
        good = (np.abs(det) > 1e-12) & (s > 1e-9) & (t > 1e-9) & (s + t < 1 - 1e-9)
        return int(np.flatnonzero(good)[np.argmin(far[good])]) if good.any() else None

    def test_part_of_the_picture_what_hides_and_through(self) -> None:
        mesh = specimens.sphere(20.0, 60).mesh
        sight = sight_along(mesh, np.array([0.0, 0.0, 1.0]), 200)
        ring = 100 + 40 * np.array([[np.cos(a), np.sin(a)] for a in np.linspace(0, 2 * np.pi, 60, endpoint=False)])
        seen, through = outlined(mesh, sight, ring, Progress()), seen_through(mesh, sight, ring)
        self.assertTrue((through[seen]).mean() > 0.9)
        self.assertAlmostEqual(seen.sum() / through.sum(), 0.5, delta=0.05)
        self.assertTrue((mesh.vertices[mesh.faces[seen]][..., 2] > 0).all())
        # with what is seen hidden, the far side is seen; another piece before it hides it
        behind = outlined(mesh, sight, ring, Progress(), hidden=seen)
        self.assertFalse((behind & seen).any())
        self.assertGreater(behind.sum(), 100)
        wall = Mesh([[-9, -9, 30], [9, -9, 30], [9, 9, 30], [-9, 9, 30]], [[0, 1, 2], [0, 2, 3]])
        self.assertEqual(outlined(mesh, sight, ring, Progress(), before=[wall]).sum(), 0)


class Rules(unittest.TestCase):
    def test_rules_by_hand(self) -> None:
        mesh = two_shells()
        corners = mesh.vertices[mesh.faces]
        up = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        tilt = np.degrees(np.arccos(np.clip(up[:, 2] / np.linalg.norm(up, axis=1), -1, 1)))
        self.assertTrue((facing(mesh, np.array([0.0, 0, 1]), 20.0) == (tilt <= 20.0)).all())
        self.assertTrue((high(mesh, 1.0, True) == np.array([min(c[:, 2]) > 1.0 for c in corners])).all())
        edges = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
        self.assertTrue((long_edged(mesh, 2.0, True) == (edges.max(axis=1) > 2.0)).all())
        ball = mesh.shells.label == mesh.shells.label[-1]
        self.assertTrue((small_shells(mesh, int(ball.sum()) + 1) == ball).all())
        speckled = high(mesh, 1.0, True) ^ (np.random.default_rng(0).random(len(mesh.faces)) < 0.05)
        smooth = smoothed_border(mesh, speckled, 8)
        self.assertLess((smooth ^ high(mesh, 1.0, True)).sum(), 0.4 * (speckled ^ high(mesh, 1.0, True)).sum())
        cup = StraightSnip(offset=2.0).apply(specimens.sphere(20.0, 30).mesh, Context()).mesh
        lowest = cup.vertices[cup.faces][..., 2].min(axis=1)
        at_rim = edge_rows(cup, 0, np.array([10.0, 0, 2]), 1)
        self.assertTrue(at_rim[lowest < 2 + 1e-9].all())
        self.assertLess(cup.vertices[cup.faces[at_rim]][..., 2].max(), 5)
        some = along_edge(cup, np.array([10.0, 0, 2]), np.array([0.0, 10, 2]))
        self.assertAlmostEqual(len(some) / len(along_edge(cup, np.array([10.0, 0, 2]))), 0.25, delta=0.05)


class Backdrops(unittest.TestCase):
    def test_what_is_proposed_is_background_and_nothing_is_where_there_is_none(self) -> None:
        for seed in range(6):
            mesh, normal, point, scale = scene(seed, True)
            height = (mesh.vertices[mesh.faces].mean(axis=1) - point) @ normal / scale
            chosen = backdrop(mesh)
            with self.subTest(seed=seed):
                self.assertGreater(chosen[height < 0.3].mean(), 0.9)
                self.assertLess(chosen[height > 8.0].mean(), 0.01)
                self.assertFalse(backdrop(scene(seed, False)[0]).any())
        far = two_shells()
        wall = specimens.sphere(30.0, 30).mesh
        both = Mesh(
            np.concatenate([far.vertices, wall.vertices + 200.0]),
            np.concatenate([far.faces, wall.faces + len(far.vertices)]),
        )
        chosen = backdrop(both)
        self.assertTrue((chosen == (np.arange(len(both.faces)) >= len(far.faces))).all())


class Hidden(unittest.TestCase):
    @in_turn(2)
    def test_hidden_triangles_outlive_every_treatment_in_the_table(self) -> None:
        """Each leaves them to the bit, or says that it cannot and does nothing."""
        rng = np.random.default_rng(1)
        solid = two_shells()
        scan = specimens.damage(specimens.torus(40.0, 40), rng).mesh
        cup = keep_triangles(solid, solid.vertices[solid.faces][..., 2].mean(axis=1) > -8)
        refused, done = set(), set()
        for mesh in share((solid, scan, cup), self.id()):
            middles = mesh.vertices[mesh.faces].mean(axis=1)
            for hidden in (middles[:, 0] > np.quantile(middles[:, 0], 0.8), rng.random(len(mesh.faces)) < 0.3):
                wanted = specimens.triangle_set(mesh.vertices, mesh.faces[hidden])
                job = Job()
                job.open(Scan(Path("scan.ply"), mesh, "ply", "mm", ""))
                pieces = dict(job.present)
                number = job.active
                for name, make in TREATMENTS.items():
                    treatments = [make()]
                    if make is Delete:
                        treatments = [Delete(triangles=Region.of(mesh, some)) for some in (~hidden, hidden)]
                    if make is StraightSnip:
                        offsets = (float(np.quantile(middles[:, 0], q)) for q in (0.1, 0.5))
                        treatments = [StraightSnip(normal=(1, 0, 0), offset=offset) for offset in offsets]
                    if make is Reduce:
                        treatments = [Reduce(percent=30)]
                    if make is Turn:
                        treatments = [Turn(degrees=5)]
                    if make in (Offset, Thicken):  # thick enough to be coarse
                        treatments = [Offset(by_mm=4.0) if make is Offset else Thicken(wall_mm=4.0)]
                    for treatment in treatments:
                        with self.subTest(treatment=name, triangles=len(mesh.faces)):
                            try:
                                steps = perform_all(
                                    [(treatment, (number,))], pieces, job.next_id, Progress(), {number: hidden}
                                )
                            except HiddenInTheWay as refusal:
                                self.assertIn("hidden triangle", str(refusal))
                                refused.add(name)
                                continue
                            except BadInput:
                                continue
                            after = [c.after.mesh for c in steps[0].changes if c.after is not None]
                            if after:
                                done.add(name)
                                there = set().union(*(specimens.triangle_set(m.vertices, m.faces) for m in after))
                                self.assertLessEqual(wanted, there)
        self.assertLessEqual({"delete", "turn", "place", "snip-straight"}, refused)
        self.assertLessEqual({"delete", "smooth", "reduce"}, done)

    def test_what_works_on_the_whole_goes_round_them(self) -> None:
        mesh = specimens.sphere(20.0, 40).mesh
        hidden = mesh.vertices[mesh.faces][..., 2].mean(axis=1) > 6
        for treatment in (Smooth(iterations=5), Reduce(percent=40)):
            spared = treatment.sparing(mesh, hidden).apply(mesh, Context()).mesh
            there = specimens.triangle_set(spared.vertices, spared.faces)
            self.assertLessEqual(specimens.triangle_set(mesh.vertices, mesh.faces[hidden]), there)
            self.assertIsNot(spared, mesh)


class ByHand(WindowTest):
    """Each tool on the real window; the mesh is checked."""

    def setUp(self) -> None:
        super().setUp()
        path = Path(self.folder.name) / "two.ply"
        write_mesh(two_shells(), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.view.framing.look_from(0.0, 90.0)
        self.view.framing.fit()
        self.key(Qt.Key.Key_3)
        self.key(Qt.Key.Key_Escape)
        self.trim, self.bar, self.selected = self.window.tray("Trim"), self.window.selection_bar, self.session.selected

    def take(self, name: str) -> None:
        button = {**self.trim.tool_row.buttons, **self.trim.select_row.buttons}[name]
        self.trim.scroll.ensureWidgetVisible(button)
        self.click(button)

    def at(self, *point: float) -> tuple[float, float]:
        x, y = self.view.camera.project(np.array(point))[0, :2]
        return float(x), float(y)

    def stroke(self, points: list[tuple[float, float]]) -> None:
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=QPoint(*map(round, points[0])))
        for x, y in points[1:]:
            QTest.mouseMove(self.view, QPoint(round(x), round(y)))
            self.application.processEvents()
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=QPoint(*map(round, points[-1])))
        QTest.qWait(200)
        self.settle()

    def circle(self, middle: tuple[float, float], radius: float) -> list[tuple[float, float]]:
        turn = np.linspace(0, 6.2, 40)
        return [(middle[0] + radius * np.cos(a), middle[1] + radius * np.sin(a)) for a in turn]

    def test_drawn_seen_or_through_hidden_and_asked(self) -> None:
        mesh = self.session.mesh
        self.take("Select by an outline")
        place = self.at(12.0, 6.0, 0.0)
        self.stroke(self.circle(place, 40))
        taken = self.selected.triangles
        corners = mesh.vertices[mesh.faces[taken]]
        self.assertTrue((np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 2] > 0).all())
        self.key(Qt.Key.Key_V)
        self.assertIn("THROUGH", self.view.hand.hint())
        self.stroke(self.circle(place, 40))
        self.assertGreater(self.selected.count, taken.sum())
        # hidden: not drawn, not selected, in nothing's way but its own
        count = self.selected.count
        before = self.picture()
        self.key(Qt.Key.Key_H)
        self.assertEqual((self.selected.count, self.selected.hidden_count), (0, count))
        self.assertIn("hidden", self.bar.text.text())
        x, y = (round(c) for c in place)
        differs = np.abs(
            self.picture()[y - 4 : y + 4, x - 4 : x + 4].astype(int) - before[y - 4 : y + 4, x - 4 : x + 4]
        )
        self.assertGreater(differs.mean(), 20)
        self.stroke(self.circle(place, 60))
        self.assertFalse((self.selected.triangles & self.selected.hidden).any())
        hidden = specimens.triangle_set(mesh.vertices, mesh.faces[self.selected.hidden])
        self.key(Qt.Key.Key_Delete)
        self.settle()
        self.assertLessEqual(hidden, specimens.triangle_set(self.session.mesh.vertices, self.session.mesh.faces))
        self.wait_for(lambda: self.selected.hidden_count == count)  # found again on what is left
        # a cut through them asks; left, nothing happens; shown, it is done
        self.key(Qt.Key.Key_Escape)
        now = self.session.mesh
        self.click(self.trim.axis.button(0))
        self.key(Qt.Key.Key_X)  # so that what is hidden lies on the waste side
        self.answer_question("Leave it")
        self.key(Qt.Key.Key_Return)
        self.wait_for(lambda: self.session.tasks.idle)
        self.assertIs(self.session.mesh, now)
        self.answer_question("Show all and do it")
        self.key(Qt.Key.Key_Return)
        self.wait_for(lambda: self.session.mesh is not now)
        self.assertEqual(self.selected.hidden_count, 0)

    def test_rows_rules_and_names(self) -> None:
        mesh = self.session.mesh
        self.take("Select by a rule")
        options = self.trim._options[self.view.hand.tool]
        options.fields["rule"].setCurrentText("Shells of fewer triangles than")
        ball = mesh.shells.label == mesh.shells.label[-1]
        self.type_number(options.fields["value"], str(int(ball.sum()) + 1))
        self.key(Qt.Key.Key_Return)
        self.wait_for(lambda: self.selected.count == int(ball.sum()))
        self.assertTrue((self.selected.triangles == ball).all())
        self.selected.named["the ball"] = Region.of(mesh, ball)
        self.click(self.bar.buttons["None"])
        self.bar.recall("the ball")
        self.wait_for(lambda: self.selected.count == int(ball.sum()))
        saved = self.window.shown.values()["selections"]
        self.assertEqual(Region.model_validate(saved["the ball"]), self.selected.named["the ball"])

    def test_round_and_box_by_their_tabs(self) -> None:
        mesh = self.session.mesh
        self.take("Round snip")
        self.assertIsNotNone(self.view.scene.waste)
        plan = self.trim.plan
        radius = plan.radius
        tab = next(t for t in self.trim.tool.tabs() if t.name == "radius")
        self.drag((tab.at.x(), tab.at.y()), (tab.at.x() + 30, tab.at.y()), Qt.MouseButton.LeftButton)
        self.assertAlmostEqual(plan.radius, radius + 30 * self.view.camera.scale, delta=0.1)
        self.type_number(self.trim.section.radius, "5")
        self.assertEqual(plan.radius, 5.0)
        self.type_number(self.trim.section.through[0], "9")
        self.key(Qt.Key.Key_Return)
        cut = self.session.mesh
        new = cut.vertices[
            ~np.isin(cut.vertices.view([("", float)] * 3).ravel(), mesh.vertices.view([("", float)] * 3).ravel())
        ]
        off = np.abs(np.hypot(new[:, 0] - 9.0, new[:, 1] - plan.through[1]) - 5.0)
        self.assertGreater(len(new), 20)
        self.assertLess(off.max(), 1e-7)
        self.assertIsNone(self.trim.plan, "what has cut does not stand ready for another cut")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertIsNotNone(self.trim.plan)
        self.take("Box snip")
        tab = next(t for t in self.trim.tool.tabs() if t.name == "side-0+1")
        size = self.trim.plan.size[0]
        self.drag((tab.at.x(), tab.at.y()), (tab.at.x() - 25, tab.at.y()), Qt.MouseButton.LeftButton)
        self.assertAlmostEqual(self.trim.plan.size[0], size - 25 * self.view.camera.scale, delta=0.2)
        self.key(Qt.Key.Key_X)  # keep what is inside
        low = self.trim.plan.middle - 0.5 * self.trim.plan.size
        self.key(Qt.Key.Key_Return)
        self.assertTrue((self.session.mesh.box[0] >= low - 1e-6).all())
        self.assertLess(self.session.mesh.area, mesh.area)

    def test_outline_and_traced(self) -> None:
        mesh = self.session.mesh
        self.take("Outline snip")
        self.assertFalse(self.trim.copper.isEnabled())
        self.trim.section.shapes.button(1).click()
        corners = [self.at(4.0, 4.0, 0), self.at(15.0, 4.0, 0), self.at(16.0, 9.0, 0), self.at(15.0, 15.0, 0)]
        for corner in corners:
            self.click(self.view, *corner)
        self.key(Qt.Key.Key_Backspace)
        self.assertEqual(len(self.trim.tool.drawing.points), 3)
        self.click(self.view, *corners[3])
        self.key(Qt.Key.Key_Return)  # closes it
        self.assertIsNotNone(self.view.scene.waste)
        self.key(Qt.Key.Key_Return)
        cut = self.session.mesh
        self.assertEqual((cut.edges.tangled, cut.edges.flipped), (0, 0))
        middles = cut.vertices[cut.faces].mean(axis=1)
        inside = (middles[:, 0] > 9) & (middles[:, 0] < 14) & (middles[:, 1] > 5) & (middles[:, 1] < 8)
        self.assertFalse(inside.any())
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.take("Traced snip")
        flat = specimens.bored_box(40.0, 40).mesh.box[1]
        for x, y in ((8, 8), (17, 8), (17, 13), (8, 13)):
            self.click(self.view, *self.at(x, y, flat[2]))
        self.assertEqual(len(self.trim.plan.points), 4)
        self.wait_for(lambda: self.trim.plan.sides is not None)
        self.assertLess(abs(self.trim.plan.line[:, 2] - flat[2]).max(), 0.05)
        self.key(Qt.Key.Key_Return)
        self.wait_for(lambda: self.session.mesh is not mesh)
        self.assertAlmostEqual(self.session.mesh.area, mesh.area - 45.0, delta=2.0)
        self.assertEqual(self.session.job.log[-1].action.name, "snip-traced")

    def test_looking_into_it_changes_the_picture_and_never_the_mesh(self) -> None:
        mesh, plain = self.session.mesh, self.picture()
        pictures = {}
        for name, key in (("wire", Qt.Key.Key_K), ("see-through", Qt.Key.Key_G), ("section", Qt.Key.Key_Q)):
            self.key(key)
            pictures[name] = self.picture()
            self.assertGreater(np.abs(pictures[name].astype(int) - plain).mean(), 1.0, name)
            if name == "section":
                bar = self.view.section_bar
                self.assertTrue(bar.isVisible())
                self.click(bar.buttons["z"])
                self.type_number(bar.place, "0")
                x, y = (round(c) for c in self.at(15.0, 15.0, 0.0))
                r, _, b = self.picture()[y, x].astype(int)
                self.assertGreater(r, b + 40)  # the cut is filled
                before = self.picture()
                bar.slider.setValue(960)
                self.settle()
                self.assertGreater(np.abs(self.picture().astype(int) - before).mean(), 0.2)
            self.key(key)
            self.assertLess(np.abs(self.picture().astype(int) - plain).mean(), 0.5, name)
        self.key(Qt.Key.Key_Y)
        self.wait_for(lambda: "mm" in self.view.paints.density.rows[0].text())
        self.assertGreater(np.abs(self.picture().astype(int) - plain).mean(), 1.0)
        self.assertIs(self.session.mesh, mesh)
        self.key(Qt.Key.Key_T)

    def test_tools_at_the_pointer_in_any_station(self) -> None:
        self.key(Qt.Key.Key_5)
        self.window.show_tools()
        menu = next(m for m in self.window.findChildren(QMenu) if m.isVisible() and len(m.actions()) > 10)
        actions = {action.text(): action for action in menu.actions()}
        actions["Select a shell"].trigger()
        menu.close()
        self.assertEqual((self.session.station, self.view.hand.tool.name), ("Holes", "Select a shell"))
        mesh = self.session.mesh
        self.click(self.view, *self.at(15.0, 15.0, 0.0))
        self.wait_for(lambda: self.selected.count > 0)
        self.assertEqual(self.selected.count, int((mesh.shells.label == mesh.shells.label[0]).sum()))
        self.window.show_tools()
        menu = next(m for m in self.window.findChildren(QMenu) if m.isVisible() and len(m.actions()) > 10)
        next(a for a in menu.actions() if a.text() == "Box snip").trigger()
        menu.close()
        self.settle()
        self.assertEqual((self.session.station, self.trim.section.name), ("Trim", "Box snip"))

    def test_an_edge_is_tidied_by_a_click(self) -> None:
        cup = StraightSnip(offset=1.0).apply(specimens.sphere(20.0, 60).mesh, Context()).mesh
        path = Path(self.folder.name) / "torn.ply"
        write_mesh(specimens.ragged(np.random.default_rng(1), cup, 3, 0.4), path)
        self.open(path)
        self.key(Qt.Key.Key_3)
        self.take("Tidy an edge")
        self.view.framing.look_from(0.0, 0.0)
        self.settle()
        mesh = self.session.mesh
        longest = mesh.loops.loop(int(np.argmax(np.diff(mesh.loops.start))))
        rim = mesh.vertices[mesh.faces.ravel()[longest]]
        front = rim[rim[:, 1] < 0.0]
        self.click(self.view, *self.at(*front[np.argmin(np.abs(front[:, 0] + 5.0))]))
        self.settle()
        self.assertEqual(self.session.job.log[-1].action.name, "tidy")

    def test_what_a_cut_leaves_ragged_is_a_finding_and_made_good_there(self) -> None:
        cup = StraightSnip(offset=1.0).apply(specimens.sphere(20.0, 60).mesh, Context()).mesh
        path = Path(self.folder.name) / "torn.ply"
        write_mesh(specimens.ragged(np.random.default_rng(1), cup, 3, 0.4), path)
        self.open(path)
        self.key(Qt.Key.Key_3)
        self.assertTrue(self.trim.rag_button.isVisible())
        self.assertEqual([f.id for f in self.session.findings() if f.text == "ragged edge"], ["E1"])
        self.trim.scroll.ensureWidgetVisible(self.trim.rag_button)
        self.click(self.trim.rag_button)
        self.settle()
        self.assertEqual(self.session.job.log[-1].action.name, "tidy")
        self.assertEqual([f for f in self.session.findings() if f.text == "ragged edge"], [])
        self.assertFalse(self.trim.rag_button.isVisible())


if __name__ == "__main__":
    unittest.main()
