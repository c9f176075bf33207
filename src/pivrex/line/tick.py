"""A tick of the line: the records of all its stages joined, and their kernels in order."""

from __future__ import annotations

from pivrex.kernels.maths import mod
from pivrex.kernels.records import Flag, Number, Record, field, part, repeat
from pivrex.kernels.subset import kernel
from pivrex.line.aim import AimColumns
from pivrex.line.attachments import AttachmentsColumns, AttachmentSettings, AttachmentState, attachments_step
from pivrex.line.axes import AxesSettings, axes_step
from pivrex.line.balance import BalanceColumns, BalanceSettings, BalanceState, balance_step
from pivrex.line.band import BandSettings, band_step
from pivrex.line.bindings import BindingsColumns, bindings_step
from pivrex.line.control import ControlColumns, ControlSettings, ControlState, control_step
from pivrex.line.correction import CorrectionColumns, CorrectionSettings, CorrectionState, correction_step
from pivrex.line.curve import CurveSettings, curve_step
from pivrex.line.drive import DriveColumns, DriveSettings, drive_step
from pivrex.line.following import FollowingColumns, FollowingSettings, FollowingState, following_step
from pivrex.line.frame import FrameColumns, FrameScratch, FrameSettings, FrameState, frame_step
from pivrex.line.heading import HeadingColumns, HeadingSettings, HeadingState, heading_step
from pivrex.line.helping import HelpingColumns, HelpingSettings, HelpingState, helping_step
from pivrex.line.input_stages import ClockColumns, RawColumns, SensedRow, TruthRow
from pivrex.line.kinematics import Needs, WheelsColumns, wheels_step
from pivrex.line.law import LawColumns, LawSettings, LawState, law_step
from pivrex.line.limits import LimitsColumns, LimitScratch, LimitSettings, limits_step
from pivrex.line.motion import MotionColumns, MotionScratch, MotionSettings, motion_step
from pivrex.line.odometry import OdometryColumns, OdometrySettings, OdometryState, odometry_step
from pivrex.line.outputs import OutputsColumns, OutputSettings, OutputsScratch, outputs_step
from pivrex.line.pointing import PointingColumns, PointingSettings, PointingState, pointing_step
from pivrex.line.presses import BindingScratch, BindingSettings, BindingState
from pivrex.line.probe import ProbeColumns
from pivrex.line.rate import RateSettings, RateState, rate_step
from pivrex.line.routine_stage import RoutineColumns
from pivrex.line.scale import ScaleSettings, scale_step
from pivrex.line.stage import Fractions
from pivrex.line.steering import SteeringColumns, SteerSettings, SteerState, steering_step
from pivrex.line.tilt import TiltColumns, TiltSettings, TiltState, tilt_step
from pivrex.line.zeroing import ZeroingColumns, ZeroingSettings, ZeroingState, zeroing_step

__all__ = ["HeldColumns", "LineMemory", "LineScratch", "LineSettings", "Tick", "line_step"]


class LineSettings(Record):
    """The settings of all stages that a rig has, and which of those it has that not every rig has."""

    is_settings = True

    every: Number = field()
    """In every how manieth tick the command is computed; see `asks_now`."""
    has_zeroing: Flag = field()
    has_tilt: Flag = field()
    has_heading: Flag = field()
    has_pointing: Flag = field()
    has_bindings: Flag = field()
    has_frame: Flag = field()
    has_helping: Flag = field()
    has_correction: Flag = field()
    has_steering: Flag = field()
    has_balance: Flag = field()
    has_control: Flag = field()
    has_attachments: Flag = field()
    zeroing: ZeroingSettings = part()
    tilt: TiltSettings = part()
    heading: HeadingSettings = part()
    pointing: PointingSettings = part()
    odometry: OdometrySettings = part()
    axes: AxesSettings = part()
    band: BandSettings = part()
    curve: CurveSettings = part()
    scale: ScaleSettings = part()
    bindings: BindingSettings = part()
    rate: RateSettings = part()
    law: LawSettings = part()
    frame: FrameSettings = part()
    helping: HelpingSettings = part()
    following: FollowingSettings = part()
    correction: CorrectionSettings = part()
    wheels: Needs = part()
    limits: LimitSettings = part()
    steering: SteerSettings = part()
    motion: MotionSettings = part()
    balance: BalanceSettings = part()
    control: ControlSettings = part()
    drive: DriveSettings = part()
    attachments: AttachmentSettings = part()
    outputs: OutputSettings = part()


class HeldColumns(Record):
    """The columns of the stages that a robot that balances does not compute in every tick, as they were when it did; nothing for others."""

    axes: Fractions = part()
    band: Fractions = part()
    curve: Fractions = part()
    scale: Fractions = part()
    bindings: BindingsColumns = part()
    rate: Fractions = part()
    law: LawColumns = part()
    frame: FrameColumns = part()
    helping: HelpingColumns = part()
    following: FollowingColumns = part()
    correction: CorrectionColumns = part()
    wheels: WheelsColumns = part()
    limits: LimitsColumns = part()
    steering: SteeringColumns = part()
    motion: MotionColumns = part()
    attachments: AttachmentsColumns = part()


