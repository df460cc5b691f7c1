"""Odd shapes that come in scans and the treatments that must cope with them, and what the survey calls them."""

import unittest

import numpy as np
from scipy.spatial import cKDTree

from tests import specimens
from tinsnip.errors import BadInput
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import region_of_holes, region_of_shells
from tinsnip.survey import Kind, examine
from tinsnip.survey.strays import shell_roles
from tinsnip.treat import Context, Mend, Orient, Patch, Plinth, StraightSnip, Sweep, Weld


def together(*meshes: Mesh) -> Mesh:
    """Several meshes as one, shells in the order given."""
    starts = np.cumsum([0] + [len(m.vertices) for m in meshes])
    faces = [m.faces + start for m, start in zip(meshes, starts[:-1], strict=True)]
    return Mesh(np.concatenate([m.vertices for m in meshes]), np.concatenate(faces))


def put(mesh: Mesh, place: tuple[float, float, float], inward: bool = False) -> Mesh:
    """A mesh elsewhere, and inside out where wanted."""
    return Mesh(mesh.vertices + np.array(place), mesh.faces[:, ::-1] if inward else mesh.faces)


def tube(radius: float, height: float, n: int = 48, rows: int = 12) -> Mesh:
    """A pipe without ends."""
    angle = 2 * np.pi * np.arange(n) / n
    circle = np.column_stack([radius * np.cos(angle), radius * np.sin(angle)])
    levels = np.linspace(0, height, rows)
    points = np.concatenate([np.column_stack([circle, np.full(n, z)]) for z in levels])
    return Mesh(points, specimens.grid_faces(rows, n, False, True, True))


def sheet(size: float, n: int = 30, bulge: float = 0.0) -> Mesh:
    """A flat or domed sheet with its normal up."""
    x, y = np.meshgrid(np.linspace(-0.5, 0.5, n) * size, np.linspace(-0.5, 0.5, n) * size, indexing="ij")
    z = bulge * (size**2 / 2 - x**2 - y**2) / size
    return Mesh(np.stack([x, y, z], -1).reshape(-1, 3), specimens.grid_faces(n, n, False, False))


def moebius(size: float, n: int = 120, rows: int = 8) -> Mesh:
    """A band with one side and one edge."""
    u = 2 * np.pi * np.arange(n) / n
    v = np.linspace(-0.2, 0.2, rows) * size
    points = [
        [(size + w * np.cos(t / 2)) * np.cos(t), (size + w * np.cos(t / 2)) * np.sin(t), w * np.sin(t / 2)]
        for t in u
        for w in v
    ]
    faces = specimens.grid_faces(n + 1, rows, False, False).astype(np.int64)
    last = faces >= n * rows  # the last row is the first one turned over
    faces[last] = rows - 1 - (faces[last] - n * rows)
    return Mesh(np.array(points), faces)


def klein(size: float, n: int = 60, m: int = 24) -> Mesh:
    """The figure-of-eight immersion of a Klein bottle."""
    u, v = np.meshgrid(2 * np.pi * np.arange(n) / n, 2 * np.pi * np.arange(m) / m, indexing="ij")
    r = 2 + np.cos(u / 2) * np.sin(v) - np.sin(u / 2) * np.sin(2 * v)
    z = np.sin(u / 2) * np.sin(v) + np.cos(u / 2) * np.sin(2 * v)
    points = size / 3 * np.stack([r * np.cos(u), r * np.sin(u), z], -1).reshape(-1, 3)
    faces = specimens.grid_faces(n + 1, m, False, True).astype(np.int64)
    last = faces >= n * m  # after one turn the tube is passed the other way round
    faces[last] = (-(faces[last] - n * m)) % m
    return Mesh(points, faces)


