"""Learns a robot from a recorded drive: its motors, its track, its gyro, each with an interval."""

from pivrex.runs.learning.learn import Learned, Learning, learn

__all__ = ["Learned", "Learning", "learn"]
