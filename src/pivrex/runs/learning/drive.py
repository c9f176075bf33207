"""A recorded drive as data for learning: commands, wheels, gyro and battery, tick by tick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.errors import LearnError
from pivrex.line import Line
from pivrex.line.kinematics import kinematics_of
from pivrex.line.layout import Floats, plain
from pivrex.rig.rig import Rig
from pivrex.runs.run import Run
from pivrex.sim.body.feed import open_volts, sagged
from pivrex.sim.body.settings import Conditions, settings_of

__all__ = ["Drive", "drive_of"]

FAIR = (0.3, 2.0)
"""Next to the nominal voltage: a reading outside of that is not a battery's."""


@dataclass(frozen=True)
class Drive:
    """N ticks of a robot with M motors and W wheels.

    Attributes
    ----------
    dt_s : float
    drive : (N, M) float64
        The drive of each motor, forward positive, in [-1, 1]: it counts from this tick to the next.
    travel : (N, W) float64
        How far each wheel had rolled at the tick, in m.
    gyro : (N,) float64 or None
        The heading that the gyro said, in rad.
    volts : (N,) float64
        The battery's voltage; where it is not sensed, computed from what its motors take.
    senses_volts : bool
    stopped : (N,) bool
    motor_of : (W,) int
        The motor of each wheel.
    ahead : (W,) float64
        How fast each wheel rolls for each m/s ahead.
    turns : (W,) float64 or None
        How much turn the chassis makes of each metre of travel, in rad/m; None of steered chassis.
    commands : (N, V) float64
        The robot's commands, as its simulated robot takes it.
    """

    dt_s: float
    drive: Floats
    travel: Floats
    gyro: Floats | None
    volts: Floats
    senses_volts: bool
    stopped: Floats
    motor_of: Floats
    ahead: Floats
    turns: Floats | None
    commands: Floats

    def __len__(self) -> int:
        return len(self.drive)

    def part(self, begin: int, end: int) -> Drive:
        """Return the ticks from one up to another."""
        some = slice(begin, end)
        return Drive(
            self.dt_s, self.drive[some], self.travel[some], self.gyro[some] if self.gyro is not None else None,
            self.volts[some], self.senses_volts, self.stopped[some], self.motor_of, self.ahead, self.turns, self.commands[some],
        )  # fmt: skip


def drive_of(run: Run, line: Line) -> Drive:
    """Take a drive out of a run, for the rig of a line.

    Raises
    ------
    LearnError
        If it is another robot's, or lacks what must be known.
    RunError
        If it cannot be read.
    """
    rig = line.rig
    names = _names(line)
    found: dict[str, list[Floats]] = {name: [] for name in names}
    commands: list[Floats] = []
    for piece in run.pieces():
        if not np.isfinite(piece.rows).any():
            continue  # it could not be read: a gap, as if nothing had been kept there
        made = run.line(piece.first)
        places = {t: i for i, t in enumerate(made.layout.titles)}
        lacks = [title for name, title in names.items() if title not in places and name not in ("gyro", "battery")]
        if (
            lacks
            or made.outputs.commands.stop - made.outputs.commands.start
            != line.outputs.commands.stop - line.outputs.commands.start
        ):
            what = f"it has no {lacks[0]}" if lacks else "its commands differ"
            raise LearnError(f"{run.name} is of another robot than {rig.name}: {what}")
        for name, title in names.items():
            column = piece.rows[:, places[title]] if title in places else np.full(len(piece.rows), np.nan)
            found[name].append(column)
        commands.append(made.commands(piece.rows))
    if not commands:
        raise LearnError(f"{run.name} has no tick")
    columns = {name: np.concatenate(parts) for name, parts in found.items()}
    signs = np.array([-1.0 if m.reversed else 1.0 for m in rig.motors.values()])
    motors, wheels = list(rig.motors), list(line.wheels)
    travel = np.column_stack([columns[f"travel {w}"] for w in wheels])
    if not np.isfinite(travel).all():
        raise LearnError("the wheels' encoders do not say how far they roll: without that nothing can be learned")
    gyro, volts = columns["gyro"], columns["battery"]
    fair = np.isfinite(volts) & (volts > FAIR[0] * rig.battery.volts) & (volts < FAIR[1] * rig.battery.volts)
    maps = kinematics_of(rig.chassis)
    drive = np.column_stack([columns[f"drive {m}"] for m in motors]) * signs
    motor_of = np.array([next(i for i, m in enumerate(rig.motors.values()) if w in m.wheels) for w in wheels])
    return Drive(
        dt_s=line.dt_s,
        drive=drive,
        travel=travel,
        gyro=gyro * (-1.0 if rig.gyro is not None and rig.gyro.reversed else 1.0) if np.isfinite(gyro).all() else None,
        volts=volts if fair.all() else _computed_drive(rig, drive, travel, motor_of, line.dt_s),
        senses_volts=bool(fair.all()),
        stopped=columns["stopped"] != 0,
        motor_of=motor_of,
        ahead=np.ones(len(wheels)) if maps.hubs is not None else maps.inverse[:, 0],
        turns=maps.forward[2] if maps.hubs is None else None,
        commands=np.concatenate(commands),
    )


def _computed_drive(rig: Rig, drive: Floats, travel: Floats, motor_of: Floats, dt_s: float) -> Floats:
    """Compute the voltage of the rig's battery under the load of its motors; (N,).

    Notes
    -----
    As the simulated robot has it: `pivrex.sim.body.feed.sagged`.
    """
    smallest = {name: (m.smallest, m.smallest) for name, m in rig.motors.items()}
    body = settings_of(rig, smallest, Conditions())
    speed = np.gradient(travel, axis=0) / dt_s if len(travel) > 1 else np.zeros_like(travel)
    spin = [speed[:, motor_of == m].mean(axis=1) / float(body.radius[motor_of == m][0]) for m in range(drive.shape[1])]
    full = open_volts(rig.battery.volts, rig.battery.charge)
    commands = np.vstack((drive[:1], drive[:-1]))  # sensed values follow from the drive of the tick before
    fed, plain_body = [1.0] * drive.shape[1], body.plain
    each = zip(commands.tolist(), np.stack(spin, axis=-1).tolist(), strict=True)
    return np.minimum([sagged(plain_body, rig.battery.charge, duty, now, fed)[0] for duty, now in each], full)


def _names(line: Line) -> dict[str, str]:
    """Which columns are needed, by what they are."""
    layout = line.layout

    def title(stage: str, name: str) -> str:
        return layout.titles[layout.at(stage, name)]

    names = {"stopped": title("clock", "stopped")}
    names |= {f"drive {m}": title("drive", plain(m)) for m in line.rig.motors}
    names |= {f"travel {w}": title("sensed", f"{plain(w)}_travel") for w in line.wheels}
    names["gyro"] = title("sensed", "gyro") if layout.has("sensed", "gyro") else "sensed.gyro_rad"
    names["battery"] = title("sensed", "battery") if layout.has("sensed", "battery") else "sensed.battery_V"
    return names
