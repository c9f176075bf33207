"""All runs of a workspace, and which of them make room for newer ones."""

from __future__ import annotations

import contextlib
import shutil
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from pivrex.errors import RunError, SaveError
from pivrex.files import resolved
from pivrex.lower import reason
from pivrex.rig.field import Keep
from pivrex.runs.facts import FACTS, Facts, read_facts, write_facts

__all__ = ["Shelf", "Shelved", "find_run", "gone_folder", "leads_out"]

IN_USE_S = 60.0
"""A run without an end whose files changed within this time is being written, by this program or another."""

GONE = ".gone"
"""Where runs go that were taken away, until they are brought back or the program ends."""

FORGOTTEN_S = 86400.0
"""What was taken away by a program that was killed goes for good after this."""

ALWAYS_STAY = 5
"""How many of the newest runs keep their Ticks, however large."""


@dataclass(frozen=True)
class Shelved:
    """A run as it stands in a list.

    Attributes
    ----------
    folder : Path
    facts : Facts or None
        None if they cannot be read; then ``problem`` says why.
    problem : str
    """

    folder: Path
    facts: Facts | None
    problem: str = ""

    @property
    def name(self) -> str:
        """The name of its folder."""
        return self.folder.name


class Shelf:
    """The folder ``runs`` of a workspace. It reads a run again only after a change."""

    def __init__(self, folder: Path, settings: Keep | None = None) -> None:
        self.folder, self._settings = folder, settings or Keep()
        self._known: dict[str, tuple[int, Shelved]] = {}
        self._sizes: dict[str, tuple[int, int]] = {}

    def runs(self) -> list[Shelved]:
        """Return all, the newest first; one that cannot be read says why."""
        found: list[Shelved] = []
        for folder in self._folders():
            try:
                stamp = (folder / FACTS).stat().st_mtime_ns
            except OSError:
                stamp = -1
            known = self._known.get(folder.name)
            if known is None or known[0] != stamp:
                try:
                    known = stamp, Shelved(folder, read_facts(folder))
                except RunError as problem:
                    known = stamp, Shelved(folder, None, problem.what)
                self._known[folder.name] = known
            found.append(known[1])
        here = {one.name for one in found}
        self._known = {name: known for name, known in self._known.items() if name in here}
        # the names begin with the time, but a folder may have been called otherwise since
        return sorted(found, key=lambda r: (r.facts.began.timestamp() if r.facts else 0.0, r.name), reverse=True)

    def rule(self) -> str:
        """Say by which rule old runs make room."""
        s = self._settings
        return (
            f"always kept: the last {s.last_s / 60:g} min, the newest {s.newest:g} unmarked runs; above {s.megabytes:g} MB details of the "
            "oldest without a note are deleted"
        )

    def remove(self, folder: Path) -> None:
        """Delete a run. Raises `SaveError`."""
        try:
            shutil.rmtree(folder)
        except FileNotFoundError:
            pass  # another program was faster
        except OSError as problem:
            raise SaveError(folder, reason(problem)) from None

    def thin(self) -> None:
        """Let old runs make room by the rule, and delete partial runs of killed programs. Raises `SaveError` if that fails."""
        if leads_out(self.folder):
            return
        self._sweep()
        runs = [r for r in self.runs() if r.facts is not None and not _in_use(r)]
        old = [r for r in runs if r.facts is not None and not r.facts.stays][round(self._settings.newest) :]
        problems = [p for one in old if (p := _problem(partial(self.remove, one.folder)))]
        problems += self._thin_to_size([r for r in runs if r not in old])
        if problems:  # one run that cannot go keeps no other
            raise problems[0]

    def _sweep(self) -> None:
        with contextlib.suppress(OSError):
            for half in self.folder.glob(".*.part"):
                if time.time() - half.lstat().st_mtime > IN_USE_S:
                    shutil.rmtree(half, ignore_errors=True)
        with contextlib.suppress(OSError):
            gone = self.folder / GONE
            for away in gone.iterdir() if not gone.is_symlink() else ():
                if time.time() - away.lstat().st_ctime > FORGOTTEN_S:
                    shutil.rmtree(away, ignore_errors=True)

    def _thin_to_size(self, runs: list[Shelved]) -> list[SaveError]:
        problems: list[SaveError] = []
        most = self._settings.megabytes * 1e6
        total = sum(self._size(r) for r in runs)
        for one in reversed(runs[ALWAYS_STAY:]):
            if total <= most:
                break
            facts = one.facts
            if facts is not None and not facts.note and not facts.thinned:
                total -= self._size(one)
                problem = _problem(partial(_thin, one.folder, facts))
                problems += [problem] if problem else []
                total += self._size(one)
        return problems

    def size(self, run: Shelved) -> int:
        """Return how many bytes a run takes on the disk."""
        return self._size(run)

    def _size(self, run: Shelved) -> int:
        try:
            stamp = run.folder.stat().st_mtime_ns
            known = self._sizes.get(run.name)
            if known is None or known[0] != stamp or (run.facts is not None and run.facts.ended is None):
                known = stamp, sum(p.lstat().st_size for p in run.folder.iterdir())
                self._sizes[run.name] = known
            return known[1]
        except OSError:
            return 0

    def _folders(self) -> list[Path]:
        """Return the folders that may be runs. Links are not: reading, thinning and writing would follow them."""
        try:
            if leads_out(self.folder):
                return []
            found = [p for p in self.folder.iterdir() if p.is_dir() and not p.name.startswith(".")]
        except OSError:
            return []
        return [p for p in found if not p.is_symlink() and not (p / FACTS).is_symlink()]


