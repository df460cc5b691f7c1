"""Profiles: a technician's own lists of what a part has to keep to, be it a machine's or a client's.

Each is one JSON file in the settings folder. A part is judged by one on top of the checks that every solid has to pass.
"""

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError
from scipy.spatial.transform import Rotation

from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS
from tinsnip.formats.whole import write_whole
from tinsnip.mesh import Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import Progress, stoppable
from tinsnip.survey import Examination
from tinsnip.survey.buildroom import fit_into
from tinsnip.survey.layers import find_layer_faults, layers_of
from tinsnip.survey.narrow import find_narrow
from tinsnip.survey.overhang import overhang_of
from tinsnip.survey.readiness import Check, Readiness
from tinsnip.survey.steadiness import STANDS, steadiness_of
from tinsnip.survey.walls import find_thin_walls, walls_of
from tinsnip.treat import Place, Treatment, Turn
from tinsnip.words import counted, degrees_told, grouped, lengths, megabytes, millimetres

__all__ = [
    "Profile",
    "checks_of",
    "judged_by",
    "load_profile",
    "profile_folder",
    "profiles",
    "remove_profile",
    "save_profile",
    "turned_to_fit",
]

_MOST_LAYERS = 1000
"""Layers that are looked through for what is too narrow; between them are others much like them."""
_NAME = 60
_LAYER = 0.2
"""Height of a layer, mm, as most machines are set."""

Millimetres = Annotated[float, Field(gt=0, le=1e6, allow_inf_nan=False)]


class Profile(BaseModel):
    """What a part has to keep to; what is None or False is not asked for."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str = Field("New profile", min_length=1, max_length=_NAME, pattern=r"^[^/\\\x00-\x1f.][^/\\\x00-\x1f]*$")
    room_width_mm: Millimetres | None = Field(None, description="the machine's room from left to right")
    room_depth_mm: Millimetres | None = Field(None, description="the machine's room from front to back")
    room_height_mm: Millimetres | None = Field(None, description="the machine's room above the bed")
    stands_on_the_bed: bool = Field(False, description="whether it has to stand on z = 0")
    stands_tilted_by_degrees: float | None = Field(
        None, gt=0, le=90, allow_inf_nan=False, description="the tilt that it has to stand without falling over"
    )
    least_wall_mm: Millimetres | None = Field(None, description="no wall may be thinner")
    least_feature_mm: Millimetres | None = Field(
        None, description="nothing in a layer may be narrower, as a nozzle cannot draw it"
    )
    no_free_islands: bool = Field(False, description="whether no part of a layer may hang free of the layer below")
    layer_height_mm: Millimetres = Field(_LAYER, description="of the layers in which the last two are looked for")
    most_overhang_mm2: float | None = Field(
        None, ge=0, le=1e12, allow_inf_nan=False, description="most area that may lean out so far that it wants support"
    )
    overhang_beyond_degrees: float = Field(
        45.0, ge=0, le=90, allow_inf_nan=False, description="what leans out further from the upright wants support"
    )
    every_hollow_drained: bool = Field(
        False, description="whether no hollow may be closed, so that what is caught in it gets out"
    )
    shells: int = Field(1, ge=1, le=100_000, description="how many solids it has")
    most_triangles: int | None = Field(None, ge=4, le=2_000_000_000, description="most triangles in the file")
    largest_file_mb: float | None = Field(None, gt=0, le=1e6, allow_inf_nan=False, description="largest file, MB")
    with_colours: bool = Field(False, description="whether the file has to hold the scan's colours")
    file_format: Literal["any", "stl", "ply", "3mf", "glb", "off", "obj"] = Field("any", description="the kind of file")
    file_unit: Literal["mm", "cm", "m", "in", "ft"] = Field(
        "mm", description="what the numbers of a file count, where the format itself does not say it"
    )

    @property
    def room(self) -> tuple[float, float, float] | None:
        """Width, depth and height of the machine's room, mm; None where none of them is limited."""
        sides = (self.room_width_mm, self.room_depth_mm, self.room_height_mm)
        if all(side is None for side in sides):
            return None
        return tuple(np.inf if side is None else side for side in sides)

    @property
    def asked(self) -> tuple[str, ...]:
        """Names of the checks that it asks for on top of what every solid has to be."""
        wanted = {
            "room": self.room is not None,
            "on the bed": self.stands_on_the_bed,
            "steady": self.stands_tilted_by_degrees is not None,
            "walls": self.least_wall_mm is not None,
            "features": self.least_feature_mm is not None,
            "islands": self.no_free_islands,
            "overhang": self.most_overhang_mm2 is not None,
            "drained": self.every_hollow_drained,
            "triangles": self.most_triangles is not None,
            "file size": self.largest_file_mb is not None,
            "colours": self.with_colours,
            "format": self.file_format != "any",
        }
        return tuple(name for name, is_asked in wanted.items() if is_asked)


