"""Datums of a piece: made from each other, kept through steps and files, brought to the axes."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.part_pieces import noisy
from tinsnip.datums.axes import brought_to_axes
from tinsnip.datums.constructing import WAYS, construct, ways_for
from tinsnip.datums.datum import Datum
from tinsnip.datums.fitting import Given, fit_datum, form_round
from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job import (
    FitDatums,
    Job,
    MakeDatum,
    RemoveDatums,
    RenameDatum,
    ToAxes,
    open_job,
    plan_of,
    replay,
    save_job,
)  # fmt: skip
from tinsnip.mesh import Mesh
from tinsnip.regions import Region
from tinsnip.treat import Reduce, Scale, Turn


def plane(name: str, point: tuple, way: tuple, reach: float = 10.0) -> Datum:
    way = np.array(way, dtype=float) / np.linalg.norm(way)
    return Datum(name=name, form="plane", point=point, way=tuple(way), reach=reach)


def axis(name: str, point: tuple, way: tuple, form: str = "axis", radius: float = 0.0) -> Datum:
    way = np.array(way, dtype=float) / np.linalg.norm(way)
    return Datum(name=name, form=form, point=point, way=tuple(way), low=-5, high=5, radius=radius)


def point(name: str, place: tuple) -> Datum:
    return Datum(name=name, form="point", point=place)


def bored() -> Mesh:
    """A bored box with noise, turned and far off; its bore is about z before."""
    return noisy(specimens.bored_box(60.0, 100).mesh, np.random.default_rng(0))


class Clicked(unittest.TestCase):
    def test_a_click_grows_over_what_has_one_form(self) -> None:
        mesh = bored()
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        bore = int(np.argmin(np.linalg.norm(middles - [13.0, 0, 0], axis=1)))
        kind, own = form_round(mesh, bore, middles[bore])
        self.assertEqual(kind, "cylinder")
        out = np.linalg.norm(middles[own][:, :2], axis=1)
        self.assertLess(float(np.abs(out - np.median(out)).max()), 2.0)
        self.assertGreater(int(own.sum()), 0.8 * int((np.linalg.norm(middles[:, :2], axis=1) < 14.0).sum()))
        top = int(np.argmin(np.linalg.norm(middles - [20.0, 20.0, 40.0], axis=1)))
        kind, own = form_round(mesh, top, middles[top])
        self.assertEqual(kind, "plane")
        with self.assertRaisesRegex(BadInput, "no sphere|sphere that could"):
            self.assertLess(form_round(mesh, top, middles[top], "sphere")[1].sum(), 0)

    def test_what_is_given_stays_and_the_rest_is_fitted(self) -> None:
        mesh = bored()
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        own = form_round(mesh, int(np.argmin(np.linalg.norm(middles - [13.0, 0, 0], axis=1))), np.array([13.0, 0, 0]))[
            1
        ]
        free = fit_datum(mesh, own)
        self.assertEqual(free.form, "cylinder")
        held = fit_datum(mesh, own, "cylinder", given=Given(13.0, np.array([0, 0, 1.0])))
        self.assertEqual((held.radius, abs(held.way[2])), (13.0, 1.0))
        self.assertLess(np.linalg.norm(held.place[:2] - free.place[:2]), 0.05)
        self.assertLessEqual(free.rms_mm, held.rms_mm * 1.01)
        square = fit_datum(mesh, own, "cylinder", given=Given(square_to=np.array([1.0, 0, 0])))
        self.assertLess(abs(square.way[0]), 1e-12)
        with self.assertRaisesRegex(BadInput, "not lie square"):
            fit_datum(mesh, own, "cylinder", given=Given(square_to=free.direction))
        with self.assertRaisesRegex(BadInput, "nothing is chosen"):
            fit_datum(mesh, np.zeros(len(mesh.faces), dtype=bool))

    def test_lines_and_circles_are_fitted_to_open_edges(self) -> None:
        angle = np.linspace(0, 2 * np.pi, 90, endpoint=False)
        ring = np.column_stack([np.cos(angle), np.sin(angle), 0 * angle]) * 7.0
        corners = np.concatenate([ring, ring + np.array([0, 0, 4.0])])
        i, j = np.arange(90), (np.arange(90) + 1) % 90
        mesh = Mesh(corners, np.concatenate([np.stack([i, j, j + 90], 1), np.stack([i, j + 90, i + 90], 1)]))
        chosen = np.zeros(len(mesh.faces), dtype=bool)
        chosen[:90] = True
        circle = fit_datum(mesh, chosen, "circle")
        self.assertAlmostEqual(circle.radius, 7.0, places=6)
        np.testing.assert_allclose(circle.point, [0, 0, 0], atol=1e-9)
        sheet = Mesh([[0, 0, 0], [9, 0, 0], [9, 1, 0], [0, 1, 0]], [[0, 1, 2], [0, 2, 3]])
        line = fit_datum(sheet, np.array([True, False]), "line")
        self.assertEqual(line.form, "line")


class Symmetrical(unittest.TestCase):
    def test_the_plane_is_found_wherever_the_part_lies(self) -> None:
        """A ball squeezed three ways, with a bump beside its middle plane's edge: one plane is left, which is known."""
        ball = specimens.sphere(40.0, 30).mesh
        stretched = ball.vertices * [1.5, 1.0, 0.7]
        for bump in ([24.0, 0.0, 9.0], [-20.0, 0.0, 10.0]):
            near = np.exp(-((stretched - bump) ** 2).sum(axis=1) / 40.0)[:, None]
            stretched = stretched + near * np.array(bump) * 0.2
        turn = Rotation.random(random_state=8).as_matrix()
        noise = np.random.default_rng(3).normal(size=stretched.shape) * 0.05
        mesh = Mesh((stretched + noise) @ turn.T + [100.0, -40.0, 7.0], ball.faces)
        job = Job()
        job.open(Scan(Path("ball.stl"), mesh, "STL", "mm", ""))
        whole = Region.of(mesh, np.ones(len(mesh.faces), dtype=bool))
        job.do(FitDatums(regions=(whole,), forms=("symmetry",)))
        (plane_,) = job.piece.datums
        self.assertEqual(plane_.form, "plane")
        self.assertGreater(abs(plane_.direction @ (turn @ np.array([0, 1.0, 0]))), np.cos(np.radians(0.3)))
        off = (turn.T @ (plane_.place - [100.0, -40.0, 7.0]))[1]
        self.assertLess(abs(off), 0.05)
        self.assertIn("symmetry", plane_.told)
        with self.assertRaisesRegex(BadInput, "mirror image"):
            some = np.linalg.norm(ball.vertices[ball.faces].mean(axis=1) - [12.0, 9.0, 12.0], axis=1) < 9
            lopsided = Region.of(mesh, some & (np.arange(len(ball.faces)) % 7 < 3))
            job.do(FitDatums(regions=(lopsided,), forms=("symmetry",)))


