"""Crossings are mended where they are, with what crosses nothing; what cannot be mended stays and is said."""

import unittest
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import seeds
from tests.test_bounds import box
from tests.test_crossings import counted_by_hand
from tests.test_shapes import together
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.winding import winding_numbers
from tinsnip.survey import examine
from tinsnip.survey.crossings import crossings_of
from tinsnip.treat import Context, MendCrossings, Smooth, StraightSnip

if SCREEN:
    from PySide6.QtCore import Qt

MAKES = (specimens.sphere, specimens.torus, specimens.bored_box)


def folded_over(rng: np.random.Generator, mesh: Mesh, count: int, far: float) -> tuple[Mesh, np.ndarray]:
    """Some vertices pulled across their neighbours, and which triangles that bent."""
    # a vertex goes along the surface, over to a place some edges away, or right through the part
    edge = np.linalg.norm(mesh.vertices[mesh.faces[:, 0]] - mesh.vertices[mesh.faces[:, 1]], axis=1).mean()
    some = rng.choice(len(mesh.vertices), count, replace=False)
    near = cKDTree(mesh.vertices).query_ball_point(mesh.vertices[some], far * edge)
    places = mesh.vertices.copy()
    for v, around in zip(some, near, strict=True):
        places[v] = mesh.vertices[rng.choice(around)] + rng.normal(0, 0.1 * edge, 3)
    bent = np.isin(mesh.faces, some).any(axis=1)
    return Mesh(places.astype(np.float32).astype(float), mesh.faces), bent


class United(unittest.TestCase):
    def test_shells_that_cross_become_their_union(self) -> None:
        for seed in seeds(24, self.id()):
            rng = np.random.default_rng(seed)
            size = (2.0, 200.0, 2000.0)[seed % 3]
            parts = []
            for _ in range(int(rng.integers(2, 5))):
                one = MAKES[int(rng.integers(3))](size, 32).mesh
                turned, _ = np.linalg.qr(rng.normal(size=(3, 3)))
                turned *= np.sign(np.linalg.det(turned))
                parts.append(Mesh(one.vertices @ turned.T + size * rng.uniform(-0.4, 0.4, 3), one.faces))
            mesh = together(*parts)
            outcome = MendCrossings().apply(mesh, Context())
            with self.subTest(seed=seed, said=outcome.text):
                result = outcome.mesh
                self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                self.assertEqual((outcome.account.figures["left"], crossings_of(result).total), (0, 0))
                # the volume by the flow through the surface, of which each part is outside all other shells or goes:
                # checked against the share of points that lie within any of them
                points = rng.uniform(*mesh.box, (20_000, 3))
                within = np.zeros(len(points), dtype=bool)
                for part in parts:
                    within |= winding_numbers(part.vertices, part.faces, points) > 0.5
                held = winding_numbers(result.vertices, result.faces, points)
                self.assertLess(np.abs((held > 0.5) != within).mean(), 1e-4)
                there = specimens.triangle_set(result.vertices, result.faces)
                crossing = np.unique(crossings_of(mesh).pairs)
                clear = np.delete(np.arange(len(mesh.faces)), crossing)
                middles = mesh.vertices[mesh.faces[clear]].mean(axis=1)
                alone = np.zeros(len(clear), dtype=int)
                for i, part in enumerate(parts):
                    foreign = mesh.shells.label[clear] != i
                    turns = winding_numbers(part.vertices, part.faces, middles[foreign])
                    alone[foreign] += turns > 0.5
                # what lies outside of all others and crosses nothing is there to the bit
                outside = specimens.triangle_set(mesh.vertices, mesh.faces[clear[alone == 0]])
                self.assertLessEqual(outside, there)

    def test_volumes_that_are_known(self) -> None:
        # a ball half in a block: the block, and what a plane cuts off the ball
        block = box(2)
        ball = specimens.sphere(6.0, 40).mesh
        at = np.array([5.3, 10.2, 30.0])
        cut = StraightSnip(offset=30.0, close=True).apply(Mesh(ball.vertices + at, ball.faces), Context()).mesh
        outcome = MendCrossings().apply(together(block, Mesh(ball.vertices + at, ball.faces)), Context())
        self.assertAlmostEqual(outcome.mesh.volume / (block.volume + cut.volume), 1.0, delta=1e-7)
        # two blocks, of which what they have in common is a block too
        for way in ((5, 5, 5), (3, 4, 7.5)):
            both = together(block, Mesh(block.vertices + np.array(way, dtype=float), block.faces))
            made = MendCrossings().apply(both, Context()).mesh
            common = np.prod(np.array([10.0, 20, 30]) - way)
            self.assertAlmostEqual(made.volume / (12_000 - common), 1.0, delta=1e-7)
            self.assertEqual((examine(made).readiness.state, len(made.shells)), ("Ready", 1))
        # what only touches, or lies on the other, is left as it is and said
        both = together(block, Mesh(block.vertices + np.array([10.0, 0, 0]), block.faces))
        outcome = MendCrossings().apply(both, Context())
        if outcome.account.figures["left"]:
            self.assertIs(outcome.mesh, both)
            self.assertIn("where shells cross each other", outcome.text)


