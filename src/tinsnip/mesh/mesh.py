"""The immutable triangle mesh."""

from collections.abc import Mapping
from types import MappingProxyType

import numpy as np

from tinsnip.mesh.attributes import Attribute, Domain, Lineage, carry
from tinsnip.mesh.boundary import Loops, boundary_loops
from tinsnip.mesh.halfedges import EdgeCounts, count_edges, twin_table
from tinsnip.mesh.measures import areas_by_kind, bounds
from tinsnip.mesh.remembered import hand_on, is_known, of_faces, remembered
from tinsnip.mesh.shells import Shells, find_shells
from tinsnip.progress import check_here
from tinsnip.space.tree import Tree, build_tree

__all__ = ["MADE", "MEASURED", "SHIFTED", "Mesh"]

MEASURED, SHIFTED, MADE = 0, 1, 2


def _in_threes(values: np.ndarray, dtype: type) -> np.ndarray:
    """Rows of three; the very array that was given, if it is that already, so that meshes can share it."""
    array = np.ascontiguousarray(values, dtype=dtype)
    return array if array.ndim == 2 and array.shape[1] == 3 else array.reshape(-1, 3)


class Mesh:
    """Triangles over shared vertices. Never changes; treatments make new ones.

    Parameters
    ----------
    vertices : array_like of float, shape (V, 3)
        Positions in millimetres.
    faces : array_like of int, shape (F, 3)
        Vertex indices, anticlockwise seen from outside.
    provenance : array_like of int, shape (F,), optional
        `MEASURED` (default), `SHIFTED` or `MADE`.
    attributes : mapping of str to Attribute, optional
        Further values, such as ``colour`` on the vertices (uint8, shape (V, 3)).

    Raises
    ------
    ValueError
        When shapes disagree or an index is out of range.

    Examples
    --------
    >>> Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]]).edges.open
    3
    """

    def __init__(
        self,
        vertices: np.ndarray,
        faces: np.ndarray,
        provenance: np.ndarray | None = None,
        attributes: Mapping[str, Attribute] | None = None,
    ) -> None:
        vertices, faces = _in_threes(vertices, np.float64), _in_threes(faces, np.int32)
        if len(faces) and (faces.min() < 0 or faces.max() >= len(vertices)):
            raise ValueError("a triangle names a vertex that does not exist")
        if provenance is None:
            provenance = np.zeros(len(faces), dtype=np.uint8)
        provenance = np.ascontiguousarray(provenance, dtype=np.uint8)
        if provenance.shape != (len(faces),):
            raise ValueError("provenance needs one value a triangle")
        rows = {Domain.VERTEX: len(vertices), Domain.TRIANGLE: len(faces), Domain.CORNER: 3 * len(faces)}
        for name, attribute in (attributes or {}).items():
            if len(attribute.values) != rows[attribute.domain]:
                raise ValueError(f"attribute {name} has {len(attribute.values)} rows")
        for array in (vertices, faces, provenance):
            array.setflags(write=False)
        self.vertices = vertices
        self.faces = faces
        self.provenance = provenance
        self.attributes: Mapping[str, Attribute] = MappingProxyType(dict(attributes or {}))

    def __reduce__(self) -> tuple:
        """To another process goes what cannot be worked out anew."""
        return Mesh, (self.vertices, self.faces, self.provenance, dict(self.attributes))

    def __repr__(self) -> str:
        return f"Mesh({len(self.faces)} triangles, {len(self.vertices)} vertices)"

    def derive(
        self,
        faces: np.ndarray,
        lineage: Lineage,
        vertices: np.ndarray | None = None,
        provenance: np.ndarray | None = None,
    ) -> "Mesh":
        """Make the successor of this mesh, carrying everything that is attached to it.

        Parameters
        ----------
        faces : ndarray of int, shape (F', 3)
        lineage : Lineage
            Where its vertices and triangles come from.
        vertices : ndarray, shape (V', 3), optional
            New positions; by default those of the lineage.
        provenance : ndarray, shape (F',), optional
            By default a triangle keeps its ancestor's, and one without is `MADE`.

        Returns
        -------
        Mesh

        Raises
        ------
        Cancelled
        """
        if vertices is None:
            vertices = self.vertices[lineage.vertices]
            if lineage.blends is not None:
                vertices = np.concatenate([vertices, lineage.blends @ self.vertices])
        check_here()
        if provenance is None:
            provenance = np.full(len(faces), MADE, dtype=np.uint8)
            old = lineage.triangles >= 0
            provenance[old] = self.provenance[lineage.triangles[old]]
        check_here()
        return Mesh(vertices, faces, provenance, carry(self.attributes, lineage))

    def moved(self, vertices: np.ndarray, provenance: np.ndarray | None = None) -> "Mesh":
        """The same triangles over moved vertices, shape (V, 3); what is known of their topology goes along."""
        mesh = Mesh(vertices, self.faces, self.provenance if provenance is None else provenance, self.attributes)
        hand_on(self, mesh)
        return mesh

    def with_attribute(self, name: str, attribute: Attribute) -> "Mesh":
        """This mesh with one attribute added or replaced."""
        return Mesh(self.vertices, self.faces, self.provenance, {**self.attributes, name: attribute})

    def without_attribute(self, name: str) -> "Mesh":
        """This mesh without one attribute; itself where it has none of that name."""
        if name not in self.attributes:
            return self
        rest = {key: attribute for key, attribute in self.attributes.items() if key != name}
        return Mesh(self.vertices, self.faces, self.provenance, rest)

    @property
    @of_faces
    @remembered
    def twins(self) -> np.ndarray:
        """Twin of each half-edge, shape (3 F,); see `halfedges.twin_table`."""
        return twin_table(self.faces, len(self.vertices))

    @property
    @of_faces
    @remembered
    def edges(self) -> EdgeCounts:
        """How many edges are shared, open, tangled, flipped."""
        return count_edges(self.faces, self.twins)

    @property
    @remembered
    def shells(self) -> Shells:
        """Pieces connected over edges, with their measures."""
        return find_shells(self.vertices, self.faces, self.twins)

    @property
    @of_faces
    @remembered
    def loops(self) -> Loops:
        """The open boundaries."""
        return boundary_loops(self.faces, self.twins, len(self.vertices))

    @property
    @remembered
    def tree(self) -> Tree:
        """The spatial tree over its triangles, of which there must be one at least."""
        return build_tree(self.vertices, self.faces)

    @property
    @remembered
    def box(self) -> np.ndarray:
        """Lower and upper corner, mm, shape (2, 3); zeros for an empty mesh."""
        return bounds(self.vertices, self.faces)

    @property
    @remembered
    def areas(self) -> np.ndarray:
        """Area that is measured, shifted and made, mm2, shape (3,)."""
        return areas_by_kind(self.vertices, self.faces, np.minimum(self.provenance, MADE), MADE + 1)

    @property
    def size(self) -> np.ndarray:
        """Extent along x, y and z, mm."""
        return self.box[1] - self.box[0]

    @property
    def diagonal(self) -> float:
        """Length of the bounding box's diagonal, mm."""
        return float(np.linalg.norm(self.size))

    @property
    def volume(self) -> float:
        """Signed volume over all shells, mm3."""
        return float(self.shells.volume.sum())

    @property
    def area(self) -> float:
        """Surface area, mm2."""
        return float(self.shells.area.sum())

    @property
    def colour(self) -> np.ndarray | None:
        """Vertex colours, uint8, shape (V, 3), or None."""
        attribute = self.attributes.get("colour")
        return None if attribute is None else attribute.values

    @property
    def nbytes(self) -> int:
        """Memory held by the mesh itself and its cached tables."""
        own = self.vertices.nbytes + self.faces.nbytes + self.provenance.nbytes
        own += sum(a.values.nbytes for a in self.attributes.values())
        if is_known(self, Mesh.tree):
            own += self.tree.order.nbytes + self.tree.boxes.nbytes
        return own + (self.twins.nbytes if is_known(self, Mesh.twins) else 0)
