"""`robot.py` of a board's program in MicroPython: connects values and pins, sensors and inputs of the line."""

from __future__ import annotations

import re
from collections.abc import Iterator
from math import prod
from typing import Any

import numpy as np

from pivrex.board.alone import Alone
from pivrex.board.alone_c import GYRO_MS, AlonePrinter
from pivrex.board.pins_used import START, BoardWiring
from pivrex.line.stage import PRESSED
from pivrex.rig.sources import NumbersSource, PinsSource

__all__ = ["RobotPrinter", "as_tuple"]


def _python(text: str) -> str:
    """Return an expression of C, as `pivrex.board.pins_used` has it, as Python."""
    return re.sub(r"\bR\(([^()]*)\)", r"\1", text.replace("(real)", ""))


def as_tuple(values: list[Any]) -> str:
    """Return values as Python writes a tuple of them; words as they are."""
    inner = ", ".join(str(v) if not isinstance(v, tuple) else as_tuple(list(v)) for v in values)
    return f"({inner},)" if len(values) == 1 else f"({inner})"


class RobotPrinter:
    """Writes `robot.py`."""

    def __init__(self, wiring: BoardWiring, alone: Alone | None) -> None:
        self.wiring, self.alone, self.spec = wiring, alone, wiring.source
        self.c = AlonePrinter(alone) if alone is not None else None

    def printed(self) -> str:
        """Return `robot.py`."""
        used = self.wiring.sensed
        speeds = any("per_second" in s.value for s in used)
        gyro = any("gyro_rad" in s.value for s in used) and self.wiring.rig.gyro is not None
        lines = [
            f'"""What {self.wiring.rig.name} has on which pin. Written by pivrex board: change the rig, and write it again."""', "",
            "import board", *(["import line"] if self.alone is not None else []), "import mine", "import rig",
            "from board import board_count, board_sensor, level, pulse, pwm", "from rig import *",
            *(["from sentence import real"] if self.alone is None else []), "",
        ]  # fmt: skip
        lines += self._given()
        loops = []
        if speeds:
            lines += [_SPEEDS]
            loops.append("    measure_speeds()")
        if gyro:
            scale = self.wiring.rig.board.supply_V * self.wiring.rig.gyro.per_V_rad_s / 1023.0  # type: ignore[union-attr]
            lines += [_GYRO.format(scale=scale, ms=GYRO_MS)]
            loops.append("    add_up_gyro()")
        lines += ["", "def sense_loop():", *(loops or ["    pass"]), "", ""]
        lines += ["def sense(n):", '    """A column of what is sensed."""']
        for k, sensed in enumerate(used):
            if sensed.value:
                lines += [f"    if n == {k}:  # {sensed.title}", f"        return {_python(sensed.value)}"]
        lines += ["    return mine.sense(n)", ""]
        lines += self._driven() if self.alone is not None else self._back()
        return "\n".join(lines)

    def _given(self) -> Iterator[str]:
        yield from ("", "def give(value):", '    """What leaves for motors and attachments."""')
        for k, one in enumerate(self.wiring.outputs):
            if one.place is None:
                yield f"    mine.give({k}, value[{k}])  # {one.title}: it has no pin in the rig"
                continue
            name, said = one.place.name, f"  # {one.title}, pin {one.place.use.pin}"
            yield {
                "pwm": f"    pwm({name}, value[{k}], {one.place.full})",
                "level": f"    level({name}, value[{k}] > 0.5)",
                "pulse": f"    pulse({name}, value[{k}])",
            }[one.kind] + said
        yield from ("", "", "def rest():", "    give(REST_VALUES)", "")

    def _back(self) -> Iterator[str]:
        """Yield the code that writes a field of the sensed values."""
        yield from ("", "def back(n):", '    """A field of what comes back; empty for what is not known here."""')
        for k, back in enumerate(self.wiring.back):
            own = self.wiring.sensed[back.column] if back.column >= 0 else None
            if own is None or not own.known:
                continue
            value = f"board_count({own.counter})" if own.counter else f"sense({back.column})"
            yield f"    if n == {k}:  # {back.title}"
            yield f"        return {f'str(int({value}))' if back.counts else f'real(sense({back.column}))'}"
        yield from ('    return ""', "")

    def _driven(self) -> list[str]:
        """Return the code for the inputs and outputs of the line."""
        assert self.c is not None
        lines = [
            "",
            *self._scaled(),
            "",
            *self._stick(),
            "",
            *self._inputs(),
            "",
            *self._outputs(),
            "",
            "",
            "def at_rest():",
        ]
        for own, low, high, name in self.c.resting():
            lines += [f"    if not {low!r} <= line.{own} <= {high!r}:  # {name}", "        return False"]
        for own, name in self.c.holding():
            lines += [f"    if line.{own} >= {PRESSED!r}:  # {name}", "        return False"]
        lines += [
            "    return True",
            "",
            "",
            "def buttons_ask():",
            '    """Whether a button says stop; does what others ask for."""',
            "    stop = False",
        ]
        for name, own in self.c.asking().items():
            if name != "zero_gyro":
                lines.append(f"    stop |= line.{own} > 0.5")
            elif self.alone is not None and self.alone.zeroed:
                lines.append(f"    if line.{own} > 0.5:")
                lines += [
                    f"        line.{g.name} = {self.alone.zeroed[g.at]!r}"
                    for g in self.alone.sizes()[1].fields
                    if g.at in self.alone.zeroed
                ]
        lines += ["    return stop", ""]
        return [*lines, *(self._start() if self.alone is not None and self.alone.routine is not None else [])]

    def _scaled(self) -> Iterator[str]:
        spec = self.spec
        if not isinstance(spec, NumbersSource | PinsSource):
            return
        assert self.alone is not None
        middle, half, slack = (spec.low + spec.high) / 2, (spec.high - spec.low) / 2, (spec.high - spec.low) * 0.02
        yield from (
            "",
            "def scaled(channel, v):",
            f'    """From {spec.low:g} to {spec.high:g}; None for what is outside."""',
            "    low = -1.0",
        )
        for k, channel in enumerate(self.alone.channels):
            if channel.startswith("button_"):
                yield f"    if channel == {k}:  # {channel}"
                yield f"        return 1.0 if v > (0 if v <= 1 else {middle!r}) else 0.0"
            elif channel == "-":
                yield from (f"    if channel == {k}:", "        return 0.0")
        triggers = [k for k, c in enumerate(self.alone.channels) if c.endswith("_trigger")]
        yield f"    if channel in {as_tuple(triggers)}:"
        yield f"        low, v = 0.0, (v - {float(spec.low)!r}) / {2 * half!r}"
        yield from ("    else:", f"        v = (v - {middle!r}) / {half!r}")
        yield f"    if not low - {slack / half!r} <= v <= 1.0 + {slack / half!r}:"
        yield from ("        return None", "    return min(max(v, low), 1.0)", "")

    def _stick(self) -> Iterator[str]:
        """Yield how the board reads its own pins."""
        if self.wiring.radio is not None:
            return
        assert self.alone is not None
        places = {p.channel: p.name for kind in ("sensor", "button") for p in self.wiring.places[kind] if p.channel}
        yield from (
            "",
            "def stick():",
            '    """What sticks and buttons say; None for one that is broken off."""',
            "    return [",
        )
        for k, channel in enumerate(self.alone.channels):
            read = f"board_sensor({places[channel]})"
            yield f"        {f'float({read})' if channel.startswith('button_') else f'scaled({k}, {read})'},  # {channel}"
        yield from ("    ]", "")

    def own(self, stage: str) -> list[Any]:
        assert self.c is not None
        return self.c.own(stage)

    def _inputs(self) -> Iterator[str]:
        """Yield what puts clock and sensors into the line. A way is counted from the tick before: so counts stay whole until then."""
        line, alone = self.wiring.line, self.alone
        assert alone is not None
        read = [g.at + j - line.layout.stage("sensed").start for g in self.own("sensed") for j in range(prod(g.shape))]
        counters = list(dict.fromkeys(c for n in read if (c := self.wiring.sensed[n].counter)))
        yield from (
            "",
            f"counted = [0] * {len(self.wiring.places['count']) // 2}",
            "",
            "",
            "def line_inputs(tick, stopped):",
        )
        clock = {"tick": "float(tick)", "t": "tick * DT", "stopped": "stopped",
                 "source": repr(float(line.source_number(self.wiring.rig.board.source)))}  # fmt: skip
        for one in self.own("clock"):
            own = clock[one.name.rpartition(".")[2]]
            yield f"    line.{one.name} = {f'[{own}]' if one.shape else own}"
        yield from (f"    counts_{c.lower()} = board_count({c})" for c in counters)
        first = line.layout.stage("sensed").start
        for one in self.own("sensed"):
            from_before = bool(alone.rebased) and one.name == "row.sensed.travel"
            values = [self._sensed(one.at - first + j, from_before) for j in range(prod(one.shape))]
            yield f"    line.{one.name} = [{', '.join(values)}]"
        for one in alone.rebased:
            yield f"    line.{one.name} = [0.0] * {prod(one.shape)}"
        yield from (f"    counted[{c}] = counts_{c.lower()}" for c in counters)
        yield ""

    def _sensed(self, n: int, from_before: bool) -> str:
        sensed = self.wiring.sensed[n]
        if sensed.counter:
            counts = f"counts_{sensed.counter.lower()}"
            return (
                f"({counts} - counted[{sensed.counter}]) * {sensed.share!r}"
                if from_before
                else f"{counts} * {sensed.share!r}"
            )
        if not sensed.known:
            return "0.0"
        return f"sense({n})" if sensed.value else f"known(sense({n}))"

    def _outputs(self) -> Iterator[str]:
        yield from ("", "def known(x):", "    return x if x == x else 0.0", "", "", "def outputs():", "    return [")
        for place in np.arange(len(self.wiring.line.layout))[self.wiring.line.outputs.commands].tolist():
            one = next((g for g in self.own("outputs") if g.at <= place < g.at + max(1, prod(g.shape))), None)
            yield (
                f"        line.{one.name}{f'[{place - one.at}]' if one.shape else ''},"
                if one is not None
                else "        0.0,"
            )
        yield "    ]"

    def _start(self) -> Iterator[str]:
        assert self.c is not None
        place = next((p for p in self.wiring.places["button"] if p.channel == START), None)
        pressed = f"board_sensor({place.name}) > 0" if place is not None else "False"
        yield from (
            "",
            "def start_pressed():",
            f"    return {pressed}",
            "",
            "",
            "def routine_may():",
            '    """Whether it may begin: what it is measured by says something."""',
        )
        for k, title in self.c.silent():
            yield from (f"    if sense({k}) != sense({k}):  # {title}", "        return False")
        yield from (
            f"    return board.since(began) >= {GYRO_MS}  # a gyro has measured what it says at rest",
            "",
            "",
            "began = board.ms()",
            "",
        )


_SPEEDS = """
per_second = [0.0] * len(COUNT_PINS)  # how fast encoders count
_since = board.ms()
_before = [0] * len(COUNT_PINS)


def measure_speeds():
    \"\"\"Over 30 ms at least: a count more or less must not look like a jerk.\"\"\"
    global _since
    passed = board.since(_since)
    if passed < 30:
        return
    _since = board.ms()
    for k in range(len(COUNT_PINS)):
        count = board_count(k)
        per_second[k] = (count - _before[k]) * 1000.0 / passed
        _before[k] = count
"""

_GYRO = """
gyro_rad = 0.0  # how far it has turned
_looked = _first = board.ms()
_many, _at_rest = 0, 0.0


def add_up_gyro():
    \"\"\"Its voltage at rest is what it says in the first second: leave the robot alone when you switch it on.\"\"\"
    global gyro_rad, _looked, _many, _at_rest
    passed = board.since(_looked)
    if passed < 5:
        return
    _looked = board.ms()
    read = board_sensor(SENSOR_GYRO)
    if board.since(_first) < {ms}:
        _many += 1
        _at_rest += (read - _at_rest) / _many
    else:
        gyro_rad += (read - _at_rest) * {scale!r} * passed / 1000.0
"""
