"""The speed envelope on paper."""

from __future__ import annotations

from math import degrees
from pathlib import Path

import numpy as np

from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, TARGET, new_sheet, save_sheet
from pivrex.line.questions.envelope import Envelope
from pivrex.rig import Rig

__all__ = ["write_envelope"]

SHARES = (0.0, 0.25, 0.5, 0.75)
COLOURS = (COMMANDED, MEASURED, TARGET, GHOST)
STYLES = ("-", "--", ":", "-.")


def write_envelope(rig: Rig, path: Path) -> None:
    """Draw how fast the chassis can go in every direction at several rates of turn; ``path`` is .svg or .pdf.

    A chassis that does not move in the plane is drawn as speed against rate of turn.

    Raises
    ------
    SaveError
    """
    envelope = Envelope(rig)
    figure, (sheet,) = new_sheet(6.2, 5.6)
    if envelope.planar:
        for share, colour, style in zip(SHARES, COLOURS, STYLES, strict=True):
            turn = share * envelope.fastest_turn_rad_s
            points = envelope.outline(turn, 360)
            sheet.plot(-points[:, 1], points[:, 0], style, color=colour, label=f"turning {degrees(turn):.0f} deg/s")
        sheet.set_xlabel("to the right / m/s")
        sheet.set_ylabel("forward / m/s")
        sheet.set_aspect("equal")
        sheet.legend(fontsize=8, loc="upper right")
    else:
        corners = envelope.speed_and_turn()
        closed = np.vstack((corners, corners[:1]))
        sheet.fill(closed[:, 0], np.degrees(closed[:, 1]), facecolor="#f3ead9", edgecolor=COMMANDED, linewidth=1.4)
        sheet.set_xlabel("forward / m/s")
        sheet.set_ylabel("turn to the left / deg/s")
    sheet.set_title(
        f"{rig.name}: what its wheels can do; on the spot {degrees(envelope.fastest_turn_rad_s):.0f} deg/s", fontsize=10
    )
    save_sheet(figure, path)
