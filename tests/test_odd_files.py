"""Every odd but valid file is read right, and what is not valid is refused with the reason."""

import base64
import io
import json
import os
import struct
import tempfile
import threading
import time
import unittest
import zipfile
from pathlib import Path

import numpy as np

from tests import specimens
from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, read_scan, write_mesh
from tinsnip.mesh import Mesh

MARK = b"\xef\xbb\xbf"
POINTS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1.0]])
FACES = np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]])
OBJ_V = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\n"
OBJ_F = b"f 1 3 2\nf 1 2 4\nf 2 3 4\nf 1 4 3\n"
PLY_V = "element vertex 4\nproperty float x\nproperty float y\nproperty float z\n"
PLY_F = "element face 4\nproperty list uchar int vertex_indices\nend_header\n"
PLY_ROWS = "0 0 0\n1 0 0\n0 1 0\n0 0 1\n3 0 2 1\n3 0 1 3\n3 1 2 3\n3 0 3 2\n"
OFF_ROWS = "0 0 0\n1 0 0\n0 1 0\n0 0 1\n3 0 2 1\n3 0 1 3\n3 1 2 3\n3 0 3 2\n"
STL = b"solid x\n" + b"".join(
    b"facet normal 0 0 0\nouter loop\n"
    + b"".join(b"vertex %g %g %g\n" % tuple(POINTS[v]) for v in face)
    + b"endloop\nendfacet\n"
    for face in FACES
)
STL += b"endsolid x\n"


def binary_ply(lists_first: bool, order: str) -> bytes:
    """Vertices with a list of changing length before or between their coordinates."""
    kind = {"<": "binary_little_endian", ">": "binary_big_endian"}[order]
    names = ["property list uchar short near", "property float x", "property float y", "property double z"]
    if not lists_first:
        names = [names[1], names[0], *names[2:]]
    head = f"ply\nformat {kind} 1.0\nelement vertex 4\n" + "\n".join(names) + f"\n{PLY_F}"
    body = b""
    for i, (x, y, z) in enumerate(POINTS):
        near = struct.pack(f"{order}B{i}h", i, *range(i))
        parts = [near, struct.pack(f"{order}f", x)] if lists_first else [struct.pack(f"{order}f", x), near]
        body += b"".join(parts) + struct.pack(f"{order}fd", y, z)
    for face in FACES:
        body += struct.pack(f"{order}B3i", 3, *face)
    return head.encode() + body


def glb(places: np.ndarray, component: int, normalized: bool, nodes: list | None = None, **more: object) -> bytes:
    """A GLB of the tetrahedron with positions in some type; `more` goes into its JSON."""
    index = FACES.astype("<u2").tobytes()
    padded = np.zeros((4, {1: 4, 2: 4, 4: 3}[places.dtype.itemsize]), dtype=places.dtype)
    padded[:, :3] = places
    data = padded.tobytes() + index
    data += b"\0" * (-len(data) % 4)
    stride = padded.shape[1] * places.dtype.itemsize
    document = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": nodes or [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "accessors": [
            {"bufferView": 0, "componentType": component, "count": 4, "type": "VEC3", "normalized": normalized},
            {"bufferView": 1, "componentType": 5123, "count": 12, "type": "SCALAR"},
        ],
        "bufferViews": [
            {"buffer": 0, "byteOffset": 0, "byteLength": padded.nbytes, "byteStride": stride},
            {"buffer": 0, "byteOffset": padded.nbytes, "byteLength": len(index)},
        ],
        "buffers": [{"byteLength": len(data)}],
        **more,
    }
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    whole = struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(data), 0x004E4942) + data
    return struct.pack("<4sII", b"glTF", 2, 12 + len(whole)) + whole


def threemf(model: str) -> bytes:
    """A 3MF around a model's text."""
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as package:
        package.writestr("3D/3dmodel.model", model)
    return held.getvalue()


CORE = 'xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"'
VERTICES = "".join(f'<vertex x="{x:g}" y="{y:g}" z="{z:g}"/>' for x, y, z in POINTS)
TRIANGLES = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in FACES)
OBJECT = f'<object id="1"><mesh><vertices>{VERTICES}</vertices><triangles>{TRIANGLES}</triangles></mesh></object>'


