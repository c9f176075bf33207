"""The readings of rangers and lamps on a field, for one robot or a batch."""

from __future__ import annotations

from statistics import NormalDist

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import atan2, clamp, cos, div, hypot, inf, larger, sin, smaller, sqrt, wrap
from pivrex.kernels.records import Flag, Flags, Form, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.layout import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.rig.sensors import Lamp, Ranger

__all__ = ["FAR_M", "Scenery", "Seeing", "SensorSettings", "ray", "scenery_of", "sense_field"]

RAYS = 7
"""A cone is looked along so many rays; the nearest thing counts."""

FAR_M = 1e6
LEVEL = 1e-12
"""A direction whose part along an axis is smaller runs square to it."""


class Scenery(Record):
    """The objects of a field: walls around it, N blocks and M rounds.

    Attributes
    ----------
    walls : flag
    size : (2,)
        Of the field along x and y.
    blocks : (N, 4)
        The middle, x and y, and half the length and width.
    rounds : (M, 3)
        The middle, x and y, and the radius.
    block_shows, round_shows : (N,), (M,)
        The number that each shows to lamps; 0 for none.
    """

    is_settings = True

    walls: Flag = field()
    size: Numbers = field(2, unit="m")
    blocks: Numbers = field("blocks", 4, unit="m")
    block_shows: Numbers = field("blocks")
    rounds: Numbers = field("rounds", 3, unit="m")
    round_shows: Numbers = field("rounds")


class SensorSettings(Record):
    """N rangers and lamps.

    Attributes
    ----------
    is_ranger : (N,) flags
    x, y, direction : (N,)
        Where each sits on the robot, in m, and where it looks, in rad.
    width : (N,)
        How wide it looks, in rad.
    shortest, longest : (N,)
        Between which distances it sees, in m.
    noise : (N,)
        One standard deviation, in m.
    heard_below : (N,)
        An echo is missed where a normal number is not below this.
    """

    is_settings = True

    is_ranger: Flags = field("sensors")
    x: Numbers = field("sensors", unit="m")
    y: Numbers = field("sensors", unit="m")
    direction: Numbers = field("sensors", unit="rad")
    width: Numbers = field("sensors", unit="rad")
    shortest: Numbers = field("sensors", unit="m")
    longest: Numbers = field("sensors", unit="m")
    noise: Numbers = field("sensors", unit="m")
    heard_below: Numbers = field("sensors")


@kernel
def slab(block: Numbers, x: float, y: float, dx: float, dy: float) -> tuple[float, float]:
    """Return where a ray enters and leaves a block, as multiples of its direction (the slab method; Kay & Kajiya 1986)."""
    left, right = div(block[0] - block[2] - x, dx), div(block[0] + block[2] - x, dx)
    below, above = div(block[1] - block[3] - y, dy), div(block[1] + block[3] - y, dy)
    return larger(smaller(left, right), smaller(below, above)), smaller(larger(left, right), larger(below, above))


@kernel
def apart_from_0(d: float) -> float:
    """Return a part of a direction that can be divided by."""
    return LEVEL if abs(d) < LEVEL else d


@kernel
def ray(f: Scenery, x: float, y: float, c: float, s: float) -> float:
    """Return how far a ray from (x, y) along (c, s) goes until something stops it, in m.

    Notes
    -----
    Walls and blocks by slabs; rounds by the nearer root of |p + t·d - m| = r.
    """
    dx, dy = apart_from_0(c), apart_from_0(s)
    distance = FAR_M
    if f.walls:
        along_x = div(f.size[0] - x if dx > 0.0 else -x, dx)
        along_y = div(f.size[1] - y if dy > 0.0 else -y, dy)
        distance = smaller(distance, larger(smaller(along_x, along_y), 0.0))
    for k in range(len(f.blocks)):
        enters, leaves = slab(f.blocks[k], x, y, dx, dy)
        if leaves >= enters and leaves > 0.0:
            distance = smaller(distance, larger(enters, 0.0))
    for k in range(len(f.rounds)):
        to_x, to_y = f.rounds[k][0] - x, f.rounds[k][1] - y
        middle = to_x * c + to_y * s
        miss = to_x * to_x + to_y * to_y - middle * middle
        square = f.rounds[k][2] * f.rounds[k][2]
        half = sqrt(larger(square - miss, 0.0))
        if miss <= square and middle + half > 0.0:
            distance = smaller(distance, larger(middle - half, 0.0))
    return distance


@kernel
def range_reading(
    f: Scenery, t: SensorSettings, k: int, x: float, y: float, looks: float, first: float, second: float
) -> float:
    """Return what ranger k reads at (x, y), in m; 0 without an echo. ``first`` and ``second`` are normal numbers."""
    distance = FAR_M
    for i in range(RAYS):
        angle = looks + (i * (1.0 / 6.0) - 0.5) * t.width[k]
        distance = smaller(distance, ray(f, x, y, cos(angle), sin(angle)))
    if not (distance <= t.longest[k] and second < t.heard_below[k]):
        return 0.0
    return clamp(distance + t.noise[k] * first, t.shortest[k], t.longest[k])


