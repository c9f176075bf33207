"""A robot and its controls, whole: what a rig file describes."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.chassis import Chassis, Name
from pivrex.rig.controls import Axis, Law, Limits, Shaping, SpeedLevels, same_stick
from pivrex.rig.motors import Motor
from pivrex.rig.quantities import Quantity

__all__ = ["Rig"]


class Rig(Table):
    """One robot with its controls.

    Checks between tables stand in `mistakes`; each runs only when the tables it compares are right by themselves.
    """

    name: Name = Field(description="The robot's name.", examples=["Plover"])
    about: str = Field(default="", description="One line about it.", examples=["two driven wheels and a caster"])
    rate_hz: Annotated[float, Quantity("frequency", at_least=20, at_most=200)] = Field(
        default=60.0, alias="rate", description="How often a second the line is computed.", examples=["60 Hz"]
    )
    lag_s: Annotated[float, Quantity("time", at_least=0, at_most=5)] = Field(
        default=0.1,
        alias="lag",
        description="How long the wheels take to follow (time constant), for the stand-in.",
        examples=["100 ms"],
    )
    chassis: Chassis = Field(description="The body and its wheels.")
    motors: dict[Name, Motor] = Field(description="The motors, by name.")
    axes: dict[Name, Axis] = Field(
        default_factory=dict,
        description="Calibration of each axis; one that is left out reads -1 to 1 (a trigger 0 to 1).",
    )
    shaping: Shaping = Field(default=Shaping(), description="From fractions to fractions.")
    law: Law = Field(description="What the sticks mean.")
    limits: Limits = Field(default=Limits(), description="What gives way when it is too much.")
    speed_levels: SpeedLevels = Field(default=SpeedLevels(), description="Speed levels chosen while driving.")

    def mistakes(self) -> list[tuple[str, str]]:
        return [*self._motor_mistakes(), *self._axis_mistakes(), *self._pin_mistakes()]

    def _motor_mistakes(self) -> list[tuple[str, str]]:
        found = []
        wheels = {wheel.name: wheel for wheel in self.chassis.wheels}
        driven: dict[str, str] = {}
        for name, motor in self.motors.items():
            for i, wheel in enumerate(motor.wheels):
                if wheel not in wheels:
                    found.append((f"motors.{name}.wheels.{i}", f'is "{wheel}", but the chassis has {_listed(wheels)}'))
                elif wheel in driven:
                    found.append(
                        (
                            f"motors.{name}.wheels.{i}",
                            f'is "{wheel}", which motor {driven[wheel]} turns already',
                        )
                    )
                driven.setdefault(wheel, name)
            known = [wheels[w] for w in motor.wheels if w in wheels]
            if len({w.y_m for w in known}) > 1:
                found.append(
                    (
                        f"motors.{name}.wheels",
                        "are on both sides; they need different speeds when the robot turns",
                    )
                )
            if len({w.radius_m for w in known}) > 1:
                found.append((f"motors.{name}.wheels", "have different radii, but one motor turns them at one rate"))
        idle = [name for name in wheels if name not in driven]
        if idle:
            found.append(("motors", f"turn no wheel {_listed(idle)}; every wheel of the chassis needs a motor"))
        return found

    def _axis_mistakes(self) -> list[tuple[str, str]]:
        found = []
        for name, axis in self.axes.items():
            if not axis.channel and name not in CHANNELS:
                found.append(
                    (
                        f"axes.{name}",
                        f'names no channel; give it one, such as channel = "left_y", or call it by its channel ({", ".join(CHANNELS[:4])}, ...)',
                    )
                )
            if is_one_sided(self.channel(name)) and axis.centre is not None:
                found.append(
                    (
                        f"axes.{name}.centre",
                        "is given, but a trigger or button rests at one end and has no centre",
                    )
                )
        for role, name in self.law.axes().items():
            if name not in self.axes and name not in CHANNELS:
                found.append(
                    (
                        f"law.{role}",
                        f'is "{name}", which is neither an axis of this rig ({_listed(self.axes)}) nor a channel',
                    )
                )
                return found
            one_sided = is_one_sided(self.channel(name))
            if role in ("ahead", "back") and not one_sided:
                found.append((f"law.{role}", f'reads "{name}", a stick; it needs a trigger or a button'))
            if role not in ("ahead", "back") and one_sided:
                found.append((f"law.{role}", f'reads "{name}", which goes only one way; it needs a stick'))
        axes = self.law.axes()
        channels: dict[str, str] = {}
        for role, name in axes.items():
            other = channels.setdefault(self.channel(name), role)
            if other != role and not found:
                found.append(
                    (
                        f"law.{role}",
                        f'reads the channel "{self.channel(name)}", which law.{other} reads already',
                    )
                )
        for key, button in (("up", self.speed_levels.up), ("down", self.speed_levels.down)):
            if button in channels:
                found.append((f"speed_levels.{key}", f'is "{button}", which law.{channels[button]} reads already'))
        if self.law.kind in ("arcade", "split arcade") and not found:
            one = same_stick(self.channel(axes["forward"]), self.channel(axes["turn"]))
            if self.law.kind == "arcade" and not one:
                found.append(("law.turn", 'reads another stick than law.forward; that is the law "split arcade"'))
            if self.law.kind == "split arcade" and one:
                found.append(("law.turn", 'reads the same stick as law.forward; that is the law "arcade"'))
        return found

    def _pin_mistakes(self) -> list[tuple[str, str]]:
        found = []
        used: dict[str, str] = {}
        for name, motor in self.motors.items():
            places = {**motor.output.pins(), **({"port": motor.output.port} if motor.output.port else {})}
            for role, pin in places.items():
                word = f"port {pin}" if role == "port" else f"pin {pin}"
                if word in used:
                    found.append((f"motors.{name}.output.{role}", f"is {word}, which {used[word]} uses already"))
                used.setdefault(word, f"motors.{name}.output.{role}")
        return found

    def axis(self, name: str) -> Axis:
        """Give the calibration of an axis; the plain one if the file has none for it."""
        if name in self.axes:
            return self.axes[name]
        return Axis.model_validate({"minimum": 0.0} if is_one_sided(name) else {})

    def channel(self, axis_name: str) -> str:
        """Give the channel that an axis reads."""
        axis = self.axes.get(axis_name)
        return axis.channel if axis is not None and axis.channel else axis_name

    @property
    def dt_s(self) -> float:
        """The time of one tick."""
        return 1.0 / self.rate_hz

    def wheel_top_m_s(self, wheel_name: str) -> float:
        """The fastest that a wheel can roll."""
        motor = next(m for m in self.motors.values() if wheel_name in m.wheels)
        radius = next(w.radius_m for w in self.chassis.wheels if w.name == wheel_name)
        return motor.wheel_top_rad_s * radius

    @property
    def full_forward_m_s(self) -> float:
        """What a forward fraction of 1 asks for; by default what the slowest wheel at full drive allows."""
        return self.law.full_forward_m_s or min(self.wheel_top_m_s(w.name) for w in self.chassis.wheels)

    @property
    def full_turn_rad_s(self) -> float:
        """What a turn fraction of 1 asks for; by default the fastest turn on the spot, 2·V/track."""
        top = min(self.wheel_top_m_s(w.name) for w in self.chassis.wheels)
        return self.law.full_turn_rad_s or 2 * top / self.chassis.track_m


def _listed(names: object) -> str:
    return ", ".join(f'"{name}"' for name in names) or "none"  # type: ignore[attr-defined]