def model(objects: str, item: int, before: str = "") -> str:
    head = f'<?xml version="1.0"?>{before}<model unit="millimeter" {CORE}>'
    return f'{head}<resources>{objects}</resources><build><item objectid="{item}"/></build></model>'


def doubling(rounds: int) -> str:
    """Objects of which each holds the one before twice."""
    rows = [
        f'<object id="{k}"><components><component objectid="{k - 1}"/><component objectid="{k - 1}"/></components></object>'  # noqa: E501
        for k in range(2, rounds + 2)
    ]
    return OBJECT + "".join(rows)


LONG = b"# " + b"x" * 90 + b"\n"
F4, I1, U1, I2, U2 = (
    np.array(POINTS * s, dtype=t) for s, t in ((1, "<f4"), (127, "i1"), (255, "u1"), (32767, "<i2"), (65535, "<u2"))
)

VALID = {
    "byte-mark.stl": MARK + STL,
    "tabs.obj": OBJ_V.replace(b" ", b"\t") + b"vn\t0 0 1\n" + OBJ_F.replace(b" ", b" \t "),
    "mark.obj": MARK + OBJ_V + OBJ_F,
    "comments.obj": LONG * 2000 + OBJ_V + OBJ_F,
    "marked-comments.obj": MARK + LONG * 90 + b"\n\n" + OBJ_V + OBJ_F,
    "close-comment.obj": OBJ_V.replace(b"\n", b"#x\n") + OBJ_F.replace(b"\n", b"# tail\n"),
    "backslash-comment.obj": b"# a path C:\\scans\\\n" + OBJ_V + b"#end\\\n" + OBJ_F,
    "continued.obj": OBJ_V.replace(b"v 1 0 0", b"v 1 \\\n0 0") + OBJ_F.replace(b"f 1 3 2", b"f 1 \\\r\n3 2"),
    "free-form.obj": b"cstype bezier\ndeg 3\n" + OBJ_V + b"curv 0 1 1 2 3 4\nparm u 0 1\nend\nsurf 0 1 0 1 1 2\n" + OBJ_F,  # noqa: E501
    "vertex-lists.ply": ("ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty list uchar int near\n"
        f"property float y\nproperty float z\n{PLY_F}0 2 5 6 0 0\n1 0 0 0\n0 1 9 1 0\n0 0 0 1\n" + PLY_ROWS[24:]).encode(),  # noqa: E501
    "little-lists.ply": binary_ply(True, "<"),
    "big-lists.ply": binary_ply(False, ">"),
    "long-header.ply": ("ply\nformat ascii 1.0\n" + "comment " + "x" * 70 + "\n") .encode() + b"comment y\n" * 40_000
        + (PLY_V + PLY_F + PLY_ROWS).encode(),
    "comment-end.ply": ("ply\nformat ascii 1.0\ncomment end_header is not here\n" + PLY_V + PLY_F + PLY_ROWS).encode(),
    "lone-cr.ply": ("ply\nformat ascii 1.0\n" + PLY_V + PLY_F + PLY_ROWS).replace("\n", "\r").encode(),
    "crlf.ply": ("ply\nformat ascii 1.0\n" + PLY_V + PLY_F + PLY_ROWS).replace("\n", "\r\n").encode(),
    "no-edges.off": ("OFF\n4 4\n" + OFF_ROWS).encode(),
    "one-line.off": ("OFF 4 4 6 " + OFF_ROWS.replace("\n", " ")).encode(),
    "one-line-no-edges.off": ("OFF 4 4 " + OFF_ROWS.replace("\n", " ")).encode(),
    "counts-first.off": ("OFF\n4 4 6\n" + OFF_ROWS.replace("\n", " ")).encode(),
    "textured.off": ("STOFF\n4 4 0\n" + "".join(f"{x:g} {y:g} {z:g} 0.5 0.25\n" for x, y, z in POINTS) + OFF_ROWS[24:]).encode(),  # noqa: E501
    "marked.off": MARK + ("# made by hand\nOFF # counts follow\n4 4 0\n" + OFF_ROWS).encode(),
    "float.glb": glb(F4, 5126, False),
    "bytes.glb": glb(I1, 5120, True, extensionsRequired=["KHR_mesh_quantization"]),
    "unsigned-bytes.glb": glb(U1, 5121, True, extensionsRequired=["KHR_mesh_quantization"]),
    "shorts.glb": glb(I2, 5122, True, extensionsRequired=["KHR_mesh_quantization"]),
    "unsigned-shorts.glb": glb(U2, 5123, True, extensionsRequired=["KHR_mesh_quantization"]),
    "plain-shorts.glb": glb((POINTS * 1000).astype("<i2"), 5122, False, [{"mesh": 0, "scale": [0.001] * 3}]),
    "long-chain.glb": glb(F4, 5126, False, [*({"children": [k + 1]} for k in range(3000)), {"mesh": 0}]),
    "plain.3mf": threemf(model(OBJECT, 1)),
}  # fmt: skip

