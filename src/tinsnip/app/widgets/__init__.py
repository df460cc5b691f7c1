"""Widgets that know no station."""