@kernel
def is_hidden(f: Scenery, x: float, y: float, at_x: float, at_y: float) -> bool:
    """Return whether a block lies between two places; one that holds the second does not hide it."""
    dx, dy = apart_from_0(at_x - x), apart_from_0(at_y - y)
    for k in range(len(f.blocks)):
        if abs(at_x - f.blocks[k][0]) > f.blocks[k][2] or abs(at_y - f.blocks[k][1]) > f.blocks[k][3]:
            enters, leaves = slab(f.blocks[k], x, y, dx, dy)
            if leaves >= enters and leaves > 0.0 and enters < 1.0:
                return True
    return False


@kernel
def distance_in_sight(
    f: Scenery, t: SensorSettings, k: int, x: float, y: float, looks: float, at_x: float, at_y: float
) -> float:
    """Return how far away something is that lamp k looks for, in m; infinity if it is out of sight."""
    dx, dy = at_x - x, at_y - y
    away = hypot(dx, dy)
    off = abs(wrap(atan2(dy, dx) - looks))
    if not (away <= t.longest[k] and off <= 0.5 * t.width[k]) or is_hidden(f, x, y, at_x, at_y):
        return inf
    return away


@kernel
def lamp_reading(f: Scenery, t: SensorSettings, k: int, x: float, y: float, looks: float) -> float:
    """Return the number that the nearest thing in sight of lamp k shows; 0 if there is none."""
    number, nearest = 0.0, FAR_M
    for i in range(len(f.blocks)):
        if f.block_shows[i] != 0.0:
            away = distance_in_sight(f, t, k, x, y, looks, f.blocks[i][0], f.blocks[i][1])
            if away < nearest:
                number, nearest = f.block_shows[i], away
    for i in range(len(f.rounds)):
        if f.round_shows[i] != 0.0:
            away = distance_in_sight(f, t, k, x, y, looks, f.rounds[i][0], f.rounds[i][1])
            if away < nearest:
                number, nearest = f.round_shows[i], away
    return number


@kernel
def sense_field(f: Scenery, t: SensorSettings, pose: Numbers, chance: Numbers, readings: Numbers) -> None:
    """Write what each sensor reads at a pose. ``chance``: two normal numbers for each."""
    c, s = cos(pose[2]), sin(pose[2])
    for k in range(len(t.x)):
        x = pose[0] + c * t.x[k] - s * t.y[k]
        y = pose[1] + s * t.x[k] + c * t.y[k]
        looks = pose[2] + t.direction[k]
        if t.is_ranger[k]:
            readings[k] = range_reading(f, t, k, x, y, looks, chance[2 * k], chance[2 * k + 1])
        else:
            readings[k] = lamp_reading(f, t, k, x, y, looks)


_SENSE = Call(sense_field, ("readings",))


def scenery_of(of: Field | None) -> Scenery:
    """Return the objects of a field; None is an open floor without end."""
    blocks, rounds = (of.blocks, of.rounds) if of is not None else ((), ())
    found: Scenery = Form(Scenery, blocks=len(blocks), rounds=len(rounds)).of(
        walls=of is not None and of.walls,
        size=(of.length_m, of.width_m) if of is not None else 0.0,
        blocks=np.array([(b.x_m, b.y_m, b.length_m / 2, b.width_m / 2) for b in blocks]).reshape(-1, 4),
        block_shows=[float(b.shows or 0) for b in blocks],
        rounds=np.array([(r.x_m, r.y_m, r.radius_m) for r in rounds]).reshape(-1, 3),
        round_shows=[float(r.shows or 0) for r in rounds],
    )
    return found


class Seeing:
    """The rangers and lamps of a rig on a field.

    Parameters
    ----------
    rig : Rig
    field : Field or None
    """

    def __init__(self, rig: Rig, field: Field | None) -> None:
        self.scenery = scenery_of(field)
        sensors = list(rig.sensors.values())
        form = Form(SensorSettings, sensors=len(sensors))
        self.settings: SensorSettings = form.of(
            is_ranger=[isinstance(s, Ranger) for s in sensors],
            x=[s.x_m for s in sensors],
            y=[s.y_m for s in sensors],
            direction=[s.direction_rad for s in sensors],
            width=[s.cone_rad if isinstance(s, Ranger) else s.sight_rad for s in sensors],
            shortest=[s.shortest_m if isinstance(s, Ranger) else 0.0 for s in sensors],
            longest=[s.longest_m if isinstance(s, Ranger) else s.range_m for s in sensors],
            noise=[s.noise_m if isinstance(s, Ranger) else 0.0 for s in sensors],
            heard_below=[_heard_below(s) for s in sensors],
        )
        self.count = len(sensors)

    def sense(self, pose: Floats, chance: Floats | None = None) -> Floats:
        """Return what each sensor reads at poses, B + (3,); B + (N,). ``chance``, B + (2·N,), are normal numbers for noise and missed
        echoes; there are none without them.
        """
        batch = pose.shape[:-1]
        readings = np.zeros((*batch, self.count))
        _SENSE(batch, self.scenery, self.settings, pose, SURE * self.count if chance is None else chance, readings)
        return readings

    def along(self, x: float, y: float, c: float, s: float) -> float:
        """Return how far a ray goes until something stops it, in m."""
        return ray(self.scenery.plain, x, y, c, s)


SURE = [0.0, -inf]
"""Instead of chance: no noise, and every echo is heard."""


def _heard_below(sensor: Ranger | Lamp) -> float:
    missed = sensor.missed if isinstance(sensor, Ranger) else 0.0
    return NormalDist().inv_cdf(max(1 - missed, 1e-9)) if missed > 0 else inf
