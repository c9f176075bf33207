"""The manual page, made from the commands themselves."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pivrex.cli.examples import EXAMPLES

__all__ = ["write_manual"]

_HEAD = r""".TH PIVREX 1 "" "pivrex" "User commands"
.SH NAME
pivrex \- see, adjust and test the whole line from the stick to the wheels of a student robot
.SH SYNOPSIS
.B pivrex
[\fIDIR\fR|\fIRIG.toml\fR] [\fIoptions\fR]
.br
.B pivrex
.I COMMAND
[\fIarguments\fR]
.SH DESCRIPTION
Without a command the screen opens: a workspace is a folder with rigs/, routines/ and inputs/. With \fB\-\-json\fR a
command prints one JSON object to standard output and nothing else there. RIG is a name in the workspace or a path.
"""

_TAIL = r""".SH EXIT STATUS
.TP
.B 0
done
.TP
.B 1
a file or input is wrong; one message a line, FILE:LINE: what
.TP
.B 2
the command was used wrongly
.TP
.B 130
interrupted
.SH ENVIRONMENT
.TP
.B NO_COLOR
the theme plain, which needs no colours, unless you choose another
.TP
.B VISUAL, EDITOR
what opens a rig at a setting's line
.TP
.B COLORTERM
truecolor where the terminal shows 24 bits of colour
.SH FILES
.TP
.I settings.toml
keys given to commands; pivrex here says where it lies
.TP
.I workspaces.toml
what was chosen in each workspace, next to it
"""


def write_manual(commands: Iterable[tuple[str, Any]]) -> str:
    """Return the page as text for man(1), of commands with their names."""
    parts = [_HEAD, ".SH COMMANDS"]
    for name, command in commands:
        parts += _command(name, command)
    parts.append(_TAIL.rstrip())
    return "\n".join(parts) + "\n"


def _command(name: str, command: Any) -> list[str]:
    arguments = [p for p in command.params if p.param_type_name == "argument"]
    options = [p for p in command.params if p.param_type_name == "option" and "--help" not in p.opts]
    words = " ".join(_plain(_metavar(p)) for p in arguments)
    rows = [f".SS {_plain(name)} {words}".rstrip(), _plain(" ".join((command.help or "").split()))]
    for option in options:
        value = "" if option.is_flag else f" \\fI{_plain(_metavar(option))}\\fR"
        rows += [".TP", f"\\fB{_plain(', '.join(option.opts))}\\fR{value}", _plain(option.help or "")]
    examples = EXAMPLES.get(name.split(maxsplit=1)[0], ()) if " " not in name else ()
    if examples:
        rows += [".PP", "Examples:", ".PP", ".nf"]
        rows += [f"    {_plain(said)}" for said, _ in examples]
        rows.append(".fi")
    return rows


def _metavar(param: Any) -> str:
    return str(param.metavar or param.name.upper().replace("_", "-"))


def _plain(text: str) -> str:
    """Write text so that man takes none of it for its own signs."""
    safe = text.replace("\\", "\\e").replace("-", "\\-").replace("`", "")
    return "\\&" + safe if safe[:1] in (".", "'") else safe