class Constructed(unittest.TestCase):
    def test_every_way_gives_what_it_says(self) -> None:
        """Random forms; what is made is checked by distances alone."""
        rng = np.random.default_rng(4)
        for _ in range(40):
            at = rng.normal(size=3) * 50 + rng.choice([0.0, 1e5])
            scale = 1e-10 * (1.0 + float(np.abs(at).max()))

            def somewhere(at: np.ndarray = at) -> tuple:
                return tuple((at + rng.normal(size=3) * 20).tolist())

            p = [plane(f"P{i}", somewhere(), rng.normal(size=3)) for i in range(3)]
            a = [axis(f"A{i}", somewhere(), rng.normal(size=3)) for i in range(2)]
            q = [point(f"Q{i}", somewhere()) for i in range(3)]

            def off(plane_: Datum, place: np.ndarray) -> float:
                return float((place - plane_.place) @ plane_.direction)

            def beside(axis_: Datum, place: np.ndarray) -> float:
                return float(np.linalg.norm(np.cross(place - axis_.place, axis_.direction)))

            corner = construct("meet", p)
            self.assertLess(max(abs(off(x, corner.place)) for x in p), 1e4 * scale)
            edge = construct("meet", p[:2])
            for place in edge.ends():
                self.assertLess(max(abs(off(x, place)) for x in p[:2]), 1e4 * scale)
            through = construct("meet", [p[0], a[0]])
            self.assertLess(max(abs(off(p[0], through.place)), beside(a[0], through.place)), 1e5 * scale)
            half = construct("midway", p[:2])
            places = half.place + rng.normal(size=(9, 3)) @ (np.eye(3) - np.outer(half.direction, half.direction)) * 30
            np.testing.assert_allclose(*(np.abs((places - x.place) @ x.direction) for x in p[:2]), atol=1e4 * scale)
            for made in (construct("through", q), construct("through", [a[0], q[0]])):
                self.assertLess(abs(off(made, q[0].place)), 100 * scale)
            line = construct("through", q[:2])
            self.assertLess(max(beside(line, x.place) for x in q[:2]), 100 * scale)
            self.assertLess(abs(off(construct("square", [a[0], q[0]]), q[0].place)), scale)
            next_to = construct("parallel", [p[0]], value=3.5)
            self.assertAlmostEqual(off(p[0], next_to.place), 3.5, delta=1e5 * scale)
            middle = construct("midway", a)
            self.assertAlmostEqual(beside(a[0], middle.place), beside(a[1], middle.place), delta=1e5 * scale)

    def test_rounds_meet_planes_in_circles(self) -> None:
        floor = plane("D1", (0, 0, 4.0), (0, 0, 1))
        bore = axis("D2", (3, 1, 20), (0, 0, 1), "cylinder", 6.0)
        circle = construct("meet", [bore, floor])
        self.assertEqual((circle.form, circle.radius), ("circle", 6.0))
        np.testing.assert_allclose(circle.point, [3, 1, 4])
        ball = Datum(name="D3", form="sphere", point=(0, 0, 1.0), radius=5.0)
        self.assertAlmostEqual(construct("meet", [floor, ball]).radius, 4.0)
        cone = Datum(name="D4", form="cone", point=(0, 0, 0), way=(0, 0, 1), angle_deg=90.0, low=1, high=9)
        self.assertAlmostEqual(construct("meet", [cone, floor]).radius, 4.0)
        turned = construct("turned", [plane("D5", (0, 0, 0), (0, 0, 1)), axis("D6", (0, 2, 0), (1, 0, 0))], value=30.0)
        np.testing.assert_allclose(turned.way, [0, -0.5, np.sqrt(0.75)], atol=1e-12)
        np.testing.assert_allclose(construct("axis", [bore]).way, bore.way)

    def test_what_gives_nothing_is_said(self) -> None:
        floor, above = plane("D1", (0, 0, 0), (0, 0, 1)), plane("D2", (0, 0, 5), (0, 0, 1))
        here = point("D3", (1, 2, 3))
        for how, of in (
            ("meet", [floor, above]), ("meet", [floor, above, plane("D4", (0, 0, 0), (1, 0, 0))]),
            ("meet", [floor, axis("D4", (0, 0, 1), (1, 0, 0))]), ("through", [here, here]), ("midway", [floor]),
            ("through", [here, here, here]), ("through", [axis("D5", (1, 2, 0), (0, 0, 1)), here]), ("axis", [here]),
            ("meet", [floor, Datum(name="D6", form="sphere", point=(0, 0, 9), radius=2.0)]),
        ):  # fmt: skip
            with self.assertRaises(BadInput, msg=(how, of)) as raised:
                construct(how, of)
            self.assertRegex(str(raised.exception), "D[0-9].*; choose other")
        self.assertEqual(construct("midway", [floor, above]).point[2], 2.5)
        self.assertTrue({w for n in (1, 2, 3) for w in ways_for([floor] * n)} <= set(WAYS))


