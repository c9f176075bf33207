"""Moves the stick or the radio of an emulated board that drives by itself, and measures how busy the chip is."""

from __future__ import annotations

from functools import partial
from typing import NamedTuple

from pivrex.board.emulated import EmulatedRobot
from pivrex.board.pins_used import START
from pivrex.board.steps import Task
from pivrex.devices.encode import line_of, packet_of
from pivrex.devices.seal import Seal, sealed
from pivrex.devices.sentence import frame, unframe
from pivrex.devices.transports.serial_line import BITS_A_BYTE
from pivrex.rig.rig import Rig
from pivrex.rig.sources import NumbersSource, PacketsSource
from pivrex.rig.transports import SerialTransport

__all__ = ["Busy", "Hand", "busy_alone"]

STEP_S = 0.005
SAYS_EVERY_S = 0.02
"""A radio speaks fifty times a second, if nothing else is said."""


class Busy(NamedTuple):
    """The load of a chip: the share of its time, and the bytes of memory that the stack never reached."""

    share: float
    never_used: int


class Hand:
    """Moves sticks and buttons; a radio's are sent as it sends them.

    Attributes
    ----------
    readings : dict of str to float
        What each control reads.
    silent : bool
        Whether the radio says nothing.
    every_s : float
        How often a radio speaks.
    busy_s : float
        How long the chip was busy, of all the time that passed.
    """

    def __init__(self, rig: Rig, robot: EmulatedRobot, session: int = 1) -> None:
        self.robot, self.silent, self.busy_s, self.now_s = robot, False, 0.0, 0.0
        self.readings: dict[str, float] = {}
        self._spec = rig.sources[rig.board.source]
        self._key = rig.secret
        self._sign = partial(sealed, rig.secret, session=session) if rig.secret else None
        self._seq, self._due_s, self.every_s = 0, 0.0, SAYS_EVERY_S

    def packet(self) -> bytes:
        """Return what the radio says next."""
        self._seq += 1
        if isinstance(self._spec, NumbersSource):
            return line_of(self._spec, self.readings)
        assert isinstance(self._spec, PacketsSource)
        return packet_of(self._spec, self.readings, self._seq, self._sign)

    def pass_time(self, seconds: float) -> bytes:
        """Let time pass; return what the board says on its serial line."""
        said, until_s = b"", self.now_s + seconds
        while self.now_s < until_s - STEP_S / 2:
            self.now_s += STEP_S
            if isinstance(self._spec, NumbersSource | PacketsSource):
                if not self.silent and self.now_s >= self._due_s:
                    self._due_s += self.every_s
                    self.robot.take_radio(self.packet())
            else:
                self.robot.sticks.update({c: v for c, v in self.readings.items() if c in self.robot.sticks})
            said += b"".join(self.robot.step(self.now_s))
            self.busy_s += (1.0 - self.robot.asleep) * STEP_S
        return said

    def begin_routine(self) -> None:
        """Press the button that begins the routine; if there is none, say it as a laptop does."""
        if START in self.robot.sticks:
            self.robot.sticks[START] = 1.0
            self.pass_time(0.1)
            self.robot.sticks[START] = 0.0
            return
        heard = self.pass_time(1.2).decode("ascii", "replace").split("\r\n")  # a board greets once a second
        greeting = next(h for h in reversed(heard[1:-1]) if h.startswith("$PIVHEY,"))
        newest = next(h for h in reversed(heard[1:-1]) if h.startswith("$PIVTIC,")).split(",")[1]
        body = f"PIVBID,{int(newest)},{newest},{greeting.split(',')[2]},run"
        if self._key:
            body = sealed(self._key, body, Seal(self._key).open(unframe(greeting.encode()))[1])
        self.robot.take(frame(body), "", self.now_s)
        self.pass_time(0.1)


def busy_alone(rig: Rig, seconds: float = 1.5, task: Task | None = None) -> Busy:
    """Drive a board that is alone as fast as it goes, its radio's line full, and say how busy its chip is; then let its routine begin.

    Raises
    ------
    PivrexError
        Without simavr.
    """
    robot = EmulatedRobot(rig, None, 0.0, mode="alone", task=task)
    try:
        hand = Hand(rig, robot)
        if isinstance(spec := rig.sources[rig.board.source], NumbersSource | PacketsSource):
            assert isinstance(spec.wire, SerialTransport)
            hand.every_s = len(hand.packet()) * BITS_A_BYTE / spec.wire.baud  # its line is full
        hand.pass_time(0.5)
        hand.readings |= {rig.channel(a): -1.0 for a in rig.law.axes().values()}
        hand.pass_time(0.5)
        hand.busy_s = 0.0
        hand.pass_time(seconds)
        busiest = hand.busy_s / seconds
        if task is not None:
            hand.begin_routine()
            hand.busy_s = 0.0
            hand.pass_time(seconds)
            busiest = max(busiest, hand.busy_s / seconds)
        return Busy(busiest, robot.never_used)
    finally:
        robot.close()
