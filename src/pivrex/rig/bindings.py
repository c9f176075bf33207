"""Bindings: which channel of which source does what."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["Binding"]


class Binding(Table):
    """One channel does one action."""

    channel: str = Field(
        description="The button, trigger or stick; one of the source's channels.", examples=["button_2"]
    )
    does: str = Field(
        description="What it does: a motion such as forward 60 % or turn left 40 %, brake, coast, slow 40 %, reverse, level creep, "
        "field frame, set heading, stop, shut down, record; a help while it is held: "
        "snap every 45 deg, snap to 0 deg, 120 deg, face 2.65 m, 1.98 m, keep the line, drive to 1.2 m, 0.8 m facing 90 deg; "
        "of an attachment follows, a speed, to or by an angle, on, "
        "off or toggle.",
        examples=["slow 40 %"],
    )
    source: str = Field(
        default="chosen",
        description="Its source: chosen (the one that drives), gamepad, keys, sticks, or one of this rig.",
        examples=["chosen"],
    )
    when: str = Field(
        default="",
        description="held: while it is held; press: once each time it is pressed; toggle: on by one press, off by the next; "
        "press 3: on the third press in a row. If left out: held for actions that last, press for single actions.",
        examples=["held"],
    )
    with_: str = Field(
        default="",
        alias="with",
        description="A combination: it acts only while this other button is held, and then the channel's own action does not.",
        examples=["button_5"],
    )
    within_s: Annotated[float, Quantity("time", above=0)] = Field(
        default=0.6,
        alias="within",
        description="The longest time between two presses that count together.",
        examples=["600 ms"],
    )
    slew_up_per_s: Annotated[float, Quantity("rate", at_least=0, step="0.1 /s")] = Field(
        default=0.0,
        alias="slew_up",
        description="A motion: how fast it grows up to its share; 0 for at once.",
        examples=["2 /s"],
    )
    slew_down_per_s: Annotated[float, Quantity("rate", at_least=0, step="0.1 /s")] = Field(
        default=0.0,
        alias="slew_down",
        description="A motion: how fast it falls when released; 0 for at once.",
        examples=["4 /s"],
    )
    dead_band: Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="1 %")] = Field(
        default=0.08, description="An attachment that follows a stick: its dead band.", examples=["8 %"]
    )
    reversed: bool = Field(
        default=False, description="An attachment that follows a stick: in the opposite direction.", examples=[False]
    )

    def mistakes(self) -> list[tuple[str, str]]:
        found = []
        if self.when and self.when not in ("held", "press", "toggle") and not self.presses:
            found.append(
                ("when", f'is "{self.when}", but should be one of "held", "press", "toggle", "press 2" to "press 9"')
            )
        if self.with_ and self.with_ == self.channel:
            found.append(("with", f'is "{self.with_}", the same as channel; a combination needs another'))
        return found

    @property
    def presses(self) -> int:
        """The press on which it acts, 1 to 9; 0 if it is not counted."""
        word, _, count = self.when.partition(" ")
        return int(count) if word == "press" and count in "23456789" and len(count) == 1 else 0
