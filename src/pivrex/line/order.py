"""The stages in the order of the line, one per row. A new stage is a new file, and its name in one of these rows."""

from __future__ import annotations

from pivrex.line.aim import Aim
from pivrex.line.attachments import Attachments
from pivrex.line.axes import Axes
from pivrex.line.balance import Balance
from pivrex.line.band import Band
from pivrex.line.bindings import Bindings
from pivrex.line.control import Control
from pivrex.line.correction import Correction
from pivrex.line.curve import Curve
from pivrex.line.drive import Drive
from pivrex.line.following import Following
from pivrex.line.frame import Frame
from pivrex.line.heading import Heading
from pivrex.line.helping import Helping
from pivrex.line.input_stages import Clock, Raw, Sensed, Truth
from pivrex.line.kinematics import Wheels
from pivrex.line.law import Law
from pivrex.line.limits import Limits
from pivrex.line.motion import WheelsMotion
from pivrex.line.odometry import Odometry
from pivrex.line.outputs import Outputs
from pivrex.line.pointing import Pointing
from pivrex.line.probe import Probe
from pivrex.line.rate import Rate
from pivrex.line.routine_stage import Routine
from pivrex.line.scale import Scale
from pivrex.line.stage import Stage
from pivrex.line.steering import Steering
from pivrex.line.tilt import Tilt
from pivrex.line.zeroing import Zeroing

__all__ = ["ASKING", "FOLLOWING", "STAGES"]

ASKING: tuple[type[Stage], ...] = (
    Clock, Sensed, Truth, Raw, Zeroing, Tilt, Heading, Pointing, Odometry, Axes, Band, Curve, Scale, Bindings, Rate, Law, Probe, Aim, Routine,
)  # fmt: skip
"""The command: from readings to a twist and requests to attachments."""

FOLLOWING: tuple[type[Stage], ...] = (
    Frame, Helping, Following, Correction, Wheels, Limits, Steering, WheelsMotion, Balance, Control, Drive, Attachments, Outputs,
)  # fmt: skip
"""What follows from a twist and requests."""

STAGES = tuple(stage.name for stage in ASKING + FOLLOWING)
"""The names of all stages, in the order of the line."""
