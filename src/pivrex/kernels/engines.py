"""The engines that run kernels: C built with the package, C built into the user's cache, or plain Python. The program chooses one, once."""

from __future__ import annotations

import ctypes
import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from threading import Lock, Thread
from typing import Any, NamedTuple

from platformdirs import user_cache_path

from pivrex.kernels.building import compiler, file_name
from pivrex.kernels.calls import Index, KernelLoop
from pivrex.kernels.records import Record
from pivrex.kernels.sources import digest
from pivrex.kernels.trying import same_bits

__all__ = ["Call", "Engine", "cache_folder", "chosen", "engine", "loaded", "wait_for_it", "with_engine"]


class Engine(NamedTuple):
    """An engine that runs kernels.

    Attributes
    ----------
    name : str
        built, cached or plain.
    library : CDLL or None
        None: Python.
    said : str
        Where it comes from, or why it is plain.
    """

    name: str
    library: Any
    said: str


_lock = Lock()
_now: Engine | None = None
_building: Thread | None = None


def engine() -> Engine:
    """Return the engine that runs kernels now. The first call chooses it; one that is still being built is taken once it is ready."""
    if _now is not None:
        return _now
    with _lock:
        return _now if _now is not None else _choose()


def _choose() -> Engine:
    global _now, _building  # noqa: PLW0603 - the one choice of this process
    found = chosen(os.environ.get("PIVREX_ENGINE", ""))
    _now = found
    if found.name == "plain" and found.said.endswith("..."):
        _building = Thread(target=_build, args=(cache_folder(),), name="kernels", daemon=True)
        _building.start()
    return found


def chosen(wanted: str = "", package: Path = Path(__file__).parent, cache: Path | None = None) -> Engine:
    """Choose an engine.

    Parameters
    ----------
    wanted : str
        Only this one counts, or plain; any if empty.
    package : Path
        Where the built library stands.
    cache : Path, optional
        Where cached ones stand; the user's cache if left out.
    """
    if wanted == "plain":
        return Engine("plain", None, "asked for (PIVREX_ENGINE)")
    version = digest()
    cache = cache if cache is not None else cache_folder()
    places = {"built": package / "built.kernels", "cached": cache / file_name(version)}
    refused = ""
    for name in ("built", "cached"):
        path = places[name]
        if wanted in ("", name) and path.exists():
            library, wrong = loaded(path, version)
            if library is not None:
                return Engine(name, library, str(path))
            refused = f"{path.name} {wrong}"
    if refused and "other bits" in refused:
        return Engine("plain", None, refused)  # the same source would give the same bits again
    if compiler() is None:
        return Engine("plain", None, "there is no C compiler here" + (f", and {refused}" if refused else ""))
    return Engine("plain", None, "C is being built for this machine ...")


def loaded(path: Path, version: str) -> tuple[Any, str]:
    """Load a library; returns it, or None and why it is refused."""
    try:
        library = ctypes.CDLL(str(path))
        library.pivrex_version.restype = ctypes.c_char_p
        found = library.pivrex_version().decode()
    except (OSError, AttributeError, UnicodeDecodeError) as problem:
        return None, f"does not load: {str(problem)[:120]}"
    if found != version:
        return None, "is of another version"
    wrong = same_bits(library)
    return (None, wrong) if wrong else (library, "")


def cache_folder() -> Path:
    """Return where libraries are cached."""
    home = os.environ.get("PIVREX_HOME")
    return Path(home) / "cache" if home else user_cache_path("pivrex")


def _build(folder: Path) -> None:
    """Build a library next to the running program, in a process of its own: no tick waits for it."""
    global _now, _building  # noqa: PLW0603
    made = subprocess.run(
        [sys.executable, "-m", "pivrex.kernels.building", str(folder)],
        capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    if made.returncode:
        said = (made.stderr.strip().splitlines() or ["it could not be built"])[-1]
        _now = Engine("plain", None, said)
    else:
        path = Path(made.stdout.strip())
        library, wrong = loaded(path, digest())
        name, said = ("cached", str(path)) if library is not None else ("plain", f"{path.name} {wrong}")
        _now = Engine(name, library, said)
    _building = None


def _forked() -> None:
    """Choose again in a process that was forked while a library was being built: nothing builds it there."""
    global _now, _building, _lock  # noqa: PLW0603
    _lock = Lock()
    if _building is not None:
        _now = _building = None


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forked)


def wait_for_it() -> Engine:
    """Wait until an engine that is being built is ready; returns the one that counts from then on."""
    engine()
    building = _building
    if building is not None:
        building.join()
    return engine()


@contextmanager
def with_engine(other: Engine) -> Iterator[None]:
    """Let another engine run all kernels meanwhile."""
    global _now  # noqa: PLW0603
    before = engine()
    _now = other
    try:
        yield
    finally:
        _now = before


class Call(KernelLoop):
    """A kernel run by the engine that was chosen. Its arguments are records, rows of numbers and numbers, of one robot or of a batch."""

    def in_order(self, batch: tuple[int, ...], *args: Any, index: Index | None = None) -> None:
        """Run it for the ticks of one robot as for a batch, each after the one before it: what one writes the next may read."""
        self(batch, *args, in_order=True, index=index)

    def after(self, *first: Record) -> Call:
        """Return the same with its first arguments given."""
        return Call(self.kernel, self.writes, *first, together=self.together)

    def __call__(self, batch: tuple[int, ...], *args: Any, in_order: bool = False, index: Index | None = None) -> None:
        """Run it for each robot of a batch of shape ``batch``; what is not of a batch counts for all of them.

        Parameters
        ----------
        *args : Record, ndarray or float
            Records, contiguous rows, and numbers, float or B float64.
        """
        library = (_now if _now is not None else engine()).library
        if library is None:
            self.plainly(batch, args, index)
        else:
            self.in_c(library, batch, args, in_order, index)
