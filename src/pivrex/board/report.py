"""Writes a board's program, and reports what fits, what has no pin, which pins are used, and how to load it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path

from pivrex.board.chips import CHIPS, Chip, printed_pins
from pivrex.board.emulated import built_program
from pivrex.board.folder import write_board, write_files
from pivrex.board.hand import busy_alone
from pivrex.board.on_chip import SEALED_STACK, STACK, sizes_of
from pivrex.board.on_micropython import prove_in_micropython
from pivrex.board.proving import own_ticks
from pivrex.board.steps import Task
from pivrex.board.transmitter import transmitter_files
from pivrex.errors import PivrexError, RigError, RoutineError
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.rig.pin_uses import PinUse, pins_of
from pivrex.rig.rig import Rig

__all__ = ["BoardReport", "Fit", "reported", "written_and_reported"]


MAX_BUSY = 0.92
"""Of its time a chip may need so much: what comes together now and then needs the rest."""


@dataclass(frozen=True)
class Fit:
    """Whether a program fits into its chip: bytes of flash and memory, of how many; 0 where it could not be built.

    ``said`` is a sentence; ``refused`` whether it does not fit. ``busy`` is the share of its time that a chip needs which drives by
    itself, as fast as the robot goes; None where that is not measured.
    """

    said: str
    refused: bool
    flash: int = 0
    flash_of: int = 0
    ram: int = 0
    ram_of: int = 0
    busy: float | None = None


@dataclass(frozen=True)
class BoardReport:
    """What was written for a rig, and what is worth saying about it.

    Attributes
    ----------
    rig, hash, chip, mode, routine, target : str
        ``chip`` is empty for a program for any board; ``mode`` is obeys, alone or sends; ``routine`` is what a board that is alone drives
        on command.
    folder : Path
    files, missing : list of str
        ``missing`` says what has no pin.
    kept : bool
        Whether the person's own `mine.c` was there already, and stays.
    wrong : list of str
        What the board cannot do: then nothing was written.
    fit : Fit or None
    pins : list of (str, str)
        The chip's pins as they are printed, and what sits on each; empty for a free one.
    """

    rig: str
    folder: Path
    chip: str = ""
    hash: str = ""
    files: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    kept: bool = False
    wrong: list[str] = field(default_factory=list)
    fit: Fit | None = None
    pins: list[tuple[str, str]] = field(default_factory=list)
    mode: str = "obeys"
    routine: str = ""
    target: str = "avr"

    @property
    def does(self) -> str:
        """The board's mode, as the end of a sentence."""
        if self.routine:
            return f"drives by itself, and the routine {self.routine} on command"
        return {"obeys": "obeys a laptop", "alone": "drives by itself", "sends": "sends what its controls read"}[
            self.mode
        ]

    @property
    def how(self) -> str:
        """The line that puts it onto the board; empty where that is for you to say."""
        if self.target == "micropython":
            return f"mpremote cp {self.folder}/*.py :"
        if self.mode == "sends" and not self.chip:
            return ""
        return f"make -C {self.folder} load PORT=/dev/ttyUSB0 LOADER=..." if self.chip else f"make -C {self.folder}"

    @property
    def refused(self) -> bool:
        return bool(self.wrong) or (self.fit is not None and self.fit.refused)


def written_and_reported(
    rig: Rig, folder: Path, target: str, mode: str = "", at: Floats | None = None, sender: str = "", task: Task | None = None
) -> BoardReport:  # fmt: skip
    """Write the program of a rig's board, or of the transmitter of its source ``sender``, into a folder, build it where that can be done,
    and say what came of it.

    Raises
    ------
    RigError, RoutineError
        For what the board cannot do.
    SaveError
        If the folder cannot be written.
    """
    written = (
        write_files(folder, *transmitter_files(rig, sender, target))
        if sender
        else write_board(rig, folder, target, mode, at, task)
    )
    alone = not sender and (mode or rig.board.mode) == "alone"
    made = BoardReport(
        rig.name,
        folder,
        "",
        written.hash,
        written.files,
        written.missing,
        written.kept,
        mode="alone" if alone else "sends" if sender else "obeys",
        routine=task.program.name if alone and task is not None else "",
        target=target,
    )
    if target == "micropython" and alone:
        made = replace(made, fit=_timed_in_micropython(rig))
    if target != "avr":
        return made
    chip = CHIPS[rig.board.chip]
    fit = _fit(folder, chip, SEALED_STACK if rig.secret else STACK)
    if alone and fit.flash and not fit.refused:
        fit = _timed(rig, fit, chip, task)
    return replace(made, chip=chip.name, fit=fit, pins=[] if sender else _pins(rig, chip, alone))


