"""The action for each request of the screen, one per row."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from pivrex.line.beginning import begun, known_at, start_of, taken_in_hand
from pivrex.session import messages as ask
from pivrex.session.marking import take_mark
from pivrex.session.on_board import go_live
from pivrex.session.periods import Period

__all__ = ["AS_STICK", "HANDLERS", "OF_THE_RIG", "ORDERED", "WATCHES", "WHILE_WATCHING"]

OF_THE_RIG = (
    ask.ChooseSource, ask.PutBack, ask.Believe, ask.TakeMark, ask.StepLevel, ask.Probe, ask.UseRobot, ask.Hold, ask.BeginMotion, ask.ZeroGyro,
    ask.ChooseRoutine, ask.UseMoves, ask.MakeReady, ask.StartPeriod,
)  # fmt: skip
"""These mean the rig that the screen has by now: they are done in the order in which they were asked."""


WHILE_WATCHING = (
    ask.Stop, ask.GoOn, ask.KeyUp, ask.LetGo, ask.UseRig, ask.LayOut, ask.UseMoves, ask.ChooseRoutine, ask.WatchSources, ask.MeasureAgain,
    ask.UseRobot, ask.SetKeysMode, ask.StartPeriod, ask.GoLive, ask.ChooseSource, ask.AttachPads,
)  # fmt: skip
"""What counts while a board drives by itself."""

AS_STICK = (*WHILE_WATCHING, ask.KeyDown, ask.MoveSticks)
"""And while this computer is its stick."""

WATCHES = "the board drives by itself, and this computer only watches"


def _set_keys_mode(session: Any, request: ask.SetKeysMode) -> None:
    session.inputs.keys.set_mode(request.mode)
    session.board.set(keys_mode=request.mode)
    session.inputs.tell()


def _stop(session: Any, reason: str) -> None:
    watched = session.robots.watched
    if watched is None:
        session.stop(reason)
    elif refusal := watched.ask("stop", reason):
        session.board.note(refusal)


def _go_on(session: Any) -> None:
    watched = session.robots.watched
    if watched is None:
        session._go_on()
    elif refusal := watched.ask("go"):
        session.board.note(refusal)


def _go_live(session: Any, now_s: float) -> None:
    watched = session.robots.watched
    if watched is None:
        session._go_live()
    else:
        go_live(session, watched, now_s)


def _choose(session: Any, name: str) -> None:
    inputs, watched = session.inputs, session.robots.watched
    if watched is None or watched.drives:
        session.stop_if_live(inputs.choose(name))
    elif inputs.on_board is None or name != inputs.on_board.name:
        inputs.hands = name
        session.board.note(f"{name} is the board's stick once it is live: Ctrl+L")


def _start(session: Any, request: ask.StartPeriod) -> None:
    """Start a period; a board that drives by itself begins its routine on command."""
    watched, period = session.robots.watched, Period(request.period)
    if watched is None:
        session._begin_again(session._rounds.start(period, session._line, request.only, session._t, request.seconds))
    elif refusal := watched.ask("run") if period is Period.ALONE else WATCHES:
        session.board.note(refusal)


def _rewire(session: Any, words: str) -> None:
    """Plug the simulated robot of the open rig differently; its line begins again. A robot on the link notices nothing of it."""
    if session.robots.link is not None:
        return
    session._walk(begun(session._line, start_of(session._rounds.field)))
    session._wired.be(session._rig_requested, words)
    session._build()


def _by_hand(session: Any, what: str) -> None:
    session.robots.move_by_hand(what)
    if what == "lay down":
        session._walk(taken_in_hand(session._line, session._state, moved=True))


HANDLERS: dict[type, Callable[[Any, Any, float], None]] = {
    ask.Stop: lambda session, request, _: _stop(session, request.reason),
    ask.GoOn: lambda session, _request, _now: _go_on(session),
    ask.GoLive: lambda session, _request, now: _go_live(session, now),
    ask.KeyDown: lambda session, request, now: session._press(request, now),
    ask.KeyUp: lambda session, request, _: session.inputs.keys.release(request.key),
    ask.SetKeysMode: lambda session, request, _: _set_keys_mode(session, request),
    ask.MoveSticks: lambda session, request, _: session._move_sticks(request),
    ask.LetGo: lambda session, _request, _now: session.inputs.rest_hands(),
    ask.ChooseSource: lambda session, request, _: _choose(session, request.name),
    ask.StepLevel: lambda session, request, _: session._walk(session._line.choose_level(session._state, request.steps)),
    ask.PutBack: lambda session, _request, _now: session._put_back(),
    ask.Believe: lambda session, request, _: session._walk(
        known_at(session._line, session._state, np.array(request.pose))
    ),
    ask.TakeMark: lambda session, _request, _now: take_mark(session),
    ask.UseRig: lambda session, request, _: session._ask_for_rig(request),
    ask.LayOut: lambda session, request, _: session._lay_out(request),
    ask.Rewire: lambda session, request, _: _rewire(session, request.fault),
    ask.AttachPads: lambda session, _request, _now: session._want_pads(),
    ask.Probe: lambda session, request, _: session._begin_probe(request),
    ask.EndMove: lambda session, _request, _now: session._probing.end_move(),
    ask.MoveSimulated: lambda session, request, _: _by_hand(session, request.what),
    ask.Record: lambda session, _request, now: session._recordings.toggle(session.line, now),
    ask.WatchSources: lambda session, request, _: session._watching.turn(request.on),
    ask.MeasureAgain: lambda session, request, _: session._watching.measure_again(request.source),
    ask.UseRobot: lambda session, request, _: session.stop_if_live(session.robots.change(request.on_link)),
    ask.Push: lambda session, request, _: session.robots.push(request.forward_Ns, request.left_Ns, request.turn_Nms),
    ask.Hold: lambda session, request, _: session._walk(
        session._correcting.hold(session._line, session._state, request.on)
    ),
    ask.ZeroGyro: lambda session, _request, _now: session._walk(
        session._correcting.zero(session._line, session._state)
    ),
    ask.BeginMotion: lambda session, request, _: session._begin_move(request),
    ask.ChooseRoutine: lambda session, request, _: session._begin_again(session._rounds.choose(request.program)),
    ask.UseMoves: lambda session, request, _: session.moves.use(request.moves),
    ask.MakeReady: lambda session, request, _: session._begin_again(session._rounds.ready(request.midway)),
    ask.StartPeriod: lambda session, request, _: _start(session, request),
    ask.LeaveMatch: lambda session, _request, _now: session._match.leave(),
    ask.PauseRoutine: lambda session, request, _: session._match.pause(request.on, session._t, session.dt_s),
    ask.StepRoutine: lambda session, _request, _now: session._match.one_step(session._t, session.dt_s),
}
"""What each request does, a row each."""

ORDERED: dict[str, ask.Request] = {
    "ready": ask.MakeReady(),
    "match": ask.StartPeriod("alone"),
    "alone": ask.StartPeriod("alone", only=True),
    "driven": ask.StartPeriod("driven", only=True),
    "leave": ask.LeaveMatch(),
    "stop": ask.Stop("the match's desk says stop"),
}
"""What each order from outside asks for, a row each; see `pivrex.devices.match_wire.ORDERS`."""
