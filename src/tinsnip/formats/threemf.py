"""3MF (core specification 1.3, with colours and textures of the materials extension 1.2): a zip of XML, with a unit."""

import io
import re
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from isal import isal_zlib
from lxml import etree

from tinsnip.errors import BadInput
from tinsnip.formats.instances import MOST_TRIANGLES, check_unrolled
from tinsnip.formats.meshblocks import MeshBlock, take_blocks
from tinsnip.formats.textrows import write_rows
from tinsnip.formats.textures import open_image, owners_of_images, sample_colours
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.space.welding import weld_bits

__all__ = ["read", "size_of", "sniff", "write"]

_CORE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
_MATERIAL = "http://schemas.microsoft.com/3dmanufacturing/material/2015/02"
_PRODUCTION = "http://schemas.microsoft.com/3dmanufacturing/production/2015/06"
_TEXTURE = "http://schemas.microsoft.com/3dmanufacturing/2013/01/3dtexture"
_RELATION = "http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"
_MILLIMETRES = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}
_DAMAGED = (
    zipfile.BadZipFile, NotImplementedError, RuntimeError, OSError, EOFError, ValueError, zlib.error, isal_zlib.error,
)  # fmt: skip
_MOST_GROWTH = 120
"""How many times its size a zip may unpack to."""
_PLAIN = 20_000_000
"""Bytes that are always allowed."""


def sniff(head: bytes, size: int) -> bool:
    """Whether a file is a zip, as a 3MF is; what is in it is looked at when it is read.

    Parameters
    ----------
    head : bytes
        The first of the file.
    size : int
        Of the file, bytes.
    """
    return head.startswith(b"PK\x03\x04")


class _Package:
    """The parts of the zip, opened within bounds."""

    def __init__(self, path: Path) -> None:
        try:
            self.zip = zipfile.ZipFile(path)
        except (zipfile.BadZipFile, ValueError, NotImplementedError) as error:
            raise BadInput("is no whole zip archive, as a 3MF must be; copy or export it again") from error
        self.names = {name.lstrip("/").lower(): name for name in self.zip.namelist()}
        total = sum(info.file_size for info in self.zip.infolist())
        if total > max(_PLAIN, _MOST_GROWTH * path.stat().st_size):
            raise BadInput(f"would unpack to {total / 1e6:.0f} MB; a 3MF scan does not; get it from another source")

    def read(self, name: str, most: int = -1) -> bytes:
        """Bytes of a part; never more than it declares, which has been checked."""
        real = self.names.get(name.lstrip("/").lower())
        if real is None:
            raise BadInput(f"has no part {name[:80]!r}; export it again")
        info = self.zip.getinfo(real)
        if info.flag_bits & 1:
            raise BadInput("is encrypted; export it without a password")
        try:
            with self.zip.open(info) as stream:
                if info.compress_type == zipfile.ZIP_DEFLATED and hasattr(stream, "_decompressor"):
                    stream._decompressor = isal_zlib.decompressobj(-zlib.MAX_WBITS)  # the same, in half the time
                return stream.read(most)
        except _DAMAGED as error:
            raise BadInput("its archive is damaged; copy or export it again") from error

    def model_name(self) -> str:
        """The part that holds the model, by the package's relations."""
        try:
            root = _parse_small(self.read("_rels/.rels", 1_000_000))
            for relation in root.iter():
                if relation.get("Type", "").endswith("/3dmodel") and relation.get("Target"):
                    return relation.get("Target")
        except BadInput:
            pass
        return "3D/3dmodel.model"


def _parser_options() -> dict[str, Any]:
    return {"resolve_entities": False, "no_network": True, "load_dtd": False, "dtd_validation": False}


def _refuse_doctype(root: etree._Element) -> None:
    """A declaration of a document type may define anything; the specification forbids it."""
    if root.getroottree().docinfo.doctype or root.getroottree().docinfo.internalDTD is not None:
        raise BadInput("its XML has a DOCTYPE, which a 3MF must not have; get it from another source")


def _parse_small(data: bytes) -> etree._Element:
    try:
        root = etree.fromstring(data, etree.XMLParser(**_parser_options()))
        _refuse_doctype(root)
        return root
    except (etree.XMLSyntaxError, ValueError) as error:
        raise BadInput(f"its XML cannot be read ({_one_line(error)}); export it again") from error


