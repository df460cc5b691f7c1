"""Closed surfaces that become one: divided where they meet, united, untangled, zipped."""
