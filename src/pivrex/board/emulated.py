"""A robot whose program runs in an emulated chip: simavr on one side, the simulated robot's body at the pins."""

from __future__ import annotations

import hashlib
import math
import platform
import re
import shutil
import struct
import subprocess
from collections import Counter
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from tempfile import TemporaryDirectory, mkdtemp

import numpy as np

from pivrex.board.avr import timers_of
from pivrex.board.chips import CHIPS, pin_of
from pivrex.board.folder import board_files
from pivrex.board.parts import part
from pivrex.board.pins_used import TILTS, BoardWiring
from pivrex.board.steps import Task
from pivrex.board.transmitter import transmitter_files
from pivrex.devices.robot_end import LONGEST_GAP_S, PHYSICS_S
from pivrex.errors import PivrexError
from pivrex.kernels.building import compiler
from pivrex.kernels.engines import cache_folder
from pivrex.line.beginning import start_of
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.rig.sources import PinsSource
from pivrex.sim.model import simulator_of

__all__ = ["EmulatedRobot", "built_emulator", "built_program", "run_avr", "symbols_of"]

LONGEST_S = 120.0
NEAR_US = 5.0
INSTALL = {"avr-gcc": "gcc-avr avr-libc binutils-avr", "simavr": "libsimavr-dev"}


def run_avr(command: list[str], folder: Path) -> str:
    """Run a tool of avr-gcc in a folder; return what it prints. Raises `PivrexError`: what to install, or what it says is wrong."""
    if shutil.which("avr-gcc") is None:
        raise PivrexError(f"there is no avr-gcc here; on Debian: sudo apt-get install {INSTALL['avr-gcc']}")
    made = subprocess.run(
        command, cwd=folder, capture_output=True, text=True, timeout=LONGEST_S, check=False, stdin=subprocess.DEVNULL
    )
    if made.returncode:
        if too_much := re.search(r"address 0x80(\w+) .*not within region .data", made.stderr):
            raise PivrexError(
                f"the program needs {int(too_much[1], 16) - 0x100:,} bytes of memory, more than its chip has"
            )
        if too_long := re.search(r"region `text' overflowed by (\d+) bytes", made.stderr):
            raise PivrexError(f"the program is {int(too_long[1]):,} bytes larger than the flash of its chip")
        said = made.stderr.splitlines() or ["it says nothing"]
        raise PivrexError(f"{command[0]}: {next((s for s in said if 'error' in s or 'overflow' in s), said[0])}")
    return made.stdout


def symbols_of(program: Path) -> dict[str, int]:
    """Return where the names of a program stand in the chip's memory."""
    rows = (row.split() for row in run_avr(["avr-nm", str(program)], program.parent).splitlines())
    return {row[2]: int(row[0], 16) & 0xFFFF for row in rows if len(row) == 3}


def built_program(folder: Path) -> Path:
    """Build the program of a folder that was written for a chip; raises `PivrexError`."""
    folder = folder.absolute()
    run_avr(["make", "robot.elf"], folder)
    return folder / "robot.elf"


@lru_cache(maxsize=8)
def _program_of(files: frozenset[tuple[str, str]]) -> bytes:
    """Return the program that files make, by name and text."""
    with TemporaryDirectory(prefix="pivrex-board-") as made_here:
        folder = Path(made_here)
        for name, text in files:
            (folder / name).write_text(text, encoding="utf-8")
        return built_program(folder).read_bytes()


def built_emulator() -> Path:
    """Build the emulator, once, into the user's cache. Raises `PivrexError`: what to install."""
    text = part("emulator.c")
    made = cache_folder() / f"emulator-{hashlib.sha256(text.encode()).hexdigest()[:16]}-{platform.machine() or 'any'}"
    if made.exists():
        return made
    command = compiler()
    if command is None:
        raise PivrexError("there is no C compiler here; on Debian: sudo apt-get install gcc libc6-dev")
    made.parent.mkdir(parents=True, exist_ok=True)
    with TemporaryDirectory(dir=made.parent, prefix=".building-") as made_here:
        source, new = Path(made_here) / "emulator.c", Path(made_here) / "emulator"
        source.write_text(text, encoding="utf-8")
        words = [*command, "-O2", "-o", str(new), str(source), "-lsimavr"]
        run = subprocess.run(words, capture_output=True, text=True, timeout=LONGEST_S, check=False)
        if run.returncode:
            raise PivrexError(
                f"there is no simavr to build with here; on Debian: sudo apt-get install {INSTALL['simavr']}"
            )
        return new.replace(made)