def _one_line(error: Exception) -> str:
    return str(error).split("\n")[0][:120]


class _Object:
    """One object of the model: a mesh, or components of others."""

    def __init__(self) -> None:
        self.vertices: np.ndarray | None = None
        self.faces: np.ndarray | None = None
        self.paint: np.ndarray | None = None  # (F, 4): property group and three indices; -1 for none
        self.default: tuple[int, int] = (-1, 0)
        self.components: list[tuple[tuple[str, str], np.ndarray]] = []
        self.block: MeshBlock | None = None

    def take_block(self, block: MeshBlock) -> None:
        """Take over vertices and triangles that were read by compiled code."""
        self.vertices, self.faces = block.vertices, block.rows[:, :3]
        if (block.rows[:, 3:5] >= 0).any():
            pid, p1, p2, p3 = (block.rows[:, k] for k in range(3, 7))
            painted = (pid >= 0) | (p1 >= 0)
            first = np.maximum(p1, 0)
            own = np.where(pid >= 0, pid, self.default[0])
            paint = np.column_stack([own, first, np.where(p2 >= 0, p2, first), np.where(p3 >= 0, p3, first)])
            self.paint = np.where(painted[:, None], paint, [-2, 0, 0, 0])


class _Model:
    """Everything read of one or several model parts."""

    def __init__(self) -> None:
        self.unit = "millimeter"
        self.objects: dict[tuple[str, str], _Object] = {}
        self.colours: dict[tuple[str, int], np.ndarray] = {}
        self.images: dict[tuple[str, int], str] = {}
        """The part of the package that each texture lies in."""
        self.places: dict[tuple[str, int], tuple[int, np.ndarray]] = {}
        """For each group of texture places the number of its texture, and u and v of each, upward."""
        self.items: list[tuple[tuple[str, str], np.ndarray]] = []
        self.parts: set[str] = set()


def _transform(text: str | None) -> np.ndarray:
    """A 4x3 matrix from its attribute: rows of the linear part, then the shift."""
    if text is None:
        return np.vstack([np.eye(3), np.zeros(3)])
    try:
        numbers = np.array([float(w) for w in text.split()])
    except ValueError:
        numbers = np.empty(0)
    if numbers.shape != (12,) or not np.isfinite(numbers).all():
        raise BadInput(f"a transform '{text[:60]}' is not twelve numbers; export it again")
    return numbers.reshape(4, 3)


def _local(tag: Any) -> str:
    return tag.rsplit("}", 1)[-1] if isinstance(tag, str) else ""


def _events(stream: Any) -> Iterator[tuple[str, etree._Element]]:
    try:
        for event, element in etree.iterparse(stream, events=("start", "end"), huge_tree=True, **_parser_options()):
            if event == "start" and element.getparent() is None:
                _refuse_doctype(element)
            yield event, element
    except (etree.XMLSyntaxError, zipfile.BadZipFile, OSError, EOFError, ValueError) as error:
        raise BadInput(f"its XML cannot be read ({_one_line(error)}); copy or export it again") from error


