"""Ways to paint the surface, and the shaders that do it."""

from importlib import resources

__all__ = [
    "DENSITY",
    "DEVIATION",
    "EDGES",
    "LOOKS",
    "OVERHANG",
    "PREVIEW",
    "PROVENANCE",
    "SCAN_COLOUR",
    "TEXTURE",
    "TIN",
    "VOIDS",
    "WALL",
    "shader_source",
]

TIN, SCAN_COLOUR, PROVENANCE, DEVIATION = range(4)
PREVIEW, VOIDS, DENSITY, EDGES, WALL, OVERHANG, TEXTURE = range(4, 11)
LOOKS = TIN, SCAN_COLOUR, PROVENANCE, DEVIATION, DENSITY, WALL, OVERHANG
"""Ways to paint the surface."""


def shader_source(name: str, **constants: int) -> str:
    """The text of a shader, with constants defined in it."""
    text = (resources.files("tinsnip.app.view") / "shaders" / name).read_text("utf-8")
    version, _, rest = text.partition("\n")
    return "\n".join([version, *(f"#define {key} {value}" for key, value in constants.items()), rest])
