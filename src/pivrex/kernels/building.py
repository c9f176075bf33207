"""Builds the kernels' library with this computer's C compiler, for `setup.py` and for the running program."""

from __future__ import annotations

import os
import platform
import shlex
import shutil
import subprocess
import sys
from pathlib import Path
from tempfile import TemporaryDirectory

from pivrex.errors import PivrexError
from pivrex.kernels.printer import printed
from pivrex.kernels.sources import digest

__all__ = ["FLAGS", "built_into", "compiler", "file_name"]

FLAGS = ("-std=c99", "-O2", "-ffp-contract=off", "-fno-builtin", "-fno-math-errno", "-fvisibility=hidden")
"""No fused multiply-add, no function of the compiler's own: the same bits as Python's."""

LONGEST_S = 120.0


def compiler() -> list[str] | None:
    """Return this machine's C compiler, as a command; None if there is none."""
    wanted = shlex.split(os.environ.get("CC", ""))
    for command in ([wanted] if wanted else []) + [["cc"], ["gcc"], ["clang"]]:
        found = shutil.which(command[0])
        if found is not None:
            return [found, *command[1:]]
    return None


def file_name(version: str) -> str:
    """Return the name of the library of a version of the kernels, for this kind of machine."""
    ends = {"win32": ".dll", "darwin": ".dylib"}.get(sys.platform, ".so")
    return f"kernels-{version}-{platform.machine() or 'any'}{ends}"


def built_into(folder: Path) -> Path:
    """Build the library and put it into a folder, whole or not at all.

    Raises
    ------
    PivrexError
        If there is no compiler, it fails, or the folder cannot be written: why, in a sentence.
    """
    command = compiler()
    if command is None:
        raise PivrexError("there is no C compiler here")
    version = digest()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with TemporaryDirectory(dir=folder, prefix=".building-") as scratch:
            source, made = Path(scratch) / "kernels.c", Path(scratch) / "made"
            source.write_text(printed(version=version), encoding="utf-8")
            run = subprocess.run(
                [*command, *FLAGS, "-shared", "-fPIC", "-o", str(made), str(source), "-lm"],
                capture_output=True, text=True, errors="replace", timeout=LONGEST_S, check=False, stdin=subprocess.DEVNULL,
            )  # fmt: skip
            if run.returncode or not made.exists():
                said = next(
                    filter(None, (line.strip() for line in (run.stderr or run.stdout).splitlines())), "it says nothing"
                )
                raise PivrexError(f"{command[0]} fails: {said[:200]}")
            return made.replace(folder / file_name(version))
    except subprocess.TimeoutExpired:
        raise PivrexError(f"{command[0]} does not end") from None
    except OSError as problem:
        raise PivrexError(f"{folder} cannot be written: {problem.strerror or problem}") from None


if __name__ == "__main__":
    try:
        sys.stdout.write(f"{built_into(Path(sys.argv[1]))}\n")
    except PivrexError as problem:
        sys.exit(str(problem))
