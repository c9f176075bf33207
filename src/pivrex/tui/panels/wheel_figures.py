"""What is else found by trial: what a turn of a wheel is, how far it rolls for a turn of the robot, what settings are worth."""

from __future__ import annotations

from collections.abc import Mapping
from math import radians

from pivrex.line.questions.figures import side, travel_for, wheel_figures
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.chassis_shown import ShownChassis
from pivrex.tuning.setting_trials import Compared

__all__ = ["draw_figures"]


def draw_figures(
    picture: Picture, chassis: ShownChassis, worth: Mapping[str, Compared | None], x: int, y: int, width: int, room: int
) -> None:
    """Draw them, as many as there is room for."""
    rig, i = chassis.model.rig, chassis.wheel
    figures = wheel_figures(rig)[i]
    turn = radians(chassis.angle_deg)
    way = "left" if chassis.angle_deg >= 0 else "right"
    left = side(rig, left=True)
    lines: list[tuple[str, str, str]] = [
        (f"a turn of {figures.name}", "", "title"),
        ("rolls", f"{figures.metres_per_turn * 1000:.1f} mm", "rest"),
        ("encoder", f"{figures.counts_per_metre:.0f} counts/m" if figures.counts_per_metre else "none", "rest"),
        ("turns the robot", f"{figures.degrees_per_turn:.1f} deg", "rest"),
        (f"to turn {abs(chassis.angle_deg):g} deg {way}", "", "title"),
        ("on the spot", f"{travel_for(rig, turn)[i] * 1000:+.1f} mm".replace("-", "−"), "rest"),
        ("about the left side", f"{travel_for(rig, turn, left)[i] * 1000:+.1f} mm".replace("-", "−"), "rest"),
    ]
    if worth.get("straight") or worth.get("cosine"):
        lines.append(("gets aside", "on      off", "title"))
    for name, words in (("straight", "spinning across"), ("lead", "same, with lag"), ("cosine", "at a sharp bend")):
        compared = worth.get(name)
        if compared is not None:
            lines.append((words, f"{compared.on_m * 1000:4.0f} mm {compared.off_m * 1000:4.0f} mm", "rest"))
    for row, (name, value, named) in enumerate(lines[: max(0, room)], y):
        picture.text(x, row, name, "title" if named == "title" else "dim", width)
        picture.right(x + width, row, value, "dim" if named == "title" else "rest")
