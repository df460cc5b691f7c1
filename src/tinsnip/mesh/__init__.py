"""The mesh and what can be asked of it."""

from tinsnip.mesh.attributes import Attribute, Domain, Lineage
from tinsnip.mesh.mesh import MADE, MEASURED, SHIFTED, Mesh

__all__ = ["MADE", "MEASURED", "SHIFTED", "Attribute", "Domain", "Lineage", "Mesh"]