class Axes(unittest.TestCase):
    def test_three_planes_come_out_as_in_exact_arithmetic(self) -> None:
        """Planes with rational unit normals; the move worked out in fractions."""
        for far in (0, 100_000):
            turn = [[Fraction(n, 3) for n in row] for row in ((2, -1, 2), (2, 2, -1), (-1, 2, 2))]
            places = [[Fraction(far) + v for v in row] for row in ((7, 3, 5), (-2, 9, 4), (1, 1, -6))]
            goal = {"z": 2, "x": 0, "y": 1}
            exact = [[Fraction(0)] * 4 for _ in range(3)]
            planes = []
            for k, to in enumerate(goal):  # the k-th plane has the k-th column as its normal, and comes to that axis
                way = [turn[i][k] for i in range(3)]
                exact[goal[to]][:3] = way
                exact[goal[to]][3] = -sum(w * x for w, x in zip(way, places[k], strict=True))
                planes.append(plane(f"D{k}", tuple(map(float, places[k])), tuple(map(float, way))))
            bound = brought_to_axes(planes, list(goal), np.array([1.0, 2.0, 3.0]))
            wanted = np.array([[float(x) for x in row] for row in exact])
            np.testing.assert_allclose(bound.matrix[:3], wanted, atol=1e-9)
            self.assertEqual((bound.free, round(bound.off_deg, 6)), ((), 0.0))

    def test_what_is_bound_and_what_is_free_is_told(self) -> None:
        floor, bore = plane("D1", (5, 5, 2), (0, 0.1, 1)), axis("D2", (4, 7, 1), (0, 0.1, 1), "cylinder", 3.0)
        wall, second = plane("D3", (9, 0, 0), (1, 0.02, 0)), axis("D4", (14, 7, 0), (0, 0.1, 1), "cylinder", 2.0)
        about = np.zeros(3)
        for of, to, free in (
            ([floor], ["z"], ("turns about z", "shifts along x", "shifts along y")),
            ([bore], ["z"], ("turns about z", "shifts along z")),
            ([floor, bore], ["z", "z"], ("turns about z",)),
            ([floor, bore, wall], ["z", "z", "x"], ()),
            ([floor, bore, second], ["z", "z", "x"], ()),
            ([floor, point("D5", (1, 1, 1))], ["z", "origin"], ("turns about z",)),
            ([point("D5", (1, 1, 1))], ["origin"], ("turns about x", "turns about y", "turns about z")),
        ):
            bound = brought_to_axes(of, to, about)
            self.assertEqual(bound.free, free, of)
            moved = [d.moved(bound.matrix) for d in of]
            linear = bound.matrix[:3, :3]
            np.testing.assert_allclose(linear @ linear.T, np.eye(3), atol=1e-12)
            self.assertAlmostEqual(float(np.linalg.det(linear)), 1.0)
            if to[0] == "z":
                np.testing.assert_allclose(moved[0].way, [0, 0, 1], atol=1e-12)
            if of[0] is floor:
                self.assertAlmostEqual(float(moved[0].place @ moved[0].direction), 0.0, places=9)
            if len(of) > 1 and of[1] is bore:
                np.testing.assert_allclose(moved[1].place[:2], [0, 0], atol=1e-9)
            if of[-1] is second:  # the second bore lies along x from the first
                self.assertAlmostEqual(moved[2].place[1], 0.0, places=9)
                self.assertGreater(moved[2].place[0], 0)
        skew = brought_to_axes(
            [plane("D1", (0, 0, 0), (0, 0, 1)), plane("D2", (0, 0, 0), (1, 0, 0.1))], ["z", "x"], about
        )
        self.assertAlmostEqual(skew.off_deg, float(np.degrees(np.arctan(0.1))), places=6)
        # a bore that leans a little is meant to stand on its flat: its place counts, and by how much it leans is told
        leaning = brought_to_axes([floor, axis("D2", (4, 7, 1), (0.05, 0.1, 1))], ["z", "z"], about)
        self.assertEqual(leaning.free, ("turns about z",))
        self.assertAlmostEqual(leaning.off_deg, 2.85, delta=0.02)
        with self.assertRaisesRegex(BadInput, "cannot come to"):
            brought_to_axes([floor, wall], ["z", "z"], about)


