"""GLB (glTF 2.0, binary): metres and y up in the file, millimetres and z up here."""

import io
import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from tinsnip.errors import BadInput
from tinsnip.formats.instances import check_unrolled
from tinsnip.formats.textures import open_image, sample_colours, texture_of_triangles
from tinsnip.mesh import RELIEF, Attribute, Domain, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.progress import Progress
from tinsnip.space.cornerweights import slopes
from tinsnip.space.welding import weld_bits, weld_exact

__all__ = ["read", "size_of", "sniff", "write"]

_JSON, _BIN = 0x4E4F534A, 0x004E4942
_ARRAY, _ELEMENTS = 34962, 34963
_COMPONENTS = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
_TO_Z_UP = np.array([[1.0, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1]])
_KNOWN_EXTENSIONS = ("KHR_mesh_quantization", "KHR_materials_", "KHR_lights_punctual", "KHR_xmp")
"""Those that a file may require: they change no position, or are read as they mean."""


def sniff(head: bytes, size: int) -> bool:
    """Whether a file is a GLB.

    Parameters
    ----------
    head : bytes
        The first of the file.
    size : int
        Of the file, bytes.
    """
    return head.startswith(b"glTF")


class _Document:
    """The JSON and the binary chunk, with every access checked."""

    def __init__(self, path: Path) -> None:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(20)
            if len(head) < 20:
                raise BadInput(f"ends after {size} bytes, within its head; copy or export it again")
            _, version, length, json_length, kind = struct.unpack("<4sIIII", head)
            if version != 2:
                raise BadInput(f"is GLB version {version}; export it as version 2")
            if kind != _JSON or json_length > size - 20 or length > size:
                raise BadInput(f"announces {length} bytes but has {size}; copy or export it again")
            try:
                self.data = json.loads(file.read(json_length))
            except (ValueError, RecursionError) as error:
                raise BadInput("its JSON cannot be read; export it again") from error
            begin = 20 + json_length
            chunk = file.read(8)
        self.binary = np.empty(0, np.uint8)
        if len(chunk) == 8:
            count, kind = struct.unpack("<II", chunk)
            if kind == _BIN:
                if begin + 8 + count > size:
                    raise BadInput(f"announces {count} bytes of data but ends at byte {size}; copy or export it again")
                self.binary = np.memmap(path, np.uint8, "r")[begin + 8 : begin + 8 + count]
        if not isinstance(self.data, dict):
            raise BadInput("its JSON is no glTF; export it again")

    def item(self, kind: str, index: Any) -> dict:
        """Entry `index` of one of the lists."""
        entries = self.data.get(kind)
        if not isinstance(entries, list) or not isinstance(index, int) or not 0 <= index < len(entries):
            raise BadInput(f"refers to {kind[:-1]} {index}, which it does not hold; export it again")
        if not isinstance(entries[index], dict):
            raise BadInput(f"{kind[:-1]} {index} is no object; export it again")
        return entries[index]

    def view(self, index: Any) -> tuple[np.ndarray, int]:
        """Bytes of a buffer view, and its stride (0: tight)."""
        view = self.item("bufferViews", index)
        begin, length = view.get("byteOffset", 0), view.get("byteLength", 0)
        if view.get("buffer", 0) != 0 or "uri" in self.item("buffers", 0):
            raise BadInput("keeps data outside the file; export it as one GLB")
        if not _is_count(begin) or not _is_count(length) or begin + length > len(self.binary):
            raise BadInput(f"buffer view {index} lies outside the data; copy or export it again")
        stride = view.get("byteStride", 0)
        return self.binary[begin : begin + length], stride if _is_count(stride) else 0

    def accessor(self, index: Any) -> np.ndarray:
        """Values of an accessor, shape (N, width), in the file's own type."""
        entry = self.item("accessors", index)
        kind, width = _COMPONENTS.get(entry.get("componentType")), _WIDTHS.get(entry.get("type"))
        count, offset = entry.get("count", 0), entry.get("byteOffset", 0)
        if kind is None or width is None or not _is_count(count) or not _is_count(offset):
            raise BadInput(f"accessor {index} cannot be read; export it again")
        if "sparse" in entry or "bufferView" not in entry:
            raise BadInput(f"accessor {index} is sparse, which Tinsnip does not read; export it plainly")
        data, stride = self.view(entry["bufferView"])
        item = np.dtype(kind).itemsize * width
        stride = stride or item
        if stride < item or (count and offset + (count - 1) * stride + item > len(data)):
            raise BadInput(f"accessor {index} asks for more than its data holds; copy or export it again")
        if count == 0:
            return np.empty((0, width), dtype=kind)
        rows = np.lib.stride_tricks.as_strided(data[offset:], (count, item), (stride, 1))
        return np.ascontiguousarray(rows).view(kind)

    def numbers(self, index: Any) -> np.ndarray:
        """Values of an accessor as float64, shape (N, width); whole numbers that stand for fractions as those."""
        values = self.accessor(index)
        fractions = self.item("accessors", index).get("normalized") is True
        return _normalised(values) if fractions else values.astype(np.float64)

    def count_of(self, primitive: Any) -> int:
        """Triangles of a primitive as its accessors announce them; what is wrong with it is said when it is read."""
        names = primitive.get("attributes") if isinstance(primitive, dict) else None
        index = primitive.get("indices", names.get("POSITION")) if isinstance(names, dict) else None
        entries = self.data.get("accessors")
        if not isinstance(entries, list) or not isinstance(index, int) or not 0 <= index < len(entries):
            return 0
        count = entries[index].get("count", 0) if isinstance(entries[index], dict) else 0
        return (count // 3 if primitive.get("mode", 4) == 4 else count) if _is_count(count) else 0


def _is_count(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and 0 <= value < 2**40


def _normalised(values: np.ndarray) -> np.ndarray:
    """Fractions, -1 or 0 to 1, from floats or whole numbers."""
    if values.dtype.kind == "f":
        return values.astype(np.float64)
    return np.maximum(values.astype(np.float64) / np.iinfo(values.dtype).max, -1.0)


def _matrix(node: dict) -> np.ndarray:
    """4x4 matrix of a node."""
    try:
        if "matrix" in node:
            matrix = np.array(node["matrix"], dtype=np.float64).reshape(4, 4).T
        else:
            matrix = np.eye(4)
            x, y, z, w = np.array(node.get("rotation", (0, 0, 0, 1)), dtype=np.float64)
            turn = np.array(
                [
                    [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                    [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                    [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
                ]
            )
            matrix[:3, :3] = turn * np.array(node.get("scale", (1, 1, 1)), dtype=np.float64).reshape(3)
            matrix[:3, 3] = np.array(node.get("translation", (0, 0, 0)), dtype=np.float64).reshape(3)
    except (TypeError, ValueError) as error:
        raise BadInput("a node's place cannot be read; export it again") from error
    if not np.isfinite(matrix).all():
        raise BadInput("a node's place is not finite; export it again")
    return matrix


def read(path: Path, progress: Progress) -> Mesh:
    """Read a GLB: all triangles of its scene, placed, in mm with z up; vertex colours or texture.

    Parameters
    ----------
    path : Path
    progress : Progress

    Raises
    ------
    BadInput
        When it is damaged, compressed in a way Tinsnip does not read, or refers outside itself.
    """
    progress.step(f"Reading {path.name}")
    document = _Document(path)
    required = document.data.get("extensionsRequired") or []
    for name in required if isinstance(required, list) else []:
        if not str(name).startswith(_KNOWN_EXTENSIONS):
            hint = (
                "without compression"
                if "draco" in str(name).lower() or "meshopt" in str(name).lower()
                else "without it"
            )
            raise BadInput(f"requires the extension {str(name)[:60]}, which Tinsnip does not read; export it {hint}")
    scenes = document.data.get("scenes")
    if isinstance(scenes, list) and scenes:
        roots = document.item("scenes", document.data.get("scene", 0)).get("nodes")
    else:
        nodes = document.data.get("nodes")
        below = (
            {c for n in nodes if isinstance(n, dict) for c in _listed(n, "children") if isinstance(c, int)}
            if (isinstance(nodes, list))
            else set()
        )
        roots = [k for k in range(len(nodes)) if k not in below] if isinstance(nodes, list) else []
    roots = roots if isinstance(roots, list) else []

    def primitives_of(index: Any) -> list:
        node = document.item("nodes", index)
        return _listed(document.item("meshes", node["mesh"]), "primitives") if "mesh" in node else []

    def own(index: Any) -> tuple[int, int]:
        primitives = primitives_of(index)
        return sum(document.count_of(p) for p in primitives), len(primitives)

    def children(index: Any) -> list:
        return _listed(document.item("nodes", index), "children")

    check_unrolled(roots, own, children, path.stat().st_size)
    parts: list[dict[str, Any]] = []
    waiting = [(root, np.diag([1000.0, 1000.0, 1000.0, 1.0]) @ _TO_Z_UP) for root in reversed(roots)]
    while waiting:
        index, above = waiting.pop()
        matrix = above @ _matrix(document.item("nodes", index))
        for primitive in primitives_of(index):
            part = _primitive(document, primitive, matrix)
            if part is not None:
                parts.append(part)
        progress.check()
        waiting += [(child, matrix) for child in reversed(children(index))]
    if not parts:
        raise BadInput("its scene holds no triangles; export the scan as a mesh")
    return _joined(document, parts)


def _listed(entry: dict, name: str) -> list:
    """A list in an entry; empty where there is none."""
    found = entry.get(name)
    return found if isinstance(found, list) else []


def _primitive(document: _Document, primitive: Any, matrix: np.ndarray) -> dict[str, Any] | None:
    """Triangles of one primitive; None for points and lines."""
    if not isinstance(primitive, dict) or not isinstance(primitive.get("attributes"), dict):
        raise BadInput("a primitive cannot be read; export it again")
    mode = primitive.get("mode", 4)
    if mode not in (4, 5, 6):
        return None
    names = primitive["attributes"]
    if "POSITION" not in names:
        raise BadInput("a primitive has no positions; export it again")
    places = document.numbers(names["POSITION"])
    if places.shape[1] != 3:
        raise BadInput("positions are not of three numbers; export it again")
    if "indices" in primitive:
        index = document.accessor(primitive["indices"])
        if index.dtype.kind == "f" or index.shape[1] != 1:
            raise BadInput("indices are no whole numbers; export it again")
        index = index.ravel().astype(np.int64)
    else:
        index = np.arange(len(places), dtype=np.int64)
    if mode == 4:
        if len(index) % 3:
            raise BadInput(f"a primitive has {len(index)} corners, which are no whole triangles; export it again")
        faces = index.reshape(-1, 3)
    elif mode == 5:
        faces = np.column_stack([index[:-2], index[1:-1], index[2:]]) if len(index) >= 3 else np.empty((0, 3), int)
        faces[1::2] = faces[1::2][:, [1, 0, 2]]
    else:
        fan = np.broadcast_to(index[:1], (max(0, len(index) - 2),))
        faces = np.column_stack([fan, index[1:-1], index[2:]])
    if len(faces) and (faces.min() < 0 or faces.max() >= len(places)):
        raise BadInput(f"a triangle names vertex {faces.max()} of {len(places)}; export it again")
    matrix = np.where(np.abs(matrix - np.rint(matrix)) < 1e-12, np.rint(matrix), matrix)
    with np.errstate(over="ignore", invalid="ignore"):
        places = places @ matrix[:3, :3].T + matrix[:3, 3]
    if np.linalg.det(matrix[:3, :3]) < 0:
        faces = faces[:, ::-1]
    part: dict[str, Any] = {"places": places + 0.0, "faces": faces, "colour": None, "uv": None, "image": None}
    if "COLOR_0" in names:
        shades = _normalised(document.accessor(names["COLOR_0"]))[:, :3]
        if len(shades) == len(places) and shades.shape[1] == 3:
            part["colour"] = np.rint(np.clip(np.nan_to_num(shades), 0, 1) * 255).astype(np.uint8)
    if "TEXCOORD_0" in names and "material" in primitive:
        uv = document.numbers(names["TEXCOORD_0"])
        image = _image_of(document, primitive["material"])
        if image is not None and uv.shape == (len(places), 2):
            part["uv"] = np.column_stack([uv[:, 0], 1 - uv[:, 1]])
            part["image"] = image
    return part


def _image_of(document: _Document, material: Any) -> int | None:
    """Number of the image that colours a material."""
    entry = document.item("materials", material)
    surface = entry.get("pbrMetallicRoughness")
    texture = surface.get("baseColorTexture") if isinstance(surface, dict) else None
    if not isinstance(texture, dict):
        return None
    source = document.item("textures", texture.get("index")).get("source")
    return source if isinstance(source, int) else None


def _joined(document: _Document, parts: list[dict[str, Any]]) -> Mesh:
    """One mesh of all parts; colours where every part has them, or a texture."""
    starts = np.cumsum([0] + [len(p["places"]) for p in parts])
    faces = np.concatenate([p["faces"] + s for p, s in zip(parts, starts[:-1], strict=True)])
    vertices = np.concatenate([p["places"] for p in parts])
    attributes: dict[str, Attribute] = {}
    images: dict[int, Image.Image] = {}
    for part in parts:
        number = part["image"]
        if number is not None and number not in images:
            entry = document.item("images", number)
            if "bufferView" not in entry:
                raise BadInput("keeps its texture outside the file; export it as one GLB")
            images[number] = open_image(io.BytesIO(document.view(entry["bufferView"])[0].tobytes()), f"{number}")
    if images:
        uv = np.concatenate(
            [p["uv"][p["faces"].ravel()] if p["uv"] is not None else np.zeros((3 * len(p["faces"]), 2)) for p in parts]
        )
        owner = np.repeat([-1 if p["image"] is None else p["image"] for p in parts], [len(p["faces"]) for p in parts])
        material = Attribute(
            Domain.TRIANGLE, owner.astype(np.int32), tuple(f"texture {k}" for k in range(1 + owner.max()))
        )
        attributes["material"] = material
        attributes["texture"] = Attribute(Domain.CORNER, uv.astype(np.float32), images)
    if all(p["colour"] is not None for p in parts):
        attributes["colour"] = Attribute(Domain.VERTEX, np.concatenate([p["colour"] for p in parts]))
    elif images:
        colour = sample_colours(faces, len(vertices), uv, images, attributes["material"])
        for part, start in zip(parts, starts[:-1], strict=True):
            if part["image"] is None and part["colour"] is not None:
                colour[start : start + len(part["colour"])] = part["colour"]
        attributes["colour"] = Attribute(Domain.VERTEX, colour)
    if images:  # along the borders of texture charts the format has every vertex twice; what is one place is one again
        index, first = weld_exact(vertices)
        vertices, faces = vertices[first], index[faces]
        if "colour" in attributes:
            attributes["colour"] = Attribute(Domain.VERTEX, attributes["colour"].values[first])
    return Mesh(vertices, faces, None, attributes)


class _Writer:
    """Collects the blocks of the binary chunk and what the JSON says of them."""

    def __init__(self) -> None:
        self.blocks: list[bytes] = []
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self.offset = 0

    def view(self, data: bytes, target: int | None = None) -> int:
        """Add bytes as a buffer view; returns its number."""
        view: dict[str, Any] = {"buffer": 0, "byteOffset": self.offset, "byteLength": len(data)}
        if target is not None:
            view["target"] = target
        self.views.append(view)
        padded = data + b"\0" * (-len(data) % 4)
        self.blocks.append(padded)
        self.offset += len(padded)
        return len(self.views) - 1

    def accessor(self, values: np.ndarray, component: int, kind: str, target: int, **more: Any) -> int:
        """Add values as an accessor; returns its number."""
        view = self.view(np.ascontiguousarray(values).tobytes(), target)
        entry = {"bufferView": view, "componentType": component, "count": len(values), "type": kind, **more}
        self.accessors.append(entry)
        return len(self.accessors) - 1

    def positions(self, places: np.ndarray) -> int:
        """Add positions with their bounds."""
        low = [float(x) for x in places.min(axis=0)] if len(places) else [0.0] * 3
        high = [float(x) for x in places.max(axis=0)] if len(places) else [0.0] * 3
        return self.accessor(places.astype("<f4"), 5126, "VEC3", _ARRAY, min=low, max=high)


def _colours(colour: np.ndarray, writer: _Writer) -> int:
    wide = np.full((len(colour), 4), 255, dtype=np.uint8)
    wide[:, :3] = colour
    return writer.accessor(wide, 5121, "VEC4", _ARRAY, normalized=True)


def _plain_primitive(mesh: Mesh, writer: _Writer) -> dict[str, Any]:
    """All triangles over the mesh's own vertices, with their colours."""
    names = {"POSITION": writer.positions(mesh.vertices.astype("<f4"))}
    if mesh.colour is not None:
        names["COLOR_0"] = _colours(mesh.colour, writer)
    index = writer.accessor(mesh.faces.astype("<u4").reshape(-1, 1), 5125, "SCALAR", _ELEMENTS)
    return {"attributes": names, "indices": index, "mode": 4}


def _textured_primitives(
    mesh: Mesh, images: dict[int, Image.Image], writer: _Writer
) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    """A primitive for each texture; a vertex is repeated where its corners differ in texture place.

    What has no texture has one of its own, with the colours of its vertices.
    """
    uv = mesh.attributes["texture"].values.reshape(-1, 3, 2)
    owner = texture_of_triangles(mesh)
    maps = mesh.attributes[RELIEF].beside if RELIEF in mesh.attributes else {}
    normals = vertex_normals(mesh.vertices, mesh.faces).astype("<f4") if maps else None
    primitives, extra = [], {"images": [], "textures": [], "materials": []}
    for number in np.unique(owner):
        own = owner == number
        corner = mesh.faces[own].ravel()
        place = np.column_stack([uv[own].reshape(-1, 2)[:, 0], 1 - uv[own].reshape(-1, 2)[:, 1]]).astype("<f4")
        rows = np.column_stack([corner.astype(np.uint32), place.view(np.uint32)])
        index, first = weld_bits(np.ascontiguousarray(rows))
        names = {"POSITION": writer.positions(mesh.vertices[corner[first]].astype("<f4"))}
        primitive = {"attributes": names, "mode": 4}
        if int(number) in images:
            names["TEXCOORD_0"] = writer.accessor(place[first], 5126, "VEC2", _ARRAY)
            surface = {
                "baseColorTexture": {"index": _add_image(images[int(number)], writer, extra)},
                "metallicFactor": 0.0,
            }
            material: dict[str, Any] = {"pbrMetallicRoughness": surface}
            if int(number) in maps:  # its normals stand on those of the corners
                upright = _units(normals[corner[first]])
                names["NORMAL"] = writer.accessor(upright, 5126, "VEC3", _ARRAY)
                right = slopes(mesh.vertices[mesh.faces[own]], uv[own][:, :, 0])[first // 3]
                names["TANGENT"] = writer.accessor(_tangents(right, upright), 5126, "VEC4", _ARRAY)
                material["normalTexture"] = {"index": _add_image(maps[int(number)], writer, extra)}
            extra["materials"].append(material)
            primitive["material"] = len(extra["materials"]) - 1
        elif mesh.colour is not None:
            names["COLOR_0"] = _colours(mesh.colour[corner[first]], writer)
        primitive["indices"] = writer.accessor(index.astype("<u4").reshape(-1, 1), 5125, "SCALAR", _ELEMENTS)
        primitives.append(primitive)
    return primitives, extra


def _add_image(image: Image.Image, writer: _Writer, extra: dict[str, Any]) -> int:
    """Add a texture; its number."""
    packed = io.BytesIO()
    image.save(packed, "PNG")
    extra["images"].append({"bufferView": writer.view(packed.getvalue()), "mimeType": "image/png"})
    extra["textures"].append({"source": len(extra["images"]) - 1})
    return len(extra["textures"]) - 1


def _tangents(right: np.ndarray, upright: np.ndarray) -> np.ndarray:
    """Square to the normals, as near as can be to the ways to the right; the third way is up on the image."""
    upright = upright.astype(np.float64)
    flat = right - (right * upright).sum(axis=1)[:, None] * upright
    none = (flat**2).sum(axis=1) <= 0
    flat[none] = np.cross(upright[none], np.eye(3)[np.abs(upright[none]).argmin(axis=1)])
    flat /= np.linalg.norm(flat, axis=1)[:, None]
    return np.column_stack([flat, np.ones(len(flat))]).astype("<f4")


def _units(normals: np.ndarray) -> np.ndarray:
    """Unit vectors; upward where there is none."""
    length = np.linalg.norm(normals, axis=1)[:, None]
    return np.where(length > 0, normals / np.where(length > 0, length, 1.0), np.float32([0, 0, 1])).astype("<f4")


def write(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write a GLB with its texture, or with vertex colours when there are.

    Positions stay in millimetres; the scene's node turns and scales them to metres with y up, so that they
    keep their bits.

    Parameters
    ----------
    mesh : Mesh
    path : Path
    progress : Progress
    """
    progress.step(f"Writing {path.name}")
    writer = _Writer()
    texture = mesh.attributes.get("texture")
    extra: dict[str, Any] = {}
    if texture is not None and texture.beside:
        primitives, extra = _textured_primitives(mesh, texture.beside, writer)
    else:
        primitives = [_plain_primitive(mesh, writer)]
    document = {
        "asset": {"version": "2.0", "generator": "Tinsnip"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0, "matrix": [0.001, 0, 0, 0, 0, 0, -0.001, 0, 0, 0.001, 0, 0, 0, 0, 0, 1]}],
        "meshes": [{"primitives": primitives}],
        "accessors": writer.accessors,
        "bufferViews": writer.views,
        "buffers": [{"byteLength": writer.offset}],
        **extra,
    }
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    with path.open("wb") as file:
        file.write(struct.pack("<4sII", b"glTF", 2, 12 + 8 + len(text) + 8 + writer.offset))
        file.write(struct.pack("<II", len(text), _JSON) + text)
        file.write(struct.pack("<II", writer.offset, _BIN))
        for block in writer.blocks:
            progress.check()
            file.write(block)


def size_of(triangles: int, vertices: int, coloured: bool = True) -> int:
    """Bytes that a mesh takes.

    Parameters
    ----------
    triangles, vertices : int
    coloured : bool
        Whether vertices have colours.
    """
    return 900 + 12 * triangles + (16 if coloured else 12) * vertices
