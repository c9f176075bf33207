"""A board that drives by itself, and what drives it, as a session that watches has them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pivrex.board.watched import WatchedBoard
from pivrex.devices.source import PLAYS
from pivrex.line.layout import Floats
from pivrex.rig.sources import RigSource
from pivrex.session.moving import Moving, State

__all__ = ["OnBoard", "advance"]


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
    rows = _taken(session, watched, now_s)
    session._row = rows[-1] if rows else session._row
    session._watching.follow(session.inputs, watched, session.line.rig, now_s)
    return rows


def _taken(session: Any, watched: WatchedBoard, now_s: float) -> list[Floats]:
    """Take the Ticks that a board has made, and tell the screen what it says; return their rows."""
    inputs, line, board = session.inputs, session.line, session.board
    rows = watched.take()
    session.robots.command(session.robots.neutral, drives=False)
    while watched.notes:
        board.note(watched.notes.popleft())
    why = watched.why(now_s)
    moving = (
        Moving(State.STOPPED, held=why) if watched.is_stopped else Moving(State.LOST, lost=why) if why else Moving()
    )
    if moving != board.status.moving:
        board.set(moving=moving)
    name = line.rig.board.source
    on_board = inputs.on_board
    if on_board is None or board.status.source != name:  # a changed rig may have taken its place
        on_board = inputs.watch(name)
    if rows:
        raw = rows[-1][line.layout.stage("raw")].tolist()
        on_board.take({channel: value for (_, channel), value in zip(line.inputs.wanted, raw, strict=True)})
    return rows
