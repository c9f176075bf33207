"""The board that drives the robot."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.outputs import Pin
from pivrex.rig.quantities import Quantity

__all__ = ["Board"]


class Board(Table):
    """The board that drives the robot, for `pivrex board`."""

    chip: Literal["atmega328p", "atmega2560"] = Field(
        default="atmega328p", description="Its chip, as the compiler names it.", examples=["atmega328p"]
    )
    clock_Hz: Annotated[float, Quantity("frequency", at_least=1e6, at_most=20e6)] = Field(  # noqa: N815 - hertz
        default=16e6, alias="clock", description="The rate of its clock.", examples=["16000 kHz"]
    )
    mode: Literal["obeys", "alone"] = Field(
        default="obeys",
        description="obeys: a laptop runs the line, and the board outputs the laptop's values. alone: the board reads its "
        "source and runs the line itself; a laptop on the link watches, and may be its stick.",
        examples=["alone"],
    )
    source: str = Field(
        default="",
        description="The source of a board that is alone: one of [sources], of the kind pins, or a radio on a serial line "
        "(packets, or numbers with columns).",
        examples=["stick"],
    )
    routine: str = Field(
        default="",
        description="A routine that a board that is alone drives on command: a file of the folder routines/, without its .txt. "
        "It ends after the workspace's [match] alone.",
        examples=["practice"],
    )
    start_pin: Pin = Field(
        default="", description="The pin of a button to ground that starts the routine.", examples=["A5"]
    )
    supply_V: Annotated[float, Quantity("voltage", at_least=1.8, at_most=5.5, step="0.1 V")] = Field(  # noqa: N815 - volts
        default=5.0,
        alias="supply",
        description="The voltage at which its analogue pins read full scale.",
        examples=["5 V"],
    )

    @property
    def own_routine(self) -> str:
        """The routine that a board which is alone drives; empty for none, and for a board that obeys."""
        return self.routine if self.mode == "alone" else ""
