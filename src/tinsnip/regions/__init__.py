"""Which triangles: regions that are found again on a mesh that has changed, and what finds one."""

from tinsnip.regions.chosen import holes_in, region_of_holes, region_of_shells, shells_in
from tinsnip.regions.region import Region

__all__ = ["Region", "holes_in", "region_of_holes", "region_of_shells", "shells_in"]
