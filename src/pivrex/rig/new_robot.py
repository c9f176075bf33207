"""The choices for a new robot."""

from __future__ import annotations

import re
from dataclasses import dataclass

from pivrex.errors import UnitError
from pivrex.units import parse

__all__ = [
    "ATTACHMENTS",
    "BENCH",
    "EXTRAS",
    "LAWS",
    "LINES",
    "OUTPUTS",
    "ROBOT_LINE",
    "SIZES",
    "SOURCES",
    "TWO_SIDED",
    "WHEELS",
    "NewRobot",
    "laws_of",
    "read_names",
    "read_sizes",
]

WHEELS = {
    "two and a caster": "two driven wheels in the middle, and a caster",
    "four on two sides": "four driven wheels, two a side; they scrub when it turns",
    "three omni": "three omni wheels, a third of a turn apart; it moves in any direction",
    "four mecanum": "four wheels with slanting rollers; it moves in any direction",
    "four steered": "four steered wheels; they grip, and it moves in any direction",
    "none, on a bench": "two motors without a robot, each with a channel of its own: to try one, or a mechanism",
}
"""What a robot may stand on, and what that means."""

TWO_SIDED = ("two and a caster", "four on two sides")

LAWS = {
    "tank": "a stick for each side",
    "arcade": "one stick: forward and back moves, left and right turns",
    "split arcade": "one stick moves, the other turns",
    "triggers": "one trigger moves forward, one back, a stick turns",
    "planar": "one stick moves in any direction, the other turns",
    "each": "each motor has a channel of its own",
}

BENCH = "none, on a bench"

OUTPUTS = {
    "duty": "one signed number, such as -255 to 255",
    "magnitude": "a number without a sign, and a pin for the direction",
    "two pins": "two pins: one pulses for each direction, the other rests",
    "three pins": "one pin pulses, two more set the direction",
    "servo": "a pulse, as speed controllers and turning servos take it",
    "fraction": "a number from -1 to 1",
    "percent": "a number from -100 to 100",
    "speed": "m/s, for a driver that controls speed itself",
}
"""What a motor driver expects."""

SOURCES = {
    "stick on a serial line": "two numbers of 10 bits a line, 0 to 1023, from a board with a bare stick",
    "letters": "one letter a command, from a phone or a terminal, over TCP",
    "letters on a serial line": "the same over a serial line, as radio modules make one",
    "radio": "packets of your own radio, over UDP",
}
"""Sources in addition to keys, sticks on the screen and gamepads, which are always there."""

EXTRAS = {
    "gyro": "it knows its heading: straight lines, exact turns, the field's directions",
    "encoders": "its motors count: it knows how far its wheels went",
    "arm": "a motor that moves while a button is held",
    "arm to angles": "a motor with an encoder that goes to an angle",
    "lift": "a motor with an encoder and a drum that goes to a height",
    "servo": "it moves between two angles",
    "pump": "something that is on or off: a pump, a lamp, a relay",
    "lamp": "lit while the robot is heard",
    "ranger": "a distance sensor at its front",
    "robot on USB": "the real robot on a serial line, speaking as docs/wire.md says",
    "robot by radio": "the real robot over UDP",
}
"""What else there may be."""

ATTACHMENTS = {"arm": "arm", "arm to angles": "boom", "lift": "lift", "servo": "tip", "pump": "pump", "lamp": "lamp"}
"""Which of these are attachments, and what they are called where no one says otherwise."""

SIZES = ("body length", "body width", "wheel diameter", "track")
"""The questions about a robot's size, in the order in which it is typed."""

LINES = ("stick on a serial line", "letters on a serial line")
"""Sources that need a serial port."""

ROBOT_LINE = "robot on USB"


def laws_of(wheels: str) -> dict[str, str]:
    """Return the laws that a chassis can follow, and what they mean; the likeliest first."""
    if wheels == BENCH:
        return {"each": LAWS["each"]}
    along = {law: what for law, what in LAWS.items() if law not in ("planar", "each")}
    return along if wheels in TWO_SIDED else {"planar": LAWS["planar"], **along}


@dataclass(frozen=True)
class NewRobot:
    """The choices for a new robot.

    Attributes
    ----------
    name : str
    wheels, law, output : str
        Of `WHEELS`, `laws_of` of these, and `OUTPUTS`.
    sources, extras : tuple of str
        Of `SOURCES` and `EXTRAS`.
    sizes : tuple of float
        Length and width of the body, diameter of a wheel, and track (from the left wheels to the right ones; of three wheels the
        diameter of their circle), in mm; empty for the usual ones of these wheels.
    names : tuple of str
        What the attachments among ``extras`` are called, in the order of `ATTACHMENTS`; empty for their usual names.
    port : str
        The serial port of a source on a serial line.
    robot_port : str
        The serial port of the robot.
    """

    name: str = "Mine"
    wheels: str = "two and a caster"
    law: str = "arcade"
    output: str = "duty"
    sources: tuple[str, ...] = ()
    extras: tuple[str, ...] = ("gyro", "encoders")
    sizes: tuple[float, ...] = ()
    names: tuple[str, ...] = ()
    port: str = "/dev/ttyUSB0"
    robot_port: str = "/dev/ttyACM0"

    @property
    def all_sizes(self) -> tuple[float, ...]:
        """The sizes, the usual ones where none were said."""
        track = 180.0 if self.wheels == "two and a caster" else 230.0 if self.wheels == "three omni" else 200.0
        return self.sizes or (260.0, 240.0, 70.0, track)

    @property
    def carried(self) -> list[str]:
        """The attachments among the extras, in their order."""
        return [extra for extra in ATTACHMENTS if extra in self.extras]

    def called(self, extra: str) -> str:
        """Return what an attachment is called."""
        at = self.carried.index(extra) if extra in self.carried else -1
        return self.names[at] if 0 <= at < len(self.names) else ATTACHMENTS[extra]


def read_sizes(text: str) -> tuple[float, ...]:
    """Read sizes as they are typed, such as 260 mm, 240 mm, 70 mm, 180 mm; returns them in mm. Raises `UnitError`."""
    words = [word.strip() for word in text.split(",")]
    if len(words) != len(SIZES):
        raise UnitError(f"write {', '.join(SIZES)} with commas between: 260 mm, 240 mm, 70 mm, 180 mm")
    found = tuple(parse(word, "length") * 1e3 for word in words)
    wrong = next((name for name, mm in zip(SIZES, found, strict=True) if not 10 <= mm <= 3000), "")
    if wrong:
        raise UnitError(f"the {wrong} should be between 10 mm and 3 m")
    return found


def read_names(text: str, robot: NewRobot) -> tuple[str, ...]:
    """Read the names of the attachments as they are typed: one for each, with commas between. Raises `UnitError`."""
    names = tuple(word.strip() for word in text.split(","))
    if len(names) != len(robot.carried):
        raise UnitError(f"write {len(robot.carried)} names with commas between, for {', '.join(robot.carried)}")
    for k, name in enumerate(names):
        if not re.fullmatch(r"[A-Za-z][A-Za-z0-9 _-]*", name):
            raise UnitError(f'"{name}" is no name: it begins with a letter, and has letters, digits and spaces')
        if name in names[:k]:
            raise UnitError(f'"{name}" is there twice; each attachment has a name of its own')
    return names
