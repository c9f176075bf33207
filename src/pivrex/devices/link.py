"""The robot behind a link: outputs leave as sentences, sensed values come back the same way. See docs/wire.md."""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.decode.lines import LONGEST_LINE, Lines
from pivrex.devices.decode.message import Message, shown
from pivrex.devices.health import Said, Tally
from pivrex.devices.robot_sentences import Parts, out_sentences, read_sensed, wire_hash
from pivrex.devices.sentence import unframe
from pivrex.devices.transports.opening import open_transport
from pivrex.line.given import NOWHERE
from pivrex.line.line import Line
from pivrex.rig.sources import Link
from pivrex.rig.transports import transport_title

__all__ = ["RobotLink"]

Floats = NDArray[np.float64]


class RobotLink:
    """A robot behind a link.

    Attributes
    ----------
    title : str
    tally : Tally
        Of what it says.
    drives : bool
        Whether it is told to drive; the session says so before each command.
    greeted : str
        The hash of the rig that the robot says it has; empty before it has greeted.
    fault : str
        What its motor driver complained of last.
    state : int
        What the robot says of itself: 0 rests, 1 drives, 2 was left alone.
    sent : Said or None
        What it was told last.
    """

    def __init__(self, line: Line, link: Link) -> None:
        self._link = link
        self.title = f"robot, {transport_title(link.wire)}"
        self.wire = open_transport(link.wire, outward=True)
        self.tally = Tally()
        self.hash = wire_hash(line)
        self._lines = Lines()
        self._parts = Parts()
        self._seq = 0
        self._sensed = np.zeros(len(line.stages["sensed"].columns))
        self._truth = NOWHERE
        self._rest = line.resting()
        self.drives = False
        self.greeted = ""
        self.fault = ""
        self.state = 0
        self._heard_s = float("-inf")
        self._drives_s = float("-inf")
        self.sent: Said | None = None

    def poll(self, now_s: float) -> None:
        """Take what has come. Call it once a tick."""
        for data, _, at_s in self.wire.poll(now_s):
            for line, too_long in self._lines.feed(data):
                message = self._read(line, too_long)
                if message is None:
                    continue  # more parts are to come
                self.tally.add(message, at_s)
                if not message.fault:
                    self._heard_s = at_s

    def _read(self, line: bytes, too_long: bool) -> Message | None:
        text = shown(line)
        try:
            if too_long:
                raise ValueError(f"longer than {LONGEST_LINE} bytes")
            words = self._parts.whole(unframe(line).split(","))
            if words is None:
                return None
            match words[0]:
                case "PIVSEN":
                    count = len(self._sensed)
                    _, self.state, values = read_sensed(words, count + len(NOWHERE))
                    sensed, self._truth = np.array(values[:count]), np.array(values[count:])
                    self._sensed = np.where(np.isnan(sensed), self._sensed, sensed)
                case "PIVHEY" if len(words) >= 3:
                    self.greeted = words[2][:16]
                case "PIVFLT" if len(words) >= 2:
                    self.fault = ", ".join(words[1:])[:80]
                case _:
                    return Message(text, None, "unknown", f"a sentence {words[0][:12]}")
        except ValueError as problem:
            return Message(text, None, "damaged", str(problem))
        return Message(text, {})

    def problem(self, now_s: float) -> str:
        """Say why it cannot be driven now; empty if it can."""
        if not self.wire.is_open:
            return self.wire.problem
        if now_s - self._heard_s > self._link.quiet_after_s:
            return (
                f"the robot is silent for {self._link.quiet_after_s * 1e3:.0f} ms"
                if self._heard_s > 0
                else "no robot answers"
            )
        if self.greeted and self.greeted != self.hash:
            return f"the robot has another rig ({self.greeted}, here {self.hash})"
        return "" if self.greeted else "the robot has not greeted yet"

    def alone_for(self, now_s: float) -> float:
        """Give for how long it has been told to drive, in s."""
        return now_s - self._drives_s

    def sense(self) -> Floats:
        """Give the newest sensed values; before the first, and where the robot says nothing, 0."""
        return self._sensed

    def truth(self) -> Floats:
        """Give what the robot says is true of it; NaN where it does not know, as hardly any robot does."""
        return self._truth

    def command(self, told: Floats, dt_s: float) -> None:
        """Tell the robot; while it may not drive it is told to rest."""
        self._seq = (self._seq + 1) % 65536
        if not self.drives:
            self._drives_s = time.perf_counter()
        for sentence in out_sentences(self._seq, self.drives, self.hash, told if self.drives else self._rest):
            if not self.wire.send(sentence):
                return
            self.sent = Said(time.perf_counter(), shown(sentence), out=True)

    def put_back(self) -> None:
        """A real robot is put back by hand."""

    def fits(self, line: Line, link: Link | None) -> bool:
        """Tell whether a changed rig can go on over this link as it is."""
        return wire_hash(line) == self.hash and link == self._link

    def close(self) -> None:
        """Tell it to rest a last time, and hang up."""
        self.drives = False
        self.command(self._rest, 0.0)
        self.wire.close()
