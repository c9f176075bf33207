"""The colours of every role on a dark and on a light background, for the screen and for paper."""

from __future__ import annotations

__all__ = ["DARK", "LIGHT"]

DARK = {
    "": "#0d1612", "rest": "#e8e0cc", "dim": "#a3b09f", "frame": "#5d6f61", "title": "#f2ead6", "commanded": "#f0a63a",
    "measured": "#49c5b6", "target": "#c3aef0", "alarm": "#ff7b66", "ghost": "#7f8a7b", "groove": "#0d1612", "other": "#9db06f",
    "key": "#d8c690", "floor": "#17251e", "bench": "#43522b", "hull": "#4b665a", "nose": "#e8962f", "tyre": "#0b1210", "gap": "#6b4a12",
    "limit": "#8a3527", "band": "#2c2740", "command fill": "#a86d14", "measure fill": "#1f6f67", "wall": "#5d6f61", "rim": "#b4c4b4",
    "bench rim": "#6d8046", "grid": "#2b3d33", "trail": "#34897f", "old trail": "#24594f",
}  # fmt: skip
LIGHT = {
    "": "#f7f3e6", "rest": "#1d241f", "dim": "#4c564d", "frame": "#8c9486", "title": "#10150f", "commanded": "#9a4f00",
    "measured": "#00695e", "target": "#6440a8", "alarm": "#b3200a", "ghost": "#7b8176", "groove": "#f7f3e6", "other": "#5c7032",
    "key": "#6b5200", "floor": "#ece7d4", "bench": "#b9c48d", "hull": "#a3ad9f", "nose": "#dd8a1e", "tyre": "#4b524b", "gap": "#f0cf8e",
    "limit": "#e59383", "band": "#dcd2ee", "command fill": "#e8b060", "measure fill": "#7cc7bd", "wall": "#8c9486", "rim": "#3a423b",
    "bench rim": "#7d8a4e", "grid": "#d6d0ba", "trail": "#5aa79d", "old trail": "#a3c9c1",
}  # fmt: skip