class Steps(unittest.TestCase):
    def setUp(self) -> None:
        turn = Rotation.random(random_state=5).as_matrix()
        mesh = bored()
        self.mesh = Mesh(mesh.vertices @ turn.T + [30.0, -70.0, 12.0], mesh.faces)
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        self.regions = []
        for place in ([0.0, 25.0, 40.0], [13.0, 0, 0], [40.0, 30.0, 0.0]):
            at = int(np.argmin(np.linalg.norm(middles - place, axis=1)))
            self.regions.append(
                Region.of(self.mesh, form_round(self.mesh, at, turn @ middles[at] + [30.0, -70.0, 12.0])[1])
            )
        self.job = Job()
        self.job.open(Scan(Path("box.stl"), self.mesh, "STL", "mm", ""))

    def test_they_go_along_are_kept_and_found_again(self) -> None:
        job = self.job
        job.do(FitDatums(regions=tuple(self.regions), forms=("plane", "any", "plane"), names=("D1", "D2", "D3")))
        self.assertEqual([d.form for d in job.piece.datums], ["plane", "cylinder", "plane"])
        job.do(MakeDatum(how="meet", of=("D1", "D2")))
        self.assertEqual(job.piece.datums[-1].name, "D4")
        fitted = job.piece.datums
        job.do(ToAxes(datums=("D1", "D2", "D3"), to=("z", "z", "x")))
        matrix = job.log[-1].account.matrix
        for before, now in zip(fitted, job.piece.datums, strict=True):
            np.testing.assert_allclose(now.place, matrix[:3, :3] @ before.place + matrix[:3, 3], atol=1e-9)
        self.assertLess(np.abs(job.piece.datums[0].place[2]), 1e-9)
        bore = job.piece.datums[1]
        foot = bore.place - bore.place[2] / bore.way[2] * bore.direction  # of its axis, on the plane that counts first
        np.testing.assert_allclose(foot, 0, atol=1e-9)
        job.apply(Scale(factor=2.0))
        self.assertAlmostEqual(job.piece.datums[1].radius, 2 * fitted[1].radius, places=9)
        job.do(RenameDatum(datum="D2", to="Bore"))
        with self.assertRaisesRegex(BadInput, "no datum D9"):
            job.do(RemoveDatums(names=("D9",)))
        # kept in a file, and there again
        with tempfile.TemporaryDirectory() as keep:
            save_job(job, Path(keep) / "box.snipjob", {})
            again = open_job(Path(keep) / "box.snipjob").job
            self.assertEqual(again.piece.datums, job.piece.datums)
        job.undo()
        self.assertEqual([d.name for d in job.piece.datums], ["D1", "D2", "D3", "D4"])
        # an early step is changed: they are fitted anew where the surface has come to lie
        plan = plan_of(job)
        before = job.piece.datums
        job.go_to(1)
        turned = Job()
        turned.open(Scan(Path("box.stl"), self.mesh, "STL", "mm", ""))
        turned.apply(Turn(axis=(1, 2, 3), degrees=40.0))
        plan = [plan[0], *plan_of(turned)[1:], *plan[1:]]
        result = replay({}, plan, 10)
        self.assertIsNone(result.stopped, result.reason)
        now = result.steps[-1].changes[0].after.datums
        for one, other in zip(before, now, strict=True):
            self.assertAlmostEqual(one.radius, other.radius, delta=0.02)
            if one.form == "cylinder":
                np.testing.assert_allclose(np.abs(one.way), np.abs(other.way), atol=4e-3)

    def test_a_reduced_part_is_found_again_too(self) -> None:
        job = self.job
        job.do(FitDatums(regions=(self.regions[1],)))
        first = job.piece.datums[0]
        plan = plan_of(job)
        other = Job()
        other.open(Scan(Path("box.stl"), self.mesh, "STL", "mm", ""))
        other.apply(Reduce(percent=40))
        result = replay({}, [plan[0], *plan_of(other)[1:], *plan[1:]], 10)
        self.assertIsNone(result.stopped, result.reason)
        self.assertAlmostEqual(result.steps[-1].changes[0].after.datums[0].radius, first.radius, delta=0.1)
        # and where its surface is gone, the step says so
        far = Region(anchors=((9e3, 0, 0, 0, 0, 1, 1.0),))
        with self.assertRaisesRegex(BadInput, "not on the part any more"):
            job.do(FitDatums(regions=(far,)))


if __name__ == "__main__":
    unittest.main()
