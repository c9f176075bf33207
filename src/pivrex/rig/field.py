"""The workspace file: the field that the robot drives on."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field as Described

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity
from pivrex.rig.transports import Wire

__all__ = ["Block", "Field", "Keep", "Match", "Round", "Saying", "Start", "Workspace", "Zone"]

_Along = Annotated[float, Quantity("length", at_least=-1000, at_most=1000)]
_Shows = Annotated[float, Quantity("number", at_least=0, at_most=1e6)]
_Size = Annotated[float, Quantity("length", above=0, at_most=1000)]


class Block(Table):
    """Something rectangular that stands on the field, along its sides, and stops a robot."""

    name: str = Described(description="Its name.", examples=["bench A"])
    x_m: _Along = Described(alias="x", description="Its middle, from the field's corner.", examples=["1.5 m"])
    y_m: _Along = Described(alias="y", description="Its middle, from the field's corner.", examples=["1.0 m"])
    length_m: _Size = Described(alias="length", description="Its size along x.", examples=["1.2 m"])
    width_m: _Size = Described(alias="width", description="Its size along y.", examples=["0.4 m"])
    shows: _Shows = Described(
        default=0.0, description="The number that it shows to lamp sensors; 0 for none.", examples=[3]
    )


class Round(Table):
    """Something round that stands on the field and stops a robot."""

    name: str = Described(description="Its name.", examples=["water butt"])
    x_m: _Along = Described(alias="x", description="Its middle, from the field's corner.", examples=["0.4 m"])
    y_m: _Along = Described(alias="y", description="Its middle, from the field's corner.", examples=["3.6 m"])
    radius_m: _Size = Described(alias="radius", description="Its radius.", examples=["0.25 m"])
    shows: _Shows = Described(
        default=0.0, description="The number that it shows to lamp sensors; 0 for none.", examples=[3]
    )


class Zone(Table):
    """A place on the floor that a robot should reach: its centre within the circle."""

    name: str = Described(description="Its name.", examples=["bench A"])
    x_m: _Along = Described(alias="x", description="Its middle, from the field's corner.", examples=["1.7 m"])
    y_m: _Along = Described(alias="y", description="Its middle, from the field's corner.", examples=["1.7 m"])
    radius_m: _Size = Described(alias="radius", description="Its radius.", examples=["0.12 m"])


class Start(Table):
    """Where the robot starts."""

    x_m: _Along = Described(default=0.5, alias="x", description="The robot's centre.", examples=["0.5 m"])
    y_m: _Along = Described(default=0.5, alias="y", description="The robot's centre.", examples=["0.5 m"])
    heading_rad: Annotated[float, Quantity("angle")] = Described(
        default=0.0,
        alias="heading",
        description="Its heading, counter-clockwise from the field's x.",
        examples=["0 deg"],
    )


class Field(Table):
    """A rectangular floor with walls, seen from above: x to the right, y up, the origin in a corner."""

    name: str = Described(default="open floor", description="Its name.", examples=["greenhouse"])
    length_m: _Size = Described(default=5.0, alias="length", description="Its size along x.", examples=["5.0 m"])
    width_m: _Size = Described(default=4.0, alias="width", description="Its size along y.", examples=["4.0 m"])
    walls: bool = Described(default=True, description="Whether walls stop the robot at its edges.", examples=[True])
    start: Start = Described(default=Start(), description="Where the robot starts.")
    blocks: tuple[Block, ...] = Described(default=(), description="Rectangular things that stand on it.")
    rounds: tuple[Round, ...] = Described(default=(), description="Round things that stand on it.")
    zones: tuple[Zone, ...] = Described(default=(), description="Places that a robot should reach; they stop nothing.")

    def mistakes(self) -> list[tuple[str, str]]:
        inside = 0 <= self.start.x_m <= self.length_m and 0 <= self.start.y_m <= self.width_m
        return [] if inside or not self.walls else [("start", "lies outside the walls")]


class Saying(Table):
    """Something that is said at a period of a match."""

    at: Literal["ready", "alone", "between", "driven", "over"] = Described(
        description="The period of the message.", examples=["driven"]
    )
    left_s: Annotated[float, Quantity("time", above=0, at_most=3600)] | None = Described(
        default=None,
        alias="left",
        description="The remaining time of the period at the message; the beginning of the period if left out.",
        examples=["30 s"],
    )
    text: str = Described(min_length=1, max_length=100, description="The message.", examples=["to the bench now"])
    bell: bool = Described(default=False, description="Whether the terminal's bell rings too.", examples=[True])

    def mistakes(self) -> list[tuple[str, str]]:
        if self.left_s is not None and self.at in ("ready", "over"):
            return [("left", f"is for a period that is counted, but nothing counts while the match is {self.at}")]
        return []


class Match(Table):
    """The match clock: how long each period is."""

    alone_s: Annotated[float, Quantity("time", above=0, at_most=600)] = Described(
        default=25.0, alias="alone", description="How long a routine drives.", examples=["25 s"]
    )
    between_s: Annotated[float, Quantity("time", at_least=0, at_most=600)] = Described(
        default=3.0, alias="between", description="How long nothing moves after the routine.", examples=["3 s"]
    )
    driven_s: Annotated[float, Quantity("time", above=0, at_most=3600)] = Described(
        default=110.0, alias="driven", description="How long the driver drives after the pause.", examples=["110 s"]
    )
    says: tuple[Saying, ...] = Described(default=(), description="Texts for each period, in your words.")
    routines: tuple[str, ...] = Described(
        default=(),
        description="The routines that a button chooses from (`next routine`), by the names of their files; all that the robot can play "
        "if left out.",
        examples=[["left bench", "right bench"]],
    )
    wire: Wire | None = Described(
        default=None,
        description="Where the desk of a match sends its orders; only keys start the clock if left out.",
        examples=[{"kind": "udp", "port": 5830}],
    )

    def mistakes(self) -> list[tuple[str, str]]:
        whole = {"alone": self.alone_s, "between": self.between_s, "driven": self.driven_s}
        return [
            (f"says.{i}.left", f"is {said.left_s:g} s, but {said.at} lasts {whole[said.at]:g} s")
            for i, said in enumerate(self.says)
            if said.left_s is not None and said.left_s > whole.get(said.at, said.left_s)
        ]


class Keep(Table):
    """What is kept of every drive, in the workspace's folder ``runs``."""

    last_s: Annotated[float, Quantity("time", at_least=10, at_most=3600)] = Described(
        default=300.0,
        alias="last",
        description="The length of the newest driving that is always kept.",
        examples=["5 min"],
    )
    newest: Annotated[float, Quantity("number", at_least=1, at_most=10_000)] = Described(
        default=10.0,
        description="Maximum number of kept runs without a mark: no key, no period, not live, no note.",
        examples=[10],
    )
    megabytes: Annotated[float, Quantity("number", at_least=1, at_most=1e6)] = Described(
        default=500.0,
        description="Above this, the ticks of the oldest runs without a note are deleted; figures and track stay.",
        examples=[500],
    )


class Workspace(Table):
    """What ``workspace.toml`` holds."""

    name: str = Described(default="workspace", description="Your name for it.", examples=["Greenhouse Round"])
    rig: str = Described(
        default="", description="The rig that opens first; the first by name if left out.", examples=["plover"]
    )
    recording: str = Described(
        default="", description="The recorded driving that the demo plays.", examples=["watering"]
    )
    drivers: dict[str, str] = Described(
        default_factory=dict,
        description="For each rig, by the name of its file, the recorded driving that shows it; `recording` for the others.",
    )
    routines: dict[str, str] = Described(
        default_factory=dict,
        description="For each rig, by the name of its file, the routine that opens first, by the name of its file.",
    )
    pins: dict[str, dict[str, str]] = Described(
        default_factory=dict,
        description="For each rig, by the name of its file, the pinned values: a name, and a reading, a column of the Tick or "
        'an expression of them, such as gap = "front - 30 cm".',
    )
    match: Match = Described(default=Match(), description="The periods of a match.")
    keep: Keep = Described(default=Keep(), description="What is kept of every drive.")
    field: Field = Described(default=Field(), description="The field.")
