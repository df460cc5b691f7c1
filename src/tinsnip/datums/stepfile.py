"""STEP: datums and outlines as construction geometry (ISO 10303-21, application protocol 214)."""

from collections.abc import Callable, Sequence
from datetime import UTC, datetime

import numpy as np

from tinsnip import __version__
from tinsnip.datums.datum import Datum
from tinsnip.datums.outlines import Arc, Line, Outline
from tinsnip.space.polygons import plane_axes

__all__ = ["step_text"]

_SIZE = 1.0
"""Half the length of what has no end and of which nothing is known, mm."""
_UNCERTAIN_MM = 1e-6
"""Within which places in the file are one; it holds all digits."""

Section = tuple[str, Callable[[np.ndarray], np.ndarray], np.ndarray, Sequence[Outline]]


class _Writer:
    """Numbers the entities, in the order they come."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def add(self, kind: str, *values: object) -> str:
        """An entity; its reference."""
        return self.raw(f"{kind}({','.join(map(_told, values))})")

    def raw(self, text: str) -> str:
        self.lines.append(f"#{len(self.lines) + 1}={text};")
        return f"#{len(self.lines)}"

    def point(self, place: np.ndarray, name: str = "") -> str:
        return self.add("CARTESIAN_POINT", _text(name), tuple(place))

    def way(self, way: np.ndarray) -> str:
        return self.add("DIRECTION", "''", tuple(way))

    def placed(self, place: np.ndarray, way: np.ndarray, across: np.ndarray | None = None) -> str:
        """Axes of a thing in space: its z along a way."""
        x = plane_axes(way)[0] if across is None else across
        return self.add("AXIS2_PLACEMENT_3D", "''", self.point(place), self.way(way), self.way(x))

    def line(self, start: np.ndarray, end: np.ndarray, name: str = "") -> str:
        length = float(np.linalg.norm(end - start))
        vector = self.add("VECTOR", "''", self.way((end - start) / length), 1.0)
        curve = self.add("LINE", "''", self.point(start), vector)
        return self._trimmed(name, curve, 0.0, length)

    def circle(self, middle: np.ndarray, way: np.ndarray, radius: float, name: str = "",
               start: np.ndarray | None = None, sweep: float = 2 * np.pi) -> str:  # fmt: skip
        across = None if start is None else (start - middle) / np.linalg.norm(start - middle)
        curve = self.add("CIRCLE", "''", self.placed(middle, way, across), radius)
        return self._trimmed(name, curve, 0.0, sweep)

    def _trimmed(self, name: str, curve: str, low: float, high: float) -> str:
        ends = [f"(PARAMETER_VALUE({_number(value)}))" for value in (low, high)]
        return self.raw(f"TRIMMED_CURVE({_text(name)},{curve},{ends[0]},{ends[1]},.T.,.PARAMETER.)")

    def face(self, name: str, surface: str, edges: Sequence[tuple[str, bool]]) -> str:
        """A surface with the loop that bounds it: its edges in turn, each the way it runs or against it."""
        turns = [self.add("ORIENTED_EDGE", "''", "*", "*", edge, ".T." if ahead else ".F.") for edge, ahead in edges]
        loop = self.add("EDGE_LOOP", "''", tuple(turns))
        bound = self.add("FACE_OUTER_BOUND", "''", loop, ".T.")
        face = self.add("ADVANCED_FACE", _text(name), (bound,), surface, ".T.")
        shell = self.add("OPEN_SHELL", _text(name), (face,))
        return self.add("SHELL_BASED_SURFACE_MODEL", _text(name), (shell,))

    def vertex(self, place: np.ndarray) -> str:
        return self.add("VERTEX_POINT", "''", self.point(place))

    def edge(self, start: str, end: str, curve: str) -> str:
        return self.add("EDGE_CURVE", "''", start, end, curve, ".T.")

    def straight(self, a: np.ndarray, b: np.ndarray, start: str, end: str) -> str:
        vector = self.add("VECTOR", "''", self.way((b - a) / np.linalg.norm(b - a)), 1.0)
        return self.edge(start, end, self.add("LINE", "''", self.point(a), vector))

    def round(self, middle: np.ndarray, way: np.ndarray, across: np.ndarray, radius: float, start: str,
              end: str) -> str:  # fmt: skip
        return self.edge(start, end, self.add("CIRCLE", "''", self.placed(middle, way, across), radius))


def _number(value: float) -> str:
    text = f"{float(value):.15G}"
    if "E" in text:
        mantissa, power = text.split("E")
        return f"{mantissa if '.' in mantissa else mantissa + '.'}E{power}"
    return text if "." in text else f"{text}."


def _text(value: str) -> str:
    """A string of the standard's: quotes doubled, what is not ASCII by its number."""
    out, wide = "", ""
    for letter in value + "\0":
        if letter != "\0" and not 32 <= ord(letter) < 127:
            wide += f"{ord(letter):08X}"
            continue
        if wide:
            out, wide = f"{out}\\X4\\{wide}\\X0\\", ""
        out += {"'": "''", "\\": "\\\\", "\0": ""}.get(letter, letter)
    return f"'{out}'"


