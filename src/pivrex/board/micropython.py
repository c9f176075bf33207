"""The program of a robot's board in MicroPython, written from its rig: `rig.py` with its sizes and pins, `robot.py` with which value goes
where, `mine.py`, the line, and the parts that are the same for every rig.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from math import prod
from pathlib import Path
from typing import Any

import numpy as np

from pivrex.board.alone import Alone
from pivrex.board.alone_c import GYRO_MS, AlonePrinter
from pivrex.board.line_micropython import line_module, maths_module
from pivrex.board.parts import part
from pivrex.board.pins_used import START, BoardWiring, Place
from pivrex.board.rig_c import answers
from pivrex.errors import Mistake, RigError
from pivrex.line.stage import PRESSED
from pivrex.rig.sources import NumbersSource, PacketsSource, PinsSource

__all__ = ["OWN", "micropython_files"]

OWN = "mine.py"
"""The file with a person's own code: it is written once."""

LINKED, ALONE = ("link.py", "seal.py"), ("alone.py", "radio.py", "seal.py")

PAIRS = {"count": "COUNT_PINS", "range": "RANGE_PINS"}


def micropython_files(wiring: BoardWiring, alone: Alone | None) -> dict[str, str]:
    """Return the files of a robot's program in MicroPython, by name; of a board that drives by itself with its line.

    Raises `RigError` for what such a board cannot do.
    """
    wiring.missing[:] = [
        m.replace("mine_", "").replace("mine.c", OWN)
        for m in wiring.missing
        if not m.startswith("a laptop cannot watch")
    ]
    if alone is not None:
        wiring.missing.append("a laptop cannot watch it, nor stop it: that needs the bits that a program in C has")
        if alone.routine is not None and wiring.rig.board.start_pin == "":
            raise RigError(
                Path("rig"), [Mistake(0, "board.start_pin", "is missing: only a button can begin the routine")]
            )
    names = ["board.py", "sentence.py", "main.py", *(ALONE if alone is not None else LINKED)]
    found = {
        name: part(f"micropython/{name.replace('.py', '.upy')}")
        for name in names
        if name != "seal.py" or wiring.rig.secret
    }
    drives = "alone" if alone is not None else "link"
    found["main.py"] = found["main.py"].replace("import driver\n", f"import {drives} as driver\n")
    printer = _Printer(wiring, alone)
    found |= {"rig.py": printer.rig(), "robot.py": re.sub(r"\n{4,}", "\n\n\n", printer.robot()), OWN: printer.mine()}
    if alone is not None:
        found |= {"line.py": line_module(alone.parts.program, alone.parts.start), "maths.py": maths_module()}
    return found


def _python(text: str) -> str:
    """Return an expression of C, as `pivrex.board.pins_used` has it, as Python."""
    return re.sub(r"\bR\(([^()]*)\)", r"\1", text.replace("(real)", ""))


def _tuple(values: list[Any]) -> str:
    inner = ", ".join(str(v) if not isinstance(v, tuple) else _tuple(list(v)) for v in values)
    return f"({inner},)" if len(values) == 1 else f"({inner})"


