"""Tinsnip: from a dense 3D scan to a checked, closed solid."""

__version__ = "0.1.0"
