"""Sweep: take away strays and voids."""

from typing import ClassVar, Literal

from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import Region, shells_in
from tinsnip.survey.strays import describe_chunks, shell_roles
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Sweep"]


class Sweep(Treatment):
    """Take away whole shells: by rule, or the ones named. The main shell always stays.

    By rule a shell that may be part of the part, a chunk, is never taken away unless the rule says so.
    """

    name: ClassVar[str] = "sweep"
    title: ClassVar[str] = "Sweep strays"
    answers: ClassVar[str] = "set {step}.chunks to keep or sweep"
    answers_asked: ClassVar[tuple[tuple[str, str], ...]] = (
        ("{step}.chunks=sweep", "to let go what lies beside the part"),
        ("{step}.chunks=keep", "to have it stay as solids of its own"),
    )

    crumbs: bool = Field(True, description="sweep strays that cannot be part of the part: small, few and clear of it")
    chunks: Literal["ask", "keep", "sweep"] = Field(
        "ask", description="what to do with strays that may be part of it: leave them and ask, keep them as solids of "
        "their own, or sweep them too"
    )  # fmt: skip
    voids: bool = Field(True, description="sweep closed inner skins, and solids within")
    skins: bool = Field(True, description="sweep second skins that lie along the part")
    under_mm: float | None = Field(None, gt=0, description="only what spans less than this, mm")
    shells: Region | None = Field(None, description="only the shells chosen one by one")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Sweep; what stays is bit-identical."""
        context.progress.step("Sweeping")
        roles = shell_roles(mesh)
        shells = mesh.shells
        if self.shells is not None:  # named one by one: whoever named them has decided
            go = shells_in(mesh, self.shells) & (roles.crumb | roles.chunk | roles.within | roles.skin)
        else:
            go = (roles.crumb & self.crumbs) | (roles.chunk & (self.chunks == "sweep")) | (roles.within & self.voids)
            go |= roles.skin & self.skins
        if self.under_mm is not None:
            go &= shells.spans < self.under_mm
        kept = roles.chunk & ~go
        asks = self.shells is None and self.chunks == "ask" and bool(kept.any())
        question = describe_chunks(mesh, roles) if asks else ""
        voids, chunks = int((go & roles.void).sum()), int((go & roles.chunk).sum())
        inner, skins = int((go & roles.inner).sum()), int((go & roles.skin).sum())
        crumbs = int(go.sum()) - voids - chunks - inner - skins
        figures = {
            "strays": crumbs + chunks,
            "voids": voids,
            "inner": inner,
            "skins": skins,
            "chunks_kept": int(kept.sum()),
            "crumbs_mm2": float(shells.area[go & (roles.crumb | roles.skin)].sum()),
        }
        account = Account(
            gone_triangles=int(shells.triangles[go].sum()), gone_mm2=float(shells.area[go].sum()), figures=figures
        )
        if not go.any():
            return Outcome(mesh, "Nothing to sweep", account, question)
        keep = ~go[shells.label] | (shells.label < 0)
        parts = [counted(crumbs, "stray")] * (crumbs > 0) + [counted(chunks, "chunk")] * (chunks > 0)
        parts += [counted(voids, "void")] * (voids > 0) + [counted(inner, "inner solid")] * (inner > 0)
        parts += [counted(skins, "doubled skin")] * (skins > 0)
        told = ", ".join(parts[:-1]) + " and " * (len(parts) > 1) + parts[-1]
        return Outcome(keep_triangles(mesh, keep), f"Swept {told}", account, question)

    def lost_mm2(self, account: Account) -> float:
        return account.figures.get("crumbs_mm2", 0.0)  # all else goes by its rule, or by its user's ticks

    def shells_after(self, wanted: int, account: Account) -> int:
        return 1 + account.figures.get("chunks_kept", 0) if self.crumbs and self.chunks == "keep" else wanted