def _told(value: object) -> str:
    if isinstance(value, tuple | list):
        return f"({','.join(map(_told, value))})"
    return value if isinstance(value, str) else _number(value)


def step_text(named: str, datums: Sequence[Datum], sections: Sequence[Section] = ()) -> str:
    """A STEP file of datums and of outlines of sections, in mm.

    Surfaces are faces trimmed to what is known of them; axes, curves and points stand beside them, each under its name.

    Parameters
    ----------
    named : str
        What they are of.
    datums : sequence of Datum
    sections : sequence of (str, callable, ndarray, sequence of Outline)
        For each its name, what takes a place of its plane into space, its normal, and its outlines.

    References
    ----------
    ISO 10303-21 (2016), clear text encoding; ISO 10303-42, geometry and topology; ISO 10303-214, manifold surface and
    geometrically bounded wireframe shape representations.
    """
    w = _Writer()
    context = w.add("APPLICATION_CONTEXT", "'core data for automotive mechanical design processes'")
    w.add("APPLICATION_PROTOCOL_DEFINITION", "'international standard'", "'automotive_design'", "2010", context)
    product = w.add(
        "PRODUCT", _text(named), _text(named), "''", (w.add("PRODUCT_CONTEXT", "''", context, "'mechanical'"),)
    )
    w.add("PRODUCT_RELATED_PRODUCT_CATEGORY", "'part'", "$", (product,))
    formed = w.add("PRODUCT_DEFINITION_FORMATION", "''", "''", product)
    stage = w.add("PRODUCT_DEFINITION_CONTEXT", "'part definition'", context, "'design'")
    defined = w.add("PRODUCT_DEFINITION", "'design'", "''", formed, stage)
    shape = w.add("PRODUCT_DEFINITION_SHAPE", "''", "''", defined)
    length = w.raw("(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.))")
    angle = w.raw("(NAMED_UNIT(*)PLANE_ANGLE_UNIT()SI_UNIT($,.RADIAN.))")
    solid = w.raw("(NAMED_UNIT(*)SI_UNIT($,.STERADIAN.)SOLID_ANGLE_UNIT())")
    within = w.raw(
        f"UNCERTAINTY_MEASURE_WITH_UNIT(LENGTH_MEASURE({_number(_UNCERTAIN_MM)}),{length},'distance_accuracy_value','')"
    )
    geometry = w.raw(
        f"(GEOMETRIC_REPRESENTATION_CONTEXT(3)GLOBAL_UNCERTAINTY_ASSIGNED_CONTEXT(({within}))"
        f"GLOBAL_UNIT_ASSIGNED_CONTEXT(({length},{angle},{solid}))REPRESENTATION_CONTEXT('',''))"
    )
    surfaces = [surface for datum in datums if (surface := _surface(w, datum))]
    lines = [item for datum in datums for item in _lines(w, datum)]
    for name, in_space, normal, outlines in sections:
        for outline in outlines:
            lines += [_piece(w, name, piece, in_space, normal) for piece in outline.pieces]
    origin = w.placed(np.zeros(3), np.array([0.0, 0.0, 1.0]), np.array([1.0, 0.0, 0.0]))
    whole = w.add("SHAPE_REPRESENTATION", _text(named), (origin,), geometry)
    w.add("SHAPE_DEFINITION_REPRESENTATION", shape, whole)
    if surfaces:
        own = w.add("MANIFOLD_SURFACE_SHAPE_REPRESENTATION", _text(named), (origin, *surfaces), geometry)
        w.add("SHAPE_REPRESENTATION_RELATIONSHIP", "''", "''", whole, own)
    if lines:
        drawn = w.add("GEOMETRIC_CURVE_SET", _text(named), tuple(lines))
        kind = "GEOMETRICALLY_BOUNDED_WIREFRAME_SHAPE_REPRESENTATION"
        own = w.add(kind, _text(named), (origin, drawn), geometry)
        w.add("SHAPE_REPRESENTATION_RELATIONSHIP", "''", "''", whole, own)
    now = datetime.now(UTC).isoformat(timespec="seconds")
    head = [
        "ISO-10303-21;",
        "HEADER;",
        "FILE_DESCRIPTION(('datums and outlines'),'2;1');",
        f"FILE_NAME({_text(named)},'{now}',(''),(''),'Tinsnip {__version__}','Tinsnip','');",
        "FILE_SCHEMA(('AUTOMOTIVE_DESIGN { 1 0 10303 214 1 1 1 1 }'));",
        "ENDSEC;",
        "DATA;",
    ]
    return "\n".join([*head, *w.lines, "ENDSEC;", "END-ISO-10303-21;", ""])


