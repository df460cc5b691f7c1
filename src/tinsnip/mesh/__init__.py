"""The mesh and what can be asked of it."""

from tinsnip.mesh.attributes import HOLLOW, RELIEF, Attribute, Domain, Lineage
from tinsnip.mesh.mesh import MADE, MEASURED, SHIFTED, Mesh

__all__ = ["HOLLOW", "MADE", "MEASURED", "RELIEF", "SHIFTED", "Attribute", "Domain", "Lineage", "Mesh"]
