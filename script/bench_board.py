"""The programs of boards: what a tick of the line takes on each chip, and what the program that obeys takes of it."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from pivrex.board.emulated import EmulatedRobot
from pivrex.board.on_chip import run_on_chip
from pivrex.board.proving import own_ticks, prove
from pivrex.board.report import told
from pivrex.errors import PivrexError
from pivrex.line.line import Line
from pivrex.rig import read_rig

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
                report = told(own, Path(folder) / "board", "avr")
                fit = report.fit
                figures["obeys"] = (
                    {"flash": fit.flash, "ram": fit.ram} if fit is not None else {"refused": report.wrong[:2]}
                )
            found[f"{name} {chip}"] = figures
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
