"""A whole robot with its controls: the content of a rig file, with every check."""

from __future__ import annotations

from pydantic import PrivateAttr

from pivrex.rig.between import table_mistakes
from pivrex.rig.patch_mistakes import patch_mistakes
from pivrex.rig.tables import RigTables

__all__ = ["Rig"]


class Rig(RigTables):
    """One robot with its controls. Checks between tables run once each table is right by itself."""

    _secret: bytes = PrivateAttr(default=b"")

    @property
    def secret(self) -> bytes:
        """The key that packets, outputs and sensed values must be sealed with, 16 bytes; empty if the rig names none."""
        return self._secret

    def with_secret(self, secret: bytes) -> Rig:
        """Return this rig with the key that its file names."""
        found = self.model_copy()
        found._secret = secret
        return found

    def mistakes(self) -> list[tuple[str, str]]:
        return [*table_mistakes(self), *patch_mistakes(self)]