def profile_folder() -> Path:
    """Where the user's own profiles lie."""
    return Path(platformdirs.user_config_dir("tinsnip")) / "profiles"


def profiles() -> dict[str, Path]:
    """The user's own profiles by name, in the order of the alphabet."""
    return {path.stem: path for path in sorted(profile_folder().glob("*.json"), key=lambda one: one.stem.lower())}


def load_profile(name: str) -> Profile:
    """A profile by its name, or from a JSON file.

    Parameters
    ----------
    name : str
        Or a path.

    Raises
    ------
    BadInput
        When there is neither, or the file is no profile; the text names the field.
    """
    known = profiles()
    path = known.get(name, Path(name))
    if not path.is_file():
        told = ", ".join(known) or "none yet; the window's station Release makes them"
        raise BadInput(f"profile {name}: neither one of yours ({told}) nor a file; check the name")
    try:
        return Profile.model_validate_json(path.read_text("utf-8-sig"))
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{path}: cannot be read as text ({error}); choose a profile") from error
    except ValidationError as error:
        problem = error.errors()[0]
        place = ".".join(str(part) for part in problem["loc"]) or "the file"
        what = "is no field of a profile" if problem["type"] == "extra_forbidden" else problem["msg"].lower()
        raise BadInput(f"{path}: {place}: {what}; correct it") from error


def save_profile(profile: Profile) -> Path:
    """Keep a profile under its name; one of that name is replaced.

    Parameters
    ----------
    profile : Profile

    Raises
    ------
    BadInput
        When it cannot be written.
    """
    path = profile_folder() / f"{profile.name}.json"
    write_whole(path, profile.model_dump_json(indent=2) + "\n", make_folder=True)
    return path


def remove_profile(name: str) -> None:
    """Let a profile go.

    Parameters
    ----------
    name : str

    Raises
    ------
    BadInput
        When it cannot be removed.
    """
    try:
        (profile_folder() / f"{name}.json").unlink(missing_ok=True)
    except OSError as error:
        raise BadInput(f"profile {name}: {(error.strerror or str(error)).lower()}") from error


def judged_by(
    profile: Profile, found: Examination, format_name: str, progress: Progress, file_bytes: float | None = None
) -> Readiness:
    """What every solid has to be, with as many shells as a profile asks for, and what it asks on top.

    Parameters
    ----------
    profile : Profile
    found : Examination
    format_name : str
        What it is to be written as.
    progress : Progress
    file_bytes : float, optional
        Size of the file, where it is known.
    """
    own = Examination(found.mesh, profile.shells, found.ends_as)  # all that was found is remembered with the mesh
    return own.readiness.also(*checks_of(profile, own, format_name, progress, file_bytes))


@stoppable
def checks_of(
    profile: Profile, found: Examination, format_name: str, progress: Progress, file_bytes: float | None = None
) -> tuple[Check, ...]:
    """Judge a part by what a profile asks for.

    Parameters
    ----------
    profile : Profile
    found : Examination
        Of the part.
    format_name : str
        What it is written as, a key of `FORMATS`; the profile's own counts before it.
    progress : Progress
    file_bytes : float, optional
        What the file takes, once it is written; worked out else.

    Returns
    -------
    tuple of Check
        One for each thing asked for, with its figure, its limit and where it is worst. What cannot be told of a part
        that is not closed has not been passed, nor failed.
    """
    mesh = found.mesh
    if len(mesh.faces) == 0:
        return ()
    own = profile.file_format if profile.file_format != "any" else format_name
    failed = {check.name for check in found.readiness.checks if check.passed is not True}
    why_not = "the part is not closed" if failed & {"closed", "manifold", "outward"} else ""
    layers = why_not or ("" if found.crossings is not None else "crossings are not counted yet")
    makers: dict[str, Callable[[], Check]] = {
        "room": lambda: _room(profile, mesh, progress),
        "on the bed": lambda: _on_the_bed(mesh),
        "steady": lambda: _steady(profile.stands_tilted_by_degrees, mesh, why_not),
        "walls": lambda: _walls(profile.least_wall_mm, mesh, why_not),
        "features": lambda: _features(profile, mesh, layers, progress),
        "islands": lambda: _islands(profile.layer_height_mm, mesh, layers, progress),
        "overhang": lambda: _overhang(profile, mesh),
        "drained": lambda: _drained(found),
        "triangles": lambda: _triangles(profile.most_triangles, mesh),
        "file size": lambda: _file_size(profile.largest_file_mb, mesh, own, file_bytes),
        "colours": lambda: _colours(mesh, own),
        "format": lambda: _format(profile.file_format, format_name),
    }
    wanted = profile.asked
    checks: list[Check] = []
    for i, name in enumerate(wanted):
        with progress.part(i / len(wanted), (i + 1) / len(wanted)):
            checks.append(makers[name]())
            progress.check()
    return tuple(checks)