def _piece(
    w: _Writer, name: str, piece: Line | Arc, in_space: Callable[[np.ndarray], np.ndarray], normal: np.ndarray
) -> str:
    if isinstance(piece, Line):
        return w.line(in_space(piece.start), in_space(piece.end), name)
    way = normal if piece.sweep > 0 else -normal
    return w.circle(in_space(piece.middle), way, piece.radius, name, in_space(piece.start), abs(piece.sweep))


def _known(datum: Datum) -> tuple[float, float]:
    return (datum.low, datum.high) if datum.high > datum.low else (-_SIZE, _SIZE)


def _surface(w: _Writer, datum: Datum) -> str:
    """The face that stands for a datum, trimmed to what is known of it; empty for one that is no surface."""
    place, way, name = datum.place, datum.direction, datum.name
    if datum.form == "plane":
        u, v = plane_axes(way)
        reach = max(datum.reach, _SIZE)
        corners = [place + reach * (a * u + b * v) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
        at = [w.vertex(corner) for corner in corners]
        edges = [w.straight(corners[k], corners[(k + 1) % 4], at[k], at[(k + 1) % 4]) for k in range(4)]
        return w.face(name, w.add("PLANE", "''", w.placed(place, way, u)), [(edge, True) for edge in edges])
    if datum.form in ("cylinder", "cone"):
        return _turned(w, datum)
    if datum.form == "sphere":
        up, across = np.array([0.0, 0.0, 1.0]), np.array([1.0, 0.0, 0.0])
        low, high = w.vertex(place - datum.radius * up), w.vertex(place + datum.radius * up)
        seam = w.round(place, np.array([0.0, -1.0, 0.0]), -up, datum.radius, low, high)
        surface = w.add("SPHERICAL_SURFACE", "''", w.placed(place, up, across), datum.radius)
        return w.face(name, surface, [(seam, True), (seam, False)])
    if datum.form == "torus":
        across = plane_axes(way)[0]
        ring = datum.radius + datum.tube
        at = w.vertex(place + ring * across)
        along = w.round(place, way, across, ring, at, at)
        middle = place + datum.radius * across
        tube = w.round(middle, np.cross(across, way), across, datum.tube, at, at)
        surface = w.add("TOROIDAL_SURFACE", "''", w.placed(place, way, across), datum.radius, datum.tube)
        return w.face(name, surface, [(along, True), (tube, True), (along, False), (tube, False)])
    return ""


def _turned(w: _Writer, datum: Datum) -> str:
    """A cylinder, or a cone: its ends, and a seam along it."""
    place, way, across = datum.place, datum.direction, plane_axes(datum.direction)[0]
    low, high = _known(datum)
    radii = (datum.radius, datum.radius)
    half = float(np.radians(datum.angle_deg) / 2)
    if datum.form == "cone":
        low = max(low, 0.0)
        low = 0.0 if low < 1e-6 * high else low
        radii = (low * float(np.tan(half)), high * float(np.tan(half)))
    ends = [place + low * way, place + high * way]
    on = [end + radius * across for end, radius in zip(ends, radii, strict=True)]
    at = [w.vertex(corner) for corner in on]
    seam = w.straight(on[0], on[1], at[0], at[1])
    top = w.round(ends[1], way, across, radii[1], at[1], at[1])
    axes = w.placed(ends[0], way, across)
    surface = (
        w.add("CYLINDRICAL_SURFACE", "''", axes, radii[0])
        if datum.form == "cylinder"
        else w.add("CONICAL_SURFACE", "''", axes, radii[0], half)
    )
    if radii[0] == 0:
        return w.face(datum.name, surface, [(seam, True), (top, True), (seam, False)])
    bottom = w.round(ends[0], way, across, radii[0], at[0], at[0])
    return w.face(datum.name, surface, [(bottom, True), (seam, True), (top, False), (seam, False)])


def _lines(w: _Writer, datum: Datum) -> list[str]:
    """The axis, the curve or the point that stands for a datum, or goes with its surface."""
    place, way, name = datum.place, datum.direction, datum.name
    low, high = _known(datum)
    axis = f"{name} axis"
    if datum.form == "cylinder":
        return [w.line(place + low * way, place + high * way, axis)]
    if datum.form == "cone":
        return [w.line(place, place + high * way, axis), w.point(place, f"{name} apex")]
    if datum.form == "torus":
        reach = max(datum.tube, _SIZE)
        return [w.line(place - reach * way, place + reach * way, axis)]
    if datum.form == "circle":
        return [w.circle(place, way, datum.radius, name), w.point(place, f"{name} middle")]
    if datum.form in ("sphere", "point"):
        return [w.point(place, name if datum.form == "point" else f"{name} middle")]
    return [w.line(place + low * way, place + high * way, name)] if datum.form in ("axis", "line") else []
