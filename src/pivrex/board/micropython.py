"""The program of a robot's board in MicroPython, written from its rig: `rig.py` with sizes and pins, `robot.py` with the places of values,
`mine.py`, the line, and the parts that are the same for every rig.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pivrex.board.alone import Alone
from pivrex.board.alone_c import AlonePrinter
from pivrex.board.line_micropython import line_module, maths_module
from pivrex.board.micropython_robot import RobotPrinter, as_tuple
from pivrex.board.parts import part
from pivrex.board.pins_used import BoardWiring, Place
from pivrex.board.rig_c import answers
from pivrex.errors import Mistake, RigError
from pivrex.rig.sources import PacketsSource

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
    found |= {
        "rig.py": printer.rig(),
        "robot.py": re.sub(r"\n{4,}", "\n\n\n", RobotPrinter(wiring, alone).printed()),
        OWN: printer.mine(),
    }
    if alone is not None:
        found |= {"line.py": line_module(alone.parts.program, alone.parts.start), "maths.py": maths_module()}
    return found


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
            f"OUT = {len(wiring.outputs)}  # values that leave for it",
            f"BACK = {len(wiring.back)}  # values that come back",
            f"BACK_EACH = {answers(wiring)[0]}  # of these in a sentence",
            f"BAUD = {wiring.baud}",
            f"KEY = {rig.secret!r}" + ("  # anyone who has it can drive the robot" if rig.secret else ""),
            f"REST_VALUES = {as_tuple([g.rest for g in wiring.outputs])}",
            "ANALOGUE_FULL = 1023.0", "",
            "# --- pins, each by its place among those of its kind ---", "",
            f"PWM_PINS = {as_tuple([(pin, round(p.pwm_hz) or 1000) for pin, p in zip(self._pins('pwm'), places['pwm'], strict=True)])}",
            f"LEVEL_PINS = {as_tuple(self._pins('level'))}",
            f"PULSE_PINS = {as_tuple(self._pins('pulse'))}",
        ]  # fmt: skip
        for kind, name in PAIRS.items():
            pins = self._pins(kind)
            lines.append(f"{name} = {as_tuple(list(zip(pins[::2], pins[1::2], strict=True)))}")
        lines += [
            f"ANALOGUE_PINS = {as_tuple(self._pins('sensor'))}",
            f"BUTTON_PINS = {as_tuple(self._pins('button'))}",
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
        yield f"ASKS_EVERY = {line.rig.asks_every}  # ticks between two in which the command is computed"
        yield f"READS = {as_tuple(list(alone.reads))}  # the number of each reading in the message; -1 none, -2 ready, -3 linked"
        yield f"REST_READINGS = {as_tuple(line.rest().tolist())}"
        yield f"IS_BUTTON = {as_tuple([not self.c.is_stick(k) for k in range(len(alone.reads))])}"
        yield f"CHANNELS = {len(alone.channels)}  # what {self.wiring.rig.board.source} says"
        yield f"RAMP_MS = {round(spec.ramp_s * 1e3) if spec.when_lost == 'ramp' else 0}"
        yield f"SILENT_MS = {round((spec.silent_s or 0) * 1e3)}"
        yield f"IDLE = {spec.idle!r}"
        yield f"ROUTINE = {round(task.period_s / line.dt_s) if task is not None else 0}  # ticks of its routine at most; 0: it has none"
        yield f"RADIO_BAUD = {radio.wire.baud if radio is not None else 0}"  # type: ignore[union-attr]
        yield f"SENDER = {(radio.sender if isinstance(radio, PacketsSource) else '')!r}"
        if isinstance(radio, PacketsSource):
            yield f"ZERO, FULL, AXES = {float(radio.zero)!r}, {float(radio.full)!r}, {len(radio.columns)}"
            yield f"AXIS_LOW = {as_tuple([0.0 if c.endswith('_trigger') else -1.0 for c in radio.columns])}"
            yield f"BUTTON_BITS = {as_tuple([int(c.removeprefix('button_')) for c in alone.channels[len(radio.columns) :]])}"

    # --- mine.py ---

    def mine(self) -> str:
        """Return `mine.py` before a person changes it."""
        gives = [f"    # {k}: {g.title}" for k, g in enumerate(self.wiring.outputs) if g.place is None]
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
