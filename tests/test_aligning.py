"""Pieces laid on each other, and what is told of it; part-scans merged into one surface."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.exact_count import counted_exactly
from tests.hands import SCREEN, WindowTest
from tests.part_pieces import Pieces, noisy, off_by, pieces_round, two_pieces
from tests.seeds import in_turn, seeds
from tests.test_joining import inside
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan, write_mesh
from tinsnip.job.replay import plan_of, replay
from tinsnip.mesh import MADE, MEASURED, SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.rigid import laid_on, matrix_of, moved_points, turned_by_degrees
from tinsnip.space.solids import box_solid
from tinsnip.survey.alignment import align, align_all, find_alignment
from tinsnip.treat import Align, AlignAll, Context, MergeScans

_CLOSE = 0.15
"""Edges: what noise of a fifth of an edge leaves on pieces as coarse as these, by the least squares' own bound."""


def revolved(radii: np.ndarray, heights: np.ndarray, n: int = 120, teeth: int = 0) -> Mesh:
    """A surface of revolution, open at its ends, with teeth round it."""
    turn = np.linspace(0, 2 * np.pi, n, endpoint=False)
    rings = np.asarray(radii)[:, None] * (1 + 0.08 * np.clip(3 * np.sin(teeth * turn), -1, 1) * (teeth > 0))
    points = np.stack([rings * np.cos(turn), rings * np.sin(turn), np.repeat(heights[:, None], n, 1)], axis=-1)
    return Mesh(points.reshape(-1, 3), specimens.grid_faces(len(radii), n, False, True, flip=True))


def flat(n: int = 60) -> Mesh:
    x, y = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
    return Mesh(np.stack([x, y, 0 * x], axis=-1).reshape(-1, 3), specimens.grid_faces(n, n, False, False))


class Moves(unittest.TestCase):
    def test_points_are_laid_on_points(self) -> None:
        rng = np.random.default_rng(4)
        for scaled in (False, True):
            points, turn = rng.normal(size=(5, 3)), Rotation.random(random_state=3).as_matrix()
            factor = 2.5 if scaled else 1.0
            truth = matrix_of(factor * turn, rng.normal(size=3))
            found = laid_on(points, moved_points(truth, points), scaled=scaled)
            np.testing.assert_allclose(found, truth, atol=1e-12)
            self.assertAlmostEqual(turned_by_degrees(found), np.degrees(Rotation.from_matrix(turn).magnitude()), 9)
        # a mirror image is laid by a turn, never by a mirror
        self.assertGreater(np.linalg.det(laid_on(points, points * [-1, 1, 1])[:3, :3]), 0.99)


