"""The content of a run's ``run.toml``: its robot, its time, the reason to keep it, the figures, and the student's note."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, field, fields
from datetime import datetime
from pathlib import Path
from typing import Any

import tomlkit

from pivrex.errors import ReadError, RunError
from pivrex.files import read_persons, write_atomically

__all__ = ["FACTS", "UNMARKED", "VERSION", "Facts", "read_facts", "write_facts"]

FACTS = "run.toml"
VERSION = 1
"""Of what a run's folder looks like."""

UNMARKED = "the last minutes"
"""Why a run is there that no one and nothing has marked: it makes room for others."""

LARGEST = 1_000_000


@dataclass(frozen=True)
class Facts:
    """The facts of a run, in addition to its Ticks.

    Attributes
    ----------
    robot, rig : str
        The robot's name, and that of its rig's file without its end.
    began : datetime
        With its zone.
    rate_hz : float
    kept : str
        Why: `UNMARKED`, or what marked it.
    ended : datetime or None
        None while it is being kept, and of one whose program was killed.
    drivers : tuple of str
        Who drove, in the order in which they did.
    routine : str
        The routine or path that was chosen; empty for none.
    note : str
        What the student typed.
    ticks, lost : int
        How many Ticks were made while it was kept, and how many of them a slow disk could not take.
    thinned : bool
        Whether its Ticks made room for others: its facts, events and figures are there still.
    figures : dict of str to float
        See `pivrex.runs.figures`.
    version : int
    """

    robot: str
    rig: str
    began: datetime
    rate_hz: float
    kept: str = UNMARKED
    ended: datetime | None = None
    drivers: tuple[str, ...] = ()
    routine: str = ""
    note: str = ""
    ticks: int = 0
    lost: int = 0
    thinned: bool = False
    figures: dict[str, float] = field(default_factory=dict)
    version: int = VERSION

    @property
    def stays(self) -> bool:
        """Whether it was marked, or has a note: then it does not make room for newer ones at once."""
        return self.kept != UNMARKED or bool(self.note)


def write_facts(folder: Path, facts: Facts) -> None:
    """Write them, whole or not at all; what a person wrote between them stays. Raises `SaveError`."""
    path = folder / FACTS
    document = tomlkit.document()
    try:
        document = tomlkit.parse(read_persons(path, LARGEST))
    except (ReadError, tomlkit.exceptions.TOMLKitError):
        document.add(tomlkit.comment("A run that was kept. `note` is yours to change."))
    values: dict[str, Any] = {f.name: getattr(facts, f.name) for f in fields(facts)}
    figures = values.pop("figures")
    values["drivers"] = list(facts.drivers)
    for key, value in values.items():
        if value is None:
            document.pop(key, None)
        elif document.get(key) != value:
            document[key] = value
    if figures:
        document["figures"] = {name: value for name, value in figures.items() if value == value}  # noqa: PLR0124 - no NaN
    write_atomically(path, tomlkit.dumps(document))


def read_facts(folder: Path) -> Facts:
    """Read them.

    Raises
    ------
    RunError
        If they cannot be read, are of a newer version, or lack what every run has.
    """
    path = folder / FACTS
    try:
        data = tomllib.loads(read_persons(path, LARGEST))
    except ReadError as problem:
        raise RunError(path, problem.line, problem.reason) from None
    except tomllib.TOMLDecodeError as problem:
        raise RunError(path, 0, f"is not TOML: {problem}") from None
    _check(path, data)
    needed: dict[str, Any] = {"robot": data["robot"], "rig": data.get("rig") or data["robot"].lower()}
    needed |= {"began": _with_zone(data["began"]), "rate_hz": float(data["rate_hz"])}
    return Facts(**needed, **_others(data))


def _check(path: Path, data: dict[str, Any]) -> None:
    version = data.get("version", VERSION)
    if not isinstance(version, int) or version > VERSION:
        raise RunError(path, 0, f"is of version {version}, but this Pivrex reads versions up to {VERSION}")
    for key, kind, what in _NEEDED:
        if not isinstance(data.get(key), kind) or isinstance(data.get(key), bool):
            raise RunError(path, 0, f"{key} is {data.get(key, 'missing')!r}, but should be {what}")
    if not data["rate_hz"] > 0:
        raise RunError(path, 0, f"rate_hz is {data['rate_hz']}, but should be more than 0")


def _others(data: dict[str, Any]) -> dict[str, Any]:
    """Return what else there is; what an older version left out, or a hand spoiled, has no say in how the run is read."""
    plain = {"kept": str, "routine": str, "note": str, "ticks": int, "lost": int, "thinned": bool}
    found: dict[str, Any] = {key: data[key] for key, kind in plain.items() if isinstance(data.get(key), kind)}
    if isinstance(data.get("ended"), datetime):
        found["ended"] = _with_zone(data["ended"])
    if isinstance(data.get("drivers"), list):
        found["drivers"] = tuple(map(str, data["drivers"]))
    if isinstance(data.get("figures"), dict):
        found["figures"] = {str(k): float(v) for k, v in data["figures"].items() if isinstance(v, int | float)}
    return found


_NEEDED = (
    ("robot", str, "the robot's name"),
    ("began", datetime, "the date and time at which it began"),
    ("rate_hz", (int, float), "the rate of its Ticks"),
)


def _with_zone(when: datetime) -> datetime:
    return when if when.tzinfo is not None else when.astimezone()
