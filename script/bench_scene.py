"""Drawing: what a frame of each view costs, and what printing a scene on cells and on paper costs."""

from __future__ import annotations

import shutil
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))


from pivrex.tui.views.view_table import VIEWS  # noqa: E402
from tests.local import local_model  # noqa: E402

SIZE = (160, 42)
FRAMES = 120
DEMO = ROOT / "src" / "pivrex" / "demo"


def _cpu_ms(work: Callable[[], object]) -> float:
    before = time.process_time()
    work()
    return (time.process_time() - before) * 1e3


def scene_ms(folder: Path) -> dict[str, dict[str, float]]:
    """CPU time of a frame of each view that moves at 160 x 47, the demo driving; and as a ratio to the tick in the same run."""
    home = folder / "drawing"
    shutil.copytree(DEMO, home)
    model = local_model(home, "recording watering")
    found = {}
    for row in VIEWS[:5]:  # what Routine and Runs show stands still until it is asked for anew
        view = row.view(model, row.name)
        view.opened()
        draws, ticks = [], []
        for k in range(FRAMES + 20):
            ticks.append(_cpu_ms(model.pull) / 3)
            view.update()
            took = _cpu_ms(lambda view=view: view.draw(*SIZE))  # type: ignore[misc]
            if k >= 20:
                draws.append(took)
        view.closed()
        view.close()
        found[row.name] = {
            "median_ms": round(float(np.median(draws)), 2),
            "p95_ms": round(float(np.percentile(draws, 95)), 2),
            "to_tick": round(float(np.median(draws) / np.median(ticks)), 2),
        }
    model.client.close()
    return found
