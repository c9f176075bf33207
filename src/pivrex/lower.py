"""Turns errors of lower layers (the system, Python's library, packages) into Pivrex's own family and words, in this one place."""

from __future__ import annotations

from pivrex.errors import PivrexError

__all__ = ["as_ours", "reason"]

_MEANS = (
    ("UnicodeError", "is not UTF-8 text; save the file as UTF-8"),
    ("tomllib.TOMLDecodeError", "is not TOML"),
    ("tomlkit.exceptions.TOMLKitError", "is not TOML"),
    ("_csv.Error", "cannot be read as CSV"),
    ("pydantic_core._pydantic_core.ValidationError", "has values that cannot be"),
    ("serial.serialutil.SerialException", "the serial line failed"),
    ("sdl2.ext.err.SDLError", "the gamepads' library failed"),
    ("struct.error", "is cut off"),
    ("numpy.linalg.LinAlgError", "cannot be solved with these numbers"),
    ("RecursionError", "is nested too deeply"),
    ("MemoryError", "is too large for this machine's memory"),
    ("OSError", ""),
)
"""What each class means; searched in this order, along all that an error is."""


def reason(problem: BaseException) -> str:
    """Return why, in words that can stand behind a colon: "no such file or directory"."""
    words = str(getattr(problem, "strerror", None) or problem).strip().splitlines()
    said = words[0] if words else type(problem).__name__
    if said.startswith("[Errno"):
        said = said.partition("] ")[2]
    return said[:1].lower() + said[1:200]


def as_ours(problem: BaseException) -> PivrexError | None:
    """Return an error of a lower layer as one of the family, with its place if it has one; None for a bug of the program itself."""
    if isinstance(problem, PivrexError):
        return problem
    names = {_full_name(kind) for kind in type(problem).__mro__}
    for name, means in _MEANS:
        if name in names:
            where = getattr(problem, "filename", None)
            said = (
                means
                if name in ("UnicodeError", "RecursionError", "MemoryError")
                else ": ".join(filter(None, (means, reason(problem))))
            )
            return PivrexError(f"{where}: {said}" if where else said)
    return None


def _full_name(kind: type) -> str:
    return kind.__qualname__ if kind.__module__ == "builtins" else f"{kind.__module__}.{kind.__qualname__}"
