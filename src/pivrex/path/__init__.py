"""Paths: points on the field, a smooth curve through them, and how fast a robot can drive it."""

from pivrex.path.points import Path, PathPoint, SlowZone

__all__ = ["Path", "PathPoint", "SlowZone"]
