"""Colours brought onto the part: from the raw scan, as a texture of its own or on its vertices."""
