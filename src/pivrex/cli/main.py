"""Finds the command, and turns errors into messages and exit codes."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

from pivrex.errors import PivrexError, UsageError
from pivrex.lower import as_ours

__all__ = ["run"]

COMMANDS = (
    "demo",
    "open",
    "new",
    "check",
    "describe",
    "wire",
    "board",
    "key",
    "wheels",
    "map",
    "shakedown",
    "play",
    "rehearse",
    "solve",
    "back",
    "path",
    "heading",
    "tune",
    "gyro",
    "sums",
    "glossary",
    "runs",
    "replay",
    "compare",
    "learn",
    "report",
    "export",
    "remote",
    "simulator",
    "here",
    "completion",
    "manual",
    "reference",
)

RENAMED = {"stand-in": "simulator"}
"""Commands that had another name in the version before."""

OF_ALL = ("-h", "--help", "--version")
"""Options that are no command's."""

DONE, WRONG_FILE, WRONG_USE, INTERRUPTED = 0, 1, 2, 130


def run(arguments: Sequence[str] | None = None) -> int:  # noqa: PLR0911 - an exit code for each way to end
    """Run a command line and give its exit code: 0 done, 1 wrong file or input, 2 wrong use, 130 interrupted."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    asks = "_PIVREX_COMPLETE" in os.environ  # a shell asks for completions of a word
    if words and words[0] in RENAMED:
        print(
            f"pivrex {words[0]} is called pivrex {RENAMED[words[0]]} now; the old name goes in the next version",
            file=sys.stderr,
        )
        words[0] = RENAMED[words[0]]
    # `pivrex [DIR]` opens a workspace
    if not asks and (not words or words[0] not in (*COMMANDS, *OF_ALL)):
        words.insert(0, "open")
    try:
        if asks:
            from pivrex.cli.completing import take_opening_words

            take_opening_words()
            words = []
        elif words[0] in ("open", "demo"):
            # these two lead to the screen, and need not wait for the command line's library
            from pivrex.cli.opening import open_by_words

            return open_by_words(words)
        from pivrex.cli.app import app

        return int(app(words) or DONE)
    except PivrexError as problem:
        print(problem, file=sys.stderr)
        return WRONG_USE if isinstance(problem, UsageError) else WRONG_FILE
    except KeyboardInterrupt:
        return INTERRUPTED
    except SystemExit as ending:  # the words were help, or had no meaning; the library has printed its text
        return int(ending.code or DONE)
    except BrokenPipeError:
        # whoever read the output has enough; Python would complain again when it closes it
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return DONE
    except Exception as problem:
        return _ended_by(problem)


def _ended_by(problem: Exception) -> int:
    """Print an error and return the exit code: errors of the command line's library show themselves, lower layers are translated, and
    anything else is a bug.
    """
    show, code = getattr(problem, "show", None), getattr(problem, "exit_code", None)
    if show is not None and code is not None:
        show()
    if code is not None:
        return int(code)
    ours = as_ours(problem)
    if ours is None:
        raise problem
    print(ours, file=sys.stderr)
    return WRONG_FILE
