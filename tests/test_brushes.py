"""Brushes: what each does to analytic shapes, and that nothing else is touched; in the window by mouse and keys."""

import unittest

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.part_pieces import noisy
from tests.seeds import seeds
from tinsnip.errors import BadInput
from tinsnip.mesh import SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.measures import edge_lengths
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.space.tree import closest_points
from tinsnip.survey.crossings import crossings_of
from tinsnip.survey.deviation import deviation_from_reference
from tinsnip.treat import BrushStroke, Context, Smooth, Turn
from tinsnip.treat.shape.brushes import BRUSHES

if SCREEN:
    from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
    from PySide6.QtGui import QPointingDevice, QTabletEvent, QWheelEvent
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication, QMenu


def sheet(height: object = None, n: int = 81, wide: float = 40.0) -> Mesh:
    """A square sheet about the origin, facing up, its height told by x and y."""
    t = np.linspace(-wide / 2, wide / 2, n)
    x, y = np.meshgrid(t, t, indexing="ij")
    z = 0 * x if height is None else height(x, y)
    return Mesh(np.stack([x, y, z], axis=-1).reshape(-1, 3), specimens.grid_faces(n, n, False, False))


def drawn(brush: str, mesh: Mesh, places: list, context: Context | None = None, **named: object) -> Mesh:
    action = BrushStroke(brush=brush, places=tuple(tuple(map(float, p)) for p in places), **{"radius_mm": 6.0} | named)
    return action.apply(mesh, context or Context()).mesh


def line(n: int = 9, reach: float = 8.0, z: float = 0.0) -> list:
    return [(x, 0.0, z) for x in np.linspace(-reach, reach, n)]


