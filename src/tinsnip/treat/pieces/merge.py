"""Merge: several pieces become one, their shells side by side."""

from collections.abc import Sequence
from typing import ClassVar

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.treat.account import Account
from tinsnip.treat.assembly import Assembled, Assembly, Part
from tinsnip.treat.kit.joins.together import put_together
from tinsnip.treat.treatment import Context
from tinsnip.words import counted

__all__ = ["Merge"]


class Merge(Assembly):
    """Put the shells of several pieces together into one; no triangle changes."""

    name: ClassVar[str] = "merge"
    title: ClassVar[str] = "Merge pieces"
    fewest: ClassVar[int] = 2

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Merge all pieces that go in.

        Raises
        ------
        BadInput
            When there is one piece only, or all together are too large.
        """
        if len(meshes) < 2:
            raise BadInput("merging takes two pieces or more; open a further scan as a piece")
        context.progress.step("Merging")
        whole, left = put_together(meshes)
        text = f"Merged {counted(len(meshes), 'piece')}"
        if left:
            text += f"; {' and '.join(left)} left out, as not all of them have it"
        part = Part(whole, tuple(range(len(meshes))))
        return Assembled((part,), text, Account(figures={"pieces": len(meshes)}))
