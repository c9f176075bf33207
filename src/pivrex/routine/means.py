"""The common data of all robots of a line for their routines: words, plans, settings, and places in their states."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pivrex.kernels.maths import inf, nan
from pivrex.kernels.records import Form
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.line.zeroing import Zeroing
from pivrex.rig.attachments import PLACES
from pivrex.routine.follows import Plans, PlanState
from pivrex.routine.hands import NEVER, attached
from pivrex.routine.motion import profile_settings
from pivrex.routine.planning import Planner
from pivrex.routine.profile import Command, Measured, ProfileState
from pivrex.routine.robot import RobotWords
from pivrex.routine.ticking import ESTIMATED, RoutineScratch, RoutineSettings, RoutineState
from pivrex.routine.watching import STUCK_SHARE, WATCH, WATCH_SCRATCH, Witnessed
from pivrex.routine.wheel_distances import WheelDistances

__all__ = ["Means"]


class Means:
    """The parts of a line that routines need.

    Parameters
    ----------
    line : Line
    keeps : int
        Maximum number of Ticks of each robot that are kept before it waits; 0 for none.
    picks : sequence of int
        The columns of them that are kept; all, and its estimated pose, if there are none.

    Attributes
    ----------
    words : RobotWords
    planner : Planner
    plans : Plans
    settings : RoutineSettings
    names : list of str
        The attachments.
    places : dict of str to int
        Where readings stand among the columns that a watch looks at.
    """

    def __init__(self, line: Line, keeps: int = 0, picks: Sequence[int] = ()) -> None:
        rig = line.rig
        self.line, self.words, self.plans = line, RobotWords(rig), Plans(line)
        self.planner = Planner(line, self.words)
        self.names = list(rig.attachments)
        battery = ["battery"] if rig.battery.sensed else []
        zeroing = ["zeroing"] if isinstance(line.stages.get("zeroing"), Zeroing) else []
        self.places = {n: k for k, n in enumerate([*rig.sensors, *battery, *self.names, *zeroing])}
        profile, sensed, many = profile_settings(line, self.words), line.stages["sensed"].form, len(self.names)
        replaced = sensed.of(**dict.fromkeys(sensed.places, nan))
        raw = line.rest()
        parts = {"replaced": replaced, "profile": profile, "follow": self.plans.settings}
        near = [self.words.reach(n).near if a.kind in PLACES else 0.0 for n, a in rig.attachments.items()]
        self.settings: RoutineSettings = Form(
            RoutineSettings, attached=many, readings=len(raw), picked=len(picks), **{n: p.form for n, p in parts.items()}
        ).of(
            dt=line.dt_s, has_gyro=line.layout.has("heading", "heading"), has_frame=line.layout.has("frame", "heading"),
            has_aim="aim" in line.stages, has_zeroing=bool(zeroing), columns=line.form.size, keeps=keeps, picks=picks, raw=raw,
            stuck_within=STUCK_SHARE * np.array(near), **parts,
        )  # fmt: skip
        self.form = Form(
            RoutineState,
            measured=Form(Measured), profile=Form(ProfileState), distances=Form(WheelDistances, wheels=len(line.wheels)), plan=Form(PlanState),
            watch=WATCH, attached=attached(self.names), seen=Form(Witnessed, columns=len(self.places), attached=many),
        )  # fmt: skip
        self.scratch = Form(RoutineScratch, columns=line.form.size, watch=WATCH_SCRATCH, command=Form(Command))
        self.row_length = len(picks) or line.form.size + ESTIMATED

    def start(self, pose: Floats, batch: tuple[int, ...] = ()) -> RoutineState:
        """Return the state of robots with an estimated pose, batch + (3,), before their first tick: nothing wakes them."""
        made: RoutineState = self.form.of(batch, gyro=float(self.words.has_gyro))
        made.profile.set(keep=float(self.words.has_gyro), course=nan)
        made.watch.set(wakes=inf)
        made.seen.pose[...] = pose
        for name, value in NEVER.items():
            getattr(made.attached, name)[...] = value
        return made