class LineMemory(Record):
    """The memory of a line between ticks: the states of its stages, and held columns."""

    zeroing: ZeroingState = part()
    tilt: TiltState = part()
    heading: HeadingState = part()
    pointing: PointingState = part()
    odometry: OdometryState = part()
    bindings: BindingState = part()
    rate: RateState = part()
    law: LawState = part()
    frame: FrameState = part()
    helping: HelpingState = part()
    following: FollowingState = part()
    correction: CorrectionState = part()
    steering: SteerState = part()
    balance: BalanceState = part()
    control: ControlState = part()
    attachments: AttachmentState = part()
    held: HeldColumns = part()


class LineScratch(Record):
    """Where stages compute."""

    is_scratch = True

    bindings: BindingScratch = part()
    frame: FrameScratch = part()
    limits: LimitScratch = part()
    motion: MotionScratch = part()
    outputs: OutputsScratch = part()


class Tick(Record):
    """One pass: what was sensed before it, then every stage's columns, in the order of the line."""

    clock: ClockColumns = part()
    sensed: SensedRow = part()
    truth: TruthRow = part()
    raw: RawColumns = part()
    zeroing: ZeroingColumns = part()
    tilt: TiltColumns = part()
    heading: HeadingColumns = part()
    pointing: PointingColumns = part()
    odometry: OdometryColumns = part()
    axes: Fractions = part()
    band: Fractions = part()
    curve: Fractions = part()
    scale: Fractions = part()
    bindings: BindingsColumns = part()
    rate: Fractions = part()
    law: LawColumns = part()
    probe: ProbeColumns = part()
    aim: AimColumns = part()
    routine: RoutineColumns = part()
    frame: FrameColumns = part()
    helping: HelpingColumns = part()
    following: FollowingColumns = part()
    correction: CorrectionColumns = part()
    wheels: WheelsColumns = part()
    limits: LimitsColumns = part()
    steering: SteeringColumns = part()
    motion: MotionColumns = part()
    balance: BalanceColumns = part()
    control: ControlColumns = part()
    drive: DriveColumns = part()
    attachments: AttachmentsColumns = part()
    outputs: OutputsColumns = part()


@kernel
def asks_now(s: LineSettings, t: Tick) -> bool:
    """Return whether the command is computed in this tick: always, but of a robot that balances at a lower rate than its loops."""
    return s.every == 1.0 or mod(t.clock.tick, s.every) == 0.0


@kernel
def hold(t: Tick, held: HeldColumns) -> None:
    """Hold the command."""
    repeat(t.axes, held.axes)
    repeat(t.band, held.band)
    repeat(t.curve, held.curve)
    repeat(t.scale, held.scale)
    repeat(t.bindings, held.bindings)
    repeat(t.rate, held.rate)
    repeat(t.law, held.law)
    repeat(t.frame, held.frame)
    repeat(t.helping, held.helping)
    repeat(t.following, held.following)
    repeat(t.correction, held.correction)
    repeat(t.wheels, held.wheels)
    repeat(t.limits, held.limits)
    repeat(t.steering, held.steering)
    repeat(t.motion, held.motion)
    repeat(t.attachments, held.attachments)


@kernel
def recall(before: LineMemory, after: LineMemory, t: Tick) -> None:
    """Let the command go on, with all that its stages remember. A board has no need of this: there columns and memory stay as they
    are.
    """
    held = before.held
    repeat(held.axes, t.axes)
    repeat(held.band, t.band)
    repeat(held.curve, t.curve)
    repeat(held.scale, t.scale)
    repeat(held.bindings, t.bindings)
    repeat(held.rate, t.rate)
    repeat(held.law, t.law)
    repeat(held.frame, t.frame)
    repeat(held.helping, t.helping)
    repeat(held.following, t.following)
    repeat(held.correction, t.correction)
    repeat(held.wheels, t.wheels)
    repeat(held.limits, t.limits)
    repeat(held.steering, t.steering)
    repeat(held.motion, t.motion)
    repeat(held.attachments, t.attachments)
    repeat(before.bindings, after.bindings)
    repeat(before.rate, after.rate)
    repeat(before.law, after.law)
    repeat(before.frame, after.frame)
    repeat(before.helping, after.helping)
    repeat(before.following, after.following)
    repeat(before.correction, after.correction)
    repeat(before.steering, after.steering)
    repeat(before.attachments, after.attachments)