class _Printer:
    """Writes what depends on the rig."""

    def __init__(self, wiring: BoardWiring, alone: Alone | None) -> None:
        self.wiring, self.alone, self.spec = wiring, alone, wiring.source
        self.c = AlonePrinter(alone) if alone is not None else None

    def _pins(self, kind: str) -> list[Any]:
        return [p.use.pin if isinstance(p.use.pin, int) else repr(str(p.use.pin)) for p in self.wiring.places[kind]]

    # --- rig.py ---

    def rig(self) -> str:
        """Return `rig.py`."""
        wiring, rig, places = self.wiring, self.wiring.rig, self.wiring.places
        lines = [
            f'"""What the program must know of the rig {rig.name}. Written by pivrex board: change the rig, and write it again."""', "",
            f"NAME = {rig.name!r}",
            f"HASH = {wiring.hash!r}  # which values leave and come back: the desktop says it too",
            f"OUT = {len(wiring.given)}  # values that leave for it",
            f"BACK = {len(wiring.back)}  # values that come back",
            f"BACK_EACH = {answers(wiring)[0]}  # of these in a sentence",
            f"BAUD = {wiring.baud}",
            f"KEY = {rig.secret!r}" + ("  # whoever has it may drive the robot" if rig.secret else ""),
            f"REST_VALUES = {_tuple([g.rest for g in wiring.given])}",
            "ANALOGUE_FULL = 1023.0", "",
            "# --- pins, each by its place among those of its kind ---", "",
            f"PWM_PINS = {_tuple([(pin, round(p.pwm_hz) or 1000) for pin, p in zip(self._pins('pwm'), places['pwm'], strict=True)])}",
            f"LEVEL_PINS = {_tuple(self._pins('level'))}",
            f"PULSE_PINS = {_tuple(self._pins('pulse'))}",
        ]  # fmt: skip
        for kind, name in PAIRS.items():
            pins = self._pins(kind)
            lines.append(f"{name} = {_tuple(list(zip(pins[::2], pins[1::2], strict=True)))}")
        lines += [
            f"ANALOGUE_PINS = {_tuple(self._pins('sensor'))}",
            f"BUTTON_PINS = {_tuple(self._pins('button'))}",
            "",
        ]
        lines += [f"{name} = {n}" for name, n in self._places().items()]
        return "\n".join([*lines, *(self._alone() if self.alone is not None else []), ""])

    def _places(self) -> dict[str, int]:
        """Return the names of pins with their places."""
        places = self.wiring.places
        found = {p.name: k for kind in ("pwm", "level", "pulse") for k, p in enumerate(places[kind])}
        found |= {p.name: k for k, p in enumerate(places["count"][::2])}
        sensors: list[Place] = [*places["sensor"], *places["range"][::2], *places["button"]]
        return found | {p.name: k for k, p in enumerate(sensors)}

    def _alone(self) -> Iterator[str]:
        alone, spec, line = self.alone, self.spec, self.wiring.line
        assert alone is not None and spec is not None and self.c is not None
        radio = self.wiring.radio
        task = alone.routine.task if alone.routine is not None else None
        yield from ("", "# --- it drives by itself ---", "")
        yield f"PERIOD_US = {round(line.dt_s * 1e6)}  # of a tick"
        yield f"DT = {line.dt_s!r}  # the same, in s"
        yield f"READS = {_tuple(list(alone.reads))}  # which of what is said each reading is; -1 none, -2 ready, -3 linked"
        yield f"REST_READINGS = {_tuple(line.rest().tolist())}"
        yield f"IS_BUTTON = {_tuple([not self.c._is_stick(k) for k in range(len(alone.reads))])}"
        yield f"CHANNELS = {len(alone.channels)}  # what {self.wiring.rig.board.source} says"
        yield f"RAMP_MS = {round(spec.ramp_s * 1e3) if spec.when_lost == 'ramp' else 0}"
        yield f"SILENT_MS = {round((spec.silent_s or 0) * 1e3)}"
        yield f"IDLE = {spec.idle!r}"
        yield f"ROUTINE = {round(task.period_s / line.dt_s) if task is not None else 0}  # ticks of its routine at most; 0: it has none"
        yield f"RADIO_BAUD = {radio.wire.baud if radio is not None else 0}"  # type: ignore[union-attr]
        yield f"SENDER = {(radio.sender if isinstance(radio, PacketsSource) else '')!r}"
        if isinstance(radio, PacketsSource):
            yield f"ZERO, FULL, AXES = {float(radio.zero)!r}, {float(radio.full)!r}, {len(radio.columns)}"
            yield f"AXIS_LOW = {_tuple([0.0 if c.endswith('_trigger') else -1.0 for c in radio.columns])}"
            yield f"BUTTON_BITS = {_tuple([int(c.removeprefix('button_')) for c in alone.channels[len(radio.columns) :]])}"

    # --- robot.py ---

    def robot(self) -> str:
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
        for k, one in enumerate(self.wiring.given):
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
        """Yield what writes a field of what comes back."""
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
        """Return what goes into the line, and comes out of it."""
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
        yield f"    if channel in {_tuple(triggers)}:"
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

    def _own(self, stage: str) -> list[Any]:
        assert self.c is not None
        return self.c._own(stage)

    def _inputs(self) -> Iterator[str]:
        """Yield what puts clock and sensors into the line. A way is counted from the tick before: so counts stay whole until then."""
        line, alone = self.wiring.line, self.alone
        assert alone is not None
        read = [g.at + j - line.layout.stage("sensed").start for g in self._own("sensed") for j in range(prod(g.shape))]
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
        for one in self._own("clock"):
            own = clock[one.name.rpartition(".")[2]]
            yield f"    line.{one.name} = {f'[{own}]' if one.shape else own}"
        yield from (f"    counts_{c.lower()} = board_count({c})" for c in counters)
        first = line.layout.stage("sensed").start
        for one in self._own("sensed"):
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
        for place in np.arange(len(self.wiring.line.layout))[self.wiring.line.outputs.told].tolist():
            one = next((g for g in self._own("outputs") if g.at <= place < g.at + max(1, prod(g.shape))), None)
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

    # --- mine.py ---

    def mine(self) -> str:
        """Return `mine.py` as it is before a person changes it."""
        gives = [f"    # {k}: {g.title}" for k, g in enumerate(self.wiring.given) if g.place is None]
        senses = [f"    # {k}: {s.title}" for k, s in enumerate(self.wiring.sensed) if s.known and not s.value]
        return "\n".join([
            '"""Yours: pivrex board writes this file once, and never again."""', "", "from machine import UART", "", "",
            "def port(name, baud):", '    """The serial line to the laptop ("link"), or of the radio ("radio")."""',
            '    return UART(0 if name == "link" else 1, baud)', "", "",
            "def begin():", '    """Once, at the start."""', "", "",
            "def loop():", '    """In every loop. It must not wait: the watchdog is looked at in between."""', "", "",
            "def give(n, value):", '    """A value for something that has no pin in the rig."""', *gives, "", "",
            "def sense(n):", '    """What the program cannot sense by itself: return it, or nan while it is not known."""', *senses,
            '    return float("nan")', "",
        ])  # fmt: skip


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