def _read_part(package: _Package, name: str, model: _Model, progress: Progress) -> None:
    """Read one model part; elements are dropped as soon as they are understood."""
    model.parts.add(name)
    vertices: list[tuple[float, float, float]] = []
    faces: list[tuple[int, int, int]] = []
    paint: list[tuple[int, int, int, int]] = []
    group: list[tuple[int, int, int]] = []
    places: list[tuple[float, float]] = []
    current: _Object | None = None
    seen = 0
    text = package.read(name)
    progress.check()
    skeleton, blocks = take_blocks(text)
    del text
    with io.BytesIO(skeleton) as stream:
        for event, element in _events(stream):
            tag = _local(element.tag)
            if event == "start":
                if tag == "model" and name == next(iter(model.parts)):
                    model.unit = element.get("unit", "millimeter")
                elif tag == "object":
                    current = _Object()
                    default = element.get("pid")
                    current.default = (_whole(default, -1), _whole(element.get("pindex"), 0))
                    vertices, faces, paint = [], [], []
                elif tag in ("colorgroup", "basematerials"):
                    group = []
                elif tag == "texture2dgroup":
                    places = []
                continue
            seen += 1
            if seen % 65536 == 0:
                progress.check()
            try:
                if tag == "mesh" and element.get("block") is not None and current is not None:
                    current.block = blocks.get(int(element.get("block")))
                elif tag == "vertex":
                    vertices.append((float(element.get("x")), float(element.get("y")), float(element.get("z"))))
                elif tag == "triangle":
                    faces.append((int(element.get("v1")), int(element.get("v2")), int(element.get("v3"))))
                    pid = element.get("pid")
                    p1 = element.get("p1")
                    if pid is not None or p1 is not None:
                        first = _whole(p1, 0)
                        own = current.default[0] if pid is None and current is not None else _whole(pid, -1)
                        row = (own, first, _whole(element.get("p2"), first), _whole(element.get("p3"), first))
                        paint.extend([(-2, 0, 0, 0)] * (len(faces) - 1 - len(paint)))
                        paint.append(row)
                elif tag == "color":
                    group.append(_colour(element.get("color")))
                elif tag == "base":
                    group.append(_colour(element.get("displaycolor")))
                elif tag in ("colorgroup", "basematerials"):
                    model.colours[name, _whole(element.get("id"), -1)] = np.array(group, dtype=np.uint8).reshape(-1, 3)
                elif tag == "texture2d":
                    model.images[name, _whole(element.get("id"), -1)] = element.get("path") or ""
                elif tag == "tex2coord":
                    places.append((float(element.get("u")), float(element.get("v"))))
                elif tag == "texture2dgroup":
                    number = _whole(element.get("texid"), -1)
                    table = np.array(places, dtype=np.float64).reshape(-1, 2)
                    model.places[name, _whole(element.get("id"), -1)] = number, table
                elif tag == "component" and current is not None:
                    part = element.get(f"{{{_PRODUCTION}}}path", name)
                    current.components.append(
                        ((part.lstrip("/"), element.get("objectid")), _transform(element.get("transform")))
                    )
                elif tag == "item":
                    part = element.get(f"{{{_PRODUCTION}}}path", name)
                    model.items.append(
                        ((part.lstrip("/"), element.get("objectid")), _transform(element.get("transform")))
                    )
                elif tag == "object" and current is not None:
                    if current.block is not None:
                        current.take_block(current.block)
                    else:
                        current.vertices = np.array(vertices, dtype=np.float64).reshape(-1, 3)
                        current.faces = np.array(faces, dtype=np.int64).reshape(-1, 3)
                        if paint:
                            paint.extend([(-2, 0, 0, 0)] * (len(faces) - len(paint)))
                            current.paint = np.array(paint, dtype=np.int64)
                    model.objects[name, element.get("id")] = current
                    current = None
            except (TypeError, ValueError, OverflowError):
                raise BadInput(f"line {element.sourceline}: a <{tag}> cannot be read; export it again") from None
            if len(faces) > MOST_TRIANGLES:
                raise BadInput("holds more triangles than fit in memory; split the scan")
            if tag not in ("mesh", "vertices", "triangles"):
                element.clear()
            parent = element.getparent()
            if parent is not None and tag in ("vertex", "triangle", "color", "tex2coord", "object", "component"):
                while element.getprevious() is not None:
                    del parent[0]


def _whole(text: str | None, default: int) -> int:
    return default if text is None else int(text)


def _colour(text: str | None) -> tuple[int, int, int]:
    found = re.fullmatch(r"#([0-9A-Fa-f]{6})(?:[0-9A-Fa-f]{2})?", text or "")
    if not found:
        raise ValueError(text)
    return tuple(bytes.fromhex(found[1]))


