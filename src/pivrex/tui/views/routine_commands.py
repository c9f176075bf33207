"""What can be done in Routine beside what acts everywhere."""

from __future__ import annotations

from pivrex.session.periods import COUNTED
from pivrex.tui.commands import Command

__all__ = ["ROUTINE_COMMANDS"]

ROUTINE_COMMANDS = (
    Command("edit_text", "type", "Lets you type in the text; Esc leaves it.", ("y",), foot=2),
    Command("choose_routine", "routine", "Lists the routines of this workspace, and opens another.", ("c",), foot=3),
    Command("alone", "play", "Plays the routine now through the session, for the period alone.", ("G", "shift+g", "upper_g"), foot=2),
    Command("from_here", "from here", "Makes ready at the cursor's line, with the pose and the memory that it would have had there; "
            "G plays on from it, M with the rest of the match.", ("H", "shift+h", "upper_h"), foot=6),
    Command("one_step", "one step", "Plays on until another step begins, then pauses.", ("S", "shift+s", "upper_s"), foot=5),
    Command("pause", "pause", "Lets clock and routine stand, or go on.", ("P", "shift+p", "upper_p"), foot=4,
            available=lambda m: m.status.match.period in COUNTED),
    Command("driven", "driven", "Starts the driven period alone.", ("D", "shift+d", "upper_d")),
    Command("skip_line", "skip line", "Leaves the line at the cursor out without deleting it; again takes it back in.",
            ("full_stop", "."), ".", foot=5),
    Command("rehearse", "rehearse", "Plays it 200 times, each drive a little different, and shows where it ends; again stops it.",
            ("R", "shift+r", "upper_r"), foot=4),
    Command("solve", "solve number", "Looks for the number at the cursor, so that what you then say comes true; again gives it up.",
            ("N", "shift+n", "upper_n"), foot=6),
    Command("write_number", "write it", "Writes the number that was found into the text.", ("K", "shift+k", "upper_k")),
    Command("back", "way back", "Makes a routine that goes back by the same ways, opens it, and says how near there and back comes to "
            "the start.", ("T", "shift+t", "upper_t")),
    Command("against", "beside", "Holds another routine, or this one as it was opened, against it: where they part, which is faster, "
            "which surer; again takes it away.", ("A", "shift+a", "upper_a"), foot=7),
    Command("values", "each value", "Shows side by side what comes of each number that the post may show; again shows one.", ("v",), foot=5),
    Command("earlier", "time", "Walks the cursor back in time.", ("left",), "← →", foot=6),
    Command("later", "later", "Walks the cursor on in time.", ("right",)),
    Command("much_earlier", "a second back", "Walks the cursor back by a second.", ("shift+left",)),
    Command("much_later", "a second on", "Walks the cursor on by a second.", ("shift+right",)),
)  # fmt: skip
