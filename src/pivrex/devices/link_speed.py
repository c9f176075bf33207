"""Whether a link's line is fast enough for the rig: the bytes that each tick's sentences need."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.devices.robot_sentences import Back, Out, SensedWire, out_sentences, sensed_sentences
from pivrex.devices.seal import HIGHEST, sealed
from pivrex.devices.transports.serial_line import BITS_A_BYTE
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.line.outputs import encode
from pivrex.rig.transports import Link, SerialTransport

__all__ = ["SLOWEST_S", "LinkSpeed", "link_speed"]

SLOWEST_S = 0.08
"""A sentence must come within this time: an answer, the wait for the next sentence and that sentence together must take less than
the age of 0.25 s at which a robot refuses it, and the robot's watchdog of 0.15 s must outlast a sentence that is lost.
"""

LONG_VALUE = -0.123456
"""A value as it is usually written at its longest."""


@dataclass(frozen=True)
class LinkSpeed:
    """The capacity of a link.

    Attributes
    ----------
    out_bytes, back_bytes : int
        Of a sentence out, and of the answer.
    bytes_s : float
        What the line carries in a second, each way; infinite where it has no speed of its own.
    rate_hz : float
        The rate of the rig.
    """

    out_bytes: int
    back_bytes: int
    bytes_s: float
    rate_hz: float

    @property
    def period_s(self) -> float:
        """The time between two sentences that the line has room for; 0 where it has no speed of its own."""
        return max(self.out_bytes, self.back_bytes) / self.bytes_s

    @property
    def too_slow(self) -> str:
        """Why no robot can be driven over this line; empty if one can."""
        if self.period_s <= SLOWEST_S:
            return ""
        return f"the line is too slow: {self._said}, which leaves {1 / self.period_s:.1f} a second and should be at least {1 / SLOWEST_S:.1f}"

    @property
    def warning(self) -> str:
        """What the line is too slow for; empty if it is fast enough."""
        if self.too_slow or self.period_s * self.rate_hz <= 1.0:
            return self.too_slow
        return (
            f"the line carries {1 / self.period_s:.0f} sentences a second of the {self.rate_hz:g} that the rig's rate asks for "
            f"({self._said}); only the newest are sent"
        )

    @property
    def _said(self) -> str:
        most = max(self.out_bytes, self.back_bytes)
        way = "out" if self.out_bytes >= self.back_bytes else "back"
        return f"{most} bytes {way} at {self.bytes_s:.0f} bytes a second"


def _longest(line: Line) -> Floats:
    """Return values that leave for the robot as they are written at their longest."""
    settings = line.of_rig["outputs"]
    ahead, back = (encode(settings, np.full(len(settings.smallest) + len(settings.sign), d)) for d in (1.0, -1.0))
    whole = np.where(np.abs(ahead) > np.abs(back), ahead, back)
    commands = np.where(settings.is_whole, whole, LONG_VALUE)
    return np.concatenate((commands, np.ones(len(line.outputs.values) - len(commands))))  # and whether it coasts


def link_speed(line: Line, link: Link) -> LinkSpeed:
    """Compute the capacity of a link for a real robot, which sends no true values."""

    def sign(body: str) -> str:
        return sealed(bytes(16), body, HIGHEST)

    signed = sign if line.rig.secret else None
    number = HIGHEST if line.rig.secret else 65535
    commands = _longest(line)
    sensed = np.full(len(SensedWire(line).columns), LONG_VALUE)
    truth = np.full(len(line.stages["truth"].columns), np.nan)
    out = out_sentences(Out(number, 65535, True), "0" * 8, commands, signed)
    back = sensed_sentences(Back(65535, number, 1), np.concatenate((sensed, truth)), signed)
    speed = link.wire.baud / BITS_A_BYTE if isinstance(link.wire, SerialTransport) else float("inf")
    return LinkSpeed(sum(map(len, out)), sum(map(len, back)), speed, 1.0 / line.dt_s)
