"""Drawings and tables for the notebook: SVG, PDF and CSV."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.export.chassis import write_chassis
    from pivrex.export.curve import write_curve
    from pivrex.export.envelope import write_envelope
    from pivrex.export.patches import write_patches
    from pivrex.export.path import write_path
    from pivrex.export.table import write_ticks
    from pivrex.export.wiring import write_wiring

__all__ = [
    "write_chassis",
    "write_curve",
    "write_envelope",
    "write_patches",
    "write_path",
    "write_ticks",
    "write_wiring",
]
__getattr__ = showing(
    __name__,
    table="write_ticks",
    curve="write_curve",
    path="write_path",
    patches="write_patches",
    wiring="write_wiring",
    chassis="write_chassis",
    envelope="write_envelope",
)
