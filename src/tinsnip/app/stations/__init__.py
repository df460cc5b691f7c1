"""The stations, one module each, and their registry."""