def projective_plane(size: float) -> Mesh:
    """A sphere of which each point and the one across are the same, placed so that most of it is apart."""
    ball = specimens.sphere(2.0, 12).mesh
    points = ball.vertices / np.linalg.norm(ball.vertices, axis=1)[:, None]
    number = np.minimum(np.arange(len(points)), cKDTree(points).query(-points)[1])
    faces = number[ball.faces]
    _, once = np.unique(np.sort(faces, axis=1), axis=0, return_index=True)
    x, y, z = points.T
    return Mesh(size * np.column_stack([y * z, 2 * x * y, x**2 - y**2]), faces[once])


def without(mesh: Mesh, centre: np.ndarray, radius: float) -> Mesh:
    """A mesh with the triangles round a point taken out."""
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    return keep_triangles(mesh, np.linalg.norm(middles - centre, axis=1) > radius)


class Roles(unittest.TestCase):
    def test_what_each_shell_is(self) -> None:
        for unit in (1e-3, 1.0, 1e4):
            main = specimens.torus(100.0 * unit, 80).mesh
            small, large = specimens.sphere(1.5 * unit, 8).mesh, specimens.sphere(15 * unit, 12).mesh
            ring = 34.0 * unit
            mesh = together(
                put(large, (0, 0, 0)),  # in the hole of the ring, beside the material
                put(small, (0, 60 * unit, 0)),
                main,
                put(large, (ring, 0, 0), inward=True),  # within the material, facing in: a void
                put(small, (-ring, 0, 0)),  # within the material, facing out: something thrown in
                put(small, (0, 0, 30 * unit), inward=True),  # facing in, but not inside: a stray inside out
                sheet(1.0 * unit),
            )
            roles = shell_roles(mesh)
            self.assertEqual(roles.main, 2)
            self.assertEqual(np.flatnonzero(roles.void).tolist(), [3])
            self.assertEqual(np.flatnonzero(roles.chunk).tolist(), [0])
            self.assertEqual(np.flatnonzero(roles.inner).tolist(), [4])
            self.assertEqual(np.flatnonzero(roles.crumb).tolist(), [1, 5, 6])
            found = examine(mesh)
            self.assertEqual([f.kind for f in found.strays].count(Kind.VOID), 1)
            spans = [f.size for f in found.strays]
            self.assertAlmostEqual(max(spans), 15 * unit * np.sqrt(3), delta=1.5 * unit)
            # each of them is swept by its own name, and nothing else with it
            for finding in found.strays:
                swept = Sweep(shells=region_of_shells(mesh, [finding.key])).apply(mesh, Context())
                self.assertEqual(len(swept.mesh.faces), len(mesh.faces) - finding.count)
                self.assertEqual(len(swept.mesh.shells), len(mesh.shells) - 1)
            self.assertEqual(
                specimens.triangle_set(main.vertices, main.faces),
                specimens.triangle_set(*self.arrays(Sweep(chunks="sweep").apply(mesh, Context()).mesh)),
            )

    def arrays(self, mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
        return mesh.vertices, mesh.faces

    def test_sweeping_by_rule(self) -> None:
        main = specimens.sphere(100.0, 30).mesh
        balls = [put(specimens.sphere(size, 6).mesh, (80 + 10 * i, 0, 0)) for i, size in enumerate((0.5, 2, 8, 20))]
        mesh = together(main, *balls)
        asked = Sweep().apply(mesh, Context())  # the largest may be part of the part: it stays, and is asked about
        self.assertEqual(len(asked.mesh.shells), 2)
        self.assertIn("part of it, or strays?", asked.question)
        self.assertAlmostEqual(asked.account.gone_share, sum(b.area for b in balls[:3]) / mesh.area, places=9)
        kept = Sweep(chunks="keep", crumbs=False).apply(mesh, Context())
        self.assertIs(kept.mesh, mesh)
        self.assertEqual((kept.question, kept.account.figures["chunks_kept"]), ("", 1))
        for under, left in ((0.6, 5), (1.0, 4), (5.0, 3), (20.0, 2), (1000.0, 1)):
            swept = Sweep(under_mm=under, chunks="sweep").apply(mesh, Context())
            self.assertEqual((len(swept.mesh.shells), swept.question), (left, ""))
        self.assertIs(Sweep().apply(main, Context()).mesh, main)


class Boundaries(unittest.TestCase):
    def told(self, mesh: Mesh) -> tuple[int, int]:
        found = examine(mesh).counts()
        return found["holes"], found["rims"]

    def test_holes_and_rims_of_known_shapes(self) -> None:
        for unit in (1e-2, 1.0, 5e3):
            flat = sheet(100 * unit)
            self.assertEqual(self.told(flat), (0, 1))
            holed = without(
                without(flat, np.array([20, 10, 0.0]) * unit, 8 * unit), np.array([-25, 0, 0]) * unit, 4 * unit
            )
            self.assertEqual(self.told(holed), (2, 1))
            self.assertEqual(self.told(tube(20 * unit, 90 * unit)), (0, 2))
            side = without(tube(20 * unit, 90 * unit, 96, 40), np.array([20, 0, 45.0]) * unit, 6 * unit)
            self.assertEqual(self.told(side), (1, 2))
            ball = specimens.sphere(60 * unit, 50).mesh
            bowl = StraightSnip(offset=5 * unit, waste="above").apply(ball, Context()).mesh
            self.assertEqual(self.told(bowl), (0, 1))
            self.assertEqual(self.told(without(bowl, np.array([0, 0, -30.0]) * unit, 6 * unit)), (1, 1))
            self.assertEqual(self.told(without(ball, np.array([0, 0, 30.0]) * unit, 3 * unit)), (1, 0))
            # the open edge of a stray is neither: it goes with its shell
            self.assertEqual(self.told(together(ball, put(sheet(2 * unit), (50 * unit, 0, 0)))), (0, 0))

    def test_findings_stand_where_the_holes_are(self) -> None:
        ball = specimens.sphere(60.0, 60).mesh
        places = [np.array(p) * 30.0 for p in ([1, 0, 0], [0, -1, 0], [0, 0, 1])]
        for place, radius in zip(places, (2.0, 4.0, 7.0), strict=True):
            ball = without(ball, place, radius)
        found = examine(ball).openings
        self.assertEqual([f.id for f in found], ["H1", "H2", "H3"])
        for finding, place, radius in zip(found, places[::-1], (7.0, 4.0, 2.0), strict=True):
            self.assertLess(np.linalg.norm(finding.place - place), 2.0)
            self.assertAlmostEqual(finding.size, 2 * np.sqrt(2) * radius, delta=3.0)
            self.assertEqual(len(finding.outline), finding.count)
            one = Patch(holes=region_of_holes(ball, [finding.key])).apply(ball, Context()).mesh
            self.assertEqual(len(one.loops), 2)
        self.assertEqual(
            len(Patch(under_mm=0.5 * (found[0].size + found[1].size)).apply(ball, Context()).mesh.loops), 1
        )


class Orienting(unittest.TestCase):
    def test_any_share_of_turned_triangles(self) -> None:
        """Up to where a part is turned in whole regions: what most of its surface says wins."""
        rng = np.random.default_rng(0)
        for make in (specimens.sphere, specimens.torus, specimens.bored_box):
            mesh = make(50.0, 60).mesh
            for share in (0.001, 0.05, 0.3, 1.0):
                faces = mesh.faces.copy()
                turned = rng.random(len(faces)) < share
                faces[turned] = faces[turned][:, ::-1]
                outcome = Orient().apply(Mesh(mesh.vertices, faces), Context())
                self.assertEqual(specimens.closed_faults(outcome.mesh.vertices, outcome.mesh.faces), "")
                self.assertEqual(outcome.account.figures["cut"], 0)
                self.assertEqual(
                    specimens.triangle_set(mesh.vertices, mesh.faces),
                    specimens.triangle_set(outcome.mesh.vertices, outcome.mesh.faces),
                )
                self.assertAlmostEqual(outcome.mesh.volume, mesh.volume, delta=1e-9 * mesh.volume)

    def test_shells_within_shells(self) -> None:
        outer, inner = specimens.sphere(40.0, 16).mesh, specimens.sphere(10.0, 12).mesh
        hollow = together(outer, put(inner, (0, 0, 0), inward=True))
        self.assertIs(Orient().apply(hollow, Context()).mesh, hollow)
        over = Mesh(hollow.vertices, hollow.faces[:, ::-1])  # the file as a whole is inside out
        self.assertAlmostEqual(Orient().apply(over, Context()).mesh.volume, hollow.volume, places=6)
        beside = together(outer, put(inner, (60, 0, 0), inward=True))
        self.assertAlmostEqual(Orient().apply(beside, Context()).mesh.volume, outer.volume + inner.volume, places=6)

    def test_a_surface_with_one_side_is_said_to_be_one(self) -> None:
        """A Moebius band, a Klein bottle and a projective plane, coarse and fine; a scrap of that kind is let be."""
        for surface in (moebius(30.0), moebius(30.0, 40, 3), klein(30.0), klein(30.0, 16, 8), projective_plane(30.0)):
            self.assertGreater(surface.edges.flipped, 0)
            with self.assertRaisesRegex(BadInput, "one side only"):
                Orient().apply(surface, Context())
        ball = specimens.sphere(100.0, 30).mesh
        scrap = put(moebius(0.5), (90.0, 0, 0))
        swept = Sweep().apply(Orient().apply(together(ball, scrap), Context()).mesh, Context()).mesh
        self.assertEqual(specimens.closed_faults(swept.vertices, swept.faces), "")

    def test_open_shells_inside_out_are_turned(self) -> None:
        """Domes of all heights, and a box without its bottom, but no sheet with a dent in it."""
        for unit in (1e-2, 1.0, 1e3):
            ball = specimens.sphere(60 * unit, 40).mesh
            for height in (-20.0, -8.0, 0.0, 12.0):
                dome = StraightSnip(normal=(0.1, 0.2, 1), offset=height * unit).apply(ball, Context()).mesh
                over = Mesh(dome.vertices, dome.faces[:, ::-1])
                turned = Orient().apply(over, Context()).mesh
                self.assertTrue(np.array_equal(np.sort(turned.faces, axis=1), np.sort(dome.faces, axis=1)))
                outward = face_vectors(turned.vertices, turned.faces) * turned.vertices[turned.faces[:, 0]]
                self.assertGreater(outward.sum(), 0)
                self.assertIs(Orient().apply(dome, Context()).mesh, dome)
            box = specimens.bored_box(60 * unit, 40).mesh
            open_box = StraightSnip(offset=-3 * unit).apply(box, Context()).mesh
            over = Mesh(open_box.vertices, open_box.faces[:, ::-1])
            closed = Plinth().apply(Orient().apply(over, Context()).mesh, Context())
            self.assertEqual(specimens.closed_faults(closed.mesh.vertices, closed.mesh.faces), "")
            self.assertEqual(closed.account.crossings, 0)
            dent = sheet(60 * unit, 40)
            x, y = dent.vertices[:, 0] / unit, dent.vertices[:, 1] / unit
            dip = np.column_stack([0 * x, 0 * x, -6 * unit * np.exp(-(x**2 + y**2) / 100)])
            dent = Mesh(dent.vertices + dip, dent.faces)
            self.assertIs(Orient().apply(dent, Context()).mesh, dent)
            solid = Plinth().apply(dent, Context())  # its base lies below the dent
            self.assertEqual(specimens.closed_faults(solid.mesh.vertices, solid.mesh.faces), "")
            self.assertEqual(solid.account.crossings, 0)


class Mending(unittest.TestCase):
    def test_each_sort_of_tangle(self) -> None:
        ball = specimens.sphere(30.0, 20).mesh
        good = specimens.triangle_set(ball.vertices, ball.faces)
        rng = np.random.default_rng(0)
        some = rng.choice(len(ball.faces), 30, replace=False)
        double = Mesh(
            ball.vertices, np.concatenate([ball.faces, ball.faces[some[:10]], ball.faces[some[10:]][:, ::-1]])
        )
        fin = np.column_stack([ball.faces[some, :2], np.arange(30) + len(ball.vertices)])
        tips = ball.vertices[ball.faces[some, 0]] * 1.2
        finned = Mesh(np.concatenate([ball.vertices, tips]), np.concatenate([ball.faces, fin]))
        lines = Mesh(ball.vertices, np.concatenate([ball.faces, ball.faces[some][:, [0, 1, 1]]]))
        for damaged in (double, finned, lines):
            mended = Mend().apply(damaged, Context()).mesh
            found = examine(mended)
            self.assertEqual(found.tangles.total, 0)
            main = Sweep().apply(mended, Context()).mesh
            self.assertEqual(specimens.closed_faults(main.vertices, main.faces), "")
            self.assertGreater(len(good & specimens.triangle_set(main.vertices, main.faces)) / len(good), 0.95)

    def test_two_parts_that_touch_are_two_again(self) -> None:
        """Along an edge and in a point: each keeps its volume and its closedness."""
        box = specimens.bored_box(20.0, 40).mesh
        along = Weld().apply(together(box, put(box, (20.0, 20.0, 0))), Context()).mesh
        self.assertGreater(along.edges.tangled, 5)
        ball = specimens.sphere(20.0, 21).mesh  # an odd number: it has a vertex at each pole
        top = ball.vertices[ball.vertices[:, 2].argmax()]
        point = Weld().apply(together(ball, put(ball, tuple(2 * top))), Context()).mesh
        self.assertEqual((point.edges.tangled, examine(point).tangles.pinched_vertices), (0, 1))
        for touching, one in ((along, box), (point, ball)):
            mended = Mend().apply(touching, Context()).mesh
            self.assertEqual((len(mended.shells), mended.edges.open, mended.edges.tangled), (2, 0, 0))
            for volume in mended.shells.volume:
                self.assertAlmostEqual(volume / one.volume, 1.0, delta=1e-3)
            # and they do not weld together again when they are written by places alone
            again = Weld().apply(mended, Context()).mesh
            self.assertEqual(examine(again).tangles.total, 0)

    def test_triangles_without_height_leave_no_gap(self) -> None:
        ball = specimens.sphere(30.0, 16).mesh
        rng = np.random.default_rng(4)
        vertices, faces = [ball.vertices], ball.faces.tolist()
        count = len(ball.vertices)
        for f in rng.choice(len(ball.faces), 12, replace=False):
            a, b, c = ball.faces[f]
            t = ball.twins[3 * f] // 3
            if faces[f] is None or faces[t] is None:
                continue
            # a vertex on the very middle of an edge, used on one side only: its other side is a cap
            vertices.append(0.5 * (ball.vertices[a] + ball.vertices[b])[None])
            faces += [[a, count, c], [count, b, c], [a, b, count]]
            faces[f] = None
            count += 1
        mesh = Mesh(np.concatenate(vertices), np.array([f for f in faces if f is not None]))
        self.assertEqual(mesh.edges.open, 0)
        self.assertGreater(examine(mesh).tangles.degenerate, 5)
        mended = Mend().apply(mesh, Context()).mesh
        self.assertEqual(examine(mended).tangles.degenerate, 0)
        self.assertEqual(specimens.closed_faults(mended.vertices, mended.faces), "")
        self.assertAlmostEqual(mended.volume, ball.volume, delta=1e-9 * ball.volume)


class Closing(unittest.TestCase):
    def test_what_no_tangle_comes_near_is_closed_all_the_same(self) -> None:
        ball = specimens.sphere(100.0, 30).mesh
        middle = ball.vertices[ball.faces].mean(axis=1)
        holed = keep_triangles(ball, np.abs(middle[:, 2]) < 0.96 * 50.0)
        self.assertEqual(len(holed.loops), 2)
        # a fin on an edge beside the upper hole: three triangles have it
        corner = holed.faces.ravel()[holed.loops.halfedges]
        upper = corner[holed.vertices[corner, 2] > 0]
        at = next(f for f in holed.faces if np.isin(f, upper).sum() == 1)
        tip = len(holed.vertices)
        finned = Mesh(
            np.vstack([holed.vertices, 1.2 * holed.vertices[at].mean(axis=0)]),
            np.vstack([holed.faces, [at[0], at[1], tip], [at[1], at[2], tip]]),
        )
        self.assertGreater(finned.edges.tangled, 0)
        outcome = Patch().apply(finned, Context())
        self.assertRegex(outcome.text, r"^Patched 1 hole; left \d+ holes? open")
        made = outcome.mesh.vertices[outcome.mesh.faces[outcome.mesh.provenance == MADE]]
        self.assertTrue((made[:, :, 2] < 0).all())
        self.assertEqual(specimens.triangle_set(finned.vertices, finned.faces)
                         - specimens.triangle_set(outcome.mesh.vertices, outcome.mesh.faces), set())  # fmt: skip
        mesh = outcome.mesh
        for treatment in (Mend(), Orient(), Sweep(chunks="sweep"), Patch()):
            mesh = treatment.apply(mesh, Context()).mesh
        self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")

    def test_holes_of_all_sizes_in_all_units(self) -> None:
        rng = np.random.default_rng(1)
        for unit in (2e-3, 1.0, 3e3):
            ball = specimens.sphere(60 * unit, 50)
            for radius in (0.8, 3.0, 9.0, 20.0):
                way = rng.normal(size=3)
                holed = without(ball.mesh, way / np.linalg.norm(way) * 30 * unit, radius * unit)
                if holed.edges.open == 0:
                    continue
                patched = Patch().apply(holed, Context()).mesh
                self.assertEqual(specimens.closed_faults(patched.vertices, patched.faces), "")
                self.assertTrue(np.array_equal(patched.faces[: len(holed.faces)], holed.faces))
                self.assertTrue(np.array_equal(patched.vertices[: len(holed.vertices)], holed.vertices))
                made = patched.faces[len(holed.faces) :]
                off = np.abs(ball.distance(patched.vertices[made].mean(axis=1)))
                depth = 30 - np.sqrt(900 - radius**2)
                self.assertLess(off.max(), (0.05 + 0.25 * depth) * unit)
                # made triangles are neither much larger nor much smaller than those round them
                area = np.linalg.norm(face_vectors(patched.vertices, made), axis=1)
                around = np.median(np.linalg.norm(face_vectors(holed.vertices, holed.faces), axis=1))
                self.assertLess(np.median(area), 3 * around)

    def test_a_sheet_becomes_a_plate_and_a_tube_a_cylinder(self) -> None:
        plate = Plinth(depth_mm=2.0).apply(sheet(40.0), Context()).mesh
        self.assertEqual(specimens.closed_faults(plate.vertices, plate.faces), "")
        self.assertAlmostEqual(plate.volume, 40 * 40 * 2.0, delta=1.0)
        dome = Plinth(depth_mm=3.0).apply(sheet(40.0, 40, 0.3), Context()).mesh
        self.assertEqual(specimens.closed_faults(dome.vertices, dome.faces), "")
        pipe = tube(10.0, 50.0, 96)
        solid = Plinth().apply(pipe, Context()).mesh
        self.assertEqual(specimens.closed_faults(solid.vertices, solid.faces), "")
        polygon = 0.5 * 96 * np.sin(2 * np.pi / 96) * 10.0**2
        self.assertAlmostEqual(solid.volume, polygon * 50.0, delta=1e-6 * polygon * 50)


if __name__ == "__main__":
    unittest.main()
