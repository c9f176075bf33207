"""Runs the tests in several processes next to each other: `python -m tests [--quick | --long] [NAME...]`.

A class of tests is one piece of work. Each process takes the next piece when it is done with one, so the costly ones are
begun first. What a piece found comes back as unittest tells it; a process that dies in a piece is a failure of that piece.
Tests marked slow, and those in a terminal, drive whole programs in real time. The few that fail next to other work run once more,
alone, and are named.
"""

from __future__ import annotations

import contextlib
import gc
import io
import json
import multiprocessing
import os
import sys
import time
import unittest
from collections.abc import Iterator
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, wait
from pathlib import Path

from pivrex.kernels.engines import engine

ROOT = Path(__file__).parent.parent
TIMES = ROOT / ".venv" / ".pivrex-test-times.json"
"""What each class took last time, in s; a guess of what to begin first."""

LONGEST_S = 240.0
"""A piece that takes longer hangs; where kernels run as Python, one that takes `SLOWER` times that."""
SLOWER = 4.0

GUESSES = {"tests.test_static.StaticTest": 60.0}
SLOW_S = 25.0
"""What a class may take that has not been run here before: the costly ones are to be begun first."""

MAX_AGAIN = 4
"""How many slow tests may run again; more than that are no accident."""

SLOW = "slow"
"""Classes and methods with this attribute are left out by ``--quick``; see `tests.support.slow`."""


@dataclass
class Found:
    """What one piece of work found."""

    name: str
    ran: int = 0
    seconds: float = 0.0
    wrong: list[tuple[str, str, str]] = field(default_factory=list)
    """FAIL or ERROR, which test, how."""
    skipped: int = 0