@kernel
def ask(s: LineSettings, w: LineScratch, before: LineMemory, after: LineMemory, t: Tick) -> None:
    """From readings to the command: a twist and requests to attachments."""
    if s.has_zeroing:
        zeroing_step(s.zeroing, before.zeroing, after.zeroing, t.sensed, t.zeroing)
    if s.has_tilt:
        tilt_step(s.tilt, before.tilt, after.tilt, t.sensed.tilt, t.tilt)
    if s.has_heading:
        gyro, up = 0.0, 0.0
        if len(t.sensed.gyro) > 0:
            gyro = t.zeroing.gyro if s.has_zeroing else t.sensed.gyro[0]
        if len(t.sensed.up) > 0:
            up = t.sensed.up[0]
        heading_step(s.heading, before.heading, after.heading, gyro, up, t.heading)
    if s.has_pointing:
        pointing_step(s.pointing, before.pointing, after.pointing, t.sensed, t.pointing)
    odometry_step(s.odometry, before.odometry, after.odometry, t.sensed, t.heading, t.pointing, t.odometry)
    now = asks_now(s, t)
    for k in range(len(t.clock.asks)):
        t.clock.asks[k] = 1.0 if now else 0.0
    if now:
        read_controls(s, w, before, after, t)
    else:
        recall(before, after, t)


@kernel
def read_controls(s: LineSettings, w: LineScratch, before: LineMemory, after: LineMemory, t: Tick) -> None:
    """From the readings of controls to what they ask for."""
    axes_step(s.axes, t.clock, t.raw, t.axes)
    band_step(s.band, t.axes, t.band)
    curve_step(s.curve, t.band, t.curve)
    scale_step(s.scale, t.curve, t.scale)
    if s.has_bindings:
        bindings_step(s.bindings, w.bindings, before.bindings, after.bindings, t.clock, t.raw, t.bindings)
    rate_step(s.rate, before.rate, after.rate, t.clock, t.scale, t.bindings, t.rate)
    law_step(s.law, before.law, after.law, t.rate, t.bindings, t.law)


@kernel
def move_centre(s: LineSettings, w: LineScratch, before: LineMemory, after: LineMemory, t: Tick) -> None:
    """From the commanded twist to that of the robot's centre: frame, help, a plan that is followed, the gyro's correction."""
    twist = t.law.twist
    if s.has_frame:
        frame_step(s.frame, w.frame, before.frame, after.frame, t.heading, t.bindings, t.law, t.routine, t.frame)
        twist = t.frame.twist
    if s.has_helping:
        helping_step(s.helping, before.helping, after.helping, twist, t.bindings, t.law, t.odometry, t.helping)
        twist = t.helping.twist
    following_step(s.following, before.following, after.following, twist, t.odometry, t.following)
    if s.has_correction:
        correction_step(
            s.correction, before.correction, after.correction, t.clock, t.sensed, t.heading, t.aim, t.bindings, t.following.twist,
            t.correction,
        )  # fmt: skip


@kernel
def plan_wheels(s: LineSettings, w: LineScratch, before: LineMemory, after: LineMemory, t: Tick) -> None:
    """From the twist and requests to wheel speeds, and what attachments do."""
    move_centre(s, w, before, after, t)
    twist = t.correction.twist if s.has_correction else t.following.twist
    wheels_step(s.wheels, twist, t.heading, t.routine, t.law.own, len(t.law.own), t.wheels)
    limits_step(s.limits, w.limits, twist, t.heading, t.frame.point if s.has_frame else 0.0, t.wheels, t.limits)
    speeds = t.limits.limited
    if s.has_steering:
        steering_step(
            s.steering, before.steering, after.steering, t.clock, t.limits, t.pointing, t.bindings, t.steering
        )
        speeds = t.steering.speed
    motion_step(s.motion, w.motion, speeds, t.pointing, t.heading, t.motion)
    if s.has_attachments:
        attachments_step(
            s.attachments,
            before.attachments,
            after.attachments,
            t.clock,
            t.sensed,
            t.bindings,
            t.routine,
            t.attachments,
        )


@kernel
def follow(s: LineSettings, w: LineScratch, before: LineMemory, after: LineMemory, t: Tick) -> None:
    """From the twist and requests to what leaves for the robot."""
    if asks_now(s, t):
        plan_wheels(s, w, before, after, t)
    if s.every != 1.0:
        hold(t, after.held)
    speeds = t.limits.limited
    if s.has_steering:
        speeds = t.steering.speed
    controlled = t.control.drive
    if s.has_balance:
        balance_step(s.balance, before.balance, after.balance, speeds, t.sensed, t.tilt, t.balance)
        controlled = t.balance.drive
    elif s.has_control:
        control_step(s.control, before.control, after.control, t.clock, t.bindings, t.law, speeds, t.sensed, t.control)
    is_controlled = s.has_balance or s.has_control
    drive_step(s.drive, t.bindings, t.law, speeds, controlled, is_controlled, t.steering.drive, t.probe, t.drive)
    outputs_step(s.outputs, w.outputs, t.bindings, t.law, t.drive, t.attachments, t.outputs)
    # if the encoders are silent, the robot is assumed to have done what was commanded
    for i in range(3):
        after.odometry.commanded[i] = t.motion.twist[i]


@kernel
def line_step(
    s: LineSettings, w: LineScratch, before: LineMemory, after: LineMemory, t: Tick, asks: float, follows: float
) -> None:
    """Make a tick, or one half of it: another than the controls may ask for something in between."""
    if asks > 0.0:
        ask(s, w, before, after, t)
    if follows > 0.0:
        follow(s, w, before, after, t)