def turned_to_fit(profile: Profile, mesh: Mesh, checks: tuple[Check, ...], progress: Progress) -> tuple[Treatment, ...]:
    """What lets a part that is larger than the machine's room fit into it, and stand on the bed; nothing where none is.

    Parameters
    ----------
    profile : Profile
    mesh : Mesh
    checks : tuple of Check
        What `checks_of` gave for it.
    progress : Progress
    """
    if all(check.name != "room" or check.passed for check in checks):
        return ()
    fit = fit_into(mesh, profile.room, progress)
    if fit.turn is None:
        return ()
    way = Rotation.from_matrix(fit.turn).as_rotvec(degrees=True)
    angle = float(np.linalg.norm(way))
    return Turn(axis=tuple(float(x) for x in way / angle), degrees=angle), Place(origin="drop")


def _room(profile: Profile, mesh: Mesh, progress: Progress) -> Check:
    room = profile.room
    fit = fit_into(mesh, room, progress)
    limit = " × ".join("any" if np.isinf(side) else lengths([side]) for side in room) + " mm"
    told = ""
    if not fit.as_it_lies:
        over = [f"{lengths([size - side])} mm too {way}" for size, side, way in
                zip(mesh.size, room, ("wide", "deep", "high"), strict=True) if size > side]  # fmt: skip
        told = ", ".join(over)
        if fit.turn is None:
            told += f"; no turn helps, at {int(100 * fit.share)} % of its size it would fit"
        elif fit.laid:
            told += "; laid on another side it fits"
        else:
            told += f"; turned by {degrees_told(fit.degrees)}° about z it fits"
    return Check("room", fit.as_it_lies, told, "larger than the machine", lengths(mesh.size), limit)


def _on_the_bed(mesh: Mesh) -> Check:
    low = float(mesh.box[0, 2])
    stands = abs(low) <= STANDS * mesh.diagonal
    told = f"{millimetres(abs(low))} mm {'above' if low > 0 else 'below'} the bed"
    lowest = mesh.vertices[np.argmin(mesh.vertices[:, 2])]
    return Check("on the bed", stands, told, "not on the bed", "stands on it" if stands else told, "z = 0", lowest)


def _steady(least: float, mesh: Mesh, why_not: str) -> Check:
    limit = f"{degrees_told(least)}° at least"
    if why_not:
        return Check("steady", None, why_not, limit=limit)
    found = steadiness_of(mesh)
    told = f"falls over when tilted by {degrees_told(found.tips_degrees)}°"
    if found.inside < 0:
        told = f"its centre of mass lies {millimetres(-found.inside)} mm beside what it stands on"
    figure = f"tips at {degrees_told(max(found.tips_degrees, 0.0))}°"
    return Check("steady", found.tips_degrees >= least, told, "stands unsteadily", figure, limit, found.centre)


def _walls(least: float, mesh: Mesh, why_not: str) -> Check:
    limit = f"{millimetres(least)} mm at least"
    if why_not:
        return Check("walls", None, why_not, limit=limit)
    thin = find_thin_walls(mesh, least)
    thinnest = float(walls_of(mesh).min(initial=np.inf))
    told = f"{counted(len(thin), 'place')} thinner than {millimetres(least)} mm"
    if thin:
        figure = f"{counted(len(thin), 'place')}, {thin[0].text.removeprefix('wall of ')}"
        return Check("walls", False, told, counted(len(thin), "thin wall"), figure, limit, thin[0].place)
    figure = "no wall" if np.isinf(thinnest) else f"{millimetres(max(thinnest, least))} mm"
    return Check("walls", True, "", figure=figure, limit=limit)