class Mended(unittest.TestCase):
    def test_folded_places_become_surface_again(self) -> None:
        mended = 0
        taken = list(seeds(48, self.id()))
        for seed in taken:
            rng = np.random.default_rng(seed)
            size = (2.0, 200.0, 2000.0)[seed % 3]
            whole = MAKES[seed // 3 % 3](size, 80).mesh
            off = (rng.random(3) < 0.3) * 5 * size
            whole = Mesh((whole.vertices + off).astype(np.float32).astype(float), whole.faces)
            mesh, bent = folded_over(rng, whole, int(rng.choice([1, 5, 25])), float(rng.uniform(1.5, 4)))
            before = crossings_of(mesh)
            outcome = MendCrossings().apply(mesh, Context())
            result = outcome.mesh
            with self.subTest(seed=seed, said=outcome.text):
                self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                after = crossings_of(Mesh(result.vertices, result.faces))
                if outcome.account.figures["left"] == 0:
                    self.assertEqual(after.total, 0)
                self.assertLessEqual(after.total, before.total)
                self.assertEqual(outcome.account.figures["mended"] > 0, result is not mesh)
                mended += outcome.account.figures["mended"]
                # beyond two rows round what was bent, or what it crossed, all is there to the bit
                near = np.zeros(len(mesh.vertices), dtype=bool)
                near[mesh.faces[bent]] = True
                near[mesh.faces[before.together]] = True
                for _ in range(2):
                    near[mesh.faces[near[mesh.faces].any(axis=1)]] = True
                far = ~near[mesh.faces].any(axis=1)
                there = specimens.triangle_set(result.vertices, result.faces)
                self.assertLessEqual(specimens.triangle_set(mesh.vertices, mesh.faces[far]), there)
                made = result.provenance == MADE
                self.assertEqual(bool(made.any()), result is not mesh and len(result.faces) > (~made).sum())
                self.assertIs(MendCrossings().apply(result, Context()).mesh, result) if after.total == 0 else None
        if len(taken) == 48:
            self.assertGreater(mended, 60)

    def test_counted_by_hand_and_what_is_not_mended_is_said(self) -> None:
        rng = np.random.default_rng(7)
        mesh, _ = folded_over(rng, specimens.sphere(20.0, 12).mesh, 4, 2.5)
        self.assertGreater(sum(map(len, counted_by_hand(mesh.vertices, mesh.faces))), 0)
        result = MendCrossings().apply(mesh, Context()).mesh
        self.assertEqual(tuple(map(len, counted_by_hand(result.vertices, result.faces))), (0, 0))
        ball = specimens.sphere(20.0, 30).mesh
        crossed = together(ball, Mesh(ball.vertices + np.array([7.0, 1, 2]), ball.faces))
        outcome = MendCrossings().apply(crossed, Context())
        self.assertEqual((len(outcome.mesh.shells), outcome.account.figures["united"]), (1, 2))
        half = keep_triangles(ball, ball.vertices[ball.faces][..., 0].mean(axis=1) < 5)
        crossed = together(half, Mesh(ball.vertices + np.array([7.0, 1, 2]), ball.faces))
        outcome = MendCrossings().apply(crossed, Context())
        self.assertIs(outcome.mesh, crossed)
        self.assertIn("where shells cross each other", outcome.text)
        flipped = ball.faces.copy()
        flipped[3] = flipped[3][::-1]
        with self.assertRaises(BadInput):
            MendCrossings().apply(Mesh(ball.vertices, flipped), Context())
        # at an open edge it is taken out, and nothing is made up
        cup = keep_triangles(ball, ball.vertices[ball.faces][..., 2].mean(axis=1) < 4)
        rim = np.unique(cup.faces.ravel()[cup.loops.halfedges])
        bent = cup.vertices.copy()
        bent[rim[5]] = bent[rim[9]] + np.array([0, 0, -1.0])
        outcome = MendCrossings().apply(Mesh(bent, cup.faces), Context())
        self.assertEqual((crossings_of(outcome.mesh).total, (outcome.mesh.provenance == MADE).sum()), (0, 0))
        self.assertLess(outcome.account.gone_share, 0.01)

    def test_smoothing_noise_lets_nothing_cross(self) -> None:
        rng = np.random.default_rng(0)
        for make in MAKES:
            mesh = make(50.0, 80).mesh
            rough = Mesh(mesh.vertices + rng.normal(0, 0.01, mesh.vertices.shape), mesh.faces)
            self.assertEqual(crossings_of(rough).total, 0)
            self.assertEqual(crossings_of(Smooth(iterations=20).apply(rough, Context()).mesh).total, 0)


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_one_button_untangles(self) -> None:
        rng = np.random.default_rng(2)
        mesh, _ = folded_over(rng, specimens.torus(200.0, 120).mesh, 12, 3.0)
        faces = mesh.faces.copy()
        faces[100:103] = faces[100:103][:, ::-1]
        path = Path(self.folder.name) / "folded.ply"
        write_mesh(Mesh(mesh.vertices, np.concatenate([faces, faces[5:7]])), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        self.assertRegex(tray.copper.text().replace("&", ""), r"^Untangle \d+ places$")
        self.key(Qt.Key.Key_Return)
        self.settle()
        self.assertEqual([s.action.name for s in self.session.job.log[1:]], ["mend", "orient", "mend-crossings"])
        self.assertEqual(self.window.state_button.text(), "Ready")
        self.assertEqual(examine(self.session.mesh).crossings.total, 0)
        self.assertFalse(tray.copper.isEnabled())


if __name__ == "__main__":
    unittest.main()
