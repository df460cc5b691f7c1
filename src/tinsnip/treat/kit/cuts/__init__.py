"""Dividing a mesh exactly along a plane, a body, an outline or a line, and closing the cut."""
