"""Routine: what a routine adds to a motion: its step, the frame of its directions, and shares of single wheels."""

from __future__ import annotations

from pivrex.kernels.records import Form, Number, Numbers, Record, field
from pivrex.line.input_stages import InputStage
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.stage import Rung, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.attachments import ENCODED, reach_of
from pivrex.rig.rig import Rig

__all__ = ["OF_FIELD", "OF_ROBOT", "Routine", "RoutineColumns"]

OF_ROBOT, OF_FIELD = 1.0, 2.0
"""Whose forward counts while a routine drives, whatever the driver chose; 0 while none does."""


class RoutineColumns(Record):
    """The requests of a routine in addition to a motion; see `Routine`."""

    line: Number = field()
    frame: Number = field()
    raw: Number = field()
    share: Numbers = field("wheels")
    push: Numbers = field("arms")
    homed: Numbers = field("arms")
    called: Numbers = field("arms")


class Routine(InputStage):
    """Of which line of a routine this tick is: of none, unless a routine enters and says so.

    ``frame`` is `OF_ROBOT` or `OF_FIELD` while a routine drives, about the robot's centre, else 0; ``raw`` is 1 while it gives
    wheels shares of their top speed, which then stand behind it. Of all attachments with an encoder: ``push`` is a share that drives
    each against its stop, whatever its limits, 0 for none; where ``homed`` is 1 it stands at ``as`` from now on, in rad, a lift in m.
    """

    name = "routine"

    def __init__(self, rig: Rig) -> None:
        self.wheels = [plain(w.name) for w in rig.chassis.wheels]
        arms = {plain(n): reach_of(a).unit for n, a in rig.attachments.items() if a.kind in ENCODED}
        homes = (
            (f"{n}_{what}", own if what == "as" else "") for what in ("push", "homed", "as") for n, own in arms.items()
        )
        shares = ((f"{w}_share", "") for w in self.wheels)
        self.columns = named("routine", ("line", ""), ("frame", ""), ("raw", ""), *shares, *homes)

        self.form = Form(RoutineColumns, wheels=len(self.wheels), arms=len(arms))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Routine:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        self.entry = layout.stage("routine")

    def rungs(self, tick: WheelTick) -> list[Rung]:
        line = int(tick("routine", "line"))
        return [Rung("routine", f"line {line} of the routine commands this")] if line else []
