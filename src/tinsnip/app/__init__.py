"""The window. Only here is Qt and OpenGL; no geometry is worked out here."""
