"""Closing holes and bases."""
