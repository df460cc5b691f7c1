"""Open edges: places on them, tidying them, and walls that grow from them."""
