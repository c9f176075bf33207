"""A drawing for each bench sum: its parts, to scale if possible."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from math import cos, degrees, pi, sin

import numpy as np

from pivrex.scene.scene import Box, Margins, Scene
from pivrex.sums import Result
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture

__all__ = ["draw_sum"]

Values = Mapping[str, float]


def draw_sum(name: str, values: Values, results: list[Result], width: int, height: int) -> Picture:
    """Draw it."""
    picture = Picture(width, height)
    found = {r.key: r for r in results}
    if found and width >= 30 and height >= 7:
        _DRAWINGS[name](picture, values, found)
    return picture


def _divider(p: Picture, v: Values, r: Mapping[str, Result]) -> None:
    x = 8
    p.text(x - 6, 0, f"{v['sensor']:g} V", "commanded")
    p.text(x, 0, "●", "commanded")
    p.down(x, 1, 2, "│", "rest")
    _resistor(p, x, 2, f"R1 {_ohm(r['upper'].value)}")
    p.text(x, 4, "├────────● pin", "rest")
    p.text(x + 16, 4, r["out"].shown, "measured")
    _resistor(p, x, 5, f"R2 {_ohm(r['lower'].value)}")
    p.text(x, 7, "┴", "rest")
    p.text(x + 2, 7, "ground", "dim")
    share = r["out"].value / max(v["sensor"], 1e-9)
    high, left = p.height - 1, min(p.width - 8, 44)
    for y in range(high):
        at = 1 - (y + 0.5) / high
        p.text(left, y, "█" if at <= share else "░", "measured" if at <= share else "frame")
    may = high - 1 - int(v["pin"] / v["sensor"] * high)
    p.text(left + 1, max(0, may), "╌ may", "target")


def _resistor(p: Picture, x: int, y: int, said: str) -> None:
    p.fill(x - 1, y, 3, "bench", 2)
    p.text(x + 4, y, said, "title")


def _ohm(value: float) -> str:
    return f"{value / 1000:g} kohm" if value >= 1000 else f"{value:g} ohm"


def _echo(p: Picture, v: Values, r: Mapping[str, Result]) -> None:
    high = min(p.height - 2, 7)
    p.fill(0, 1, 4, "hull", high - 2)
    p.text(0, 0, "ranger", "dim")
    far = 6 + int(np.clip(r["distance"].value / 4.0, 0.03, 1.0) * (p.width - 14))
    p.fill(far, 0, 2, "bench", high)
    middle = high // 2
    p.across(middle - 1, 5, far, "╌", "commanded")
    p.text(far - 1, middle - 1, "▶", "commanded")
    p.across(middle + 1, 5, far, "╌", "measured")
    p.text(5, middle + 1, "◀", "measured")
    p.text(
        5, high, f"{r['distance'].shown} there, and as far back in {v['time'] * 1e3:.2f} ms", "measured", p.width - 6
    )


def _counts(p: Picture, v: Values, r: Mapping[str, Result]) -> None:
    _wheel(p, min(8, p.height), r["turns"].value % 1.0 * 2 * pi)
    x = 20
    p.across(7, x, p.width - 2, "─", "frame")
    many = min(p.width - x - 4, 40)
    for k in range(many):
        p.text(x + k, 6, "╵" if k % 5 else "│", "measured")
    p.text(x, 5, f"{v['counts']:g} counts", "measured")
    p.text(x, min(8, p.height - 1), f"{r['distance'].shown}: {r['turns'].value:.2f} turns", "title")


def _wheel(p: Picture, size: int, angle: float) -> None:
    scene = Scene(Box(-1.1, -1.1, 1.1, 1.1))
    scene.disc((0.0, 0.0), 1.0, "hull")
    scene.circle((0.0, 0.0), 1.0, "rim", 0.4)
    scene.line([(0.0, 0.0), (cos(angle), sin(angle))], "measured", 0.6)
    p.place(print_scene(scene, 2 * size, size), 1, 0)


def _gear(p: Picture, v: Values, r: Mapping[str, Result]) -> None:
    """The line from stall to free speed, and where the tyres let go."""
    push, grip = r["push"].value, r["grip"].value
    most = max(push, grip) * 1.05
    scene = Scene(Box(0.0, 0.0, 1.0, most), equal=False, margins=Margins(8, 1, 11, 1))
    many = np.linspace(0, 1, 60)
    scene.area([(0.0, 0.0), *zip(many, np.minimum(push * (1 - many), grip), strict=True), (1.0, 0.0)], "measure fill")
    scene.line([(0.0, push), (1.0, 0.0)], "commanded", 0.4)
    scene.line([(0.0, grip), (1.0, grip)], "alarm", 0.3, 0.9)
    scene.label((0.0, most), f"{most:.0f} N", "dim", 1.0, "left")
    scene.label((0.0, 0.0), "0", "dim", 1.0, "left")
    scene.label((0.0, 0.0), "held", "dim", 1.0, "below-from")
    scene.label((1.0, 0.0), r["top"].shown, "title", 2.0, "below-to")
    scene.label((1.0, grip), "tyres", "alarm", 1.0, "right")
    p.place(print_scene(scene, p.width, p.height), 0, 0)


def _pwm(p: Picture, v: Values, r: Mapping[str, Result]) -> None:
    """One period with its steps; what only hums is shaded."""
    wide, high = p.width - 4, min(p.height - 3, 6)
    steps = int(min(r["steps"].value, wide))
    for k in range(wide):
        share = (k + 1) / wide
        level = np.ceil(share * steps) / steps
        tall = max(1, round(level * high))
        hums = share < v["smallest"]
        for y in range(tall):
            p.text(2 + k, high - y, "░" if hums else "█", "alarm" if hums else "measured")
    said = f"{r['steps'].value:.0f} steps" + (f", {steps} of them drawn" if steps < r["steps"].value else "")
    p.text(2, high + 1, f"{said}; the first {v['smallest'] * 100:.0f} % only hum", "dim", p.width - 3)


def _battery(p: Picture, v: Values, r: Mapping[str, Result]) -> None:
    wide = p.width - 6
    p.fill(1, 1, wide, "bench", 3)
    p.fill(1 + wide, 2, 2, "bench", 1)
    p.fill(1, 1, max(1, int(wide * v["usable"])), "measure fill", 3)
    each = max(1, int(wide * v["usable"] / max(r["matches"].value, 1e-9)))
    x = 1
    count = 0
    while x + each <= 1 + wide * v["usable"] and count < 60:
        count += 1
        if each >= 3:
            p.text(x + each - 1, 2, "│", "groove")
            p.text(x + (each - 1) // 2, 2, str(count), "groove", each - 1)
        x += each
    p.text(1, 5, f"{r['minutes'].shown}: {r['matches'].value:.1f} matches of {v['match']:.0f} s", "title")


def _turn(p: Picture, v: Values, r: Mapping[str, Result]) -> None:
    scene = Scene(Box(-1.2, -1.2, 1.2, 1.2))
    angle = v["angle"] % (2 * pi) or min(v["angle"], 2 * pi)
    scene.circle((0.0, 0.0), 1.0, "frame", 0.3, 0.8)
    # one wheel ahead, the one across from it back
    for side, named in ((1, "commanded"), (-1, "measured")):
        bend = np.linspace(0, angle, 60) + (0 if side > 0 else pi)
        scene.line(np.stack((np.cos(bend), np.sin(bend)), axis=1), named, 0.8)
    p.place(print_scene(scene, 28, p.height), 0, 0)
    p.text(30, 2, f"{degrees(v['angle']):g} deg left", "title")
    p.text(30, 4, f"each wheel rolls {r['way'].shown}", "commanded")
    p.text(30, 5, "one side ahead, the other back", "measured")
    p.text(30, 7, f"{r['counts'].value:.0f} counts each", "rest")


_DRAWINGS: dict[str, Callable[[Picture, Values, Mapping[str, Result]], None]] = {
    "divider": _divider, "echo": _echo, "counts": _counts, "gear": _gear, "pwm": _pwm, "battery": _battery, "turn": _turn,
}  # fmt: skip
