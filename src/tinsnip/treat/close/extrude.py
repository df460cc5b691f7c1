"""Extrude: a selection is lifted off with walls round it, or open rims are drawn out."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import MADE, SHIFTED, Lineage, Mesh
from tinsnip.mesh.measures import face_vectors, triangle_areas
from tinsnip.regions import Region
from tinsnip.space.singles import as_files_hold
from tinsnip.survey.crossings import new_crossings
from tinsnip.survey.tangles import tangles_of
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Extrude"]


class Extrude(Treatment):
    """Lift what is selected off, out or in, with walls from where it was; without a selection, draw open rims out.

    Along its own normals, along an axis, or along an axis until it lies in a plane.
    """

    name: ClassVar[str] = "extrude"
    title: ClassVar[str] = "Extrude"
    station: ClassVar[str] = "Solid"
    reshapes: ClassVar[bool] = True

    along: Literal["normals", "x", "y", "z"] = Field("normals", description="which way it is drawn out")
    by_mm: float = Field(2.0, ge=-1e5, le=1e5, description="how far, mm; below 0 the other way")
    to_mm: float | None = Field(
        None, ge=-1e6, le=1e6, description="instead, as far as a plane square to the axis at this height, mm"
    )
    only: Region = Field(
        Region(),
        title="open rims, or what is selected",
        description="the area that is lifted; open rims by default",
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Extrude.

        Raises
        ------
        BadInput
            When there is nothing to draw out, normals and a plane are asked for together, or the surface would cross
            or touch itself.
        """
        context.progress.step("Extruding")
        if self.to_mm is not None and self.along == "normals":
            raise BadInput("a plane is reached along x, y or z; choose which")
        if len(mesh.faces) == 0:
            raise BadInput("there is no surface to extrude")
        chosen = self.only.resolve(mesh) if self.only else np.zeros(len(mesh.faces), dtype=bool)
        if self.only and chosen.all():
            raise BadInput("everything is selected, and nothing would stay to grow from; select a part of it")
        if not self.only and mesh.edges.open == 0:
            raise BadInput("it has no open rim; select what shall be lifted off")
        if mesh.edges.tangled or mesh.edges.flipped:
            raise BadInput("tangled or flipped edges leave the surface without clear sides; mend and orient first")
        half = self._edge_of(mesh, chosen)
        begin, end = mesh.faces.ravel()[half], mesh.faces.ravel()[3 * (half // 3) + (half % 3 + 1) % 3]
        moved = np.unique(mesh.faces[chosen]) if self.only else np.unique(begin)
        places = as_files_hold(self._moved(mesh, moved, chosen), mesh.diagonal)
        if np.abs(places - mesh.vertices[moved]).max(initial=0.0) == 0:
            return Outcome(mesh, "Nothing to extrude: it lies there already", Account(made_triangles=0))
        stays = np.unique(begin) if not self.only else np.intersect1d(moved, mesh.faces[~chosen])
        copy = np.arange(len(mesh.vertices))
        copy[stays] = len(mesh.vertices) + np.arange(len(stays))
        vertices = np.concatenate([mesh.vertices, mesh.vertices[stays]])
        vertices[copy[moved]] = places
        faces = mesh.faces.astype(np.int64)
        if self.only:
            faces[chosen] = copy[faces[chosen]]
        else:  # seen from the wall, the rim runs the other way
            begin, end = end, begin
        walls = np.concatenate([
            np.column_stack([begin, end, copy[end]]), np.column_stack([begin, copy[end], copy[begin]])
        ])  # fmt: skip
        whole = np.concatenate([faces, walls])
        ancestors = np.concatenate([np.arange(len(mesh.vertices)), stays])
        lineage = Lineage(ancestors, np.concatenate([np.arange(len(faces)), np.full(len(walls), -1)]))
        provenance = np.concatenate([mesh.provenance, np.full(len(walls), MADE, dtype=np.uint8)])
        provenance[: len(faces)][chosen] = np.maximum(provenance[: len(faces)][chosen], SHIFTED)
        result = mesh.derive(whole, lineage, vertices, provenance)
        if tangles_of(result).total > tangles_of(mesh).total:
            raise BadInput("the selection touches itself or the rim in single points; grow it by a row, or shrink it")
        crossed = len(new_crossings(mesh, result))
        if crossed:
            raise BadInput(
                f"extruded so far the surface would cross itself in {counted(crossed, 'place')}; ask for less, or "
                "select less"
            )
        context.progress.check()
        what = counted(int(chosen.sum()), "triangle") if self.only else counted(len(half), "edge")
        how = f"to {self.to_mm:g} mm" if self.to_mm is not None else f"by {self.by_mm:g} mm"
        told = f"Extruded {what} {how} along {'their normals' if self.along == 'normals' else self.along}"
        made = float(triangle_areas(result.vertices, walls).sum())
        return Outcome(result, told, Account(made_triangles=len(walls), made_mm2=made, guessed_mm2=0.0))

    def _edge_of(self, mesh: Mesh, chosen: np.ndarray) -> np.ndarray:
        """The half-edges from which walls grow: round the selection, or of the open rims."""
        half = np.arange(3 * len(mesh.faces))
        if not self.only:
            return half[mesh.twins < 0]
        half = half[chosen[half // 3] & (mesh.twins >= 0)]
        return half[~chosen[mesh.twins[half] // 3]]

    def _moved(self, mesh: Mesh, moved: np.ndarray, chosen: np.ndarray) -> np.ndarray:
        """Where the vertices that are drawn out come to."""
        places = mesh.vertices[moved].copy()
        if self.along != "normals":
            k = "xyz".index(self.along)
            places[:, k] = places[:, k] + self.by_mm if self.to_mm is None else self.to_mm
            return places
        some = mesh.faces[chosen] if self.only else mesh.faces
        vectors, total = face_vectors(mesh.vertices, some), np.zeros_like(mesh.vertices)
        for k in range(3):
            np.add.at(total, some[:, k], vectors)
        ways = total[moved]
        length = np.linalg.norm(ways, axis=1)
        return places + self.by_mm * ways / np.maximum(length, 1e-300)[:, None]
