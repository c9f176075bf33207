"""A board that drives by itself, and its sources, in a session that watches it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pivrex.board.watched import ONLY_LISTENS, WatchedBoard
from pivrex.devices.source import PLAYS
from pivrex.line.layout import Floats
from pivrex.rig.sources import RigSource
from pivrex.session.moving import Moving, State
from pivrex.session.obeying import watch_balance

__all__ = ["OnBoard", "advance", "go_live"]

NOT_TAKEN = "the board has not taken over the sticks here yet"


class OnBoard:
    """The source of a board that drives by itself: it is shown, and drives nothing here."""

    can, lost = PLAYS, ""

    def __init__(self, name: str, spec: RigSource) -> None:
        self.name, self.kind, self.title = name, spec.kind, f"{name}, on the board"
        self._channels = frozenset(spec.channels())
        self._readings: Mapping[str, float] = {}

    def channels(self) -> frozenset[str]:
        return self._channels

    def take(self, readings: Mapping[str, float]) -> None:
        """Take what the board read in its newest tick."""
        self._readings = readings

    def read(self, now_s: float) -> Mapping[str, float]:
        return self._readings


def advance(session: Any, now_s: float) -> list[Floats]:
    """Make one tick of a session; or take those that a board has made which drives by itself. Return the rows of the Ticks."""
    watched = session.robots.watched
    if watched is None:
        if session.inputs.on_board is not None:
            session.inputs.watch_no_longer()
            session.stop("no longer watching the board")
        return [session.tick(now_s)]
    session._take_rig(now_s)
    session._poll(now_s)
    if session.robots.watched is not watched:
        return []  # another rig has another link
    if watched.drives:
        _be_its_stick(session, watched, now_s)
    rows = _taken(session, watched, now_s)
    if rows:
        session._row = rows[-1]
        watch_balance(session, rows[-1])
    session._watching.follow(session.inputs, watched, session.line.rig, now_s)
    return rows


def _taken(session: Any, watched: WatchedBoard, now_s: float) -> list[Floats]:
    """Take the Ticks that a board has made, and tell the screen what it says; return their rows."""
    inputs, line, board = session.inputs, session.line, session.board
    rows = watched.take()
    watched.drives &= not watched.is_stopped
    session.robots.command(session.robots.neutral, watched.drives)
    while watched.notes:
        board.note(watched.notes.popleft())
    moving = _moving(watched, now_s)
    if moving != board.status.moving:
        board.set(moving=moving)
    name = line.rig.board.source
    on_board = inputs.on_board
    if on_board is None or (
        board.status.source != name and not watched.drives
    ):  # a changed rig may have taken its place
        on_board = inputs.watch(name)
    if rows:
        raw = rows[-1][line.layout.stage("raw")].tolist()
        on_board.take({channel: value for (_, channel), value in zip(line.inputs.wanted, raw, strict=True)})
    return rows


def _moving(watched: WatchedBoard, now_s: float) -> Moving:
    """Return where the machine stands, by what the board says."""
    why = watched.why(now_s)
    if watched.is_stopped:
        return Moving(State.STOPPED, held=why)
    if watched.drives:
        return Moving(State.LIVE) if watched.obeys and not why else Moving(State.LIVE_LOST, lost=why or NOT_TAKEN)
    return Moving(State.LOST, lost=why) if why else Moving()


def go_live(session: Any, watched: WatchedBoard, now_s: float) -> None:
    """Let what drives here be the board's stick, where it can hear it."""
    inputs = session.inputs
    problem = ONLY_LISTENS if watched.only_listens else watched.problem(now_s)
    if not problem and watched.is_stopped:
        problem = "the board is stopped: g lets it move again"
    if problem:
        session.board.note(f"not live: {problem}")
        return
    hands = inputs.sources.get(inputs.hands, inputs.keys)
    if not hands.can.live:
        session.board.note(f"not live: {hands.title} cannot drive live; choose another source first")
        return
    inputs.choose(hands.name)
    session.board.note(f"{inputs.driver.title}: this is the board's stick now; the board still computes the line")
    watched.drives = True


def _be_its_stick(session: Any, watched: WatchedBoard, now_s: float) -> None:
    """Tell the board what the source that drives here reads; where that is lost, or the board is not heard, it gets nothing more."""
    inputs = session.inputs
    inputs.listen(now_s)
    problem = inputs.lost or watched.problem(now_s)
    if problem:
        watched.drives = False
        session.board.note(f"no longer live, the board goes on by itself: {problem}")
    else:
        watched.simulator(inputs.as_stick(watched.channels, now_s))
