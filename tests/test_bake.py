"""Colours taken back: charts that lie flat and apart, colours against what they should be, seams, files."""

import json
import struct
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image
from PySide6.QtCore import Qt
from scipy.spatial import cKDTree

from tests import specimens
from tests.hands import WindowTest
from tests.random_scans import random_scan
from tests.seeds import in_turn
from tests.test_command_line import inside
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan, write_mesh
from tinsnip.mesh import MADE, MEASURED, Attribute, Domain, Mesh
from tinsnip.mesh.measures import face_vectors, vertex_normals
from tinsnip.progress import Progress
from tinsnip.space.packing import packed
from tinsnip.treat import Bake, Context, Patch, Recast, Reduce, Remesh, Turn
from tinsnip.treat.colour.charts import lay_out


def colour(points: np.ndarray) -> np.ndarray:
    """A colour for every place, smooth."""
    x, y, z = points.T
    waves = [np.sin(0.35 * x + 0.1 * z), np.sin(0.3 * y), np.sin(0.4 * z + 0.2 * x)]
    return 128 + 90 * np.stack(waves, axis=1)


def coloured(mesh: Mesh) -> Mesh:
    own = np.rint(colour(mesh.vertices)).astype(np.uint8)
    return mesh.with_attribute("colour", Attribute(Domain.VERTEX, own))


