"""Every format to every other, every variant read, every broken file refused in one line."""

import contextlib
import gc
import io
import json
import os
import struct
import subprocess
import sys
import tempfile
import unittest
import zipfile
from pathlib import Path

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

from tests import specimens
from tinsnip.errors import BadInput, TinsnipError
from tinsnip.formats import FORMATS, glb, off, read_scan, write_mesh
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.treat import Context, Patch

XYZ = b"property float x\nproperty float y\nproperty float z\n"
WORDS = [b"-1", b"nan", b"99999999999", b"1e999", b",", b"\n"]
QUICK = settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck), database=None)


def coloured(mesh: Mesh) -> Mesh:
    shade = np.random.default_rng(0).integers(0, 256, (len(mesh.vertices), 3)).astype(np.uint8)
    return Mesh(mesh.vertices, mesh.faces, None, {"colour": Attribute(Domain.VERTEX, shade)})


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def file(self, name: str, content: bytes | str) -> Path:
        path = self.folder / name
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def refused(self, path: Path) -> str:
        with self.assertRaises(BadInput) as caught:
            read_scan(path)
        text = str(caught.exception)
        self.assertNotIn("\n", text)
        self.assertIn(path.name, text)
        self.assertGreater(len(text.split(";")), 1, f"no remedy: {text}")
        return text


class RoundTrips(Folder):
    def test_every_format_to_every_other(self) -> None:
        mesh = coloured(specimens.torus(37.0, 24).mesh)
        corners = mesh.vertices[mesh.faces]
        for one in FORMATS:
            first = self.folder / f"one-{one}{FORMATS[one].suffix}"
            write_mesh(mesh, first, name=one)
            middle = read_scan(first, "mm").mesh
            for other in FORMATS:
                with self.subTest(one=one, other=other):
                    second = self.folder / f"two-{one}-{other}{FORMATS[other].suffix}"
                    write_mesh(middle, second, name=other)
                    scan = read_scan(second, "mm" if other not in ("3mf", "glb") else None)
                    self.assertEqual(scan.unit, "mm")
                    self.assertTrue((scan.mesh.vertices[scan.mesh.faces] == corners).all())
                    self.assertGreater(scan.mesh.volume, 0)
                    if FORMATS[one].holds_colours and FORMATS[other].holds_colours:
                        self.assertTrue((scan.mesh.colour[scan.mesh.faces] == mesh.colour[mesh.faces]).all())
            self.assertLess(
                abs(FORMATS[one].size_of(len(mesh.faces), len(mesh.vertices)) / first.stat().st_size - 1), 0.35
            )

    def test_numbers_longer_than_any_double(self) -> None:
        rng = np.random.default_rng(5)
        values = rng.uniform(-300, 300, (3000, 3))
        rows = [" ".join(f"{x:+.25f}" for x in row) for row in values.tolist()]
        rows[0] = (
            "0.1000000000000000055511151231257827021181583404541015625 1"
            + "0" * 30
            + "e-30 -0.0000000000000000000000001"
        )
        values[0] = [0.1, 1.0, -1e-25]
        text = f"OFF\n{len(rows)} 1000 0\n" + "\n".join(rows) + "\n"
        text += "".join(f"3 {3 * k} {3 * k + 1} {3 * k + 2}\n" for k in range(1000))
        mesh = off.read(self.file("long.off", text), Progress())
        self.assertTrue((mesh.vertices == values).all())

    def test_doubles_keep_their_bits_in_text(self) -> None:
        rng = np.random.default_rng(1)
        vertices = rng.normal(size=(60, 3)) * 10.0 ** rng.integers(-12, 9, (60, 1))
        vertices[:3] = [[0.1, 1 / 3, -0.0], [1e22, 5e-324, 123456789.0], [2.0**53 + 2, 1.7e308, -1e-300]]
        mesh = Mesh(vertices, np.arange(60).reshape(-1, 3))
        for name in ("obj", "off", "3mf"):
            write_mesh(mesh, self.folder / f"a.{name}")
            again = FORMATS[name].read(self.folder / f"a.{name}", Progress())
            self.assertTrue((again.vertices[again.faces] == vertices[mesh.faces]).all(), name)


