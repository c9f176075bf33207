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


from pivrex.rig import read_rig  # noqa: E402
from pivrex.rig.field import Field  # noqa: E402
from pivrex.scene.floor import field_scene, whole  # noqa: E402
from pivrex.scene.robot import add_robot  # noqa: E402
from pivrex.tui.draw.pixels import kitty_shown, pixel_image, sixels  # noqa: E402
from pivrex.tui.themes import colour_of  # noqa: E402
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
    for row in VIEWS[:5]:  # what Routine and Runs show stands still until it is asked for again
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


def pixels() -> dict[str, dict[str, float]]:
    """What a picture of the whole field costs in pixels, as a terminal takes it: bytes a frame, and how many frames a second one core makes."""
    field = Field()
    scene = field_scene(field, whole(field))
    add_robot(scene, read_rig(DEMO / "rigs" / "plover.toml"), (2.0, 2.0, 0.5))
    found = {}
    for kind, written in (("kitty", lambda image: kitty_shown(image, 1, 93, 40)), ("sixel", sixels)):
        took, size = [], 0
        for _ in range(8):
            before = time.process_time()
            size = len(written(pixel_image(scene, 95, 42, (8, 17), lambda role: colour_of("dusk", role))))
            took.append(time.process_time() - before)
        found[kind] = {"bytes": size, "frames_per_s": round(1 / float(np.median(took)), 1)}
    return found
