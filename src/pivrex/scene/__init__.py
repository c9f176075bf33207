"""Drawings, described once: the screen's cells, its pixels and paper print the same scenes."""

from pivrex.scene.marks import ROLES, role, shapes
from pivrex.scene.placing import Box, Margins, Placing
from pivrex.scene.scene import Scene

__all__ = ["ROLES", "Box", "Margins", "Placing", "Scene", "role", "shapes"]