class EmulatedRobot:
    """A robot's end as `pivrex.devices.robot_end` has it, whose rules are those of the program on the chip. Of a ``sender`` it is the
    transmitter of this source of the rig: then only its sticks and its serial line matter.

    Attributes
    ----------
    commands : list of float
        The values that the pins output now.
    partner : str
        Who spoke last.
    sticks : dict of str to float
        Of a board that drives itself: what the sticks and buttons on its pins read, by channel.
    program : Path
        What the chip runs.
    never_used : int
        Bytes of the chip's memory that the stack has never reached.
    """

    def __init__(
        self,
        rig: Rig,
        field: Field | None,
        now_s: float,
        note: Callable[[float, str], None] | None = None,
        mode: str = "",
        sender: str = "",
        task: Task | None = None,
    ) -> None:
        self._folder = Path(mkdtemp(prefix="pivrex-board-"))
        try:
            files, self._wiring = (
                transmitter_files(rig, sender, "avr")
                if sender
                else board_files(rig, "avr", mode, start_of(field), task)
            )
            self.program, emulator = self._folder / "robot.elf", built_emulator()
            self.program.write_bytes(_program_of(frozenset(files.items())))
            line = self._wiring.line
            self.sticks = {
                p.channel: 0.0 for kind in ("sensor", "button") for p in self._wiring.places[kind] if p.channel
            }
            self._columns = [c.name for c in line.stages["sensed"].columns]
            self._rest = line.resting().tolist()
            self._model = simulator_of(rig, field, tick_s=PHYSICS_S)
            self.body = self._model.start()
            self._sensed = self._model.sense(self.body)
            self._cycles = round(rig.board.clock_Hz * PHYSICS_S)
            ends = [f"x:{symbols_of(self.program)['_end']}", "z:0"]
            words = [str(self.program), rig.board.chip, f"{rig.board.clock_Hz:.0f}", *_lines(self._wiring), *ends]
            self._chip = subprocess.Popen(
                [str(emulator), *words], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
            )
        except BaseException:
            shutil.rmtree(self._folder, ignore_errors=True)
            raise
        self._note = note or (lambda _t, _what: None)
        self.commands = list(self._rest)
        self.partner, self.fault, self.good, self.never_used = "", "", 0, 0
        self.refused: Counter[str] = Counter()
        self._in = self._radio = b""
        self.asleep = 0.0
        """The share of the last step that the chip had nothing to do."""
        self._gyro_rad: float | None = None
        self._physics_s = now_s
        self._counts = [0] * sum(1 for _ in self._feeds("count"))

    def _feeds(self, kind: str) -> list[tuple[str, float]]:
        """Return by which column and with which factor what is sensed reaches the pins of a kind."""
        every = 2 if kind in ("count", "range") else 1
        return [(p.column, p.factor) for p in self._wiring.places[kind][::every]]

    @property
    def resting(self) -> bool:
        """Whether the motors are off. Pulses are measured, so they are a little off."""
        near = [NEAR_US if outputs.kind == "pulse" else 0.0 for outputs in self._wiring.outputs]
        return all(abs(t - r) <= n for t, r, n in zip(self.commands, self._rest, near, strict=True))

    def take(self, data: bytes, sender: str, now_s: float) -> None:
        """Take bytes for the serial line."""
        self.partner = sender
        self._in += data

    def take_radio(self, data: bytes) -> None:
        """Take bytes of the radio that drives it, on whichever serial line that has."""
        if self._wiring.shares_port:
            self._in += data
        else:
            self._radio += data

    def step(self, now_s: float, room: bool = True) -> list[bytes]:
        """Let the chip and the body run until now; return what the serial line sends."""
        said = b""
        self._physics_s = max(self._physics_s, now_s - LONGEST_GAP_S)
        while self._physics_s + PHYSICS_S <= now_s:
            self._physics_s += PHYSICS_S
            said += self._run()
            self.body = self._model.step(self.body, np.array(self.commands), PHYSICS_S)
            self._sensed = self._model.sense(self.body)
        return [said] if said else []

    def _run(self) -> bytes:
        assert self._chip.stdin is not None and self._chip.stdout is not None
        data, self._in = self._in[:1024], self._in[1024:]
        try:
            self._chip.stdin.write(struct.pack("<II", self._cycles, len(data)) + data + self._numbers())
            self._chip.stdin.flush()
            outputs = [self._number() for kind in ("pwm", "level", "pulse") for _ in self._wiring.places[kind]]
            self.never_used, asleep, left, size = (self._number() for _ in range(4))
            self.asleep = asleep / self._cycles
            said = self._chip.stdout.read(size)
        except (OSError, struct.error):
            raise PivrexError("the emulated chip has stopped") from None
        if left:
            self._in = data[-left:] + self._in
        self._tell(outputs)
        return said

    def _number(self) -> int:
        assert self._chip.stdout is not None
        return int(struct.unpack("<i", self._chip.stdout.read(4))[0])

    def _numbers(self) -> bytes:
        """The encoder counts, voltages and echoes from now to the end of the step."""
        at = dict(zip(self._columns, self._sensed.tolist(), strict=True))
        numbers = []
        for k, (column, factor) in enumerate(self._feeds("count")):
            count = round(at[column] * factor)
            numbers.append(count - self._counts[k])
            self._counts[k] = count
        for place in self._wiring.places["sensor"]:
            column, factor = place.column, place.factor
            if place.channel:
                numbers.append(self._stick_mV(place.channel))
            elif column == "gyro":
                before, self._gyro_rad = self._gyro_rad, at[column]
                rate = (at[column] - before) / PHYSICS_S if before is not None else 0.0
                numbers.append(round(self._wiring.rig.board.supply_V * 500 + rate * factor))
            elif column in TILTS:
                numbers.append(round(self._wiring.rig.board.supply_V * 500 + at[column] * factor))
            else:
                numbers.append(0 if math.isnan(at[column]) else round(at[column] * factor))
        for column, factor in self._feeds("range"):
            numbers.append(0 if math.isnan(at[column]) else round(at[column] * factor))
        numbers += [round(self.sticks[p.channel]) for p in self._wiring.places["button"]]
        radio, self._radio = self._radio[:256], self._radio[256:]
        last = struct.pack("<i", len(radio)) + radio if _has_radio(self._wiring) else b""
        return struct.pack(f"<{len(numbers)}i", *numbers) + last

    def _stick_mV(self, channel: str) -> int:  # noqa: N802 - millivolts
        """Return the voltage of a stick's pin."""
        spec, value = self._wiring.source, self.sticks[channel]
        low, high = (spec.low, spec.high) if isinstance(spec, PinsSource) else (0.0, 1023.0)
        share = value if channel.endswith("_trigger") else (value + 1) / 2
        return round((low + share * (high - low)) / 1023 * self._wiring.rig.board.supply_V * 1000)

    def _tell(self, outputs: list[int]) -> None:
        """Turn the outputs of the pins into the values that the motors get."""
        values = {}
        places = [(kind, p) for kind in ("pwm", "level", "pulse") for p in self._wiring.places[kind]]
        chip = CHIPS[self._wiring.rig.board.chip]
        timers = timers_of(self._wiring, chip).pwm
        for (kind, place), value in zip(places, outputs, strict=True):
            top = timers[pin_of(chip, place.use).timer].top if kind == "pwm" else 0
            values[place.name] = round(value * place.full / top) if top else value
        if not self._wiring.outputs:
            return  # a transmitter has no motors
        self.commands = [
            rest if g.place is None or (g.kind == "pulse" and not values[g.place.name]) else float(values[g.place.name])
            for g, rest in zip(self._wiring.outputs, self._rest, strict=True)
        ]

    def close(self) -> None:
        """End the chip."""
        self._chip.kill()
        self._chip.wait()
        for stream in (self._chip.stdin, self._chip.stdout):
            if stream is not None:
                stream.close()
        shutil.rmtree(self._folder, ignore_errors=True)


