"""What each shell is, nested to any depth and whichever way it lies; second skins; what is swept, and what never is."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.test_shapes import put, together
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey import examine
from tinsnip.survey.strays import shell_roles
from tinsnip.treat import Context, Orient, Sweep

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest


def rotation(rng: np.random.Generator) -> np.ndarray:
    turned, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    return turned * np.sign(np.linalg.det(turned))


def ball(radius: float, inward: bool = False, at: tuple[float, float, float] = (0, 0, 0)) -> Mesh:
    return put(specimens.sphere(2 * radius, 16).mesh, at, inward)


def layer(mesh: Mesh, off: float, height: float) -> Mesh:
    """A second layer over the top of a ball."""
    top = keep_triangles(mesh, mesh.vertices[mesh.faces][..., 2].min(axis=1) > height)
    return Mesh(top.vertices * (1 + off), top.faces)


SHELLS: tuple[tuple[str, Mesh], ...] = (
    ("main", ball(20)),
    ("void", ball(17, True)),
    ("inner", ball(14)),  # loose in the void
    ("void", ball(11, True)),
    ("inner", ball(8)),
    ("inner", ball(0.8, at=(18.5, 0, 0))),  # in the matter of the part
    ("void", ball(0.8, True, (0, 18.5, 0))),
    ("chunk", ball(7, at=(40, 0, 0))),  # beside it, with a void of its own
    ("void", ball(4, True, (40, 0, 0))),
    ("crumb", ball(0.5, at=(0, 0, 30))),
    ("crumb", ball(0.5, True, (0, 30, 0))),  # inside out
    ("skin", layer(ball(20), 0.002, 8.0)),
)


class Nested(unittest.TestCase):
    def test_right_at_every_depth_however_it_lies(self) -> None:
        rng = np.random.default_rng(0)
        for turn in range(24):
            order = rng.permutation(len(SHELLS)) if turn else np.arange(len(SHELLS))
            mesh = together(*(SHELLS[i][1] for i in order))
            scale = (1.0, 1e-3, 1e3, 0.05)[turn % 4]  # of the last, nested solids of 2 mm
            off = scale * rng.normal(0, 100, 3) * (turn % 3 == 2)
            number = rng.permutation(len(mesh.vertices))
            vertices = np.empty_like(mesh.vertices)
            vertices[number] = scale * mesh.vertices @ rotation(rng).T + off
            faces = number[mesh.faces]
            faces = np.take_along_axis(faces, (np.arange(3) + rng.integers(0, 3, (len(faces), 1))) % 3, axis=1)
            roles = shell_roles(Mesh(vertices, faces))
            with self.subTest(turn=turn, scale=scale):
                self.assertEqual(SHELLS[order[roles.main]][0], "main")
                for place, i in enumerate(order):
                    kind = SHELLS[i][0]
                    for name in ("crumb", "chunk", "void", "inner", "skin"):
                        self.assertEqual(getattr(roles, name)[place], name == kind, (i, kind, name))

    def test_swept_down_to_the_part_and_what_asks(self) -> None:
        mesh = together(*(m for _, m in SHELLS))
        outcome = Sweep().apply(mesh, Context())
        self.assertEqual(len(outcome.mesh.shells), 2)  # the part, and the chunk that asks
        self.assertIn("part of it, or strays?", outcome.question)
        figures = outcome.account.figures
        self.assertEqual((figures["voids"], figures["inner"], figures["skins"], figures["chunks_kept"]), (4, 3, 1, 1))
        counts = examine(mesh).counts()
        self.assertEqual((counts["voids"], counts["inner_solids"], counts["doubled_skins"]), (4, 3, 1))
        self.assertFalse(counts["ready"])
        left = Sweep(voids=False, skins=False).apply(mesh, Context()).mesh
        self.assertEqual(len(left.shells), len(SHELLS) - 2)
        # turned inside out as a whole, it comes back as it was
        inside_out = Mesh(mesh.vertices, mesh.faces[:, ::-1])
        roles = shell_roles(Orient().apply(inside_out, Context()).mesh)
        self.assertEqual(roles.void.tolist(), [kind == "void" for kind, _ in SHELLS])

    def test_open_parts_scraps_and_what_is_no_second_skin(self) -> None:
        whole = ball(20)
        cup = keep_triangles(whole, whole.vertices[whole.faces][..., 2].mean(axis=1) < 12)
        lid = keep_triangles(whole, whole.vertices[whole.faces][..., 2].mean(axis=1) > 13)
        scrap = layer(ball(20), 0.002, 17.0)
        mesh = together(cup, ball(6, True), ball(6, at=(0, 0, -8)), put(lid, (0, 0, 0.4)), put(scrap, (0, 0, -8)))
        roles = shell_roles(mesh)
        self.assertEqual(np.flatnonzero(roles.void).tolist(), [1])
        # a solid in what is open may be part of it, and a lid over its opening too: nothing of that is taken unasked
        self.assertTrue(roles.chunk[[2, 3]].all())
        self.assertFalse(roles.skin.any() or roles.inner.any())
        self.assertEqual(len(Sweep(crumbs=False).apply(mesh, Context()).mesh.shells), 4)

    def test_many_shells_nested_at_random(self) -> None:
        """Told by counting, for each ball, the balls that hold it."""
        rng = np.random.default_rng(1)
        place, size = rng.uniform(-100, 100, (300, 3)), 10 ** rng.uniform(-0.5, 1.3, 300)
        inward = rng.random(300) < 0.5
        one = specimens.sphere(2.0, 6).mesh
        size[0], place[0], inward[0] = 60.0, 0.0, False
        away = np.linalg.norm(place[:, None] - place[None], axis=2)
        clear = (away > 1.2 * (size[:, None] + size[None])) | (away < 0.7 * np.abs(size[:, None] - size[None]))
        np.fill_diagonal(clear, True)
        keep: list[int] = []
        for i in range(300):
            if clear[i, keep].all():
                keep.append(i)
        place, size, inward = place[keep], size[keep], inward[keep]
        away = np.linalg.norm(place[:, None] - place[None], axis=2)
        held = ((away < size[None]) & (size[:, None] < size[None])).any(axis=1)
        parts = [
            put(Mesh(s * one.vertices, one.faces), tuple(p), bool(i))
            for p, s, i in zip(place, size, inward, strict=True)
        ]
        roles = shell_roles(together(*parts))
        self.assertEqual(roles.main, 0)
        self.assertEqual(roles.void.tolist(), (held & inward).tolist())
        self.assertEqual(roles.inner.tolist(), (held & ~inward).tolist())
        self.assertGreater(held.sum(), 5)


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_a_limit_is_dragged_and_what_is_smaller_is_swept(self) -> None:
        dust = [ball(r, at=(30.0 + 4 * i, 0, 0)) for i, r in enumerate((0.2, 0.3, 0.5, 0.8, 1.2, 1.6))]
        path = Path(self.folder.name) / "dusty.ply"
        write_mesh(together(ball(20), *dust), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_4)
        tray = self.window.tray("Strays")
        self.assertTrue(all(self.session.is_ticked(f) for f in self.session.findings()))
        # the limit is dragged down to where half of them are smaller
        plot = tray.plot
        tray.scroll.ensureWidgetVisible(plot)
        self.settle()
        sizes = sorted(f.size for f in self.session.findings())
        middle = plot.height() // 2
        QTest.mousePress(plot, Qt.MouseButton.LeftButton, pos=QPoint(plot.width() - 8, middle))
        for x in np.linspace(plot.width() - 8, plot._x(np.sqrt(sizes[2] * sizes[3])), 12):
            QTest.mouseMove(plot, QPoint(round(x), middle))
            self.application.processEvents()
        QTest.mouseRelease(plot, Qt.MouseButton.LeftButton, pos=QPoint(round(x), middle))
        self.settle()
        ticked = [f.size for f in self.session.findings() if self.session.is_ticked(f)]
        self.assertEqual(sorted(ticked), sizes[:3])
        self.assertAlmostEqual(tray.limit.value(), plot.limit, delta=1e-3)
        # by keys, and typed
        for _ in range(40):
            self.key(Qt.Key.Key_Right)
        self.assertEqual(sum(self.session.is_ticked(f) for f in self.session.findings()), 6)
        self.type_number(tray.limit, str(round(0.5 * (sizes[3] + sizes[4]), 2)))
        self.assertEqual(sum(self.session.is_ticked(f) for f in self.session.findings()), 4)
        self.assertIn("4 strays", tray.copper.text())
        self.key(Qt.Key.Key_Escape)
        limit = tray.limit.value()
        self.click(tray.copper)
        self.settle()
        swept = self.session.job.log[-1].action  # what was asked for, not which shells that came to
        self.assertEqual((swept.under_mm, swept.shells, swept.chunks), (limit, None, "ask"))
        self.assertEqual([round(f.size, 6) for f in self.session.findings()], [round(s, 6) for s in sizes[:3:-1]])


if __name__ == "__main__":
    unittest.main()
