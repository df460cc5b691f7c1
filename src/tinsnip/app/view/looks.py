"""Ways to paint the surface, and the shaders that do it."""

from importlib import resources

__all__ = [
    "CURVATURE",
    "DENSITY",
    "DEVIATION",
    "EDGES",
    "LOOKS",
    "OVERHANG",
    "PREVIEW",
    "PROVENANCE",
    "RELIEF",
    "SCAN_COLOUR",
    "STRIPES",
    "TEXTURE",
    "TIN",
    "VALUED",
    "VOIDS",
    "WALL",
    "shader_source",
]

TIN, SCAN_COLOUR, PROVENANCE, DEVIATION = range(4)
PREVIEW, VOIDS, DENSITY, EDGES, WALL, OVERHANG, TEXTURE, STRIPES, CURVATURE, RELIEF = range(4, 14)
LOOKS = TIN, SCAN_COLOUR, PROVENANCE, DEVIATION, DENSITY, WALL, OVERHANG, STRIPES, CURVATURE, RELIEF
"""Ways to paint the surface."""
VALUED = DEVIATION, DENSITY, WALL, CURVATURE, RELIEF
"""Those that paint a number of each vertex."""


def shader_source(name: str, **constants: int) -> str:
    """The text of a shader, with constants defined in it."""
    text = (resources.files("tinsnip.app.view") / "shaders" / name).read_text("utf-8")
    version, _, rest = text.partition("\n")
    return "\n".join([version, *(f"#define {key} {value}" for key, value in constants.items()), rest])