def _lines(wiring: BoardWiring) -> list[str]:
    """Return what sits on which pin, as the emulator reads it."""
    chip = CHIPS[wiring.rig.board.chip]
    words = []
    for place in wiring.places["pwm"]:
        pin = pin_of(chip, place.use)
        control, bit, compare = chip.timer_addresses(pin)
        words.append(f"p:{control}:{bit}:{compare}:{int(chip.timers[pin.timer].bits == 16)}")
    for place in wiring.places["level"]:
        pin = pin_of(chip, place.use)
        words.append(f"l:{chip.port_address(pin.port)}:{pin.bit}")
    words += [f"s:{pin.port}:{pin.bit}" for pin in (pin_of(chip, p.use) for p in wiring.places["pulse"])]
    for kind, letter in (("count", "c"), ("sensor", "a"), ("range", "r")):
        places = [pin_of(chip, p.use) for p in wiring.places[kind]]
        if kind == "sensor":
            words += [f"a:{pin.analogue}" for pin in places]
        else:
            words += [
                f"{letter}:{a.port}:{a.bit}:{b.port}:{b.bit}" for a, b in zip(places[::2], places[1::2], strict=True)
            ]
    words += [f"i:{pin.port}:{pin.bit}" for pin in (pin_of(chip, p.use) for p in wiring.places["button"])]
    return [*words, "u:1"] if _has_radio(wiring) else words


def _has_radio(wiring: BoardWiring) -> bool:
    return wiring.radio is not None and not wiring.shares_port
