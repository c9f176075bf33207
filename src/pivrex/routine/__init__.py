"""Automatic moves: the language of routines, its checks, and the code that runs it on the line."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.routine.checking import Checked, check_text
    from pivrex.routine.mistakes import TextMistake
    from pivrex.routine.playing import Play, Player, play
    from pivrex.routine.program import Program
    from pivrex.routine.runner import Runner

__all__ = ["Checked", "Play", "Player", "Program", "Runner", "TextMistake", "check_text", "play"]
__getattr__ = showing(
    __name__,
    checking="Checked check_text",
    mistakes="TextMistake",
    playing="Play Player play",
    program="Program",
    runner="Runner",
)
