"""Writing a person's files so that a failed save never harms them."""

from __future__ import annotations

import contextlib
import io
import os
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from pivrex.errors import SaveError
from pivrex.lower import reason

__all__ = ["free_name", "sweep", "write_atomically", "writing"]

STALE_S = 60.0


def write_atomically(path: Path, data: str | bytes) -> None:
    """Write ``data`` to ``path``, whole or not at all; text as UTF-8 with the line ends it has.

    Raises
    ------
    SaveError
        With the reason; whatever stood at ``path`` is untouched.
    """
    with writing(path) as stream:
        stream.write(data.encode() if isinstance(data, str) else data)


@contextlib.contextmanager
def writing(path: Path) -> Iterator[BinaryIO]:
    """Give a stream beside ``path``; when the block ends well it is flushed to the disk and renamed into place.

    A symbolic link is followed, so that the link survives; a file that was there keeps its rights. What is no regular
    file (a device, a pipe) is written through, for renaming would put a file in its place.

    Raises
    ------
    SaveError
        With the reason, for any `OSError` within the block too. After this or any other exception whatever stood at
        ``path`` is untouched, and nothing is left beside it.
    """
    target = path.resolve()
    beside: Path | None = None
    try:
        if target.exists() and not target.is_file():
            with target.open("wb", buffering=0) as through, io.BufferedWriter(through) as stream:
                yield stream
            return
        descriptor, name = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.", suffix=".part")
        beside = Path(name)
        with os.fdopen(descriptor, "wb") as stream:
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
        # mkstemp makes the file private; a person's file keeps the rights it had
        mode = target.stat().st_mode & 0o777 if target.exists() else 0o644
        beside.chmod(mode)
        if target.exists() and not os.access(target, os.W_OK):
            raise PermissionError(13, "the file is read-only")
        beside.replace(target)
        beside = None
    except OSError as problem:
        raise SaveError(path, reason(problem)) from problem
    finally:
        if beside is not None:
            with contextlib.suppress(OSError):
                beside.unlink()


def sweep(path: Path) -> None:
    """Take away what a save of ``path`` left beside it when the program was killed in the middle of it."""
    for part in path.resolve().parent.glob(f".{path.resolve().name}.*.part"):
        with contextlib.suppress(OSError):
            # another program may be saving just now; that takes no minute
            if time.time() - part.stat().st_mtime > STALE_S:
                part.unlink()


def free_name(folder: Path, stem: str, suffix: str) -> Path:
    """Give a path in ``folder`` that nothing has yet: ``stem.csv``, ``stem-2.csv``, ..."""
    count = 1
    while True:
        path = folder / f"{stem}{'' if count == 1 else f'-{count}'}{suffix}"
        if not path.exists():
            return path
        count += 1
