"""Cutting a part."""