class Poses(unittest.TestCase):
    @in_turn(2)
    def test_from_clicks_and_by_shape_pieces_come_to_where_they_belong(self) -> None:
        for seed in seeds(18, "align"):
            pieces = two_pieces(seed)
            fixed, moving = pieces.parts
            rng = np.random.default_rng(seed)
            back = moved_points(pieces.truths[1], moving.vertices)
            shared = np.flatnonzero(cKDTree(fixed.vertices).query(back)[0] < pieces.edge)
            marked = rng.choice(shared, 3, replace=False)
            while np.linalg.svd(back[marked] - back[marked].mean(axis=0), compute_uv=False)[1] < 12.0:
                marked = rng.choice(shared, 3, replace=False)
            wrong = rng.normal(size=(3, 3))
            wrong *= 0.05 * moving.diagonal * rng.uniform(size=(3, 1)) / np.linalg.norm(wrong, axis=1)[:, None]
            action = Align(
                by="points",
                stays=tuple(map(tuple, back[marked] + wrong)),
                moves=tuple(map(tuple, moving.vertices[marked])),
            )
            made = action.apply([fixed, moving], Context())
            self.assertIs(made.parts[0].mesh, fixed)
            matrix = made.parts[1].matrix
            self.assertLess(off_by(matrix, pieces.truths[1], moving), _CLOSE * pieces.edge, seed)
            np.testing.assert_allclose(made.parts[1].mesh.vertices, moved_points(matrix, moving.vertices), atol=1e-9)
            by_shape = find_alignment(moving, fixed)
            off = off_by(by_shape.matrix, pieces.truths[1], moving)
            if by_shape.sure:
                self.assertLess(off, _CLOSE * pieces.edge, seed)
            else:
                self.assertTrue(by_shape.doubt, seed)

    @in_turn(2)
    def test_what_nothing_binds_is_said(self) -> None:
        rng = np.random.default_rng(0)
        high = np.linspace(0, 40, 40)
        for mesh, slides, turns in (
            (specimens.sphere(60.0, 24).mesh, 0, 3),
            (revolved(np.full(40, 15.0), high, 80), 1, 1),
            (revolved(np.linspace(8, 20, 40), high, 80), 0, 1),
            (flat(), 2, 1),
        ):
            one, other = noisy(mesh, rng), noisy(mesh, rng)
            found = align(other, one, np.eye(4))
            self.assertEqual([f.turns for f in found.freedoms], [False] * slides + [True] * turns)
            self.assertFalse(found.sure)
            self.assertLess(found.rms_mm, 1.0)
        rod = align(noisy(mesh := revolved(np.full(40, 15.0), high, 80), rng), mesh, np.eye(4))
        for freedom in rod.freedoms:
            self.assertGreater(abs(freedom.way[2]), 0.999)
            np.testing.assert_allclose(np.cross(freedom.point, freedom.way), 0, atol=0.3) if freedom.turns else None

    @in_turn(1)
    def test_a_gear_has_as_many_poses_as_teeth_and_nothing_fits_what_is_no_part_of_it(self) -> None:
        rng = np.random.default_rng(1)
        high = np.linspace(0, 12, 30)
        gear = revolved(np.full(30, 30.0), high, 240, teeth=9)
        turned = matrix_of(Rotation.random(random_state=5).as_matrix(), np.array([50.0, 3, -9]))
        other = noisy(gear, rng)
        found = find_alignment(Mesh(moved_points(turned, other.vertices), other.faces), noisy(gear, rng))
        self.assertFalse(found.sure)
        self.assertGreater(len(found.rivals), 1)
        one, another = two_pieces(0).parts[0], two_pieces(50).parts[1]
        self.assertFalse(find_alignment(another, one).sure)

    @in_turn(0)
    def test_a_ring_of_pieces_closes(self) -> None:
        pieces = pieces_round(3, 5)
        rng, parts, truths = np.random.default_rng(0), [], []
        for number, (part, truth) in enumerate(zip(pieces.parts, pieces.truths, strict=True)):
            turn = Rotation.from_rotvec(rng.normal(size=3) * 0.02 * (number > 0)).as_matrix()
            off = matrix_of(turn, rng.normal(size=3) * 0.8 * (number > 0))
            parts.append(part.moved(moved_points(off @ truth, part.vertices)))
            truths.append(np.linalg.inv(off))
        far_off = specimens.torus(30.0, 24).mesh
        laid = align_all([*parts, far_off.moved(far_off.vertices + 500.0)], by_shape=False)
        self.assertEqual((laid.left, laid.doubts), ((5,), {}))  # what lies on nothing is left where it was
        np.testing.assert_array_equal(laid.matrices[5], np.eye(4))
        for found, truth, part in zip(laid.matrices, truths, parts, strict=False):
            self.assertLess(off_by(found, truth, part), 2 * _CLOSE * pieces.edge)

    def test_what_cannot_be_aligned_is_said_in_a_line(self) -> None:
        ball, context = specimens.sphere(20.0, 16).mesh, Context()
        nothing = Mesh(np.zeros((0, 3)), np.zeros((0, 3), dtype=int))
        flat_one = Mesh(np.zeros((3, 3)), [[0, 1, 2]])
        corners = ((0.0, 0, 0), (1.0, 0, 0), (2.0, 0, 0))
        for action, meshes, said in (
            (Align(), [ball, nothing], "no surface"),
            (Align(), [ball, flat_one], "no surface"),
            (Align(by="place"), [ball, ball.moved(ball.vertices + 900)], "do not meet"),
            (Align(by="points"), [ball, ball], "at least three"),
            (Align(by="points", stays=corners, moves=corners), [ball, ball], "in one line"),
            (Align(), [ball, ball, ball], "two pieces"),
            (AlignAll(), [ball], "two pieces or more"),
            (MergeScans(), [ball], "two pieces or more"),
            (MergeScans(), [ball, ball.moved(ball.vertices + 900)], "align them first"),
            (MergeScans(), [ball, nothing], "no surface"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                action.apply(meshes, context)

    def test_boxes_soups_and_what_is_turned_inside_out(self) -> None:
        box = Mesh(*box_solid(np.array([20.0, 30.0, 50.0])))  # twelve triangles, and three turns that change nothing
        turn = matrix_of(Rotation.random(random_state=2).as_matrix(), np.array([9.0, 80, -20]))
        found = find_alignment(Mesh(moved_points(turn, box.vertices), box.faces), box)
        self.assertEqual((found.sure, found.overlap > 0.99, len(found.rivals) > 0), (False, True, True))
        ball = two_pieces(1).parts[0]
        soup = Mesh(ball.vertices[ball.faces].reshape(-1, 3), np.arange(3 * len(ball.faces)).reshape(-1, 3))
        self.assertLess(off_by(align(soup, ball, np.eye(4)).matrix, np.eye(4), ball), 0.1)
        with self.assertRaisesRegex(BadInput, "do not meet"):
            align(Mesh(ball.vertices, ball.faces[:, ::-1]), ball, np.eye(4))

    def test_far_off_small_and_without_noise(self) -> None:
        for size, at in ((1.0, 1e5), (1e-3, 0.0), (1e3, -3e4)):
            whole = two_pieces(5).parts[0]
            mesh = Mesh(whole.vertices * size + at, whole.faces)
            middle, turn = mesh.box.mean(axis=0), Rotation.from_rotvec([0.03, -0.02, 0.05]).as_matrix()
            off = matrix_of(turn, middle - turn @ middle + 0.01 * mesh.diagonal)
            found = align(mesh, mesh, off)
            self.assertLess(off_by(found.matrix, np.eye(4), mesh), 1e-6 * mesh.diagonal)


class Merging(unittest.TestCase):
    @in_turn(2)
    def test_part_scans_become_one_surface_nearer_the_truth_than_each(self) -> None:
        for seed in seeds(16, "merge"):
            pieces = two_pieces(seed)
            one, other = pieces.parts[0], pieces.parts[1].moved(
                moved_points(pieces.truths[1], pieces.parts[1].vertices)
            )  # fmt: skip
            red, blue = (
                mesh.with_attribute("colour", Attribute(Domain.VERTEX, np.full((len(mesh.vertices), 3), c, np.uint8)))
                for mesh, c in ((one, (200, 30, 30)), (other, (30, 30, 200)))
            )
            made = MergeScans().apply([red, blue], Context())
            mesh = made.parts[0].mesh
            self.assertEqual(made.parts[0].of, (0, 1))
            self.assertEqual((len(mesh.shells), mesh.edges.tangled, mesh.edges.flipped), (1, 0, 0), seed)
            self.assertEqual(counted_exactly(mesh.vertices, mesh.faces), (0, 0), seed)
            # no layer is there twice, which would be 18 % more at least; noise alone makes it a tenth larger
            self.assertLess(abs(mesh.area / pieces.whole.area - 1.05), 0.1, seed)
            truth = cKDTree(specimens.sample_surface(pieces.whole, 400_000, np.random.default_rng(0)))

            def off(own: Mesh, others: list[Mesh], truth: cKDTree = truth, edge: float = pieces.edge) -> float:
                near = np.ones(len(own.vertices), dtype=bool)
                for piece in others:
                    near &= cKDTree(piece.vertices).query(own.vertices)[0] < edge
                return float(np.sqrt((truth.query(own.vertices[near])[0] ** 2).mean()))

            best = min(off(one, [other]), off(other, [one]))
            self.assertLess(off(mesh, [one, other]), best, seed)
            # far from where they overlap all stays to the bit, and is measured
            far = cKDTree(other.vertices).query(one.vertices)[0] > 4 * pieces.edge
            kept = {tuple(v) for v in mesh.vertices}
            self.assertTrue(all(tuple(v) in kept for v in one.vertices[far]), seed)
            alone = far[one.faces].all(axis=1).sum()
            self.assertGreaterEqual((mesh.provenance == MEASURED).sum(), alone)
            self.assertLess((mesh.provenance == MADE).mean(), 0.01)
            self.assertGreater((mesh.provenance == SHIFTED).sum(), 100)
            # colours run into each other over the overlap
            self.assertEqual(
                set(map(tuple, np.unique(mesh.colour[:, [0, 2]], axis=0)[[0, -1]])), {(30, 200), (200, 30)}
            )
            mixed = (mesh.colour[:, 0] > 60) & (mesh.colour[:, 0] < 170)
            self.assertGreater(mixed.mean(), 0.02)

    def test_pieces_that_only_come_near_each_other_keep_their_gap(self) -> None:
        ball = specimens.sphere(60.0, 40).mesh
        height = ball.vertices[ball.faces].mean(axis=1)[:, 2]
        halves = [Mesh(ball.vertices, ball.faces[height > 6.0]), Mesh(ball.vertices, ball.faces[height < -6.0])]
        with self.assertRaisesRegex(BadInput, "align them first"):
            MergeScans().apply(halves, Context())

    def test_what_is_damaged_is_merged_all_the_same(self) -> None:
        whole, rng = two_pieces(2, 30).whole, np.random.default_rng(0)
        ball = keep_triangles(whole, whole.vertices[whole.faces].mean(axis=1)[:, 2] > 0)
        doubled = np.concatenate([ball.faces, [[0, 0, 1]], ball.faces[:5]])
        coarse = ball.moved(ball.vertices + rng.normal(size=ball.vertices.shape) * 0.01)
        for pair in ([Mesh(ball.vertices, doubled), coarse], [coarse, Mesh(ball.vertices, doubled)], [ball, ball]):
            mesh = MergeScans().apply(pair, Context()).parts[0].mesh
            self.assertLess(abs(mesh.area / ball.area - 1.0), 0.02)

    def test_three_scans_meet_at_one_place(self) -> None:
        pieces = pieces_round(11, 5)
        parts = [p.moved(moved_points(t, p.vertices)) for p, t in zip(pieces.parts, pieces.truths, strict=True)]
        mesh = MergeScans().apply(parts, Context()).parts[0].mesh
        self.assertEqual((len(mesh.shells), mesh.edges.tangled), (1, 0))
        self.assertEqual(counted_exactly(mesh.vertices, mesh.faces), (0, 0))


class OnTheCommandLine(unittest.TestCase):
    @in_turn(1)
    def test_scans_are_aligned_compared_and_merged(self) -> None:
        pieces = two_pieces(6)
        with tempfile.TemporaryDirectory() as keep:
            folder = Path(keep)
            one, other, out = folder / "one.ply", folder / "other.ply", folder / "out.ply"
            for mesh, path in zip(pieces.parts, (one, other), strict=True):
                write_mesh(mesh, path)
            result = inside("compare", other, one, "--align", "--unit", "mm", "--json")
            facts = json.loads(result.stdout)["align"]
            self.assertLess(off_by(np.array(facts["matrix"]), pieces.truths[1], pieces.parts[1]), 0.2 * pieces.edge)
            result = inside("merge", one, other, "--unit", "mm", "--out", out, "--json")
            facts = json.loads(result.stdout)
            self.assertEqual(result.returncode, 0 if facts["sure"] else 1, result.stderr)
            self.assertEqual((facts["shells"], facts["crossings"], facts["files_left_out"]), (1, 0, []))
            merged = read_scan(out, "mm").mesh
            self.assertEqual(len(merged.faces), facts["triangles"])
            far = cKDTree(pieces.whole.vertices).query(merged.vertices)[0]
            self.assertLess(np.median(far), pieces.edge)
            for arguments, said in (
                ((one, other, "--out", out), "it is there already"),
                ((one, other, "--out", one, "--replace"), "never written over"),
                ((one, "--out", folder / "x.ply"), "two files or more"),
                ((one, other, "--align", "none", "--out", folder / "x.ply"), "align them first"),
            ):
                result = inside("merge", *arguments, "--unit", "mm")
                self.assertEqual((result.returncode, said in result.stderr), (2, True), result.stderr)


@unittest.skipUnless(SCREEN, "needs a screen; ./tinsnip test starts one")
class InTheWindow(WindowTest):
    def aligning_tray(self, pieces: Pieces) -> object:
        """Put pieces up, the first of which is to stay; the tray to align them in."""
        self.put_up(*pieces.parts)
        self.session.set_active(1)
        self.settle()
        self.key(Qt.Key.Key_2)
        tray = self.window.tray("Stand")
        tray.choose("Align")
        return tray

    def mark(self, side: bool, place: np.ndarray) -> None:
        """Click a place of one of the pieces."""
        tool = self.view.hand.tool
        widget, camera = (tool.side, tool.side.camera) if side else (self.view, self.view.camera)
        x, y, _ = camera.project(place)[0]
        count = len(tool.moves if side else tool.stays)
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))
        self.wait_for(lambda: len(tool.moves if side else tool.stays) > count)
        self.settle()

    @staticmethod
    def look_at(camera: object, mesh: Mesh, vertex: int) -> None:
        """Turn a view so that a vertex is seen from where its surface faces."""
        normal = vertex_normals(mesh.vertices, mesh.faces)[vertex]
        turn = float(np.degrees(np.arctan2(normal[0], -normal[1])))
        lift = float(np.degrees(np.arctan2(normal[2], np.hypot(*normal[:2]))))
        camera.turn_about(mesh.box.mean(axis=0), turn - camera.turn, lift - camera.lift)

    def test_pieces_are_aligned_by_points_that_are_clicked_and_merged(self) -> None:
        pieces = two_pieces(8, 40)
        session, tray = self.session, self.aligning_tray(pieces)
        part = tray.aligning
        self.assertFalse(tray.copper.isEnabled())
        self.click(part.by_points)
        tool = self.view.hand.tool
        self.wait_for(lambda: tool.side.is_settled)
        self.settle()
        # the piece that moves is seen by itself, and turned by itself
        plain, camera = self.picture(), self.view.camera
        turn = tool.side.camera.turn
        middle = tool.side.rect().center()
        QTest.mousePress(tool.side, Qt.MouseButton.LeftButton, pos=middle)
        for step in range(1, 6):
            QTest.mouseMove(tool.side, middle + QPoint(12 * step, 0))
        QTest.mouseRelease(tool.side, Qt.MouseButton.LeftButton, pos=middle + QPoint(60, 0))
        self.settle()
        self.assertNotEqual(tool.side.camera.turn, turn)
        self.assertEqual(tool.moves, [])
        fixed, moving = (session.job.present[i].mesh for i in (1, 2))
        # three places that are seen on the one that stays, each then brought to the front beside it
        there = np.linalg.inv(pieces.truths[1])
        shared = moved_points(pieces.truths[1], moving.vertices)
        near = cKDTree(shared).query(fixed.vertices)[0] < pieces.edge
        for mesh, places in ((fixed, fixed.vertices), (moving, shared)):  # well inside both
            rim = places[mesh.faces.ravel()[mesh.loops.halfedges]]
            near &= cKDTree(rim).query(fixed.vertices)[0] > 3 * pieces.edge
        near = np.flatnonzero(near)
        chosen = [near[0]]
        for _ in range(2):  # each as far as may be from those before it
            far = cKDTree(fixed.vertices[chosen]).query(fixed.vertices[near])[0]
            chosen.append(near[int(np.argmax(far))])
        for vertex in chosen:
            self.look_at(camera, fixed, vertex)
            self.view.moved()
            self.settle()
            self.mark(False, fixed.vertices[vertex])
            goal = moved_points(there, tool.stays[-1][None])[0]
            self.look_at(tool.side.camera, moving, int(cKDTree(moving.vertices).query(goal)[1]))
            tool.side.redraw()
            self.settle()
            self.mark(True, goal)
            self.assertLess(np.linalg.norm(tool.moves[-1] - goal), 4 * pieces.edge)
        self.assertEqual(tool.pairs, 3)
        self.assertEqual(len(tool.offs()), 3)
        self.wait_for(lambda: session.together.preview is not None)
        self.assertGreater((np.abs(self.picture() - plain).sum(axis=2) > 30).mean(), 0.01)
        self.assertEqual(tray.copper.text().replace("&", ""), "Align by 3 pairs")
        self.assertTrue(tray.copper.isEnabled())
        # one taken back, and it can no more
        self.view.setFocus()
        QTest.keyClick(self.view, Qt.Key.Key_Backspace)
        self.assertEqual((tool.pairs, tray.copper.isEnabled()), (2, False))
        self.mark(True, moved_points(there, tool.stays[-1][None])[0])
        self.assertLess(tool.offs().max(), 4 * pieces.edge)
        self.key(Qt.Key.Key_Return)
        self.settle()
        self.assertIsNone(self.view.hand.tool)
        step = session.job.log[-1]
        self.assertEqual((step.action.name, step.action.by), ("align", "points"))
        frame = session.job.present[2].frame
        self.assertLess(off_by(frame, pieces.truths[1], moving), 0.3 * pieces.edge)
        np.testing.assert_array_equal(session.job.present[1].mesh.vertices, fixed.vertices)
        again = replay(session.job.start, plan_of(session.job), session.job.next_id)
        self.assertIsNone(again.stopped, again.reason)
        self.click(part.merge)
        self.settle()
        self.assertEqual(session.job.log[-1].action.name, "merge-scans")
        self.assertEqual(len(session.job.pieces), 1)
        session.history.undo()
        self.settle()
        session.history.undo()
        self.settle()
        np.testing.assert_array_equal(session.job.present[2].mesh.vertices, moving.vertices)

    def test_how_a_piece_lies_is_found_shown_and_left_or_done(self) -> None:
        pieces = two_pieces(9, 40)
        session, tray = self.session, self.aligning_tray(pieces)
        coming, plain = [], self.picture()
        session.together.changed.connect(lambda: coming.append(session.together.coming))
        self.click(tray.aligning.by_shape)
        self.settle()
        self.assertIsNotNone(session.together.preview)
        self.assertIn("%", tray.aligning.overlap.text())
        # on its way it is seen, painted by how far it is off, and as it would lie it is off the true surface by little
        self.assertTrue(any(one is not None for one in coming))
        self.assertIsNone(session.together.coming)
        (lying,) = session.together.preview.lying
        known = np.isfinite(lying.off)
        truth = cKDTree(pieces.parts[0].vertices).query(lying.corners[known] + lying.origin)[0]
        self.assertLess(np.median(np.abs(lying.off[known])), 0.2 * pieces.edge)
        self.assertLess(np.quantile(truth, 0.9), 1.5 * pieces.edge)
        self.assertGreater(known.mean(), 0.2)
        painted = self.picture()[(np.abs(self.picture() - plain).sum(axis=2) > 30)]
        reds, blues = painted[:, 0] > painted[:, 2] + 40, painted[:, 2] > painted[:, 0] + 15
        self.assertGreater(min(reds.mean(), blues.mean()), 0.02)
        self.assertIn("mm", tray.aligning.colours.text())
        self.assertTrue(tray.copper.isEnabled())
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(session.together.preview)
        self.assertFalse(tray.copper.isEnabled())
        self.assertEqual(len(session.job.log), 2)
        self.click(tray.aligning.all)
        self.settle()
        expected = session.together.preview.step
        self.key(Qt.Key.Key_Return)
        self.assertIs(session.job.log[-1], expected)


if __name__ == "__main__":
    unittest.main()
