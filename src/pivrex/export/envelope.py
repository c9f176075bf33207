"""The speed envelope on paper."""

from __future__ import annotations

from math import degrees
from pathlib import Path

import numpy as np

from pivrex.export.paper import Page, save_pages
from pivrex.line.questions.envelope import Envelope
from pivrex.rig import Rig
from pivrex.scene.chart import number_text, ticks
from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["write_envelope"]

LOOKS = ((0.0, "commanded", 0.0), (0.25, "measured", 1.6), (0.5, "target", 0.9), (0.75, "ghost", 0.5))
"""Shares of the fastest turn, and how the edge at each is drawn."""

COLUMNS, ROWS = 88, 36


def write_envelope(rig: Rig, path: Path) -> None:
    """Draw how fast the chassis can go in every direction at several rates of turn; ``path`` is .svg or .pdf.

    A chassis that does not move in the plane is drawn as speed against rate of turn.

    Raises
    ------
    SaveError
    """
    envelope = Envelope(rig)
    fastest = envelope.fastest_turn_rad_s
    if envelope.planar:
        edges = [(f"turning {degrees(share * fastest):.0f} deg/s", envelope.outline(share * fastest, 360)[:, [1, 0]] * (-1, 1), named, dash)
                 for share, named, dash in LOOKS]  # fmt: skip
        units = "m/s to the right", "m/s forward"
    else:
        corners = envelope.speed_and_turn()
        edges = [("", np.stack((corners[:, 0], np.degrees(corners[:, 1])), axis=1), "commanded", 0.0)]
        units = "m/s forward", "deg/s to the left"
    far = np.abs(np.concatenate([points for _, points, _, _ in edges])).max(axis=0) * 1.08
    if envelope.planar:
        far[:] = far.max()
    scene = Scene(Box(-far[0], -far[1], far[0], far[1]), equal=envelope.planar, margins=Margins(9, 1, 2, 2))
    scene.caption(units[1], "dim")
    scene.caption(units[0], "dim", "bottom right")
    scene.area(edges[0][1], "floor")
    for value in ticks(-far[1], far[1], 8):
        scene.line([(-far[0], value), (far[0], value)], "frame" if value == 0 else "grid", 0.2)
        scene.label((-far[0], value), number_text(value), "dim", 1.0, "left")
    for value in ticks(-far[0], far[0], 8):
        scene.line([(value, -far[1]), (value, far[1])], "frame" if value == 0 else "grid", 0.2)
        scene.label((value, -far[1]), number_text(value), "dim", 1.0, "below")
    page = Page(COLUMNS, ROWS + 10)
    page.text(4, 2, f"{rig.name}: what its wheels can do; on the spot {degrees(fastest):.0f} deg/s", "title", 1.25)
    for k, (said, points, named, dash) in enumerate(edges):
        scene.line(np.concatenate((points, points[:1])), named, 0.4, dash)
        if said:
            page.text(12 + 36 * (k % 2), ROWS + 5 + k // 2, f"{'┄' if dash else '━'} {said}", named)
    page.scene(scene, 2, 4, COLUMNS - 4, ROWS)
    save_pages([page], path)