class Variants(Folder):
    """The same unit tetrahedron, or square, written in every way that is allowed."""

    def tetrahedron(self, path: Path, colour: bool = False, unit: str | None = "mm") -> Mesh:
        mesh = read_scan(path, unit).mesh
        self.assertEqual(len(mesh.faces), 4, path)
        self.assertEqual(mesh.edges.open, 0)
        self.assertAlmostEqual(abs(mesh.volume), 1 / 6, places=6)
        if colour:
            self.assertEqual(mesh.colour.tolist()[:2], [[255, 0, 0], [0, 255, 0]])
        return mesh

    POINTS = ((0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1))
    FACES = ((0, 2, 1), (0, 1, 3), (1, 2, 3), (0, 3, 2))
    SHADES = ((255, 0, 0), (0, 255, 0), (0, 0, 255), (9, 9, 9))

    def test_stl(self) -> None:
        soup = b""
        text = "  sOlId some name facet here\r\n"
        for face in self.FACES:
            corners = [self.POINTS[v] for v in face]
            soup += struct.pack("<12fH", 0, 0, 0, *[float(x) for c in corners for x in c], 7)
            rows = "\r\n".join("\tVERTEX " + "   ".join(f"{x:+.3E}" for x in c) for c in corners)
            text += f"FACET normal 0 0 0\r\nouter   LOOP\r\n{rows}\r\nEndLoop endfacet\r\n"
        for head in (b"solid says it is text", b"\0" * 10, b"facet"):
            self.tetrahedron(self.file("b.stl", head.ljust(80) + struct.pack("<I", 4) + soup))
        self.tetrahedron(self.file("wrong-ending.obj", head.ljust(80) + struct.pack("<I", 4) + soup))
        self.tetrahedron(self.file("t.stl", text + "ENDSOLID x\n"))

    def test_ply(self) -> None:
        head = "ply\nformat {} 1.0\ncomment x\nelement vertex 4\n{}element thing 2\nproperty list short double q\n"
        head += "property char w\nelement face 4\nproperty uchar flag\nproperty list {} vertex_indices\n"
        head += "property list uchar float texcoord\nend_header\n"
        kinds = "property uchar blue\nproperty double z\nproperty ushort skip\nproperty float x\nproperty uchar red\n"
        kinds += "property int y\nproperty uchar green\n"
        for form, order in (("binary_little_endian", "<"), ("binary_big_endian", ">")):
            for index, letter in (("int", "i"), ("ushort", "H"), ("uchar", "B"), ("uint", "I")):
                body = b""
                for (x, y, z), (r, g, b) in zip(self.POINTS, self.SHADES, strict=True):
                    body += struct.pack(order + "BdHfBiB", b, z, 7, x, r, y, g)
                body += struct.pack(order + "hddb", 2, 1.5, 2.5, -1) + struct.pack(order + "hb", 0, 3)
                for face in self.FACES:
                    body += struct.pack(order + "BB3" + letter, 1, 3, *face) + struct.pack(order + "Bff", 2, 0.5, 0.5)
                text = head.format(form, kinds, f"uchar {index}").encode()
                self.tetrahedron(self.file("a.ply", text + body), colour=True)
                self.refused(self.file("cut.ply", (text + body)[:-30]))
        rows = [f"{b} {z} 7 {x}.0e0 {r} {y} {g}" for (x, y, z), (r, g, b) in zip(self.POINTS, self.SHADES, strict=True)]
        rows += ["2 1.5 2.5 -1", "0 3"] + [f"1 3 {a} {b} {c}  2 0.5 0.5" for a, b, c in self.FACES]
        text = head.format("ascii", kinds, "uchar int") + "\r\n".join(rows) + "\n"
        self.tetrahedron(self.file("t.ply", text), colour=True)
        self.refused(self.file("cut.ply", text[:-30]))
        self.refused(self.file("comma.ply", text.replace(".0e0", ",0")))

    def test_obj(self) -> None:
        lines = "".join(
            f"v {x} {y} {z} {r / 255} {g / 255} {b / 255}\n"
            for (x, y, z), (r, g, b) in zip(self.POINTS, self.SHADES, strict=True)
        )
        plain = "# c\no part\ns off\n" + lines + "vn 0 0 1\nvt 0 0\n"
        faces = "".join("f " + " ".join(f"{v + 1}/1/1" for v in face) + "\n" for face in self.FACES[:2])
        faces += "usemtl red\n" + "f " + " ".join(f"{v - 4}//1" for v in self.FACES[2]) + "\n"
        faces += "g last\nf " + " \\\n ".join(f"{v + 1}" for v in self.FACES[3]) + " # end\n"
        mesh = self.tetrahedron(self.file("a.obj", plain + faces), colour=True)
        self.assertEqual(mesh.attributes["group"].beside, ("part", "last"))
        self.assertEqual(mesh.attributes["group"].values.tolist(), [0, 0, 0, 1])
        self.assertEqual(mesh.attributes["material"].values.tolist(), [-1, -1, 0, 0])
        self.tetrahedron(
            self.file("b.obj", (plain + faces).replace("\n", "\r\n").replace("\\\r\n", "\\\r\n")), colour=True
        )
        for wrong in (
            "f 1 2 9\n",
            "f 0 1 2\n",
            "f 1 2\n",
            "v 1 2\n",
            "v 1,5 2 3\n",
            "f -9 1 2\n",
            "v a b c\n",
            "f 1 2 x\n",
        ):
            self.assertIn(
                "line" if "9\n" not in wrong else "face", self.refused(self.file("c.obj", plain + faces + wrong))
            )

    def test_obj_texture(self) -> None:
        picture = np.zeros((4, 4, 3), np.uint8)
        picture[:2], picture[2:] = (255, 0, 0), (0, 255, 0)  # red above, green below
        Image.fromarray(picture).save(self.folder / "t.png")
        self.file("m.mtl", "newmtl skin\nKd 1 1 1\nmap_Kd -s 1 1 1 t.png\n")
        text = "mtllib m.mtl\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0.1 0.1\nvt 0.9 0.1\nvt 0.9 0.9\nvt 0.1 0.9\n"
        mesh = read_scan(self.file("a.obj", text + "usemtl skin\nf 1/1 2/2 3/3 4/4\n"), "mm").mesh
        self.assertEqual(len(mesh.faces), 2)
        self.assertEqual(mesh.colour.tolist(), [[0, 255, 0], [0, 255, 0], [255, 0, 0], [255, 0, 0]])
        self.assertEqual(mesh.attributes["texture"].values.shape, (6, 2))
        packed = self.folder / "a.glb"
        write_mesh(mesh, packed)
        again = read_scan(packed).mesh
        self.assertTrue((again.vertices[again.faces] == mesh.vertices[mesh.faces]).all())
        self.assertTrue((again.colour[again.faces] == mesh.colour[mesh.faces]).all())
        self.assertEqual(again.attributes["texture"].beside[0].getpixel((0, 0)), (255, 0, 0))
        self.file("m.mtl", "newmtl skin\nmap_Kd ../../../etc/passwd\n")
        self.assertIsNone(read_scan(self.folder / "a.obj", "mm").mesh.colour)

    def test_a_patch_has_colours_of_its_own_beside_a_texture(self) -> None:
        whole = specimens.sphere(200.0, 30).mesh
        holed = keep_triangles(whole, whole.vertices[whole.faces].mean(axis=1)[:, 2] < 80)
        blue = Image.new("RGB", (8, 8), (0, 0, 250))
        blue.putpixel((0, 7), (255, 0, 0))  # where nowhere is
        holed = holed.with_attribute(
            "texture", Attribute(Domain.CORNER, np.full((3 * len(holed.faces), 2), 0.5, np.float32), {0: blue})
        ).with_attribute("colour", Attribute(Domain.VERTEX, np.tile(np.uint8([0, 0, 250]), (len(holed.vertices), 1))))
        patched = Patch().apply(holed, Context()).mesh
        self.assertGreater(len(patched.faces), len(holed.faces))
        write_mesh(patched, self.folder / "a.glb")
        again = read_scan(self.folder / "a.glb").mesh
        self.assertEqual(len(again.faces), len(patched.faces))
        self.assertEqual(np.unique(again.colour, axis=0).tolist(), [[0, 0, 250]])
        bare = again.attributes["material"].values < 0
        self.assertEqual(bare.sum(), len(patched.faces) - len(holed.faces))
        self.assertEqual(again.attributes["texture"].beside[0].size, (8, 8))

    def test_concave_polygons(self) -> None:
        outline = [(0, 0), (4, 0), (4, 4), (2, 1), (0, 4)]
        star = [(np.cos(a) * r, np.sin(a) * r) for a, r in zip(np.arange(10) * np.pi / 5, [3, 1] * 5, strict=True)]
        for ring in (outline, star, [(0, 0), (1, 1), (0, 3), (-1, 1)][::-1], [(0, 0), (3, 0), (0.5, 0.5), (0, 3)]):
            points = np.array([(x, y, 0.5 * x) for x, y in ring])
            text = f"OFF\n# note\n{len(ring)} 1 0\n" + "".join(f"{x} {y} {z}\n" for x, y, z in points.tolist())
            mesh = read_scan(
                self.file("a.off", text + f"{len(ring)} " + " ".join(map(str, range(len(ring)))) + " 1 0 0\n"), "mm"
            ).mesh
            a, b = np.array(ring), np.roll(ring, -1, axis=0)
            area = 0.5 * abs((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum())
            self.assertAlmostEqual(mesh.area, area * np.sqrt(1.25), places=5)
            self.assertEqual(len(mesh.faces), len(ring) - 2)

    def package(self, model: str, **more: str) -> Path:
        path = self.folder / "a.3mf"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("3D/3dmodel.model", model)
            for name, text in more.items():
                archive.writestr(name, text)
        return path

    CORE = 'xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"'

    def block(self, extra: str = "") -> str:
        vertices = "".join(f'<vertex y="{y}" x="{x}" z="{z}" />' for x, y, z in self.POINTS)
        rows = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"{extra}/>' for a, b, c in self.FACES)
        return f"<mesh><vertices>{vertices}</vertices><triangles>{rows}</triangles></mesh>"

    def test_3mf(self) -> None:
        base = f'<model unit="centimeter" {self.CORE}><resources><object id="1">{self.block()}</object>'
        base += '<object id="2"><components><component objectid="1" transform="-1 0 0 0 1 0 0 0 1 5 0 0"/>'
        base += '<component objectid="1"/></components></object></resources><build>'
        mirrored = base + '<item objectid="2" transform="2 0 0 0 2 0 0 0 2 0 0 7"/></build></model>'
        for text in (mirrored, mirrored.replace("<mesh>", "<mesh><!-- slow -->")):
            mesh = read_scan(self.package(text)).mesh
            self.assertEqual(len(mesh.faces), 8)
            self.assertTrue((mesh.shells.volume > 0).all())
            self.assertAlmostEqual(mesh.volume, 2 * 8 * 1000 / 6, places=3)
            self.assertAlmostEqual(mesh.box[0, 2], 70.0)
        colours = '<m:colorgroup xmlns:m="http://schemas.microsoft.com/3dmanufacturing/material/2015/02" id="5">'
        colours += '<m:color color="#FF0000"/><m:color color="#00FF00FF"/></m:colorgroup>'
        painted = f'<model unit="millimeter" {self.CORE}><resources>{colours}<object id="1" pid="5" pindex="1">'
        painted += self.block(' pid="5" p1="0"') + "</object></resources><build><item objectid='1'/></build></model>"
        self.assertEqual(set(map(tuple, read_scan(self.package(painted)).mesh.colour.tolist())), {(255, 0, 0)})
        for wrong in (
            base.replace('<component objectid="1"/>', '<component objectid="2"/>')
            + '<item objectid="2"/></build></model>',
            base + '<item objectid="9"/></build></model>',
            base + "</build>",
            base.replace('v3="3"', 'v3="30"') + '<item objectid="1"/></build></model>',
            base.replace("centimeter", "furlong") + '<item objectid="1"/></build></model>',
            base.replace('x="1"', 'x="1,0"') + '<item objectid="1"/></build></model>',
            "",
        ):
            self.refused(self.package(wrong))

    def test_hostile_xml_and_zip(self) -> None:
        secret = self.file("secret.txt", "7")
        entity = f'<?xml version="1.0"?><!DOCTYPE m [<!ENTITY e SYSTEM "file://{secret}">]>'
        item = "<build><item objectid='1'/></build></model>"
        body = f'<model {self.CORE}><resources><object id="1">{self.block()}</object></resources>{item}'
        leak = self.package(entity + body.replace('x="1"', 'x="&e;"', 1))
        with contextlib.suppress(BadInput):
            self.assertLess(read_scan(leak).mesh.box.max(), 6)
        laughs = '<!DOCTYPE m [<!ENTITY a "aaaaaaaaaa">' + "".join(
            f'<!ENTITY {chr(98 + i)} "{("&" + chr(97 + i) + ";") * 10}">' for i in range(9)
        )
        self.refused(self.package(laughs + f"]><model {self.CORE}>&j;</model>"))
        bomb = self.folder / "bomb.3mf"
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("3D/3dmodel.model", b" " * 60_000_000)
        self.refused(bomb)
        with zipfile.ZipFile(self.folder / "other.3mf", "w") as archive:
            archive.writestr("word/document.xml", "<w/>")
        self.refused(self.folder / "other.3mf")

    def test_glb(self) -> None:
        path = self.folder / "a.glb"
        mesh = coloured(specimens.torus(20.0, 12).mesh)
        write_mesh(mesh, path)
        raw = path.read_bytes()
        length = struct.unpack("<I", raw[12:16])[0]
        document = json.loads(raw[20 : 20 + length])
        binary = raw[20 + length :]

        def packed(change: dict) -> Path:
            text = json.dumps({**document, **change}).encode()
            text += b" " * (-len(text) % 4)
            head = struct.pack("<4sIIII", b"glTF", 2, 20 + len(text) + len(binary), len(text), 0x4E4F534A)
            return self.file("b.glb", head + text + binary)

        # metres and y up: an upright metre is a metre
        turned = glb.read(packed({"nodes": [{"mesh": 0, "rotation": [0, 0, 0, 1], "scale": [1, 1, -1]}]}), Progress())
        self.assertAlmostEqual(turned.size[2] / 1000, mesh.size[1], places=4)
        self.assertGreater(turned.volume, 0)
        picture = io.BytesIO()
        Image.new("RGB", (2, 2), (10, 200, 30)).save(picture, "PNG")
        for change in (
            {"nodes": [{"mesh": 0, "children": [0]}]},
            {"nodes": [{"mesh": 4}]},
            {"buffers": [{"byteLength": 9, "uri": "http://example.org/x"}]},
            {"accessors": [{**document["accessors"][0], "count": 10**9}, *document["accessors"][1:]]},
            {"bufferViews": [{**document["bufferViews"][0], "byteOffset": -4}, *document["bufferViews"][1:]]},
            {"extensionsRequired": ["KHR_draco_mesh_compression"]},
            {"scenes": 4, "nodes": "x"},
            {"accessors": [document["accessors"][0], {**document["accessors"][1], "count": 0}]},
        ):
            with self.subTest(change=str(change)[:60]):
                self.refused(packed(change))


class Broken(Folder):
    """Fuzzing: whatever the bytes, a mesh or one line."""

    @classmethod
    def setUpClass(cls) -> None:
        keep = tempfile.TemporaryDirectory()
        cls.addClassCleanup(keep.cleanup)
        cls.good = {}
        mesh = coloured(specimens.sphere(20.0, 5).mesh)
        for name in FORMATS:
            path = Path(keep.name) / f"a.{name}"
            write_mesh(mesh, path)
            cls.good[name] = path.read_bytes()
        cls.good["ply-text"] = (
            b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
            + (b"element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n")
        )
        cls.good["stl-text"] = (
            b"solid a\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\n"
            b"endsolid a\n"
        )

    def survive(self, data: bytes) -> None:
        path = self.file("x.scan", data)
        try:
            mesh = read_scan(path).mesh
        except TinsnipError as error:
            self.assertNotIn("\n", str(error))
        else:
            self.assertTrue(np.isfinite(mesh.vertices).all())

    @QUICK
    @given(st.data())
    def test_changed_cut_and_grown(self, data: st.DataObject) -> None:
        name = data.draw(st.sampled_from(sorted(self.good)))
        content = bytearray(self.good[name])
        for _ in range(data.draw(st.integers(1, 6))):
            at = data.draw(
                st.integers(0, max(0, min(len(content) - 1, 2000 if data.draw(st.booleans()) else len(content) - 1)))
            )
            how = data.draw(st.integers(0, 3))
            if how == 0 and content:
                content[at] = data.draw(st.integers(0, 255))
            elif how == 1:
                content[at:at] = data.draw(st.binary(max_size=12) | st.sampled_from(WORDS))
            elif how == 2:
                del content[at : at + data.draw(st.integers(1, 40))]
            else:
                del content[at:]
        self.survive(bytes(content))

    @QUICK
    @given(
        st.binary(max_size=600),
        st.sampled_from(["", "ply\n", "OFF\n", "glTF", "PK\x03\x04", "v 1 2 3\n", "solid facet\n"]),
    )
    def test_noise(self, noise: bytes, start: str) -> None:
        self.survive(start.encode() + noise)

    @QUICK
    @given(
        st.text(alphabet="0123456789.-+eE ,/#\nvftnOFFnaif\\", max_size=300),
        st.sampled_from(["v 0 0 0\nv 1 0 0\nv 0 1 0\nf ", "OFF\n3 1 0\n"]),
    )
    def test_text(self, text: str, start: str) -> None:
        self.survive((start + text).encode())

    def test_every_prefix_of_a_small_file(self) -> None:
        for name, content in self.good.items():
            for at in [*range(0, min(len(content), 400), 7), *range(400, len(content), max(1, len(content) // 40))]:
                if name in ("obj", "off", "3mf") or at < len(content) - 1:
                    self.survive(content[:at])

    def test_not_scans_at_all(self) -> None:
        for name, content in {
            "empty.stl": b"",
            "page.stl": b"<html><body>404</body></html>",
            "picture.ply": b"\x89PNG\r\n\x1a\n" + bytes(200),
            "points.ply": b"ply\nformat ascii 1.0\nelement vertex 1\n" + XYZ + b"end_header\n0 0 0\n",
            "count.ply": b"ply\nformat binary_little_endian 1.0\nelement vertex 2000000000\n" + XYZ + b"end_header\n",
            "count.stl": b" " * 80 + struct.pack("<I", 2**32 - 1) + bytes(48 + 2),
            "nothing.off": b"OFF\n0 0 0\n",
        }.items():
            self.refused(self.file(name, content))

    def test_a_few_lost_points_are_said(self) -> None:
        mesh = specimens.sphere(20.0, 30).mesh
        vertices = mesh.vertices.copy()
        vertices[7] = np.nan
        path = self.folder / "a.ply"
        FORMATS["ply"].write(Mesh(vertices, mesh.faces), path, Progress())
        scan = read_scan(path, "mm")
        self.assertIn("left out", scan.notes[0])
        self.assertLess(len(scan.mesh.faces), len(mesh.faces))


class Writing(Folder):
    def test_a_full_disk_leaves_the_old_file_whole(self) -> None:
        place = self.folder / "tiny"
        place.mkdir()
        if (
            os.geteuid() != 0
            or subprocess.run(
                ["mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", str(place)], capture_output=True, check=False
            ).returncode
        ):
            self.skipTest("needs the right to mount a tiny file system")
        try:
            small, large = specimens.sphere(9.0, 8).mesh, specimens.sphere(9.0, 60).mesh
            for name in FORMATS:
                path = place / f"a.{name}"
                write_mesh(small, path)
                old = path.read_bytes()
                with self.assertRaises(BadInput) as caught:
                    write_mesh(large, path)
                self.assertIn("MB", str(caught.exception))
                self.assertEqual(path.read_bytes(), old)
                self.assertEqual([p.name for p in place.iterdir()], [path.name])
                path.unlink()
        finally:
            gc.collect()
            subprocess.run(["umount", str(place)], check=False)

    def test_reading_is_cheap(self) -> None:
        """Refusing a broken file takes neither time nor memory: a head that announces terabytes."""
        head = b"ply\nformat binary_little_endian 1.0\nelement vertex 9\n" + XYZ + b"element face 900000000\n"
        path = self.file("a.ply", head + b"property list uchar int vertex_indices\nend_header\n" + bytes(5000))
        code = (
            "import resource, sys; resource.setrlimit(resource.RLIMIT_DATA, (3 << 30, 3 << 30))\n"
            "from tinsnip.formats import read_scan\n"
            "try: read_scan(sys.argv[1])\nexcept Exception as e: print(type(e).__name__)"
        )
        result = subprocess.run(
            [sys.executable, "-c", code, str(path)], capture_output=True, text=True, timeout=60, check=False
        )
        self.assertEqual(result.stdout.strip(), "BadInput", result.stderr)


if __name__ == "__main__":
    unittest.main()
