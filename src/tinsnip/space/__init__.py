"""Geometry over bare arrays: trees, rays, polygons, exact predicates, crossings; no mesh is known here."""
