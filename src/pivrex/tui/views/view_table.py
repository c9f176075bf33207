"""The views, a row each, in the order of the line. A new view is a class of its own and a row here."""

from __future__ import annotations

from pivrex.tui.commands import PUSHES
from pivrex.tui.panels.chassis_motion import motion_bars
from pivrex.tui.panels.match_clock import routine_bars, routine_exports
from pivrex.tui.views.chassis import CHASSIS_COMMANDS, ChassisView, chassis_exports
from pivrex.tui.views.driver import DRIVER_COMMANDS, DriverView, driver_bars
from pivrex.tui.views.field import FIELD_COMMANDS, FieldView, field_bars, field_exports
from pivrex.tui.views.heading import HEADING_COMMANDS, HeadingView, heading_bars, heading_exports
from pivrex.tui.views.routine import ROUTINE_COMMANDS, RoutineView
from pivrex.tui.views.runs import RUNS_COMMANDS, RunsView, runs_bars, runs_exports
from pivrex.tui.views.shaping import SHAPING_COMMANDS, ShapingView, shaping_bars
from pivrex.tui.views.view_row import ViewRow

__all__ = ["VIEWS"]

VIEWS = (
    ViewRow(
        "driver", "1", "the driver's end", "Opens Driver: sources, live channels, and what each channel does.",
        DriverView, driver_bars, lambda m: [["patches", str(m.file.path)]], DRIVER_COMMANDS,
    ),
    ViewRow(
        "shaping", "2", "from the stick to a motion", "Opens Shaping: how stick readings become a motion.",
        ShapingView, shaping_bars, lambda m: [["curve", str(m.file.path)]], SHAPING_COMMANDS,
    ),
    ViewRow(
        "chassis", "3", "from a motion to the wheels",
        "Opens Chassis: the robot from above, each wheel's equation, how fast it can go.",
        ChassisView, motion_bars, chassis_exports, CHASSIS_COMMANDS,
    ),
    ViewRow(
        "heading", "4", "the gyro's correction",
        "Opens Heading: step responses of the loops, their output now, their gains.",
        HeadingView, heading_bars, heading_exports, (*HEADING_COMMANDS, *PUSHES),
    ),
    ViewRow(
        "field", "5", "the robot on the floor", "Opens Field: the robot from above, wheels and sensors.",
        FieldView, field_bars, field_exports, FIELD_COMMANDS,
    ),
    ViewRow(
        "routine", "6", "what the robot does alone",
        "Opens Routine: the text, its path on the field and its timeline, and the match clock.",
        RoutineView, routine_bars, routine_exports, ROUTINE_COMMANDS,
    ),
    ViewRow(
        "runs", "7", "what was kept of every drive",
        "Opens Runs: every drive that was kept; compare two, learn from them, print a report.",
        RunsView, runs_bars, runs_exports, RUNS_COMMANDS,
    ),
)  # fmt: skip
