"""Repairing what the scanner got wrong."""