def _cases(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from _cases(one)
        elif isinstance(one, unittest.TestCase):
            yield one


def _is_slow(case: unittest.TestCase) -> bool:
    method = getattr(case, getattr(case, "_testMethodName", ""), None)
    return bool(getattr(type(case), SLOW, False) or getattr(method, SLOW, False))


def pieces(names: list[str], quick: bool) -> dict[str, tuple[float, list[str]]]:
    """Group the tests by class: what it may take in s, and its tests. A module that cannot be loaded is a piece that fails."""
    loader = unittest.defaultTestLoader
    if names:
        suite = loader.loadTestsFromNames([n if n.startswith("tests.") else f"tests.{n}" for n in names])
    else:
        suite = loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    found: dict[str, tuple[float, list[str]]] = {}
    for case in _cases(suite):
        if not (quick and _is_slow(case)):
            broken = type(case).__module__ == "unittest.loader"
            name = case.id() if broken else case.id().rpartition(".")[0]
            guess = GUESSES.get(name, SLOW_S if _is_slow(case) else 3.0)
            found.setdefault(name, (guess, []))[1].append(case.id())
    return found


def try_again(found: list[Found]) -> None:
    """Run the slow tests that failed, and those in a terminal, once more, alone, if they are few; what is good then is not wrong."""
    named = [which for f in found for _, which, _ in f.wrong if which.startswith("tests.")]
    cases = list(_cases(unittest.defaultTestLoader.loadTestsFromNames(named)))
    slow = sorted({case.id() for case in cases if _is_slow(case) or hasattr(case, "open_demo")})
    if slow and len(slow) <= MAX_AGAIN:
        good = {one.name for one in run_all([(name, [name]) for name in slow], 1) if not one.wrong}
        for f in found:
            f.wrong = [one for one in f.wrong if one[1] not in good]
        print(f"failed next to other work, passed alone: {', '.join(sorted(good)) or 'none'}", file=sys.stderr)


def work(wire: Connection) -> None:
    """Run pieces until there are none left."""
    gc.freeze()  # what the modules made stays: to look at it again and again takes a seventh of the time
    gc.set_threshold(50_000, 20, 50)
    while True:
        piece = wire.recv()
        if piece is None:
            return
        name, tests = piece
        wire.send(_run(name, tests))


def _run(name: str, tests: list[str]) -> Found:
    began = time.perf_counter()
    if name.startswith("unittest.loader."):  # a module that cannot be imported; unittest's own test of it says why
        module = "tests." + name.rpartition(".")[2].removeprefix("tests.")
        suite = unittest.defaultTestLoader.loadTestsFromName(module)
    else:
        suite = unittest.defaultTestLoader.loadTestsFromNames(tests)
    said = io.StringIO()
    with contextlib.redirect_stdout(said), contextlib.redirect_stderr(said):
        result = unittest.TextTestRunner(stream=said, verbosity=0, buffer=False).run(suite)
    found = Found(name, result.testsRun, time.perf_counter() - began, skipped=len(result.skipped))
    found.wrong += [("FAIL", case.id(), how) for case, how in result.failures]
    found.wrong += [("ERROR", case.id(), how) for case, how in result.errors]
    found.wrong += [("FAIL", case.id(), "unexpected success") for case in result.unexpectedSuccesses]
    return found


@dataclass
class _Worker:
    process: multiprocessing.process.BaseProcess
    wire: Connection
    piece: tuple[str, list[str]] | None = None
    began: float = 0.0


def _worker() -> _Worker:
    context = multiprocessing.get_context("fork")  # the tests are loaded already
    mine, theirs = context.Pipe()
    process = context.Process(target=work, args=(theirs,))
    process.start()
    theirs.close()
    return _Worker(process, mine)


def run_all(todo: list[tuple[str, list[str]]], processes: int) -> list[Found]:
    """Run all pieces in that many processes."""
    waiting = list(reversed(todo))
    longest = LONGEST_S if engine().library is not None else LONGEST_S * SLOWER
    workers = [_worker() for _ in range(min(processes, len(todo)))]
    found: list[Found] = []
    while workers:
        for worker in workers:
            if worker.piece is None and waiting:
                worker.piece, worker.began = waiting.pop(), time.perf_counter()
                worker.wire.send(worker.piece)
        for worker in [w for w in workers if w.piece is None]:
            worker.wire.send(None)
            worker.process.join()
            workers.remove(worker)
        ready = wait([w.wire for w in workers], timeout=1.0)
        for worker in list(workers):
            piece = worker.piece
            assert piece is not None
            late = time.perf_counter() - worker.began > longest
            if worker.wire not in ready and not late:
                continue
            try:
                if late:
                    raise EOFError
                one = worker.wire.recv()
            except (EOFError, OSError):
                how = f"took longer than {longest:g} s" if late else "its process died"
                one = Found(piece[0], len(piece[1]), wrong=[("ERROR", piece[0], how)])
                worker.process.kill()
                workers[workers.index(worker)] = _worker()
            else:
                worker.piece = None
            found.append(one)
            mark = "ok" if not one.wrong else f"{len(one.wrong)} WRONG"
            print(f"{one.seconds:6.1f} s  {one.ran:3d}  {mark:8}  {one.name}", file=sys.stderr, flush=True)
    return found


def main(words: list[str]) -> int:
    """Run the tests that are named, or all; gives the exit code."""
    began = time.perf_counter()
    quick = "--quick" in words
    if "--long" in words:
        os.environ["PIVREX_TESTS_LONG"] = "1"  # see `tests.support.often`; the processes next to this one read it
    grouped = pieces([w for w in words if not w.startswith("-")], quick)
    try:
        times = json.loads(TIMES.read_text("ascii"))
    except (OSError, ValueError):
        times = {}
    todo = [(name, tests) for name, (_, tests) in grouped.items()]
    todo.sort(key=lambda piece: -times.get(piece[0], grouped[piece[0]][0]))
    # one more than there are processors: those that drive a terminal wait most of the time
    found = run_all(todo, max(1, int(os.environ.get("PIVREX_TESTS_PROCESSES", 1 + (os.cpu_count() or 1)))))
    with contextlib.suppress(OSError):
        TIMES.write_text(json.dumps({**times, **{f.name: round(f.seconds, 2) for f in found}}, indent=0), "ascii")
    if len(todo) > 1:
        try_again(found)
    wrong = [one for f in found for one in f.wrong]
    for what, which, how in wrong:
        print(f"{'=' * 70}\n{what}: {which}\n{'-' * 70}\n{how}", file=sys.stderr)
    ran, skipped = sum(f.ran for f in found), sum(f.skipped for f in found)
    failures, errors = (sum(w[0] == kind for w in wrong) for kind in ("FAIL", "ERROR"))
    told = ", ".join(f"{k}={n}" for k, n in (("failures", failures), ("errors", errors), ("skipped", skipped)) if n)
    print(f"{'-' * 70}\nRan {ran} tests in {time.perf_counter() - began:.3f}s\n", file=sys.stderr)
    print(("FAILED" if wrong else "OK") + (f" ({told})" if told else ""), file=sys.stderr, flush=True)
    failed = len({which for _, which, _ in wrong})
    print(f"{max(0, ran - failed - skipped)} passed, {failed} failed, {skipped} skipped", file=sys.stderr, flush=True)
    return 1 if wrong or not ran else 0