class What(unittest.TestCase):
    def test_raising_lowering_and_following(self) -> None:
        flat = sheet()
        for brush in ("push", "inflate"):
            up, down = (drawn(brush, flat, line(), turned=t).vertices[:, 2] for t in (False, True))
            self.assertGreater(up.max(), 0.5)
            np.testing.assert_allclose(down, -up, atol=0.15 * up.max())
            far = np.abs(flat.vertices[:, 1]) > 6.0
            self.assertTrue((up[far] == 0).all())
        # what is under it follows the pointer, and by its share the rest
        start = (0.0, 0.0, 0.0)
        pulled = drawn("draw", flat, [start, (1.0, 0.0, 1.0), (2.0, 1.0, 5.0)])
        at = int(np.argmin(np.linalg.norm(flat.vertices, axis=1)))
        np.testing.assert_allclose(pulled.vertices[at], [2.0, 1.0, 5.0], atol=1e-9)
        self.assertTrue(0 < pulled.vertices[:, 2][np.linalg.norm(flat.vertices[:, :2], axis=1) > 5].max() < 1.0)
        # strength and falloff
        weak, strong = (drawn("push", flat, line(), strength=s).vertices[:, 2].max() for s in (0.2, 1.0))
        self.assertGreater(strong, 4 * weak)
        areas = [
            int((drawn("push", flat, [start], falloff=f).vertices[:, 2] > 0.08).sum())
            for f in ("sharp", "soft", "broad")
        ]
        self.assertTrue(areas[0] < areas[1] < areas[2], areas)

    def test_a_mirrored_side_and_a_pen_that_is_pressed_less(self) -> None:
        flat = sheet(lambda x, y: 0.3 * np.cos(y) + 0.2 * np.cos(x))
        side = np.array(
            [[9.0, 2.0, 0.0], [7.0, 1.0, 0.0], [5.0, 0.0, 0.0], [2.0, -1.0, 0.0]]
        )  # reaches over the middle
        other = side * (-1, 1, 1)
        shape, lifted = (81, 81, 3), np.array([0.0, 0.0, 0.1])
        for brush in sorted(set(BRUSHES) - {"back", "colour"}):
            both = drawn(brush, flat, side + lifted, mirrored=tuple(map(tuple, other + lifted)))
            own = drawn(brush, flat, side + lifted)
            after = both.vertices.reshape(shape)
            self.assertTrue((after[:40] != flat.vertices.reshape(shape)[:40]).any(), brush)
            self.assertGreater((both.vertices != own.vertices).any(axis=1).sum(), 20)
            if brush == "draw":  # what both sides reach goes with both: the same from left and right
                np.testing.assert_allclose(after, after[::-1] * (-1, 1, 1), atol=1e-9)
            else:  # one after the other, place by place
                off = np.abs(after[:, :, 2] - after[::-1, :, 2]).max()
                self.assertLess(off, 0.5 * np.abs(both.vertices - flat.vertices).max(), brush)
        for share in (0.25, 0.5):
            pressed = drawn("push", flat, side, strength=0.8, pressures=(share,) * 4)
            weaker = drawn("push", flat, side, strength=0.8 * share)
            self.assertTrue(np.array_equal(pressed.vertices, weaker.vertices))
        grown = drawn("push", flat, side, pressures=(0.0, 0.0, 0.0, 1.0))
        self.assertTrue((grown.vertices[flat.vertices[:, 0] > 8.5] == flat.vertices[flat.vertices[:, 0] > 8.5]).all())

    def test_evening_filling_scraping(self) -> None:
        def bumps(x: np.ndarray, y: np.ndarray) -> np.ndarray:
            return np.exp(-((x - 4) ** 2 + y**2)) - np.exp(-((x + 4) ** 2 + y**2))

        rough = sheet(bumps)
        stroke = [p for p in line(17, 6.0) for _ in range(2)]
        top, low = (int(np.argmax(s * rough.vertices[:, 2])) for s in (1, -1))
        kept = {}
        for brush, turned in (("flatten", False), ("fill", False), ("scrape", False), ("fill", True)):
            now = drawn(brush, rough, stroke, strength=0.8, turned=turned).vertices[:, 2]
            kept[brush, turned] = now[top], -now[low]
        self.assertLess(max(kept["flatten", False]), 0.4)
        self.assertTrue(kept["fill", False][0] > 0.75 and kept["fill", False][1] < 0.4, kept)
        self.assertTrue(kept["scrape", False][1] > 0.75 and kept["scrape", False][0] < 0.4, kept)
        np.testing.assert_allclose(kept["fill", True], kept["scrape", False])
        # noise goes, the size stays
        ball = noisy(specimens.sphere(40.0, 40).mesh, np.random.default_rng(1))

        def spread(mesh: Mesh, near: np.ndarray) -> float:
            return float(np.linalg.norm(mesh.vertices[near], axis=1).std())

        near = np.linalg.norm(ball.vertices - [0, 0, 20.0], axis=1) < 4.0
        smooth = drawn("smooth", ball, [(0.0, 0.0, 20.0)] * 8, radius_mm=9.0, strength=1.0)
        self.assertLess(spread(smooth, near), 0.5 * spread(ball, near))
        radius = [float(np.linalg.norm(m.vertices[near], axis=1).mean()) for m in (ball, smooth)]
        self.assertAlmostEqual(*radius, delta=0.03)
        # edges become even, and stay in the surface
        rng = np.random.default_rng(2)
        uneven = sheet()
        inner = (np.abs(uneven.vertices[:, :2]) < 19).all(axis=1)
        shaken = uneven.vertices + np.where(inner[:, None], rng.normal(size=uneven.vertices.shape) * [0.12, 0.12, 0], 0)
        uneven = Mesh(shaken, uneven.faces)
        even = drawn("even", uneven, line(), strength=1.0)
        near = np.linalg.norm(uneven.vertices - 0, axis=1) < 4
        self.assertLess(self.shaken(even, near), 0.6 * self.shaken(uneven, near))
        np.testing.assert_allclose(even.vertices[:, 2], 0, atol=1e-12)

    @staticmethod
    def shaken(mesh: Mesh, near: np.ndarray) -> float:
        own = mesh.faces[near[mesh.faces].all(axis=1)]
        sides = mesh.vertices[np.roll(own, -1, axis=1)] - mesh.vertices[own]
        return float(np.linalg.norm(sides, axis=2)[:, :2].std())

    def test_a_crease_is_drawn_together(self) -> None:
        ridge = sheet(lambda x, y: np.maximum(0, 3 - np.abs(y)))
        tight = drawn("tighten", ridge, line(25, 12.0, 3.0), strength=1.0)
        near = np.abs(ridge.vertices[:, 0]) < 8
        side = near & (np.abs(ridge.vertices[:, 1]) > 0.1) & (np.abs(ridge.vertices[:, 1]) < 2.5)
        self.assertLess(np.abs(tight.vertices[side, 1]).mean(), 0.9 * np.abs(ridge.vertices[side, 1]).mean())
        loose = drawn("tighten", ridge, line(25, 12.0, 3.0), strength=1.0, turned=True)
        self.assertGreater(np.abs(loose.vertices[side, 1]).mean(), np.abs(ridge.vertices[side, 1]).mean())

    def test_back_to_the_raw_scan_wherever_the_part_stands(self) -> None:
        raw = noisy(specimens.sphere(40.0, 30).mesh, np.random.default_rng(3))
        moved = Turn(axis=(1, 2, 3), degrees=50.0).apply(raw, Context())
        frame = moved.account.matrix
        place = frame[:3, :3] @ np.array([0, 0, 20.0]) + frame[:3, 3]
        dented = drawn("push", moved.mesh, [place] * 3, strength=1.0, turned=True)
        off = np.linalg.norm(dented.vertices - moved.mesh.vertices, axis=1)
        self.assertGreater(off.max(), 0.5)
        back = drawn("back", dented, [place] * 12, Context(raw=raw, frame=frame), radius_mm=9.0, strength=1.0)
        self.assertLess(deviation_from_reference(back, moved.mesh, Progress()).overall.max, 0.35 * off.max())
        with self.assertRaisesRegex(BadInput, "no raw scan"):
            drawn("back", dented, [place], Context())

    def test_only_what_has_the_colour_comes_out(self) -> None:
        flat = sheet()
        laces = np.abs(flat.vertices[:, 1]) < 1.0
        colour = np.where(laces[:, None], [200, 30, 30], [60, 60, 60]).astype(np.uint8)
        painted = Mesh(flat.vertices, flat.faces, attributes={"colour": Attribute(Domain.VERTEX, colour)})
        out = drawn("colour", painted, line(), strength=1.0).vertices[:, 2]
        inside = laces & (np.abs(flat.vertices[:, 0]) < 6)
        self.assertGreater(out[inside].min(), 0.5)
        self.assertLess(np.abs(out[~laces]).max(), 0.05 * out[inside].max())
        with self.assertRaisesRegex(BadInput, "no colour"):
            drawn("colour", flat, line())