def read(path: Path, progress: Progress) -> Mesh:
    """Read a 3MF: all items of its build, placed; in mm.

    Parameters
    ----------
    path : Path
    progress : Progress

    Raises
    ------
    BadInput
        When it is damaged, refers in a ring, or asks for more than it holds.
    """
    progress.step(f"Reading {path.name}")
    package = _Package(path)
    model = _Model()
    name = package.model_name().lstrip("/")
    _read_part(package, name, model, progress)
    if model.unit not in _MILLIMETRES:
        raise BadInput(f"its unit '{model.unit[:30]}' is unknown; export it in millimeter")
    collected: list[tuple[np.ndarray, np.ndarray, np.ndarray | None]] = []
    textured: list[tuple[np.ndarray, np.ndarray]] = []
    images: dict[tuple[str, int], int] = {}

    def thing_of(key: tuple[str, str]) -> _Object:
        if key[0] not in model.parts:
            _read_part(package, key[0], model, progress)
        thing = model.objects.get(key)
        if thing is None:
            raise BadInput(f"refers to object {key[1]}, which it does not hold; export it again")
        return thing

    def place(key: tuple[str, str], matrix: np.ndarray) -> None:
        thing = thing_of(key)
        if len(thing.faces):
            if thing.faces.min() < 0 or thing.faces.max() >= len(thing.vertices):
                raise BadInput(f"a triangle of object {key[1]} names a vertex it does not have; export it again")
            collected.append(_placed(thing, matrix, model, key[0]))
            textured.append(_textured(thing, matrix, model, key[0], images))
        for child, own in thing.components:
            linear = own[:3] @ matrix[:3]
            waiting.append((child, np.vstack([linear, own[3] @ matrix[:3] + matrix[3]])))

    whole = np.vstack([np.eye(3) * _MILLIMETRES[model.unit], np.zeros(3)])
    items = model.items or [(key, _transform(None)) for key in model.objects]
    check_unrolled(
        [key for key, _ in items],
        lambda key: (len(thing_of(key).faces), 1),
        lambda key: [child for child, _ in thing_of(key).components],
        path.stat().st_size,
    )
    waiting: list[tuple[tuple[str, str], np.ndarray]] = []
    for key, matrix in items:
        waiting.append((key, np.vstack([matrix[:3] @ whole[:3], matrix[3] @ whole[:3]])))
        while waiting:
            progress.check()
            place(*waiting.pop())
    if not collected:
        raise BadInput("its build holds no triangles; export the scan as a mesh")
    starts = np.cumsum([0] + [len(v) for v, _, _ in collected])
    faces = np.concatenate([f + s for (_, f, _), s in zip(collected, starts[:-1], strict=True)])
    attributes = {}
    if all(c is not None for _, _, c in collected):
        attributes["colour"] = Attribute(Domain.VERTEX, np.concatenate([c for _, _, c in collected]))
    if images:
        _add_texture(attributes, textured, images, package, model, faces)
    return Mesh(np.concatenate([v for v, _, _ in collected]), faces, None, attributes)


def _textured(
    thing: _Object, matrix: np.ndarray, model: _Model, part: str, images: dict[tuple[str, int], int]
) -> tuple[np.ndarray, np.ndarray]:
    """Texture places of an object's corners, shape (F, 3, 2), and the number of each triangle's image, -1 for none."""
    uv = np.zeros((len(thing.faces), 3, 2), dtype=np.float32)
    owner = np.full(len(thing.faces), -1, dtype=np.int32)
    paint = thing.paint
    if paint is None:
        return uv, owner
    for group in np.unique(paint[:, 0]).tolist():
        number, table = model.places.get((part, group), (-1, None))
        if table is None or (part, number) not in model.images:
            continue
        own = np.flatnonzero(paint[:, 0] == group)
        chosen = paint[own, 1:]
        if len(table) == 0 or chosen.min() < 0 or chosen.max() >= len(table):
            raise BadInput(f"a triangle names a texture place that group {group} does not have; export it again")
        uv[own] = table[chosen]
        owner[own] = images.setdefault((part, number), len(images))
    return (uv if np.linalg.det(matrix[:3]) >= 0 else uv[:, ::-1]), owner


def _add_texture(
    attributes: dict[str, Attribute],
    textured: list[tuple[np.ndarray, np.ndarray]],
    images: dict[tuple[str, int], int],
    package: _Package,
    model: _Model,
    faces: np.ndarray,
) -> None:
    """Texture places, images and whose each triangle is; and colours of vertices by them, where there are none."""
    uv = np.concatenate([one for one, _ in textured]).reshape(-1, 2)
    owner = np.concatenate([one for _, one in textured])
    opened = {
        number: open_image(io.BytesIO(package.read(model.images[key])), model.images[key][:60])
        for key, number in images.items()
    }
    material = Attribute(Domain.TRIANGLE, owner, tuple(f"texture {k}" for k in range(len(images))))
    attributes |= {"material": material, "texture": Attribute(Domain.CORNER, uv, opened)}
    if "colour" not in attributes:
        count = int(faces.max(initial=-1)) + 1
        attributes["colour"] = Attribute(Domain.VERTEX, sample_colours(faces, count, uv, opened, material))


