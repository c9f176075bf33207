"""Actions: what a button, a letter or a bit does, in the words of a rig file.

Motions: forward 60 %, back 40 %, slide left 50 %, turn right 30 %, pivot left 50 %, brake, coast.
Speed: slow 40 %, level creep, faster level, slower level, reverse (what drives forward drives back).
Frame: field frame, robot frame, other frame, set heading, next point.
Steered wheels: hold the wheels.
Robot: stop, shut down, record.
Routines: next routine, previous routine, do MOVE [with NAME VALUE, ...].
Help: snap every 45 deg, snap to 0 deg, 120 deg, face 2.65 m, 1.98 m, keep the line, drive to 1.2 m, 0.8 m facing 90 deg.
Attachments: boom follows, boom 40 %, boom to 30 deg, boom by -5 deg, lift to 300 mm, pump on, pump off, pump toggle.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from difflib import get_close_matches

from pivrex.errors import UnitError
from pivrex.units import parse

__all__ = ["EVERYTHING", "FACE", "FIRST_WORDS", "LINE", "POSE", "SNAP", "Action", "read_action", "split_time"]

SNAP, FACE, LINE, POSE = "snap", "face", "line", "pose"
"""What a driver can be helped with."""

EVERYTHING = "everything"
"""The group of what ends whatever lasts."""

HELD = ("motion", "brake", "coast", "slow", "hold", "reverse", "speed", "follow", "on", "help")
"""Actions that last while something is held; the others are done once."""

_PLAIN = {
    "brake": ("brake", ""),
    "coast": ("coast", ""),
    "faster level": ("walk", "up"),
    "slower level": ("walk", "down"),
    "field frame": ("frame", "field"),
    "robot frame": ("frame", "robot"),
    "other frame": ("frame", "other"),
    "set heading": ("heading", ""),
    "next point": ("point", ""),
    "hold the wheels": ("hold", ""),
    "reverse": ("reverse", ""),
    "stop": ("stop", ""),
    "shut down": ("shut down", ""),
    "record": ("record", ""),
    "hold heading": ("holding", ""),
    "zero the gyro": ("zero gyro", ""),
    "next routine": ("routine", "next"),
    "previous routine": ("routine", "previous"),
}

_MOTIONS = {
    "forward": (1.0, 0.0, 0.0),
    "back": (-1.0, 0.0, 0.0),
    "slide left": (0.0, 1.0, 0.0),
    "slide right": (0.0, -1.0, 0.0),
    "turn left": (0.0, 0.0, 1.0),
    "turn right": (0.0, 0.0, -1.0),
    "pivot left": (0.5, 0.0, 0.5),
    "pivot right": (0.5, 0.0, -0.5),
}
"""As fractions of full forward, left and turn. A pivot: the named side stands still, for left = forward - turn = 0."""


_HELPS = {"snap every": SNAP, "snap to": SNAP, "face": FACE, "keep the line": LINE, "drive to": POSE}

FIRST_WORDS = frozenset(words.split()[0] for words in (*_PLAIN, *_MOTIONS, "slow", "level", "do", *_HELPS))
"""Words that a name of an attachment may not begin with."""


@dataclass(frozen=True)
class Action:
    """One action.

    Attributes
    ----------
    verb : str
        motion, brake, coast, slow, reverse, level, walk, frame, heading, point, hold, stop, shut down, record, holding, zero gyro, routine,
        do, help; of an attachment follow, speed, to, by, on, off, toggle.
    target : str
        The attachment, the level's name, "up" or "down", or the frame.
    value : float
        A fraction; for "to" and "by" of an attachment as `unit` says.
    twist : tuple of float
        Of a motion, as fractions of full.
    unit : str
        "angle" (rad), "length" (m), "counts", or empty.
    text : str
        As it is written.
    numbers : tuple of float
        Of a help, in m and rad. snap: the step, or 0 and the headings; face: x, y; pose: x, y and, if it should have one, the heading.
    """

    verb: str
    target: str = ""
    value: float = 1.0
    twist: tuple[float, float, float] = (0.0, 0.0, 0.0)
    unit: str = ""
    text: str = ""
    numbers: tuple[float, ...] = ()

    @property
    def lasts(self) -> bool:
        """Whether it lasts while something is held."""
        return self.verb in HELD

    @property
    def pivots(self) -> bool:
        """Whether it turns the robot about one of its sides."""
        return self.verb == "motion" and bool(self.twist[0] and self.twist[2])

    @property
    def group(self) -> str:
        """The group of letters: a later letter of the same group ends this action; `EVERYTHING` ends all, empty is for single actions."""
        if self.verb in ("motion", "brake", "coast"):
            return "motion"
        if self.verb in ("stop", "shut down"):
            return EVERYTHING
        if self.verb in ("slow", "help"):
            return self.verb
        return self.target if self.verb in ("speed", "on", "off") else ""


def split_time(text: str) -> tuple[str, float]:
    """Split "forward 60 % for 300 ms" into the action and its time in s, 0 if it has none; raises `UnitError`."""
    action, found, time = text.rpartition(" for ")
    return (action, parse(time, "time")) if found else (text, 0.0)


def read_action(text: str, attachments: Collection[str], levels: Collection[str]) -> Action:
    """Read an action.

    Raises
    ------
    UnitError
        With what stands there and what would be right.
    """
    words = " ".join(text.split())
    if words in _PLAIN:
        verb, target = _PLAIN[words]
        return Action(verb, target, text=words)
    for name, twist in _MOTIONS.items():
        if words == name or words.startswith(name + " "):
            share = _share(words.removeprefix(name), text)
            return Action("motion", value=share, twist=twist, text=words)
    first, _, rest = words.partition(" ")
    worded = _worded(first, rest, text, levels)
    if worded is not None:
        return worded
    helped = _help(words, text)
    if helped is not None:
        return helped
    for name in sorted(attachments, key=len, reverse=True):
        if words == name or words.startswith(name + " "):
            return _of_attachment(name, words.removeprefix(name).strip(), text)
    known = [*_PLAIN, *_MOTIONS, "slow", "level", "do", *_HELPS, *attachments]
    near = get_close_matches(words.rstrip(" %0123456789."), known, 1, 0.5) or get_close_matches(first, known, 1, 0.6)
    hint = f'did you mean "{near[0]}"?' if near else f"known are {', '.join(known)}"
    raise UnitError(f'is "{text}", which Pivrex cannot do; {hint}')


def _worded(first: str, rest: str, text: str, levels: Collection[str]) -> Action | None:
    """Read what begins with a word of its own; None if it does not."""
    if first == "do":
        if not rest:
            raise UnitError(f'is "{text}", but which own move? Write it such as do pour with seconds 2 s')
        return Action("do", rest.partition(" with ")[0], text=f"do {rest}")
    if first == "slow":
        return Action("slow", value=_share(rest, text), text=f"slow {rest}".strip())
    if first == "level":
        if rest not in levels:
            raise UnitError(f'is "{text}", but the levels are {", ".join(levels)}')
        return Action("level", rest, text=f"level {rest}")
    return None


def _help(words: str, text: str) -> Action | None:
    """Read a help; None if it is none."""
    for start, kind in _HELPS.items():
        if words != start and not words.startswith(start + " "):
            continue
        rest, numbers = words.removeprefix(start).strip(), ()
        if kind == SNAP and start.endswith("every"):
            step = parse(rest, "angle")
            if not 0 < step <= 6.3:
                raise UnitError(f'is "{text}", but the step must lie above 0 deg and be at most 360 deg')
            return Action("help", kind, numbers=(step,), text=words)
        if kind == SNAP:
            return Action(
                "help", kind, numbers=(0.0, *(parse(a.strip(), "angle") for a in rest.split(","))), text=words
            )
        if kind == LINE:
            if rest:
                raise UnitError(f'is "{text}"; nothing may stand behind "keep the line"')
            return Action("help", kind, numbers=numbers, text=words)
        place, _, facing = rest.partition(" facing ")
        coordinates = [c.strip() for c in place.split(",")]
        if len(coordinates) != 2 or (facing and kind == FACE):
            like = "face 2.65 m, 1.98 m" if kind == FACE else "drive to 1.2 m, 0.8 m facing 90 deg"
            raise UnitError(f'is "{text}"; write it such as {like}')
        ends = (parse(facing, "angle"),) if facing else ()
        return Action("help", kind, numbers=(*(parse(c, "length") for c in coordinates), *ends), text=words)
    return None


def _of_attachment(name: str, rest: str, text: str) -> Action:
    match rest.split():
        case ["follows"]:
            return Action("follow", name, text=text)
        case ["on" | "off" | "toggle" as verb]:
            return Action(verb, name, text=text)
        case ["to" | "by" as verb, *words] if words:
            amount = " ".join(words)
            if amount.endswith("counts"):
                return Action(verb, name, _number(amount.removesuffix("counts"), text), unit="counts", text=text)
            return Action(verb, name, *_place(amount, text), text=text)
        case words if words:
            return Action("speed", name, _share(" ".join(words), text, signed=True), text=text)
    raise UnitError(
        f'is "{text}"; after {name} must come follows, a speed such as 40 %, to or by an angle or a length, on, off or toggle'
    )


def _place(amount: str, text: str) -> tuple[float, tuple[float, float, float], str]:
    """Read where an attachment goes: an angle, or the length of a lift; returns it, no twist, and which of them."""
    for unit in ("angle", "length"):
        try:
            return parse(amount, unit), (0.0, 0.0, 0.0), unit
        except UnitError:
            continue
    bare = "is without a unit; write" if amount.lstrip("+-").replace(".", "", 1).isdigit() else "should be"
    raise UnitError(
        f'is "{text}", but "{amount}" {bare} an angle such as 45 deg, or for a lift a length such as 300 mm'
    )


def _share(words: str, text: str, signed: bool = False) -> float:
    if not words.strip():
        return 1.0
    try:
        value = parse(words.strip(), "fraction")
    except UnitError:
        raise UnitError(f'is "{text}", but "{words.strip()}" should be a share such as 60 %') from None
    if not (-1 if signed else 0) <= value <= 1:
        raise UnitError(f'is "{text}", but the share must lie within {"-100" if signed else "0"} % and 100 %')
    return value


def _number(words: str, text: str) -> float:
    try:
        value = float(words)
    except ValueError:
        value = float("nan")
    if not abs(value) < 1e9:
        raise UnitError(f'is "{text}", but "{words.strip()}" should be a number of counts')
    return value