def reported(rig: Rig, folder: Path, target: str, at: Floats | None = None, task: Task | None = None) -> BoardReport:
    """Do the same, with everything that is wrong in the report."""
    try:
        return written_and_reported(rig, folder, target, "", at, task=task)
    except RoutineError as problem:
        return BoardReport(rig.name, folder, rig.board.chip, wrong=problem.lines())
    except RigError as problem:
        return BoardReport(rig.name, folder, rig.board.chip, wrong=[str(m) for m in problem.mistakes])
    except PivrexError as problem:
        return BoardReport(rig.name, folder, rig.board.chip, wrong=[str(problem)])


def _larger(chip: Chip) -> str:
    return "; the atmega2560 has more" if chip.name != "atmega2560" else ""


def _fit(folder: Path, chip: Chip, stack: int) -> Fit:
    """Build the program and say what it takes."""
    try:
        flash, ram = sizes_of(built_program(folder))
    except PivrexError as problem:
        missing = "there is no avr-gcc" in str(problem)
        return Fit(f"not built: {problem}" if missing else f"it does not fit: {problem}{_larger(chip)}", not missing)
    said = f"flash {flash:,} of {chip.flash:,} bytes, memory {ram:,} of {chip.ram:,}; the rest is left for the stack"
    full = flash > chip.flash or ram + stack > chip.ram
    if full:
        said = f"it does not fit: {said}, which needs {stack}{_larger(chip)}"
    return Fit(said, full, flash, chip.flash, ram, chip.ram)


def _timed(rig: Rig, fit: Fit, chip: Chip, task: Task | None) -> Fit:
    """Drive the program in the emulator, and say whether the chip is quick enough."""
    try:
        busy = busy_alone(rig, task=task)
    except PivrexError as problem:
        return replace(fit, said=f"{fit.said}; how busy the chip is was not tried: {problem}")
    period_ms = 1e3 / rig.rate_hz
    said = f"driving at full speed it needs {busy.share * period_ms:.1f} of the {period_ms:.1f} ms of a tick"
    if not busy.never_used:
        return replace(fit, refused=True, said=f"{fit.said}; but its stack has reached all of the rest")
    if busy.share > MAX_BUSY:
        slower = 0.9 * rig.rate_hz * MAX_BUSY / min(1.0, busy.share)
        if rig.balance is not None:  # a whole multiple
            slower -= slower % rig.balance.asking_rate_hz
        return replace(
            fit, busy=busy.share, refused=True, said=f'it is too slow: {said}; rate = "{slower:.0f} Hz" may do'
        )
    return replace(fit, busy=busy.share, said=f"{fit.said}; {said}")


def _timed_in_micropython(rig: Rig) -> Fit:
    """Run the line in MicroPython here, and say how long a tick takes; a board says for itself how long it takes there."""
    line = Line(rig)
    try:
        took_ms = prove_in_micropython(line, own_ticks(line, 100)).us / 1e3
    except PivrexError as problem:
        return Fit(f"how long a tick takes was not tried: {problem}", refused=False)
    period_ms, slow = 1e3 * line.dt_s, took_ms > 1e3 * line.dt_s
    said = f"a tick takes {took_ms:.1f} of {period_ms:.1f} ms in MicroPython on this computer, and more on a board, which says how much"
    return Fit(f"it is too slow: {said}" if slow else said, refused=slow)


def _pins(rig: Rig, chip: Chip, alone: bool) -> list[tuple[str, str]]:
    """Return the pins as boards print them, of a large chip only those in use."""
    known = [u for u in pins_of(rig) if str(u.pin).upper() in chip.pins and (alone or not u.key.startswith("sources."))]
    uses = {chip.pins[str(u.pin).upper()].name: f"{u.owner} {_role(u)}".strip() for u in known}
    uses |= dict(zip(chip.serial, ("link in", "link out"), strict=True))
    all_pins = [(name, uses.get(pin.name, "")) for name, pin in printed_pins(chip).items()]
    return all_pins if len(all_pins) <= 22 else [p for p in all_pins if p[1]]


def _role(use: PinUse) -> str:
    if use.role == use.owner:
        return ""
    if use.role == "pin":
        return "" if use.key.startswith("attachments.") else "PWM"
    return use.role.removesuffix("_pin").replace("_", " ")