def _placed(
    thing: _Object, matrix: np.ndarray, model: _Model, part: str
) -> tuple[np.ndarray, np.ndarray, np.ndarray | None]:
    """Vertices, faces (outward also where mirrored) and vertex colours of an object put in its place."""
    vertices = thing.vertices
    if not np.array_equal(matrix, np.vstack([np.eye(3), np.zeros(3)])):
        vertices = vertices @ matrix[:3] + matrix[3]
    faces = thing.faces if np.linalg.det(matrix[:3]) >= 0 else thing.faces[:, ::-1]
    paint = thing.paint
    group, index = thing.default
    if paint is None and (part, group) not in model.colours:
        return vertices, faces, None
    colour = np.full((len(vertices), 3), 190, dtype=np.uint8)
    known = model.colours.get((part, group))
    if known is not None and 0 <= index < len(known):
        colour[:] = known[index]
    if paint is not None:
        for group in np.unique(paint[:, 0]):
            table = model.colours.get((part, int(group)))
            if table is None:
                continue
            own = paint[:, 0] == group
            chosen = paint[own, 1:]
            if len(table) == 0 or chosen.min() < 0 or chosen.max() >= len(table):
                raise BadInput(f"a triangle names a colour that group {int(group)} does not have; export it again")
            colour[thing.faces[own]] = table[chosen]
    return vertices, faces, colour


