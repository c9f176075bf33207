"""Work in the background: a process of its own, progress, the newest question, the last answer."""

from __future__ import annotations

import multiprocessing
import os
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from typing import Any

from pivrex.errors import UnitError
from pivrex.tui.jobs.job import Job, Progress
from tests.support import ROOT, wait_for

# --- a job in a few lines: what is asked, what is done, what is answered ---


def doubled(asked: int, progress: Progress) -> int | None:
    """Count to what is asked, slowly from 100 on, and give twice as much."""
    for k in range(asked):
        if asked >= 100:
            time.sleep(0.01)
            if not progress(k / asked, f"{k} of {asked}"):
                return None
    return 2 * asked


def a_job(**more: Any) -> Job[int, int]:
    return Job("pivrex-doubled", doubled, **more)


class Remembers:
    """Work that remembers what it was asked."""

    def __init__(self, first: str) -> None:
        self.asked = [first]

    def __call__(self, asked: str, progress: Progress) -> list[str] | None:
        if asked == "wrong":
            raise UnitError("this is wrong")
        while asked.endswith("1"):  # works until a newer one comes
            if not progress(0.0, asked):
                return None
            time.sleep(0.001)
        self.asked.append(asked)
        return list(self.asked)


def kind(asked: str) -> tuple[int, object]:
    return (1 if asked.startswith("later") else 0), asked[:5]


class JobTest(unittest.TestCase):
    def finished(self, job: Job[Any, Any]) -> list[tuple[Any, Any]]:
        self.addCleanup(job.close)
        found: list[tuple[Any, Any]] = []
        wait_for(lambda: found.extend(job.poll()) or not job.goes_on, 30)  # type: ignore[func-returns-value]
        return found

    def test_an_answer_stays_until_the_next(self) -> None:
        job = a_job()
        job.ask(3)
        self.assertEqual(self.finished(job), [(3, 6)])
        job.ask(100)
        self.assertEqual((job.answer, job.answered, job.question, job.goes_on), (6, 3, 100, True))
        wait_for(lambda: job.poll() or job.share > 0.3, 30)
        self.assertIn(" of 100", job.said)
        self.assertEqual(self.finished(job), [(100, 200)])
        job.forget()
        self.assertIsNone(job.answer)

    def test_the_newest_question_wins(self) -> None:
        for patient in (True, False):
            job = a_job(patient=patient)
            job.ask(100_000)
            wait_for(lambda job=job: job.poll() or job.share > 0 or job.said, 30)  # type: ignore[misc]
            (process,) = self.processes()
            job.ask(100_000)  # just that is being answered
            self.assertEqual([p.pid for p in self.processes()], [process.pid])
            job.ask(5)
            self.assertEqual(self.finished(job), [(5, 10)])
            # one that is not patient had its process killed, and needs none now
            self.assertEqual([p.pid for p in self.processes()], [process.pid] if patient else [])
            job.close()

    def processes(self) -> list[Any]:
        return [p for p in multiprocessing.active_children() if p.name == "pivrex-doubled"]

    def test_each_kind_has_its_newest_and_the_most_urgent_comes_first(self) -> None:
        job: Job[str, list[str]] = Job("pivrex-remembers", Remembers, "begun", key=kind)
        for asked in ("later 1", "first 1", "first 2", "later 2"):
            job.ask(asked)
        self.assertTrue(job.awaits("first"))
        found = self.finished(job)
        self.assertEqual({q for q, _ in found}, {"later 2", "first 2"})
        seen = found[-1][1]
        self.assertEqual(seen[0], "begun")
        self.assertLess(seen.index("first 2"), seen.index("later 2"))
        job.ask("wrong")
        self.assertEqual(self.finished(job), [])
        self.assertEqual((job.refused, job.problem), ("wrong", "this is wrong"))
        job.ask("right")
        self.assertEqual(job.problem, "")

    def test_a_process_that_dies_is_said_and_the_next_question_begins_another(self) -> None:
        job = a_job()
        job.ask(100_000)
        wait_for(lambda: job.poll() or job.said, 30)
        os.kill(self.processes()[0].pid, signal.SIGKILL)
        self.assertEqual(self.finished(job), [])
        self.assertIn("doubled: the process ended without an answer", job.problem)
        job.ask(4)
        self.assertEqual(self.finished(job), [(4, 8)])

    def test_it_ends_with_its_parent_whatever_it_does(self) -> None:
        code = (
            "from tests.test_jobs import *\nif __name__ == '__main__':\n    job = a_job()\n    job.ask(100000)\n"
            "    while not job.said: job.poll()\n    print(multiprocessing.active_children()[0].pid, flush=True)\n    time.sleep(60)\n"
        )
        file = ROOT / ".venv" / f"job-{os.getpid()}.py"  # spawn loads the main module by its file
        file.write_text(code)
        self.addCleanup(file.unlink)
        parent = subprocess.Popen(
            [sys.executable, str(file)], stdout=subprocess.PIPE, env={**os.environ, "PYTHONPATH": str(ROOT)}
        )
        self.addCleanup(parent.wait)
        assert parent.stdout is not None
        with parent.stdout:
            child = int(parent.stdout.readline())
            parent.kill()
            wait_for(lambda: not runs(child), 10)


def runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text("ascii").rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False