REFUSED = {
    "unknown.glb": (glb(F4, 5126, False, extensionsRequired=["EXT_no_such_thing"]), "EXT_no_such_thing"),
    "packed.glb": (glb(F4, 5126, False, extensionsRequired=["KHR_draco_mesh_compression"]), "KHR_draco"),
    "odd-count.glb": (glb(F4, 5126, False).replace(b'"count": 12', b'"count": 11'), "no whole triangles"),
    "ring.glb": (glb(F4, 5126, False, [{"mesh": 0, "children": [1]}, {"children": [0]}]), "part of itself"),
    "multiplied.glb": (glb(F4, 5126, False, [{"mesh": 0, "children": [k + 1] * 2} for k in range(40)] + [{"mesh": 0}]), "multiply"),  # noqa: E501
    "empty-nodes.glb": (glb(F4, 5126, False, [{"children": [k + 1] * 2} for k in range(60)] + [{}]), "multiply"),
    "doctype.3mf": (threemf(model(OBJECT, 1, "<!DOCTYPE model>")), "DOCTYPE"),
    "entity.3mf": (threemf(model(OBJECT, 1, '<!DOCTYPE m [<!ENTITY a "b">]>')), "DOCTYPE"),
    "multiplied.3mf": (threemf(model(doubling(40), 41)), "multiply"),
    "twenty-doubled.3mf": (threemf(model(doubling(22), 23)), "multiply"),
    "points.obj": (OBJ_V, "not as points"),
    "free-form-only.obj": (OBJ_V + b"curv 0 1 1 2 3 4\n", "as a mesh"),
    "points.ply": (("ply\nformat ascii 1.0\n" + PLY_V + "end_header\n" + PLY_ROWS[:24]).encode(), "not as points"),
    "none.stl": (b"x".ljust(80) + struct.pack("<I", 0), "no triangles"),
    "none.off": (b"OFF\n4 0 0\n0 0 0\n1 0 0\n0 1 0\n0 0 1\n", "0 faces"),
    "empty.3mf": (threemf(model('<object id="1"><mesh><vertices/><triangles/></mesh></object>', 1)), "no triangles"),
    "far.obj": (OBJ_V.replace(b"v 1 0 0", b"v 1e150 0 0") + OBJ_F, "1e+150"),
    "far.ply": (("ply\nformat ascii 1.0\n" + PLY_V.replace("float", "double") + PLY_F + PLY_ROWS.replace("1 0 0", "1e150 0 0", 1)).encode(), "1e+150"),  # noqa: E501
}  # fmt: skip


