"""A rehearsal on a cluster: one batch per task; the results do not depend on how the batches were split."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import PivrexError
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.program import Program
from pivrex.routine.rehearsal import Rehearsed, rehearse, split, together

__all__ = ["Work", "batch", "rehearse_on"]

Work = tuple[Program, Rig, Field | None, float]
"""What is rehearsed: a routine, its robot, its field, and for how long."""

ANSWERS_S = 10.0
FEWEST = 100
"""A batch of fewer drives costs nearly as much."""


def batch(work: Work, seeds: NDArray[np.uint64]) -> Rehearsed:
    """Make one batch of a rehearsal."""
    program, rig, field, limit_s = work
    made = rehearse(program, rig, field, seeds, limit_s)
    assert made is not None
    return made


def rehearse_on(
    address: str, work: Work, seeds: NDArray[np.uint64], report: Callable[[int, int], None] = lambda _done, _whole: None
) -> Rehearsed:
    """Rehearse on the workers of a dask scheduler.

    Parameters
    ----------
    address : str
        Of the scheduler, such as "tcp://10.0.0.5:8786".
    work : Work
    seeds : (N,) uint64
    report : callable
        Gets how many batches are done, and how many there are.

    Raises
    ------
    PivrexError
        If dask is missing, no one answers, there are no workers, or one of them fails.
    """
    try:
        from distributed import Client, as_completed
    except ImportError:
        raise PivrexError(
            "--on needs the package distributed: pip install 'pivrex[cluster]', here and on the workers"
        ) from None
    try:
        client: Any = Client(address, timeout=ANSWERS_S, set_as_default=False)
    except (OSError, ValueError, TypeError) as problem:
        raise PivrexError(f"no scheduler answers at {address}: {problem}") from None
    try:
        workers = sum(client.nthreads().values())
        if not workers:
            raise PivrexError(f"the scheduler at {address} has no workers")
        tasks = split(seeds, max(1, min(workers, len(seeds) // FEWEST)))
        [shared] = client.scatter([work], broadcast=True)
        futures = [client.submit(batch, shared, task, pure=False, retries=1) for task in tasks]
        place = {future.key: k for k, future in enumerate(futures)}
        found: dict[int, Rehearsed] = {}
        with client.as_current():
            for future in as_completed(futures):
                found[place[future.key]] = future.result()
                report(len(found), len(tasks))
    except PivrexError:
        raise
    except Exception as problem:
        raise PivrexError(f"the cluster at {address} failed: {type(problem).__name__}: {problem}") from None
    finally:
        client.close(timeout=2)
    return together([found[k] for k in range(len(tasks))])