def write(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write a 3MF in millimetres: one object, with its textures or a colour group when there are such.

    The triangles of each image stand together.

    Parameters
    ----------
    mesh : Mesh
    path : Path
    progress : Progress
    """
    owner = owners_of_images(mesh)
    if owner is not None:
        mesh = keep_triangles(mesh, np.argsort(owner, kind="stable"))
        owner = np.sort(owner, kind="stable")
    progress.step(f"Writing {path.name}", len(mesh.vertices) + len(mesh.faces))
    images = (
        {} if owner is None else {n: mesh.attributes["texture"].beside[n] for n in np.unique(owner).tolist() if n >= 0}
    )
    picture = '<Default Extension="png" ContentType="image/png"/>' if images else ""
    types = (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        '<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/>'
        f"{picture}</Types>"
    )
    head = f'<?xml version="1.0" encoding="UTF-8"?>\n<model unit="millimeter" xml:lang="en-US" xmlns="{_CORE}"'
    if mesh.colour is not None or images:
        head += f' xmlns:m="{_MATERIAL}"'
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1, allowZip64=True) as package:
        package.writestr(_entry("[Content_Types].xml"), types)
        package.writestr(_entry("_rels/.rels"), _relations({"/3D/3dmodel.model": _RELATION}))
        if images:
            targets = {f"/3D/Textures/{number}.png": _TEXTURE for number in images}
            package.writestr(_entry("3D/_rels/3dmodel.model.rels"), _relations(targets))
        for number, image in images.items():
            packed = io.BytesIO()
            image.save(packed, "PNG")
            package.writestr(_entry(f"3D/Textures/{number}.png"), packed.getvalue())
        with package.open(_entry("3D/3dmodel.model"), "w", force_zip64=True) as part:
            if hasattr(part, "_compressor"):  # smaller than zlib's fastest level, in a third of the time
                part._compressor = isal_zlib.compressobj(1, zlib.DEFLATED, -zlib.MAX_WBITS)
            file = io.BufferedWriter(part, 1 << 20)
            file.write(head.encode() + b"><resources>")
            runs = _write_properties(mesh, owner, images, file, progress)
            coloured = b' pid="1" pindex="0"' if mesh.colour is not None else b""
            file.write(b'<object id="2" type="model"' + coloured + b"><mesh>")
            file.write(b"<vertices>")
            none = np.empty((len(mesh.vertices), 0), dtype=np.int32)
            write_rows(file, mesh.vertices, none, (b'<vertex x="', b'" y="', b'" z="', b'"/>'), progress)
            file.write(b"</vertices><triangles>")
            for first, last, number, table in runs:
                words = (b'<triangle v1="', b'" v2="', b'" v3="', b'"/>')
                if table is not None:  # the group is said on every triangle, as readers expect of p1 to p3
                    own = f'<triangle pid="{number}" v1="'.encode()
                    words = (own, b'" v2="', b'" v3="', b'" p1="', b'" p2="', b'" p3="', b'"/>')
                for begin in range(first, last, 1_000_000):
                    some = slice(begin, min(begin + 1_000_000, last))
                    faces = mesh.faces[some]
                    wholes = faces if table is None else np.column_stack([faces, table(some)])
                    write_rows(file, np.empty((len(faces), 0)), wholes.astype(np.int32), words, progress)
            file.write(b'</triangles></mesh></object></resources><build><item objectid="2"/></build></model>')
            file.flush()
            file.detach()


def _relations(targets: dict[str, str]) -> str:
    each = "".join(
        f'<Relationship Target="{target}" Id="rel{i}" Type="{kind}"/>'
        for i, (target, kind) in enumerate(targets.items())
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">{each}</Relationships>'
    )


def _write_properties(
    mesh: Mesh, owner: np.ndarray | None, images: dict[int, Any], file: BinaryIO, progress: Progress
) -> list[tuple[int, int, int, Callable[[slice], np.ndarray] | None]]:
    """Write colours, textures and the places on them.

    For each run of triangles its first, its last, the number of its group, and what gives the three numbers of some.
    """
    paint: Callable[[slice], np.ndarray] | None = None
    if mesh.colour is not None:
        packed = mesh.colour.astype(np.int64) @ np.array([65536, 256, 1])
        distinct, which = np.unique(packed, return_inverse=True)
        which = which.astype(np.int32)
        rows = "".join(f'<m:color color="#{c:06X}FF"/>' for c in distinct.tolist())
        file.write(f'<m:colorgroup id="1">{rows}</m:colorgroup>'.encode())

        def paint(some: slice) -> np.ndarray:
            return which[mesh.faces[some]]

    if owner is None:
        return [(0, len(mesh.faces), 1, paint)]
    uv = mesh.attributes["texture"].values
    runs: list[tuple[int, int, int, Callable[[slice], np.ndarray] | None]] = []
    free = 3
    for number in np.unique(owner).tolist():
        first, last = np.searchsorted(owner, [number, number + 1]).tolist()
        if number < 0:
            runs.append((first, last, 1, paint))
            continue
        own = np.ascontiguousarray(uv[3 * first : 3 * last])
        which, where = weld_bits(np.column_stack([own, np.zeros(len(own), np.float32)]).view(np.uint32))
        flat = own[where].astype(np.float64)
        texture = f'<m:texture2d id="{free}" path="/3D/Textures/{number}.png" contenttype="image/png"/>'
        file.write(f'{texture}<m:texture2dgroup id="{free + 1}" texid="{free}">'.encode())
        none = np.empty((len(flat), 0), dtype=np.int32)
        write_rows(file, flat, none, (b'<m:tex2coord u="', b'" v="', b'"/>'), progress)
        file.write(b"</m:texture2dgroup>")
        rows = which.reshape(-1, 3)
        runs.append(
            (first, last, free + 1, lambda some, rows=rows, first=first: rows[some.start - first : some.stop - first])
        )
        free += 2
    return runs


def _entry(name: str) -> zipfile.ZipInfo:
    """An entry of the archive without the time of day, so that the same mesh gives the same bytes."""
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type = zipfile.ZIP_DEFLATED
    entry.external_attr = 0o600 << 16
    # the level of deflating; public from Python 3.13 on
    setattr(entry, "compress_level" if hasattr(entry, "compress_level") else "_compresslevel", 1)
    return entry


def size_of(triangles: int, vertices: int, coloured: bool = True) -> int:
    """Bytes that a mesh takes, about: what the text of a noisy scan deflates to.

    Parameters
    ----------
    triangles, vertices : int
    coloured : bool
        Whether vertices have colours.
    """
    return 1500 + 11 * triangles + (36 if coloured else 19) * vertices
