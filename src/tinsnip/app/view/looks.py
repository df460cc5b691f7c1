"""Ways to paint the surface, and the shaders that do it."""

from importlib import resources

__all__ = ["DEVIATION", "LOOKS", "PREVIEW", "PROVENANCE", "SCAN_COLOUR", "TIN", "VOIDS", "shader_source"]

LOOKS = TIN, SCAN_COLOUR, PROVENANCE, DEVIATION = range(4)
"""Ways to paint the surface."""
PREVIEW, VOIDS = 4, 5
"""Further ones, for what is drawn with the surface."""


def shader_source(name: str, **constants: int) -> str:
    """The text of a shader, with constants defined in it."""
    text = (resources.files("tinsnip.app.view") / "shaders" / name).read_text("utf-8")
    version, _, rest = text.partition("\n")
    return "\n".join([version, *(f"#define {key} {value}" for key, value in constants.items()), rest])
