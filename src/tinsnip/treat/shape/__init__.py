"""Changing the surface itself."""
