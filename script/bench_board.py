"""The programs of boards: what a tick of the line takes on each chip, and what the program that obeys takes of it."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from pivrex.board.emulated import EmulatedRobot, built_program
from pivrex.board.folder import write_board
from pivrex.board.hand import busy_alone
from pivrex.board.line_parts import line_parts
from pivrex.board.on_chip import run_on_chip, sizes_of
from pivrex.board.on_micropython import prove_in_micropython
from pivrex.board.proving import own_ticks, prove, ticks_of_routine
from pivrex.board.report import reported
from pivrex.board.single_line import SingleLine
from pivrex.board.steps import Task
from pivrex.errors import PivrexError
from pivrex.line.line import Line
from pivrex.rig import Rig, read_rig, read_text
from pivrex.routine.files import program_of

ROOT = Path(__file__).resolve().parent.parent
DEMO = ROOT / "src" / "pivrex" / "demo"
RIGS = ("plover", "dunlin", "bittern", "coot", "avocet")
CHIPS = ("atmega328p", "atmega2560")


def boards(ticks: int) -> dict[str, object]:
    """Per chip and rig: the line alone (us a tick, its share of the rig's period, bytes), and the program that obeys."""
    found: dict[str, object] = {}
    for name in RIGS:
        rig = read_rig(DEMO / "rigs" / f"{name}.toml")
        for chip in CHIPS:
            own = rig.model_copy(update={"board": rig.board.model_copy(update={"chip": chip})})
            line = Line(own)
            driven = own_ticks(line, ticks)
            try:
                on_chip = run_on_chip(line, driven, prove(line, driven)[1])
                figures: dict[str, object] = {
                    **on_chip.as_json(),
                    "share_of_a_tick": round(on_chip.us_most / (line.dt_s * 1e6), 3),
                }
            except PivrexError as problem:
                figures = {"refused": str(problem)}
            with tempfile.TemporaryDirectory() as folder:
                report = reported(own, Path(folder) / "board", "avr")
                fit = report.fit
                figures["obeys"] = (
                    {"flash": fit.flash, "ram": fit.ram} if fit is not None else {"refused": report.wrong[:2]}
                )
            found[f"{name} {chip}"] = figures
    return found


RADIO = """
[sources.radio]
kind = "packets"
sender = "green"
columns = ["left_x", "left_y"]
silent_after = "200 ms"
wire = { kind = "serial", port = "/dev/ttyUSB0", baud = 57600 }
"""


def alone() -> dict[str, object]:
    """Plover by itself on the small chip, as fast as it goes: the share of a tick that it needs, bytes, and what was never used."""
    path = DEMO / "rigs" / "plover.toml"
    text = path.read_text("utf-8").replace('rate = "60 Hz"', 'rate = "50 Hz"')
    found: dict[str, object] = {}
    for name, rig in {
        "stick": read_text(text, path, Rig),
        "radio": read_text(text.replace('source = "stick"', 'source = "radio"') + RADIO, path, Rig),
        "radio with a key": read_text(
            text.replace('source = "stick"', 'source = "radio"') + RADIO, path, Rig
        ).with_secret(bytes(16)),
    }.items():
        busy = busy_alone(rig)
        with tempfile.TemporaryDirectory() as folder:
            write_board(rig, Path(folder) / "board", "avr", "alone")
            flash, ram = sizes_of(built_program(Path(folder) / "board"))
        found[name] = {
            "share_of_a_tick_at_50_Hz": round(busy.share, 3),
            "flash": flash,
            "ram": ram,
            "never_used": busy.never_used,
        }
    line = Line(read_text(text, path, Rig))
    single, driven = SingleLine(line_parts(line)), own_ticks(line, 200)
    began = time.perf_counter()
    for row, memory in zip(driven.rows, driven.memories, strict=True):
        single.tick(row, memory)
    found["watching_ms_a_tick"] = round((time.perf_counter() - began) / 200 * 1e3, 3)
    return found


def routines() -> dict[str, object]:
    """The demo's practice together with Plover's line on the small chip: bytes, and the share of a tick; its table."""
    path = DEMO / "rigs" / "plover.toml"
    rig = read_rig(path)
    task = Task(program_of(DEMO / "routines" / "practice.txt", rig))
    busy, line = busy_alone(rig, task=task), Line(rig)
    with tempfile.TemporaryDirectory() as folder:
        write_board(rig, Path(folder) / "board", "avr", "alone", task=task)
        flash, ram = sizes_of(built_program(Path(folder) / "board"))
    ticks = ticks_of_routine(line, task, None)
    assert ticks.routine is not None
    return {
        "share_of_a_tick_at_60_Hz": round(busy.share, 3),
        "flash": flash,
        "ram": ram,
        "never_used": busy.never_used,
        "words": len(ticks.routine.steps.settings.code),
    }


def in_micropython(ticks: int) -> dict[str, object]:
    """Per rig: a tick of the line in MicroPython on this computer, in ms, and as how many ticks of the same line in double C."""
    found: dict[str, object] = {}
    for name in RIGS:
        line = Line(read_rig(DEMO / "rigs" / f"{name}.toml"))
        driven = own_ticks(line, ticks)
        try:
            ran = prove_in_micropython(line, driven)
        except PivrexError as problem:
            return {"refused": str(problem)}
        before, after = line.start().memory, line.memory.start()
        rows = driven.rows.copy()
        began = time.perf_counter()
        for row in rows:
            line.pass_through(before, after, row)
        ours_ms = (time.perf_counter() - began) / ticks * 1e3
        found[name] = {
            "ms_a_tick": round(ran.us / 1e3, 3),
            "ratio_to_the_desktops_line": round(ran.us / 1e3 / ours_ms, 1),
        }
    return found


def emulated_realtime_factor() -> float:
    """How many seconds of Plover's emulated board go by in a second."""
    robot = EmulatedRobot(read_rig(DEMO / "rigs" / "plover.toml"), None, 0.0)
    try:
        began = time.perf_counter()
        for k in range(1, 301):
            robot.step(0.01 * k)
        return round(3.0 / (time.perf_counter() - began), 2)
    finally:
        robot.close()