def leads_out(folder: Path) -> bool:
    """Return whether a folder of a workspace is a link that leads out of the workspace."""
    return folder.is_symlink() and not resolved(folder).is_relative_to(resolved(folder.parent))


def gone_folder(runs: Path) -> Path:
    """Return the folder of deleted runs, which is made if necessary. Raises `SaveError`, also for a link."""
    folder = runs / GONE
    try:
        folder.mkdir(exist_ok=True)
    except OSError as problem:
        raise SaveError(folder, reason(problem)) from None
    if folder.is_symlink() or leads_out(runs):
        raise SaveError(folder, "is a link")
    return folder


def _in_use(run: Shelved) -> bool:
    if run.facts is None or run.facts.ended is not None:
        return False
    with contextlib.suppress(OSError, ValueError):
        newest = max(p.lstat().st_mtime for p in run.folder.iterdir())
        return time.time() - newest < IN_USE_S
    return True


def _problem(work: Callable[[], None]) -> SaveError | None:
    """Try something; return why it is not possible, or None."""
    try:
        work()
    except SaveError as problem:
        return problem
    return None


def _thin(folder: Path, facts: Facts) -> None:
    """Delete a run's Ticks; its facts say so first, so that a program that is killed here leaves no partial run."""
    write_facts(folder, replace(facts, thinned=True))
    for path in folder.glob("ticks-*"):
        try:
            path.unlink(missing_ok=True)
        except OSError as problem:
            raise SaveError(path, reason(problem)) from None


def find_run(name: str, here: Path) -> Path:
    """Find a run by the path of its folder, by its name in the workspace ``here``, by a piece of it that only one has, or by
    "last" for the newest and "last-1" for the one before.

    Raises
    ------
    RunError
        If there is none, or more than one.
    """
    path = Path(name)
    if (path / FACTS).exists():
        return path
    shelf = Shelf(here / "runs")
    runs = shelf.runs()
    if not runs:
        raise RunError(path, 0, f"is no run, and {here / 'runs'} holds none")
    stem, _, back = name.partition("-")
    if stem == "last" and (not back or back.isdecimal()):
        readable = [r for r in runs if r.facts is not None]
        at = int(back or 0)
        if at < len(readable):
            return readable[at].folder
        raise RunError(path, 0, f"is too far back: there are {len(readable)} runs")
    exact = [r for r in runs if r.name == name]
    found = exact or [r for r in runs if name.lower() in r.name.lower()]
    if len(found) == 1:
        return found[0].folder
    if found:
        raise RunError(path, 0, f"could be {', '.join(r.name for r in found[:5])}{', ...' * (len(found) > 5)}")
    raise RunError(path, 0, f"is no run of this workspace; the newest is {runs[0].name}")
