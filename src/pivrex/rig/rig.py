"""A robot and its controls, whole: what a rig file describes, with every check."""

from __future__ import annotations

from pivrex.rig.between import table_mistakes
from pivrex.rig.patch_mistakes import patch_mistakes
from pivrex.rig.tables import RigTables

__all__ = ["Rig"]


class Rig(RigTables):
    """One robot with its controls. Checks between tables run once each table is right by itself."""

    def mistakes(self) -> list[tuple[str, str]]:
        return [*table_mistakes(self), *patch_mistakes(self)]
