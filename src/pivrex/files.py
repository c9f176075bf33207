"""Reads any file of a person safely, and writes files so that a failed save never damages them."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import stat
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from pivrex.errors import ReadError, SaveError
from pivrex.lower import reason

__all__ = [
    "alone",
    "free_name",
    "is_file",
    "open_persons",
    "read_persons",
    "resolved",
    "sweep",
    "write_atomically",
    "writing",
]

STALE_S = 60.0

LONGEST_WAIT_S = 1.0
"""How long a save waits for another program's."""


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
def writing(path: Path, private: bool = False) -> Iterator[BinaryIO]:
    """Return a stream next to ``path``; when the block ends well it is flushed to the disk and renamed into place.

    A symbolic link is followed, so that the link survives; a file that was there keeps its rights, a new one may be read by
    all, or if it is ``private`` by its owner only. What is no regular
    file (a device, a pipe) is written through, for renaming would put a file in its place.

    Raises
    ------
    SaveError
        With the reason, for any `OSError` within the block too. After this or any other exception whatever stood at
        ``path`` is untouched, and nothing is left next to it.
    """
    partial: Path | None = None
    try:
        target = _resolved(path)
        if target.exists() and not target.is_file():
            with target.open("wb", buffering=0) as through, io.BufferedWriter(through) as stream:
                yield stream
            return
        descriptor, name = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.", suffix=".part")
        partial = Path(name)
        with os.fdopen(descriptor, "wb") as stream:
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
        # mkstemp makes the file private; a person's file keeps its rights
        mode = 0o600 if private else target.stat().st_mode & 0o777 if target.exists() else 0o644
        partial.chmod(mode)
        if target.exists() and not os.access(target, os.W_OK):
            raise PermissionError(13, "the file is read-only")
        partial.replace(target)
        partial = None
    except OSError as problem:
        raise SaveError(path, reason(problem)) from problem
    finally:
        if partial is not None:
            with contextlib.suppress(OSError):
                partial.unlink()


def _resolved(path: Path) -> Path:
    try:
        return path.resolve()
    except RuntimeError:  # what some versions of Python make of links in a circle
        raise OSError(errno.ELOOP, "the links go round in a circle") from None


def resolved(path: Path) -> Path:
    """Return where a path leads; one whose links lead nowhere stays as it is."""
    try:
        return _resolved(path)
    except OSError:
        return path.absolute()


def is_file(path: Path) -> bool:
    """Return whether a regular file is there; a name that no file can have is none."""
    try:
        return path.is_file()
    except OSError:
        return False


@contextlib.contextmanager
def alone(path: Path) -> Iterator[None]:
    """Keep other programs from saving in the folder of ``path`` for the length of the block, where the system can.

    Raises
    ------
    SaveError
        If another program keeps it for longer than `LONGEST_WAIT_S`.
    """
    try:
        import fcntl
    except ImportError:  # a system without such locks: a look before the rename must do
        yield
        return
    descriptor = -1
    try:
        with contextlib.suppress(OSError):
            descriptor = os.open(resolved(path).parent, os.O_RDONLY | os.O_CLOEXEC)
        until = time.monotonic() + LONGEST_WAIT_S
        while descriptor >= 0:
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > until:
                    raise SaveError(path, "another program is saving into its folder") from None
                time.sleep(0.002)
            except OSError:
                break  # a file system without locks
        yield
    finally:
        if descriptor >= 0:
            os.close(descriptor)


def sweep(folder: Path, name: str = "*") -> None:
    """Delete what saves of ``name`` left in a folder when the program was killed."""
    with contextlib.suppress(OSError):
        for part in resolved(folder).glob(f".{name}.*.part"):
            with contextlib.suppress(OSError):
                # another program may be saving; that takes less than a minute
                if time.time() - part.stat().st_mtime > STALE_S:
                    part.unlink()


def open_persons(path: Path) -> BinaryIO:
    """Open a person's file for reading. Only regular files are: a pipe or a device would make the program wait.

    Raises
    ------
    ReadError
        Whatever is wrong with it.
    """
    descriptor = -1
    try:
        descriptor = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
        kind = os.fstat(descriptor).st_mode
        if stat.S_ISREG(kind):
            stream, descriptor = os.fdopen(descriptor, "rb"), -1
            return stream
        raise ReadError(path, "is a folder" if stat.S_ISDIR(kind) else "is no file but a pipe or a device")
    except (OSError, ValueError) as problem:  # a name with a zero byte is a ValueError
        raise ReadError(path, f"cannot be read: {reason(problem)}") from None
    finally:
        if descriptor >= 0:
            os.close(descriptor)


def read_persons(path: Path, largest: int) -> str:
    """Read a person's text file of at most ``largest`` bytes, with the line ends that it has.

    Raises
    ------
    ReadError
        If it cannot be read, is larger, or is not UTF-8.
    """
    with open_persons(path) as stream:
        try:
            data = stream.read(largest + 1)
        except OSError as problem:
            raise ReadError(path, f"cannot be read: {reason(problem)}") from None
    if len(data) > largest:
        raise ReadError(path, f"is larger than {_size(largest)}; that is no such file")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as problem:
        line = data[: problem.start].count(b"\n") + 1
        raise ReadError(path, "is not UTF-8 text; save the file as UTF-8", line) from None


def _size(count: int) -> str:
    return "a megabyte" if count == 1_000_000 else f"{count / 1000:g} kB"


def free_name(folder: Path, stem: str, suffix: str) -> Path:
    """Return a path in ``folder`` that nothing has yet: ``stem.csv``, ``stem-2.csv``, ..."""
    count = 1
    while True:
        path = folder / f"{stem}{'' if count == 1 else f'-{count}'}{suffix}"
        if not path.exists():
            return path
        count += 1
