"""Warnings about a rig: not mistakes, but worth a look, such as who may drive it and whether its line is fast enough."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from pivrex.devices.link_speed import link_speed
from pivrex.errors import Mistake, RigError
from pivrex.line.line import Line
from pivrex.line.too_little import too_little
from pivrex.rig.patches import patches_of
from pivrex.rig.place import find_places
from pivrex.rig.read import read_table, rig_text
from pivrex.rig.renamed import old_keys
from pivrex.rig.rig import Rig
from pivrex.rig.secret import others_may_read
from pivrex.rig.sources import GamepadSource, LettersSource, PacketsSource, PinsSource
from pivrex.rig.transports import SerialTransport, is_this_machine
from pivrex.routine.files import bound_moves
from pivrex.sim.traction import LITTLE, traction_of
from pivrex.tuning.balancing import balance_worries

__all__ = ["warnings_in"]


def warnings_in(rig: Rig, path: Path) -> list[Mistake]:
    """Return the warnings about a rig that was read from ``path``, each with its line."""
    found: list[tuple[tuple[str | int, ...], str]] = [
        *_network(rig),
        *_key(rig, path),
        *_speed(rig),
        *_idle(rig),
        *_blind(rig),
        *_moves(rig, path),
        *_hums(rig),
        *_traction(rig),
        *((tuple(key.split(".")), what) for key, _, what in (said.partition(": ") for said in balance_worries(rig))),
    ]
    text = rig_text(path)
    with suppress(RigError):  # the file has been changed since
        found += old_keys(read_table(text, path))
    places = find_places(text) if found else {}
    return sorted(
        Mistake(
            next((places[loc[:n]] for n in range(len(loc), 0, -1) if loc[:n] in places), 0),
            ".".join(map(str, loc)),
            what,
        )
        for loc, what in found
    )


def _network(rig: Rig) -> list[tuple[tuple[str, ...], str]]:
    found: list[tuple[tuple[str, ...], str]] = []
    for name, source in rig.sources.items():
        if (
            isinstance(source, GamepadSource | PinsSource)
            or isinstance(source.wire, SerialTransport)
            or not source.wire.from_outside
        ):
            continue
        loc = ("sources", name, "wire")
        if not isinstance(source, PacketsSource) and not (isinstance(source, LettersSource) and source.framed):
            framed = "letters that are not framed" if isinstance(source, LettersSource) else source.kind
            found.append((loc, f"hears the network, and {framed} cannot be sealed: anyone in it can drive"))
        elif not rig.key:
            found.append((loc, "hears the network without a key: anyone in it can drive; pivrex key makes one"))
    wire = rig.link.wire if rig.link is not None else None
    if (
        wire is not None
        and not isinstance(wire, SerialTransport)
        and not is_this_machine(wire.listens_at)
        and not rig.key
    ):
        what = "leads into the network without a key: the robot obeys anyone in it; pivrex key makes one"
        found.append((("link", "wire"), what))
    return found


def _blind(rig: Rig) -> list[tuple[tuple[str, ...], str]]:
    """Warnings about missing inputs of the estimated pose."""
    blind = next((n for n, m in rig.motors.items() if not m.counts_per_turn), "")
    if rig.odometry.turn == "gyro" and rig.gyro is None and "odometry" in rig.model_fields_set:
        return [
            (
                ("odometry", "turn"),
                "there is no gyro: turns are computed by the wheels alone, which slipping tyres spoil",
            )
        ]
    if blind and "odometry" in rig.model_fields_set:
        what = f"{blind} has no encoder (counts_per_turn): the pose is estimated from its commands, to about 15 %"
        return [(("odometry",), what)]
    return []


def _idle(rig: Rig) -> list[tuple[tuple[str, ...], str]]:
    """Attachments that no button moves: then only a routine does."""
    acted = {p.action.target for p in patches_of(rig) if p.action is not None}
    words = {"switch": "on", "motor": "follows", "position": "follows", "lift": "follows", "servo": "follows"}
    return [
        (
            ("attachments", name),
            f'has no binding: only a routine moves it. A driver needs [[bindings]] with does = "{name} {words[a.kind]}"',
        )
        for name, a in rig.attachments.items()
        if name not in acted
    ]


def _hums(rig: Rig) -> list[tuple[tuple[str | int, ...], str]]:
    """Functions that cannot move the robot at a speed level, however far the stick is pushed."""
    found: list[tuple[tuple[str | int, ...], str]] = []
    for one in too_little(Line(rig)):
        part = "turning" if one.function == "turn" else "moving"
        loc = ("speed_levels", "levels", one.level, part) if one.level_name else ("shaping", one.function, "scale")
        found.append((loc, f"{one.said}; raise it, or the scale of {one.function}"))
    return found


def _traction(rig: Rig) -> list[tuple[tuple[str | int, ...], str]]:
    """A robot whose motors push harder than its tyres hold, with too little of its weight on them, and nothing that makes its starts soft."""
    if rig.is_bench or rig.body is None:
        return []
    traction = traction_of(rig)
    if traction.share < LITTLE and traction.spins:
        return [(("chassis", "mass_centre"), f"{traction.said}; {traction.remedy}")]
    return []


def _moves(rig: Rig, path: Path) -> list[tuple[tuple[str | int, ...], str]]:
    """Own moves that a button asks for, and that cannot be done."""
    why = {text: move for text, move in bound_moves(rig, path).items() if isinstance(move, str)}
    return [
        (
            tuple(
                int(part) if part.isdecimal() else part
                for part in (f"{p.key}.does" if p.binding is not None else p.key).split(".")
            ),
            f'is "{p.action.text}", but {why[p.action.text]}',
        )
        for p in patches_of(rig)
        if p.action is not None and p.action.text in why
    ]


def _key(rig: Rig, path: Path) -> list[tuple[tuple[str, ...], str]]:
    if rig.key and others_may_read(path.parent / rig.key):
        return [(("key",), f"may be read by others: chmod 600 {rig.key}")]
    return []


def _speed(rig: Rig) -> list[tuple[tuple[str, ...], str]]:
    if rig.link is None or rig.board.mode == "alone":  # `pivrex board` lists what a watched board needs
        return []
    warning = link_speed(Line(rig), rig.link).warning
    return [(("link", "wire", "baud"), warning)] if warning else []
