"""Closing holes: filling, refining, shaping, and keeping clear of the surface round them."""