def _features(profile: Profile, mesh: Mesh, why_not: str, progress: Progress) -> Check:
    width = profile.least_feature_mm
    limit = f"{millimetres(width)} mm at least"
    if why_not:
        return Check("features", None, why_not, limit=limit)
    height = max(profile.layer_height_mm, float(mesh.size[2]) / _MOST_LAYERS)
    narrow = find_narrow(layers_of(mesh, height, progress), width, progress)
    count = len(narrow.layers)
    told = f"narrower than {millimetres(width)} mm in {counted(count, 'layer')} of {millimetres(height)} mm"
    figure = counted(count, "layer") if count else "none narrower"
    return Check("features", count == 0, told, "too narrow to draw", figure, limit, narrow.place)


def _islands(height: float, mesh: Mesh, why_not: str, progress: Progress) -> Check:
    if why_not:
        return Check("islands", None, why_not, limit="none")
    layers = layers_of(mesh, height, progress)
    free = [fault for fault in find_layer_faults(mesh, layers, progress) if fault.fault == "free"]
    if not free:
        return Check("islands", True, figure="none", limit="none")
    islands = counted(sum(fault.count for fault in free), "island")
    told = f"{islands} with nothing below, the first at {millimetres(free[0].z_mm)} mm"
    place = np.array([*free[0].place, free[0].z_mm])
    return Check("islands", False, told, islands.replace(" ", " free ", 1), islands, "none", place)


def _overhang(profile: Profile, mesh: Mesh) -> Check:
    found = overhang_of(mesh, profile.overhang_beyond_degrees)
    limit = f"{grouped(round(profile.most_overhang_mm2))} mm² over {degrees_told(profile.overhang_beyond_degrees)}°"
    told = f"{lengths([found.area])} mm² lean out by more than {degrees_told(profile.overhang_beyond_degrees)}°"
    own = np.flatnonzero(found.triangles)
    place = None
    if len(own):
        size = np.linalg.norm(face_vectors(mesh.vertices, mesh.faces[own]), axis=1)
        part = parts_over_edges(mesh.twins, own)
        largest = own[part == np.argmax(np.bincount(part, size))]
        place = mesh.vertices[mesh.faces[largest[0]]].mean(axis=0)
    passed = found.area <= profile.most_overhang_mm2
    return Check("overhang", passed, told, "too much overhang", f"{lengths([found.area])} mm²", limit, place)


def _drained(found: Examination) -> Check:
    caught = np.flatnonzero(found.roles.void | found.roles.hollow)
    volume = float(np.abs(found.mesh.shells.volume[caught]).sum())
    told = f"{counted(len(caught), 'hollow')} without a drain, {lengths([volume])} mm³"
    place = None
    if len(caught):
        place = found.mesh.vertices[found.mesh.faces[found.mesh.shells.first[caught[0]], 0]]
    figure = f"{lengths([volume])} mm³ caught" if len(caught) else "none"
    return Check("drained", not len(caught), told, counted(len(caught), "closed hollow"), figure, "none", place)


def _triangles(most: int, mesh: Mesh) -> Check:
    count = len(mesh.faces)
    told = f"{grouped(count)} triangles where {grouped(most)} are allowed; reduce it"
    return Check("triangles", count <= most, told, "too many triangles", grouped(count), f"{grouped(most)} at most")


def _file_size(largest_file_mb: float, mesh: Mesh, format_name: str, file_bytes: float | None) -> Check:
    size = file_bytes if file_bytes is not None else FORMATS[format_name].size_for(mesh)
    told = f"{megabytes(size)} as {format_name.upper()} where {largest_file_mb:g} are allowed"
    figure = f"{'' if file_bytes is not None else 'about '}{megabytes(size)}"
    return Check(
        "file size", size <= largest_file_mb * 1e6, told, "file too large", figure, f"{largest_file_mb:g} MB at most"
    )


def _colours(mesh: Mesh, format_name: str) -> Check:
    holds = FORMATS[format_name].holds_colours
    has = mesh.colour is not None or "texture" in mesh.attributes
    told = "" if has and holds else "the part has none" if not has else f"{format_name.upper()} holds none"
    return Check("colours", not told, told, "no colours", told or "with colours", "wanted")


def _format(wanted: str, format_name: str) -> Check:
    told = f"written as {format_name.upper()} where {wanted.upper()} is asked"
    return Check("format", wanted == format_name, told, f"not {wanted.upper()}", format_name.upper(), wanted.upper())