class WhatStays(unittest.TestCase):
    def test_random_strokes_touch_nothing_else(self) -> None:
        """On open, closed and damaged parts: no triangle comes or goes, open edges, other shells, what is spared and
        what lies beyond the brush stay to the bit, and the same stroke comes to the same bits."""
        for seed in seeds(60):
            rng = np.random.default_rng(seed)
            scale, away = rng.choice([1e-2, 1.0, 1e2]), rng.choice([0.0, 1e4])
            ball = noisy(specimens.sphere(20.0, 16).mesh, rng)
            faces = ball.faces[rng.random(len(ball.faces)) > 0.05 * rng.integers(0, 2)]
            both = np.concatenate([ball.vertices, ball.vertices * 0.9])
            colour = rng.integers(0, 255, (len(both), 3)).astype(np.uint8)
            faces = np.concatenate([faces, ball.faces + len(ball.vertices)])
            mesh = Mesh(both * scale + away, faces, attributes={"colour": Attribute(Domain.VERTEX, colour)})
            brush = list(BRUSHES)[int(rng.integers(len(BRUSHES)))]
            start = mesh.vertices[rng.integers(len(ball.vertices))]
            steps = np.cumsum(rng.normal(size=(6, 3)), axis=0) * scale
            radius = float(rng.uniform(1.5, 5.0)) * scale
            spared = np.zeros(len(mesh.faces), dtype=bool)
            if seed % 2:
                spared[: len(faces) // 3] = True
            action = BrushStroke(
                brush=brush, places=tuple(map(tuple, (start + steps - steps[0]).tolist())), radius_mm=radius,
                strength=float(rng.uniform(0.1, 1.0)), turned=bool(rng.integers(2)),
                falloff=("soft", "sharp", "broad")[rng.integers(3)],
                spared=Region.of(mesh, spared) if spared.any() else Region(),
            )  # fmt: skip
            with self.subTest(seed=seed, brush=brush):
                outcome = action.apply(mesh, Context(raw=mesh))
                after = outcome.mesh
                self.assertIs(after.faces, mesh.faces) if after is not mesh else None
                self.assertTrue(np.isfinite(after.vertices).all())
                np.testing.assert_array_equal(after.colour, mesh.colour)
                moved = (after.vertices != mesh.vertices).any(axis=1)
                ends = np.flatnonzero(mesh.twins < 0)
                corner = mesh.faces.ravel()
                self.assertFalse(moved[corner[ends]].any() or moved[mesh.faces[spared]].any())
                reach = np.min([np.linalg.norm(mesh.vertices - p, axis=1) for p in action.places], axis=0)
                drift = float(np.linalg.norm(after.vertices - mesh.vertices, axis=1).max())
                self.assertFalse(moved[reach > radius + drift].any())
                touched = moved[mesh.faces].any(axis=1)
                np.testing.assert_array_equal(after.provenance == SHIFTED, touched)
                np.testing.assert_array_equal(after.vertices, action.apply(mesh, Context(raw=mesh)).mesh.vertices)
        again = BrushStroke.model_validate_json(action.model_dump_json())
        self.assertEqual(again, action)


class KeptDense(unittest.TestCase):
    """Strokes after which the triangles are as dense as before, or as is asked."""

    def test_what_is_drawn_out_has_triangles_enough_and_all_else_stays_to_the_bit(self) -> None:
        ball = specimens.sphere(40.0, 40).mesh
        shade = np.rint(127 + 5 * ball.vertices).clip(0, 255).astype(np.uint8)
        ball = ball.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        corners = (ball.vertices[ball.faces].reshape(-1, 3)[:, :2] / 40).astype(np.float32)
        ball = ball.with_attribute("texture", Attribute(Domain.CORNER, corners))
        pull = [(0.0, 0.0, 20.0), (0.0, 0.0, 24.0), (0.0, 0.0, 30.0)]
        drawn_out = drawn("draw", ball, pull, radius_mm=8.0)
        edge = float(edge_lengths(ball).mean())
        for wanted in (None, 0.6 * edge):
            new = drawn("draw", ball, pull, radius_mm=8.0, dense=True, edge_mm=wanted)
            self.assertEqual(specimens.closed_faults(new.vertices, new.faces), "")
            self.assertEqual(crossings_of(new).total, 0)
            self.assertAlmostEqual(new.volume / drawn_out.volume, 1.0, delta=0.004)
            near, _ = closest_points(drawn_out.tree, new.vertices, Progress().state)
            self.assertLess(near.max(), 1e-4)  # on the surface that was drawn
            top = new.vertices[new.faces][(new.vertices[new.faces][:, :, 2] > 21.0).all(axis=1)]
            sides = np.linalg.norm(top - np.roll(top, 1, axis=1), axis=2)
            self.assertLess(np.abs(np.median(sides) / (wanted or edge) - 1), 0.2)
            self.assertLess(np.percentile(sides, 99), 1.5 * (wanted or edge))
            # what lies away from it is the same, bit by bit: places, colours, texture
            away = [m.vertices[m.faces][:, :, 2].max(axis=1) < 10.0 for m in (ball, new)]
            was, now = (m.vertices[m.faces[a]].tobytes() for m, a in zip((ball, new), away, strict=True))
            self.assertEqual(was, now)
            for name in ("colour", "texture"):
                values = [m.attributes[name].values for m in (ball, new)]
                if name == "colour":
                    values = [v[m.faces[a]] for v, m, a in zip(values, (ball, new), away, strict=True)]
                else:
                    values = [v.reshape(-1, 3, 2)[a] for v, a in zip(values, away, strict=True)]
                self.assertEqual(values[0].tobytes(), values[1].tobytes())
            self.assertTrue((new.provenance[new.vertices[new.faces][:, :, 2].min(axis=1) > 21.0] == SHIFTED).all())
            self.assertTrue((new.provenance[away[1]] == 0).all())

    def test_random_strokes_leave_no_gap_and_no_rim_is_touched(self) -> None:
        for seed in seeds(24, "dense strokes"):
            rng = np.random.default_rng(seed)
            mesh = [specimens.torus(60.0, 48).mesh, specimens.bored_box(60.0, 48).mesh, sheet(n=41)][seed % 3]
            with self.subTest(seed=seed):
                for _ in range(3):
                    at = mesh.vertices[int(rng.integers(len(mesh.vertices)))]
                    way = rng.normal(size=3)
                    places = [at + t * way for t in np.linspace(0.0, 3.0, 4)]
                    brush = str(rng.choice(["push", "draw", "inflate", "smooth", "tighten"]))
                    edge = None if rng.integers(2) else float(rng.uniform(0.8, 2.5))
                    new = drawn(brush, mesh, places, radius_mm=float(rng.uniform(3, 9)), dense=True, edge_mm=edge)
                    self.assertEqual((new.edges.open, new.edges.tangled), (mesh.edges.open, mesh.edges.tangled))
                    self.assertEqual(new.edges.flipped, mesh.edges.flipped)
                    self.assertEqual(len(new.shells), len(mesh.shells))
                    rims = [m.vertices[m.faces.ravel()[m.loops.halfedges]] + 0.0 for m in (mesh, new)]
                    self.assertEqual(sorted(map(bytes, rims[0])), sorted(map(bytes, rims[1])))
                    mesh = new


class KeepingEdges(unittest.TestCase):
    def test_flats_are_evened_and_edges_stay(self) -> None:
        """Against the plain smoothing, by distances to the clean part, at its edges and elsewhere."""
        clean = specimens.bored_box(60.0, 80).mesh
        rng = np.random.default_rng(5)
        sides = clean.vertices[clean.faces] - clean.vertices[np.roll(clean.faces, 1, axis=1)]
        edge = float(np.median(np.linalg.norm(sides, axis=2)))
        normals = facings(clean)
        half = np.flatnonzero(clean.twins >= 0)
        sharp = (normals[half // 3] * normals[clean.twins[half] // 3]).sum(axis=1) < 0.8
        at_edge = np.zeros(len(clean.vertices), dtype=bool)
        at_edge[clean.faces.ravel()[half[sharp]]] = True
        for share, times in ((0.1, 0.33), (0.2, 0.33), (0.3, 0.45)):
            noise = rng.normal(size=clean.vertices.shape) * share * edge / np.sqrt(3)
            rough = Mesh(clean.vertices + noise, clean.faces)
            plain, kept = (Smooth(keep_edges=k).apply(rough, Context()).mesh for k in (False, True))
            off = [closest_points(clean.tree, m.vertices, Progress().state)[0] for m in (plain, kept)]
            rms = [[float(np.sqrt((d[where] ** 2).mean())) for d in off] for where in (at_edge, ~at_edge)]
            self.assertLess(rms[0][1], times * rms[0][0], (share, rms))
            self.assertLess(rms[1][1], rms[1][0], (share, rms))
            self.assertAlmostEqual(kept.volume / rough.volume, 1.0, delta=2e-4)
            # the cap holds for every vertex, either way
            for keep_edges in (False, True):
                capped = Smooth(keep_edges=keep_edges, most_mm=0.05 * edge).apply(rough, Context()).mesh
                far = np.linalg.norm(capped.vertices - rough.vertices, axis=1)
                self.assertLessEqual(float(far.max()), 0.05 * edge * (1 + 1e-9))
        # open edges stay, and what is not chosen
        rough = sheet()
        rough = Mesh(rough.vertices + rng.normal(size=rough.vertices.shape) * 0.05, rough.faces)
        chosen = rough.vertices[rough.faces][:, :, 0].max(axis=1) < 0
        done = Smooth(keep_edges=True, only=Region.of(rough, chosen)).apply(rough, Context()).mesh
        moved = (done.vertices != rough.vertices).any(axis=1)
        self.assertTrue(moved.any())
        self.assertFalse(moved[rough.faces[~chosen]].any() or moved[np.abs(rough.vertices[:, 1]) > 19.8].any())


def facings(mesh: Mesh) -> np.ndarray:
    """Unit normals of triangles."""
    corners = mesh.vertices[mesh.faces]
    ways = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return ways / np.linalg.norm(ways, axis=1)[:, None]


@unittest.skipUnless(SCREEN, "no screen")
class ByHand(WindowTest):
    def stroke(self, start: tuple[int, int], way: tuple[int, int], keys: object = None) -> None:
        keys = keys or Qt.KeyboardModifier.NoModifier
        QTest.mouseMove(self.view, QPoint(*start))
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, keys, QPoint(*start))
        for step in range(1, 6):
            QTest.mouseMove(self.view, QPoint(start[0] + step * way[0], start[1] + step * way[1]))
            self.application.processEvents()
        QTest.mouseRelease(
            self.view, Qt.MouseButton.LeftButton, keys, QPoint(start[0] + 5 * way[0], start[1] + 5 * way[1])
        )
        self.settle()

    def test_every_brush_by_mouse(self) -> None:
        ball = noisy(specimens.sphere(40.0, 50).mesh, np.random.default_rng(0))
        colour = np.full((len(ball.vertices), 3), 90, dtype=np.uint8)
        self.put_up(Mesh(ball.vertices, ball.faces, attributes={"colour": Attribute(Domain.VERTEX, colour)}))
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        self.click(tray.part_row.buttons["Brush"])
        self.view.stroking.prepare()
        self.settle()
        x, y = self.view.width() // 2, self.view.height() // 2
        for number, (name, kind) in enumerate(BRUSHES.items()):
            self.click(tray.brushes.buttons[kind.title])
            self.assertIs(self.view.hand.tool, tray.brush)
            before = self.session.mesh
            self.stroke((x - 40 + 7 * number, y - 30 + 5 * number), (6, 3))
            step = self.session.job.log[-1]
            self.assertEqual((step.action.name, step.action.brush), ("brush", name))
            self.assertIsNot(self.session.mesh, before)
            self.assertTrue(step.text.startswith(kind.title), step.text)
        self.assertEqual(len(self.session.job.log), 1 + len(BRUSHES))
        # Ctrl turns it round; one undo takes one stroke
        tray.take("push")
        up = self.session.mesh
        self.stroke((x, y), (4, 4), Qt.KeyboardModifier.ControlModifier)
        self.assertTrue(self.session.job.log[-1].action.turned)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertIs(self.session.mesh, up)
        # its size, by keys that fold the ticket elsewhere, and by Shift and the wheel
        radius, folded = tray.brush.radius, self.window.ticket.isVisible()
        self.view.setFocus()
        QTest.keyClicks(self.view, "]")
        self.settle()
        self.assertGreater(tray.brush.radius, radius)
        self.assertEqual(self.window.ticket.isVisible(), folded)
        self.assertAlmostEqual(tray.options.fields["radius"].value(), tray.brush.radius, places=2)
        at, scale = QPointF(x, y), self.view.camera.scale
        turned = QWheelEvent(
            at, self.view.mapToGlobal(at), QPoint(), QPoint(0, -120), Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.ShiftModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(self.view, turned)
        self.settle()
        self.assertAlmostEqual(tray.brush.radius, radius, places=6)
        self.assertEqual(self.view.camera.scale, scale)
        # the ring lies on the part; Esc lays the brush down
        QTest.mouseMove(self.view, QPoint(x, y))
        self.settle()
        self.assertIsNotNone(tray.brush._on)
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.view.hand.tool)
        self.assertIn("in hand", tray.copper.text().replace("&", ""))
        # at the pointer, in any station
        self.key(Qt.Key.Key_4)
        self.view.setFocus()
        self.key(Qt.Key.Key_E)
        menu = QApplication.activePopupWidget()
        (brushes,) = menu.findChildren(QMenu)
        next(a for a in brushes.actions() if a.text() == "Flatten").trigger()
        menu.close()
        self.settle()
        self.assertIs(self.view.hand.tool, tray.brush)
        cursor = self.session.job.cursor
        self.stroke((x - 20, y - 20), (4, 3))
        self.assertEqual((self.session.job.cursor, self.session.station), (cursor + 1, "Strays"))

    def test_mirrored_and_by_pen(self) -> None:
        self.put_up(specimens.sphere(40.0, 40).mesh)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        tray.choose("Brush")
        self.view.stroking.prepare()
        self.settle()
        self.view.framing.look_from(0.0, 0.0)
        self.settle()
        tray.take("push")
        tray.brush.mirror = "left, right"
        self.assertIn("mirrored left to right", tray.brush.hint())
        mesh, x, y = self.session.mesh, self.view.width() // 2, self.view.height() // 2
        self.stroke((x + 60, y), (2, 3))
        action, after = self.session.job.log[-1].action, self.session.mesh
        self.assertEqual(len(action.mirrored), len(action.places))
        middle = mesh.box[:, 0].mean()
        for one, two in zip(action.places, action.mirrored, strict=True):
            np.testing.assert_allclose(two, (2 * middle - one[0], *one[1:]), atol=1e-9)
        moved = (after.vertices != mesh.vertices).any(axis=1)
        right = mesh.vertices[:, 0] > middle
        self.assertGreater((moved & right).sum(), 5)
        self.assertLess(abs(int((moved & right).sum()) - int((moved & ~right).sum())), 0.3 * moved.sum())
        self.assertTrue(self.session.job.log[-1].text.startswith("Push, mirrored"))
        # done again from the log it comes to the same bits
        again = action.apply(mesh, Context()).mesh
        self.assertTrue(np.array_equal(again.vertices, after.vertices))
        # a pen presses as hard as it says, until it is lifted
        tray.brush.mirror = "off"
        pen, none = QPointingDevice.primaryPointingDevice(), Qt.KeyboardModifier.NoModifier
        for kind, pressure in ((QEvent.Type.TabletPress, 0.25), (QEvent.Type.TabletRelease, 0.0)):
            at = QPointF(x, y)
            button = Qt.MouseButton.LeftButton
            event = QTabletEvent(
                kind, pen, at, self.view.mapToGlobal(at), pressure, 0.0, 0.0, 0.0, 0.0, 0.0, none, button, button
            )
            QApplication.sendEvent(self.view, event)
            self.stroke((x - 40, y), (3, 2))
            expected = {0.25} if pressure else set()
            self.assertEqual(set(self.session.job.log[-1].action.pressures), expected)

    def test_triangles_are_as_dense_after_a_stroke_where_that_is_asked(self) -> None:
        self.put_up(specimens.sphere(40.0, 40).mesh)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        self.click(tray.part_row.buttons["Brush"])
        self.view.stroking.prepare()
        self.settle()
        self.click(tray.brushes.buttons["Draw along"])
        density, edge = tray.seldom.fields["density"], tray.seldom.fields["edge"]
        self.reveal(density)
        self.assertFalse(edge.isVisible())
        density.setCurrentText("of a length")
        self.assertTrue(edge.isVisible())
        self.type_number(edge, "0.4")
        before = self.session.mesh
        self.stroke((self.view.width() // 2, self.view.height() // 2), (2, 4))
        self.settle()
        step = self.session.job.log[-1]
        self.assertEqual((step.action.brush, step.action.dense, step.action.edge_mm), ("draw", True, 0.4))
        self.assertGreater(len(self.session.mesh.faces), len(before.faces) + 200)
        self.assertEqual(specimens.closed_faults(self.session.mesh.vertices, self.session.mesh.faces), "")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertIs(self.session.mesh, before)

    def test_strokes_with_one_brush_are_one_line(self) -> None:
        self.put_up(specimens.sphere(40.0, 40).mesh)
        self.key(Qt.Key.Key_6)
        tray, rows, session = self.window.tray("Surface"), self.window.log_list, self.session
        self.view.stroking.prepare()
        self.settle()
        x, y = self.view.width() // 2, self.view.height() // 2

        def shown() -> list[str]:
            return [rows.item(i).text() for i in range(rows.count()) if not rows.isRowHidden(i)]

        def place(row: int, column: int) -> QPoint:
            return QPoint(column, rows.visualItemRect(rows.item(row)).center().y())

        for name, count in (("push", 3), ("smooth", 1), ("push", 2)):
            tray.take(name)
            for i in range(count):
                self.stroke((x - 20 + 15 * i, y - 10), (5, 3))
        lines = shown()
        self.assertEqual(len(lines), 4)
        self.assertEqual((lines[1], lines[3]), ("2–4  Push: 3 strokes", "6–7  Push: 2 strokes"))
        # each is undone by itself, and the line says so
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertEqual((session.job.cursor, shown()[3]), (6, "6–7  Push: 1 of 2 strokes"))
        self.assertEqual(rows.currentRow(), 6)
        # a click goes to where all of them are done; the triangle shows each, and then each can be gone to
        left = Qt.MouseButton.LeftButton
        QTest.mouseClick(rows.viewport(), left, pos=place(3, 90))
        self.settle()
        self.assertEqual(session.job.cursor, 4)
        QTest.mouseClick(rows.viewport(), left, pos=place(3, 8))
        self.settle()
        self.assertEqual((session.job.cursor, len(shown())), (4, 6))
        QTest.mouseClick(rows.viewport(), left, pos=place(1, 90))
        self.settle()
        self.assertEqual((session.job.cursor, len(shown())), (2, 6))
        rows.setFocus()
        rows.setCurrentRow(6)
        QTest.keyClick(rows, Qt.Key.Key_Return)
        self.assertEqual((len(shown()), self.window.editing.number), (7, None))
        # one that is switched off stands for itself, and so do those that are left on either side
        session.history.redo()
        session.history.redo()
        self.settle()
        rows._fold_again(range(1, 4))
        self.window.editing.set_enabled(2, False)
        self.settle()
        self.assertEqual(sum("strokes" in line for line in shown()), 0)
        self.assertEqual(len(shown()), rows.count())

    def test_smoothing_is_proposed_by_the_noise_that_was_measured(self) -> None:
        self.put_up(noisy(specimens.bored_box(60.0, 48).mesh, np.random.default_rng(0)))
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        self.click(tray.part_row.buttons["Smooth"])
        self.wait_for(lambda: tray.noise.text().endswith("mm"))
        self.settle()
        noise = float(tray.noise.text().split()[0])
        self.assertGreaterEqual(tray.most.value(), 3.9 * noise)
        tray.edges.click()
        self.settle()
        self.assertFalse(tray.passes.isVisible())
        self.key(Qt.Key.Key_Return)
        self.settle()
        step = self.session.job.log[-1]
        self.assertTrue(step.action.keep_edges and "edges kept" in step.text, step.text)
        self.assertLessEqual(step.account.figures["largest_mm"], tray.most.value() + 1e-9 if tray.most.value() else 1e9)

    def test_what_is_hidden_stays(self) -> None:
        self.put_up(specimens.sphere(40.0, 40).mesh)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        tray.choose("Brush")
        self.view.stroking.prepare()
        self.settle()
        mesh = self.session.mesh
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        x, y = self.view.width() // 2, self.view.height() // 2
        place = self.view.stroking.hit(*self.view.camera.ray_from_outside(x, y))
        hidden = np.linalg.norm(middles - place, axis=1) < 3.0
        self.session.selected.hide(hidden)
        self.settle()
        tray.take("push")
        tray.brush.unit, tray.brush.radius = "mm", 8.0
        self.stroke((x + 60, y), (2, 2))
        moved = (self.session.mesh.vertices != mesh.vertices).any(axis=1)
        self.assertTrue(moved.any())
        self.assertFalse(moved[mesh.faces[hidden]].any())


if __name__ == "__main__":
    unittest.main()
