"""The requests of buttons and letters to the session, in addition to their effect in the line."""

from __future__ import annotations

from typing import Any

from pivrex.line.balance import FALLEN, STANDS, STATES, WAITS
from pivrex.line.bindings import Bindings, moves_of
from pivrex.line.layout import Floats

__all__ = ["obey", "watch_balance"]


def obey(session: Any, row: Floats, now_s: float) -> None:
    """Do what the Tick of a session says that buttons ask for."""
    line = session.line
    layout = line.layout

    def says(name: str) -> int:
        return round(row[layout.at("bindings", name)]) if layout.has("bindings", name) else 0

    watch_balance(session, row)
    if layout.has("clock", "asks") and not row[layout.at("clock", "asks")]:
        return  # what buttons ask for is repeated until it is computed again
    if says("stop"):
        session.stop("a button said stop")
    if says("zero_gyro"):
        session._walk(session._correcting.zero(line, session._state))
    lies = session._correcting.watch(line, row)
    if lies:
        session.stop(lies)
    if says("record"):
        session._recordings.toggle(line, now_s)
    if says("shut_down"):
        session.stop("shut down by a button")
        session.robots.shut_down()
    if says("routine_by"):
        session._match.walk(says("routine_by"))
    if says("do"):
        stage = line.stages["bindings"]
        assert isinstance(stage, Bindings)
        _begin_move(session, moves_of(stage.actions)[says("do") - 1], row)


def watch_balance(session: Any, row: Floats) -> None:
    """Report what became of a robot that balances; one whose drive is off is stopped as well, until a person goes on."""
    layout = session.line.layout
    state = float(row[layout.at("balance", "state")]) if layout.has("balance", "state") else STANDS
    before, session.stood = session.stood, state
    stands = layout.has("balance", "state") and state == STANDS
    if stands != session.status.upright:
        session.board.set(upright=stands)
    if state == before or (before == WAITS and state != STANDS):
        return
    watched, what = session.robots.watched, f"the robot {STATES[state]}" if state == FALLEN else STATES[state]
    if state == STANDS or (watched is not None and not watched.drives):
        session.board.note("it stands by itself now" if state == STANDS else what)
    else:
        session.stop(what)


def _begin_move(session: Any, text: str, row: Floats) -> None:
    """Let an own move begin, or say what is in its way."""
    match, status = session._match, session.status
    busy = ""
    if not status.moving.line_drives:
        busy = "the robot is stopped"
    elif match.alone:
        busy = f"{status.match.routine} drives"
    elif status.match.waits:
        busy = "the driver has not let go of the sticks"
    elif match.rests:
        busy = f"the match is {status.match.period}"
    elif status.experiment and not session.moves.goes_on:
        busy = f"{status.experiment} goes on"
    elif session.inputs.driver.can.plays:  # who plays a recording makes room
        session.inputs.choose(session.inputs.keys.name)
    session.moves.press(text, session.line, row, session._rounds.field, busy)
