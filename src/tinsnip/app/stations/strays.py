"""Strays: shells beside the part, and voids within it."""

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.regions import region_of_shells
from tinsnip.survey import Kind
from tinsnip.treat import (
    Sweep,
)
from tinsnip.words import counted, grouped

__all__ = ["STRAYS", "StraysTray"]


class StraysTray(Tray):
    """Sweeping strays and voids."""

    title = "Strays: sweep"

    def build(self) -> None:
        self.head_text.setText("Sweep away shells that are not the part. The main shell always stays.")
        self.question = self.warning()
        kinds = {
            "Crumbs": "Stray shells too small to be part of it",
            "Chunks": "Stray shells large enough to be part of it: ticked by you alone",
            "Voids": "Closed skins inside the part, which face inwards",
        }
        self.crumbs, self.chunks, self.voids = (self.figure(name) for name in kinds)
        for label, about in zip((self.crumbs, self.chunks, self.voids), kinds.values(), strict=True):
            label.parentWidget().setToolTip(about)
        self.explain("A crumb is a tiny stray, a chunk one that may be part of it, a void a skin inside the part.")
        self.goes = self.figure("Triangles that go")
        self.tick_buttons("Strays")
        self.copper_button("Sweep", self.sweep)
        self.session.ticks_changed.connect(self.refresh)

    def _chosen(self) -> list:
        found = self.session.examination
        return [f for f in found.strays if self.session.is_ticked(f)] if found else []

    def refresh(self) -> None:
        chosen = self._chosen()
        found = self.session.examination
        chunks = int(found.roles.chunk.sum()) if found else 0
        if chunks:
            check = next(c for c in found.readiness.checks if c.name == "shells")
            self.question.setText(f"{check.reason}\nChunks are ticked by you alone: look at each first.")
        self.question.setVisible(chunks > 0)
        for label, kind in ((self.crumbs, Kind.CRUMB), (self.chunks, Kind.CHUNK), (self.voids, Kind.VOID)):
            every = sum(f.kind is kind for f in found.strays) if found else 0
            label.setText(f"{grouped(sum(f.kind is kind for f in chosen))} of {grouped(every)} ticked")
        self.goes.setText(grouped(sum(f.count for f in chosen)))
        voids = sum(f.kind is Kind.VOID for f in chosen)
        parts = [counted(len(chosen) - voids, "stray")] * (len(chosen) > voids) + [counted(voids, "void")] * (voids > 0)
        why = "" if parts else "tick a stray or a void first" if found and found.strays else "there are no strays"
        self.offer("Sweep " + " and ".join(parts) if parts else "Nothing ticked", why)

    def sweep(self) -> None:
        """Sweep what is ticked."""
        chunks, rest = (self.session.ticked_keys(k) for k in ((Kind.CHUNK,), (Kind.CRUMB, Kind.VOID)))
        if rest is None and chunks in (None, ()):  # whole kinds are named by a rule, which fits the next scan too
            self.session.apply(Sweep(chunks="keep" if chunks == () else "sweep"))
        else:
            keys = self.session.ticked_keys((Kind.CRUMB, Kind.CHUNK, Kind.VOID)) or ()
            mesh = self.session.mesh
            self.session.do_made("Sweep strays", lambda: Sweep(shells=region_of_shells(mesh, keys)))


def _state(session: Session) -> tuple[str, int | None]:
    roles = session.examination.roles
    crumbs, chunks, voids = (int(x.sum()) for x in (roles.crumb, roles.chunk, roles.void))
    words = [counted(n, w) for n, w in ((crumbs, "crumb"), (chunks, "chunk"), (voids, "void")) if n]
    return " · ".join(words) or "none", crumbs + chunks + voids


STRAYS = Station(
    "Strays", StraysTray, _state, lambda found: found.strays, True, lambda check, _: check.name in ("shells", "voids")
)
