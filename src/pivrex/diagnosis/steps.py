"""The steps of a shakedown: the next step, a person's possible answers, the known facts of a port."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass

from pivrex.diagnosis.hypotheses import Answer, Wire
from pivrex.diagnosis.moves import MotorMove

__all__ = ["Known", "Option", "Step", "clash_said"]


@dataclass(frozen=True)
class Option:
    """An answer that a person may give, and what it would mean."""

    text: str
    outcome: Hashable
    of: Callable[[Wire], Hashable] | None
    """The outcome of a wire; None for an answer that tells nothing."""


@dataclass(frozen=True)
class Step:
    """The next step.

    Attributes
    ----------
    kind : str
        "ahead": the person points the steered wheels straight ahead. "tip", "turn": the person tips the robot forward, or turns it to the
        left, in the hand. "floor": the person puts the robot on the floor.
        "probe": the moves are carried out, then sensors or the person say what was seen. "contradiction": answers
        exclude each other. "done": nothing more can be found out.
    text : str
        What happens, in a sentence.
    port : int
        The port that is probed.
    moves : tuple of MotorMove
        In order; what is seen counts from the beginning of the move ``seen_in`` to its end.
    seen_in : int
    asks : str
        Who answers: "sensors"; "motion": a person says what moved; "reading": a person says what the numbers did.
    options : tuple of Option
        What a person may say.
    bits : float
        How much it is expected to tell.
    """

    kind: str
    text: str
    port: int = -1
    moves: tuple[MotorMove, ...] = ()
    seen_in: int = 0
    asks: str = "sensors"
    options: tuple[Option, ...] = ()
    bits: float = 0.0
    across: tuple[Wire, float] | None = None


@dataclass(frozen=True)
class Known:
    """The known facts of a port: its motor and signs, None while unknown."""

    port: str
    motor: str | None
    sign: int | None
    encoder: int | None


def clash_said(answers: list[Answer]) -> str:
    """Return which answers exclude each other."""
    if len(answers) == 1:
        return f"This cannot be true: {answers[0].said}. Is a plug out, or a motor dead? Remove that answer, and look again."
    count = {2: "two", 3: "three", 4: "four"}.get(len(answers), str(len(answers)))
    return f"These {count} cannot {'both' if len(answers) == 2 else 'all'} be true: " + "; ".join(
        a.said for a in answers
    )
