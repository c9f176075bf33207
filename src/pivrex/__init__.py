"""Pivrex: the whole line from the stick to the wheels of a student robot, visible and adjustable."""

__all__ = ["__version__"]

__version__ = "0.1.0"