class OddFiles(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def file(self, name: str, content: bytes) -> Path:
        path = self.folder / name
        path.write_bytes(content)
        return path

    def test_valid_ones_are_read_right(self) -> None:
        for name, content in VALID.items():
            with self.subTest(name=name):
                scan = read_scan(self.file(name, content), "mm" if not name.endswith((".glb", ".3mf")) else None)
                corners = scan.mesh.vertices[scan.mesh.faces]
                expected = POINTS[FACES]
                if name.endswith(".glb"):  # metres and y up
                    expected = 1000.0 * np.stack([expected[..., 0], -expected[..., 2], expected[..., 1]], -1)
                scale = np.abs(expected).max()
                self.assertEqual(corners.shape, expected.shape)
                self.assertLess(np.abs(corners - expected).max(), 1e-6 * scale)
                told = " ".join(scan.notes)
                self.assertEqual("free-form" in told, name == "free-form.obj")
                self.assertEqual("lists on vertices" in told, "lists.ply" in name)

    def test_others_are_refused_with_the_reason(self) -> None:
        for name, (content, words) in REFUSED.items():
            with self.subTest(name=name):
                path, begun = self.file(name, content), time.monotonic()
                with self.assertRaises(BadInput) as caught:
                    read_scan(path)
                text = str(caught.exception)
                self.assertIn(words, text)
                self.assertIn(name, text)
                self.assertNotIn("\n", text)
                self.assertIn(";", text, "no remedy")
                self.assertLess(time.monotonic() - begun, 20.0)  # two seconds are meant; a busy machine may be slow

    def test_colours_up_to_255_are_told_from_those_up_to_1(self) -> None:
        for shades, expected in (
            (((255, 0, 0), (0, 128, 1), (9, 9, 9), (0, 0, 0)), ((255, 0, 0), (0, 128, 1), (9, 9, 9), (0, 0, 0))),
            (
                ((1, 0, 0), (0, 0.5, 1), (0.2, 0.2, 0.2), (0, 0, 0)),
                ((255, 0, 0), (0, 128, 255), (51, 51, 51), (0, 0, 0)),
            ),
        ):
            rows = [
                f"v {x:g} {y:g} {z:g} {r:g} {g:g} {b:g}\n" for (x, y, z), (r, g, b) in zip(POINTS, shades, strict=True)
            ]
            mesh = read_scan(self.file("c.obj", "".join(rows).encode() + OBJ_F), "mm").mesh
            self.assertEqual(mesh.colour.tolist(), [list(c) for c in expected])

    def test_pipes_and_devices_are_refused(self) -> None:
        pipe = self.folder / "pipe.stl"
        os.mkfifo(pipe)
        done: list[str] = []

        def read() -> None:
            try:
                read_scan(pipe)
            except BadInput as error:
                done.append(str(error))

        thread = threading.Thread(target=read, daemon=True)
        thread.start()
        thread.join(20)
        self.assertTrue(done and "pipe or device" in done[0], "it waits for the pipe")
        with self.assertRaisesRegex(BadInput, "pipe or device"):
            read_scan("/dev/zero")

    def test_the_same_mesh_gives_the_same_bytes(self) -> None:
        mesh = specimens.torus(30.0, 24).mesh
        for name in FORMATS:
            write_mesh(mesh, self.folder / f"one.{name}")
            first = (self.folder / f"one.{name}").read_bytes()
            time.sleep(2.1 if name == "3mf" else 0.0)  # the clock of a zip archive goes in steps of two seconds
            write_mesh(mesh, self.folder / f"two.{name}")
            self.assertEqual(first, (self.folder / f"two.{name}").read_bytes(), name)

    def test_a_name_as_long_as_a_name_may_be_is_written(self) -> None:
        mesh = specimens.torus(30.0, 24).mesh
        for stem in ("n" * 251, "\N{LATIN SMALL LETTER U WITH DIAERESIS}" * 125):
            path = self.folder / f"{stem}.stl"
            write_mesh(mesh, path)
            self.assertEqual(len(read_scan(path).mesh.faces), len(mesh.faces))
        self.assertEqual([p.name for p in self.folder.iterdir() if p.suffix == ".part"], [])

    def test_nothing_is_not_written(self) -> None:
        nothing = Mesh(POINTS, np.empty((0, 3), dtype=int))
        for name in FORMATS:
            path = self.file(f"old.{name}", base64.b64decode("b2xk"))
            with self.assertRaisesRegex(BadInput, "no triangle to write"):
                write_mesh(nothing, path)
            self.assertEqual(path.read_bytes(), b"old")


if __name__ == "__main__":
    unittest.main()