def spots(mesh: Mesh, count: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Random places by area: the triangle, the weights of its corners, the place."""
    rng = np.random.default_rng(seed)
    a, b, c = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    own = rng.choice(len(area), count, p=area / area.sum())
    r = rng.random((count, 2))
    r[r.sum(axis=1) > 1] = 1 - r[r.sum(axis=1) > 1]
    weights = np.column_stack([1 - r.sum(axis=1), r])
    return own, weights, np.einsum("nk,nkc->nc", weights, mesh.vertices[mesh.faces[own]])


def seen(mesh: Mesh, own: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """What the texture shows at places on triangles, each pixel by itself."""
    texture = mesh.attributes["texture"]
    uv = np.einsum("nk,nkc->nc", weights, texture.values.reshape(-1, 3, 2)[own].astype(float))
    pixels = np.asarray(texture.beside[0]).astype(float)
    height, width = pixels.shape[:2]
    return pixels[
        np.clip(((1 - uv[:, 1]) * height).astype(int), 0, height - 1),
        np.clip((uv[:, 0] * width).astype(int), 0, width - 1),
    ]


def ramp(turns: float = 3.0, n: int = 90) -> Mesh:
    """A spiral ramp, which lies over itself seen from above."""
    turn = np.linspace(0, turns * 2 * np.pi, int(n * turns))
    radius = np.linspace(8, 20, 12)
    points = np.stack(
        [np.outer(radius, np.cos(turn)), np.outer(radius, np.sin(turn)), np.outer(np.ones(12), 4 * turn / np.pi)], -1
    )
    return Mesh(points.reshape(-1, 3), specimens.grid_faces(12, len(turn), False, False))


class Charted(unittest.TestCase):
    def test_no_place_of_the_sheet_belongs_to_two_triangles(self) -> None:
        for mesh in (
            specimens.torus(40.0, 40).mesh,
            specimens.bored_box(30.0, 40).mesh,
            specimens.sphere(20.0, 18).mesh,
            ramp(),
        ):
            charts = lay_out(mesh, 1024, 3, Progress())
            corners = charts.corners
            self.assertTrue((corners >= 3).all() and (corners <= 1021).all())
            rng = np.random.default_rng(1)
            own = rng.choice(len(corners), 400)
            weights = rng.dirichlet([2, 2, 2], 400)
            points = np.einsum("nk,nkc->nc", weights, corners[own])
            a, b, c = (corners[:, k] for k in range(3))

            def turn(p: np.ndarray, q: np.ndarray, r: np.ndarray) -> np.ndarray:
                return (q[..., 0] - p[..., 0]) * (r[..., 1] - p[..., 1]) - (q[..., 1] - p[..., 1]) * (
                    r[..., 0] - p[..., 0]
                )

            self.assertTrue((turn(a, b, c) > 0).all())  # none is laid on its face
            at = points[:, None]
            within = (turn(a, b, at) > 0) & (turn(b, c, at) > 0) & (turn(c, a, at) > 0)
            self.assertEqual(within.sum(axis=1).max(), 1)
            # what belongs to different charts keeps its distance
            for i, point in enumerate(points):
                others = corners[charts.chart != charts.chart[own[i]]].reshape(-1, 2)
                if len(others):
                    self.assertGreater(np.abs(others - point).max(axis=1).min(), 3.0)
            # lengths on the sheet are those on the part, or shorter by no more than the turn that is allowed
            flat = np.linalg.norm(corners[:, 0] - corners[:, 1], axis=1) / charts.scale
            true = np.linalg.norm(mesh.vertices[mesh.faces[:, 0]] - mesh.vertices[mesh.faces[:, 1]], axis=1)
            self.assertLess((flat / true).max(), 1 + 1e-9)
            self.assertGreater(np.quantile(flat / true, 0.01), 0.35)

    def test_seams_run_where_they_show_least(self) -> None:
        """Length of seam times the share of ways from which it is seen, by every ray against every triangle."""
        n, m = 50, 60
        along, turn = np.meshgrid(np.linspace(0, 1, n), np.arange(m) * 2 * np.pi / m, indexing="ij")
        wide = (14 + 11 * np.cos(4 * np.pi * along)) * np.sqrt(np.clip(1 - (2 * along - 1) ** 8, 0.01, 1))
        points = np.stack([wide * np.cos(turn), wide * np.sin(turn), 50 * along], axis=-1).reshape(-1, 3)
        faces = specimens.grid_faces(n, m, False, True)
        middles = points[faces].mean(axis=1) * (1, 1, 0)
        vase = Mesh(points, faces if (face_vectors(points, faces) * middles).sum() > 0 else faces[:, ::-1])

        def showing(mesh: Mesh) -> float:
            chart = lay_out(mesh, 1024, 3, Progress()).chart
            half = np.flatnonzero(mesh.twins > np.arange(len(mesh.twins)))
            half = half[chart[half // 3] != chart[mesh.twins[half] // 3]][::3]
            a, b = mesh.faces[half // 3, half % 3], mesh.faces[half // 3, (half + 1) % 3]
            length = np.linalg.norm(mesh.vertices[a] - mesh.vertices[b], axis=1)
            normals = face_vectors(mesh.vertices, mesh.faces)
            normals /= np.linalg.norm(normals, axis=1)[:, None]
            upright = normals[half // 3] + normals[mesh.twins[half] // 3]
            upright /= np.linalg.norm(upright, axis=1)[:, None]
            start = 0.5 * (mesh.vertices[a] + mesh.vertices[b]) + 0.01 * upright
            p, q, r = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
            seen = np.zeros(len(half))
            for way in np.random.default_rng(0).normal(size=(6, 3)):
                turned = np.where((upright @ way > 0)[:, None], way, -way)
                across = np.cross(turned[:, None], (r - p)[None])
                whole = (across * (q - p)).sum(axis=-1)
                u = (across * (start[:, None] - p)).sum(axis=-1) / whole
                side = np.cross(start[:, None] - p, q - p)
                v = (side * turned[:, None]).sum(axis=-1) / whole
                ahead = (side * (r - p)).sum(axis=-1) / whole
                seen += ~((u >= 0) & (v >= 0) & (u + v <= 1) & (ahead > 0)).any(axis=1)
            return float((length * seen).sum())

        led = showing(vase)
        with mock.patch("tinsnip.treat.colour.charts.seams_led", lambda mesh, chart, *_: chart):
            self.assertLess(led, 0.85 * showing(vase))

    def test_rectangles_are_packed_apart(self) -> None:
        rng = np.random.default_rng(0)
        for count in (1, 7, 300):
            sizes = rng.uniform(1, 20, (count, 2))
            corners, height = packed(sizes, 100.0)
            ends = corners + sizes
            self.assertTrue((corners >= 0).all() and (ends[:, 0] <= 100).all() and ends[:, 1].max() <= height + 1e-9)
            apart = (ends[:, None] <= corners[None] + 1e-9) | (ends[None] <= corners[:, None] + 1e-9)
            self.assertTrue((apart.any(axis=2) | np.eye(count, dtype=bool)).all())
        self.assertGreater(sizes.prod(axis=1).sum() / (100 * height), 0.85)


class Baked(unittest.TestCase):
    def near(self, mesh: Mesh, mean: float = 3.0, most: float = 12.0, place: object = None) -> None:
        """The colours are what they should be, wherever it was measured."""
        own, weights, places = spots(mesh, 20_000)
        kept = mesh.provenance[own] != MADE
        wanted = colour(places if place is None else place(places))
        off = np.abs(seen(mesh, own, weights) - wanted)[kept].max(axis=1)
        self.assertLess(off.mean(), mean)
        self.assertLess(np.quantile(off, 0.95), most)

    @in_turn(1)
    def test_after_reducing_recasting_and_remeshing(self) -> None:
        raw = coloured(specimens.torus(40.0, 160).mesh)
        context = Context(raw=raw)
        for treatment in (Reduce(triangles=1300), Recast(deviation_mm=0.3), Remesh(edge_mm=1.5)):
            now = treatment.apply(raw, context).mesh
            made = Bake(pixels=1024).apply(now, context)
            np.testing.assert_array_equal(made.mesh.vertices, now.vertices)
            np.testing.assert_array_equal(made.mesh.provenance, now.provenance)
            self.assertEqual((made.account.gone_triangles, made.account.made_triangles), (0, 0))
            self.near(made.mesh)
            on_vertices = Bake(onto="vertices").apply(now, context).mesh
            self.assertLess(np.abs(on_vertices.colour - colour(now.vertices)).max(axis=1).mean(), 3.0)
            self.no_seams(made.mesh)

    def no_seams(self, mesh: Mesh) -> None:
        """Across the borders of charts the texture changes by no more than within them."""
        half = np.flatnonzero(mesh.twins > np.arange(len(mesh.twins)))
        twin = mesh.twins[half]
        uv = mesh.attributes["texture"].values.reshape(-1, 3, 2)
        sides = []
        for one in (half, twin):
            weights = np.full((len(one), 3), 0.02)
            weights[np.arange(len(one)), one % 3] = weights[np.arange(len(one)), (one + 1) % 3] = 0.49
            sides.append(seen(mesh, one // 3, weights))
        step = np.abs(sides[0] - sides[1]).max(axis=1)
        start = uv[half // 3, half % 3]
        border = np.abs(start - uv[twin // 3, (twin + 1) % 3]).max(axis=1) > 1e-6
        self.assertTrue(border.any() and not border.all())
        self.assertLess(step[border].mean(), step[~border].mean() + 1.5)
        self.assertLess(np.quantile(step[border], 0.95), np.quantile(step[~border], 0.95) + 3.0)

    def test_where_it_stands_now_and_in_the_scans_texture(self) -> None:
        """A part that was turned and made larger; a scan whose colours are an image."""
        raw = (
            Bake(pixels=1024)
            .apply(coloured(specimens.sphere(20.0, 30).mesh), Context(raw=coloured(specimens.sphere(20.0, 30).mesh)))
            .mesh
        )
        raw = raw.without_attribute("colour")
        turned = Turn(axis=(1.0, 2.0, 0.5), degrees=70.0).apply(
            Reduce(triangles=800).apply(raw, Context()).mesh, Context()
        )
        frame = np.diag([2.0, 2, 2, 1]) @ turned.account.matrix
        large = turned.mesh.moved(turned.mesh.vertices * 2)
        baked = Bake(pixels=1024).apply(large, Context(raw=raw, frame=frame)).mesh
        back = np.linalg.inv(frame)
        self.near(baked, place=lambda p: p @ back[:3, :3].T + back[:3, 3])

    def test_what_was_made(self) -> None:
        whole = coloured(specimens.sphere(40.0, 40).mesh)
        open_one = Mesh(
            whole.vertices, whole.faces[whole.vertices[whole.faces].mean(axis=1)[:, 2] < 17.0], None, whole.attributes
        )
        patched = Patch().apply(open_one, Context()).mesh
        context = Context(raw=open_one)
        self.assertTrue((patched.provenance == MADE).any() and (patched.provenance == MEASURED).any())
        own, weights, _ = spots(patched, 20_000)
        made = patched.provenance[own] == MADE
        smooth = seen(Bake(pixels=1024).apply(patched, context).mesh, own, weights)
        rim = open_one.colour[np.abs(open_one.vertices[:, 2] - 17.0) < 2.0]
        self.assertTrue((smooth[made] >= rim.min(axis=0) - 12).all() and (smooth[made] <= rim.max(axis=0) + 12).all())
        plain = Bake(pixels=1024, made="plain", made_red=10, made_green=20, made_blue=30).apply(patched, context).mesh
        told = seen(plain, own, weights)
        inner = made & (weights.min(axis=1) > 0.2)
        self.assertEqual(np.unique(told[inner], axis=0).tolist(), [[10, 20, 30]])
        self.near(plain)

    @in_turn(0)
    def test_any_mesh_and_what_cannot_be(self) -> None:
        raw = coloured(specimens.sphere(20.0, 20).mesh)
        inside_out = Mesh(raw.vertices + 1e5, raw.faces[:, ::-1], None, raw.attributes)
        for mesh in (coloured(random_scan(9).mesh), inside_out):
            made = Bake(pixels=1024).apply(mesh, Context(raw=mesh)).mesh
            self.assertTrue(np.isfinite(made.attributes["texture"].values).all())
            self.assertLess(np.abs(made.colour.astype(int) - mesh.colour).max(axis=1).mean(), 3.0)
        empty = Mesh(np.zeros((0, 3)), np.zeros((0, 3), int))
        self.assertIs(Bake().apply(empty, Context(raw=raw)).mesh, empty)
        for context in (Context(), Context(raw=specimens.sphere(20.0, 20).mesh), Context(raw=empty)):
            with self.assertRaisesRegex(BadInput, "no colours to bake"):
                Bake().apply(raw, context)
        loose = raw.vertices[raw.faces][:4000:2] * 1.0
        scattered = Mesh(
            np.concatenate([loose + 3 * i for i in range(12)]).reshape(-1, 3), np.arange(36 * len(loose)).reshape(-1, 3)
        )
        with self.assertRaisesRegex(BadInput, "too many for 1024 pixels"):
            Bake(pixels=1024).apply(scattered, Context(raw=raw))


class Relief(unittest.TestCase):
    def test_normals_of_the_scan_on_a_coarse_part(self) -> None:
        """Decoded by hand they are the scan's, far more closely than the coarse part's own; the part is turned, too."""
        ball = specimens.sphere(40.0, 90).mesh
        way = ball.vertices / np.linalg.norm(ball.vertices, axis=1)[:, None]
        bumps = 0.15 * np.sin(12 * way[:, :1] * 3) * np.sin(12 * way[:, 1:2] * 3) * np.cos(12 * way[:, 2:] * 3)
        raw = coloured(ball.moved(ball.vertices + bumps * way))
        turn = Turn(axis=(1.0, 1.0, 0.0), degrees=50.0).apply(
            Reduce(triangles=600).apply(raw, Context()).mesh, Context()
        )
        frame = turn.account.matrix
        baked = Bake(pixels=1024, relief=True).apply(turn.mesh, Context(raw=raw, frame=frame)).mesh
        own, weights, places = spots(baked, 4000)
        image = np.asarray(baked.attributes["relief"].beside[0])
        texture = baked.attributes["texture"].values.reshape(-1, 3, 2).astype(float)
        uv = np.einsum("nk,nkc->nc", weights, texture[own])
        red, green, blue = (image[((1 - uv[:, 1]) * 1024).astype(int), (uv[:, 0] * 1024).astype(int)] / 127.5 - 1.0).T
        a, b, c = (baked.vertices[baked.faces[own, k]] for k in range(3))
        du, dv = texture[own, 1] - texture[own, 0], texture[own, 2] - texture[own, 0]
        # the way in which u grows, by solving for it in the triangle's plane
        right = np.stack(
            [
                np.linalg.lstsq(np.stack([b[i] - a[i], c[i] - a[i]]), [du[i, 0], dv[i, 0]], rcond=None)[0]
                for i in range(len(own))
            ]
        )
        upright = np.einsum("nk,nkc->nc", weights, vertex_normals(baked.vertices, baked.faces)[baked.faces[own]])
        upright /= np.linalg.norm(upright, axis=1)[:, None]
        right -= (right * upright).sum(axis=1)[:, None] * upright
        right /= np.linalg.norm(right, axis=1)[:, None]
        told = red[:, None] * right + green[:, None] * np.cross(upright, right) + blue[:, None] * upright
        back = np.linalg.inv(frame)
        nearest = cKDTree(raw.vertices).query(places @ back[:3, :3].T + back[:3, 3])[1]
        true = vertex_normals(raw.vertices, raw.faces)[nearest] @ frame[:3, :3].T
        angles = [np.degrees(np.arccos(np.clip((n * true).sum(axis=1), -1, 1))) for n in (told, upright)]
        self.assertLess(angles[0].mean(), 0.4 * angles[1].mean())
        path = Path(tempfile.mkdtemp()) / "relief.glb"
        write_mesh(baked, path)
        (length,) = struct.unpack("<I", path.read_bytes()[12:16])
        document = json.loads(path.read_bytes()[20 : 20 + length])
        self.assertIn("normalTexture", document["materials"][0])
        self.assertIn("NORMAL", document["meshes"][0]["primitives"][0]["attributes"])
        write_mesh(baked, path.with_suffix(".obj"))
        self.assertIn("norm relief-0-relief.png", path.with_suffix(".mtl").read_text().splitlines())
        np.testing.assert_array_equal(np.asarray(Image.open(path.with_name("relief-0-relief.png"))), image)
        lines = path.with_suffix(".obj").read_text().splitlines()
        stood = np.array([line.split()[1:] for line in lines if line.startswith("vn ")], dtype=float)
        corners = [corner.split("/") for line in lines if line.startswith("f ") for corner in line.split()[1:]]
        self.assertTrue(all(v == n and t for v, t, n in corners))
        np.testing.assert_allclose(stood, vertex_normals(baked.vertices, baked.faces), atol=1e-6)
        back = read_scan(path.with_suffix(".obj"), "mm").mesh
        self.assertEqual(len(back.faces), len(baked.faces))


class Files(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        raw = coloured(specimens.torus(40.0, 60).mesh)
        self.scan = self.folder / "scan.ply"
        write_mesh(raw, self.scan)
        self.baked = Bake(pixels=1024).apply(Reduce(triangles=900).apply(raw, Context()).mesh, Context(raw=raw)).mesh

    def test_textures_read_back_as_they_were(self) -> None:
        own, weights, places = spots(self.baked, 5000)
        wanted = seen(self.baked, own, weights)
        for ending in ("obj", "glb", "3mf"):
            path = self.folder / f"part.{ending}"
            write_mesh(self.baked, path)
            back = read_scan(path, "mm").mesh
            again, at, there = spots(back, 5000)
            self.assertLess(np.abs(seen(back, again, at) - colour(there)).mean(), 4.0)
            image = back.attributes["texture"].beside[0]
            np.testing.assert_array_equal(np.asarray(image), np.asarray(self.baked.attributes["texture"].beside[0]))
        self.assertLess(np.abs(wanted - colour(places)).mean(), 4.0)
        self.assertEqual(
            sorted(p.name for p in self.folder.glob("part*")),
            ["part-0.png", "part.3mf", "part.glb", "part.mtl", "part.obj"],
        )
        write_mesh(self.baked, self.folder / "part.obj")  # one's own are replaced
        (self.folder / "other.mtl").write_text("mine")
        with self.assertRaisesRegex(BadInput, "other.mtl beside it is another's"):
            write_mesh(self.baked, self.folder / "other.obj")
        self.assertEqual((self.folder / "other.mtl").read_text(), "mine")
        self.assertFalse((self.folder / "other.obj").exists())

    @in_turn(2)
    def test_on_the_command_line(self) -> None:
        for ending, key in (("glb", "texture"), ("ply", "colour"), ("3mf", "texture")):
            out = self.folder / ending
            given = ("--unit", "mm", "--out", out, "--format", ending, "--triangles", "900", "--bake", "1024", "--json")
            ran = inside("run", "print-solid", self.scan, *given)
            facts = json.loads(ran.stdout)["results"][0]
            self.assertEqual((ran.returncode, facts["steps"][-1]["step"]), (0, "bake"), ran.stdout)
            self.assertIn(key, read_scan(out / f"scan.{ending}", "mm").mesh.attributes)
        refused = inside("run", "print-solid", self.scan, "--out", self.folder / "s", "--bake", "1024")
        self.assertEqual((refused.returncode, "stl holds no colours" in refused.stderr), (2, True))
        given = ("--unit", "mm", "--triangles", "900", "--bake", "1024", "--relief")
        ran = inside("run", "print-solid", self.scan, *given, "--format", "obj", "--out", self.folder / "r")
        self.assertEqual((ran.returncode, (self.folder / "r" / "scan-0-relief.png").exists()), (0, True), ran.stderr)
        refused = inside("run", "print-solid", self.scan, *given, "--format", "ply", "--out", self.folder / "s")
        self.assertEqual((refused.returncode, "--relief" in refused.stderr), (2, True))
        bare = self.folder / "bare.stl"
        write_mesh(specimens.torus(40.0, 40).mesh, bare)
        given = ("--unit", "mm", "--format", "glb", "--bake", "1024", "--json")
        ran = inside("run", "print-solid", bare, "--out", self.folder / "b", *given)
        facts = json.loads(ran.stdout)["results"][0]
        self.assertEqual(
            (ran.returncode, facts["reasons"]),
            (1, ["the scan has no colours to bake; open one with colours or a texture"]),
        )
        self.assertTrue((self.folder / "b" / "bare.glb").exists())


class InTheWindow(WindowTest):
    def test_baked_in_release_and_shown(self) -> None:
        raw = coloured(specimens.torus(40.0, 80).mesh)
        self.put_up(raw)
        self.session.apply(Reduce(triangles=400))
        self.settle()
        self.session.set_station("Release")
        self.settle()
        form, button = self.window.tray("Release").offered["bake"]
        form.field("pixels").combo.setCurrentText("1024")
        self.window.tray("Release").scroll.ensureWidgetVisible(button)
        self.click(button)
        self.settle()
        self.assertIn("Baked colours", self.session.job.log[-1].text)
        image = self.session.mesh.attributes["texture"].beside[0]
        self.assertEqual((image.size, isinstance(image, Image.Image)), ((1024, 1024), True))
        self.key(Qt.Key.Key_C)
        self.settle()
        self.assertGreater(self.picture()[200:400, 300:600].std(axis=(0, 1)).max(), 15)


def sheet_of(n: int) -> Mesh:
    """A coarse sheet with a fine texture: red stripes of half a millimetre on white, from left to right."""
    x, y = np.meshgrid(np.linspace(0, 60, n), np.linspace(0, 40, n), indexing="ij")
    vertices = np.stack([x, y, 2 * np.sin(x / 20) * np.cos(y / 15)], -1).reshape(-1, 3)
    faces = specimens.grid_faces(n, n, False, False)
    uv = (vertices[:, :2] / [60, 40])[faces].reshape(-1, 2).astype(np.float32)
    pixels = np.full((512, 2400, 3), 255, dtype=np.uint8)
    pixels[:, (np.arange(2400) // 20) % 2 == 0] = (200, 20, 20)
    return Mesh(vertices, faces, None, {"texture": Attribute(Domain.CORNER, uv, {0: Image.fromarray(pixels)})})


class Followed(unittest.TestCase):
    def test_texture_places_stay_where_they_belong_in_a_reduction(self) -> None:
        mesh = sheet_of(40)
        for count in (1200, 400, 150):
            reduced = Reduce(triangles=count).apply(mesh, Context()).mesh
            own, weights, places = spots(reduced, 4000)
            uv = np.einsum(
                "nk,nkc->nc", weights, reduced.attributes["texture"].values.reshape(-1, 3, 2)[own].astype(float)
            )
            off = np.abs(uv * [60, 40] - places[:, :2]).max(axis=1)
            self.assertLess(np.quantile(off, 0.99), 0.15, count)  # mm


class DrawnInTheWindow(WindowTest):
    size = 1100, 720

    def test_the_texture_itself_is_drawn(self) -> None:
        path = Path(self.folder.name) / "sheet.obj"
        write_mesh(sheet_of(12), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.view.framing.look_from(0, 90)
        self.key(Qt.Key.Key_C)
        self.wait_for(lambda: self.view.scene.now.has_texture)
        for reduce in (False, True):
            if reduce:
                self.session.apply(Reduce(triangles=80))
                self.wait_for(lambda: self.view.scene.now.triangles < 100 and self.view.scene.now.has_texture)
            self.view.camera.scale = 0.02  # mm a pixel: a stripe is 25 pixels wide
            self.view.camera.middle = np.array([30.0, 20.0, 0.0])
            self.view.moved()
            self.settle()
            picture = self.picture()
            row = picture[picture.shape[0] // 2 + 60, 60:-200]
            is_red = row[:, 0] - row[:, 1] > 60
            turns = np.flatnonzero(np.diff(is_red.astype(int)))
            self.assertTrue(0.4 < is_red.mean() < 0.6)
            self.assertTrue(len(turns) > 8 and np.abs(np.diff(turns) - 25).max() <= 2, turns)
        # from afar the stripes run into each other, and do not flicker
        self.view.camera.scale = 2.5
        self.view.moved()
        self.settle()
        picture = self.picture()
        high, wide = picture.shape[0] // 2, picture.shape[1] // 2
        middle = picture[high - 3 : high + 3, wide - 6 : wide + 6]
        self.assertLess(middle[..., 1].std(), 12)
        self.key(Qt.Key.Key_T)
        self.assertLess(np.abs(self.picture()[..., 0] - self.picture()[..., 1])[200:400, 200:500].max(), 40)
