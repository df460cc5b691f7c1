"""Fewer triangles."""
