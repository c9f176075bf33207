"""The ticks of the line before it became a list of stages, kept in tests/ticks: the numbers are the same but where a rule
was put right since. They were made by scripted sticks and buttons, and by a recorded driver.
"""

import unittest
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.line.input_stages import sensed_columns
from pivrex.rig import Rig, open_folder, read_rig
from pivrex.runs import play_through
from pivrex.sim import IdealBody
from tests.chassis import ALL, bare, demo_path
from tests.support import DEMO

Floats = NDArray[np.float64]

TICKS = Path(__file__).parent / "ticks"

SHARES = ("law.moving_share", "law.turning_share")
"""The level says them; the law's columns say full speeds now."""


def rig_of_then(name: str) -> Rig:
    """The demo's rig as it was: without body, correction and control, and with the leads of then."""
    rig = read_rig(demo_path(name)) if name == "coot" else bare(read_rig(demo_path(name)))
    rig = rig.model_copy(update={"body": None, "correction": None, "control": None})
    leads = {"bittern": 0.07, "dunlin": 0.075, "avocet": 0.075}
    if name not in leads:
        return rig
    return rig.model_copy(update={"plane": rig.plane.model_copy(update={"lead_s": leads[name]})})


class Table:
    def __init__(self, name: str) -> None:
        path = TICKS / f"{name}.csv"
        with path.open(encoding="ascii") as stream:
            self.titles = stream.readline().strip().split(",")
        self.rows: Floats = np.loadtxt(path, delimiter=",", skiprows=1)

    def __getitem__(self, title: str) -> Floats:
        return self.rows[:, self.titles.index(title)]


def played(line: Line, table: Table) -> Floats:
    """The same readings and sensed values through the line of today."""
    raw = np.stack([table[c.title] for c in line.stages["raw"].columns], axis=1)
    sensed = np.stack([table[c.title] for c in sensed_columns(line.rig)], axis=1)
    state, rows = line.start(), []
    for i in range(len(raw)):
        state, row = line.step(state, raw[i], sensed[i], table["clock.stopped"][i])
        rows.append(row)
    return np.array(rows)


class SameNumbersTest(unittest.TestCase):
    def today(self, line: Line, rows: Floats, title: str) -> Floats | None:  # noqa: PLR0911 - a case for each column that has moved
        """The column of today that says what a column said then."""
        titles = line.layout.titles
        stage, _, name = title.partition(".")
        steered = "steering" in line.stages

        def of(column: str) -> Floats:
            return rows[:, titles.index(column)]

        moved = {"frame.over": "heading.upside_down", "frame.heading_rad": "heading.heading_rad"}
        if title in titles and not (steered and stage in ("wheels", "limits")):
            return of(title)
        if title in moved:
            return of(moved[title]) if moved[title] in titles else np.zeros(len(rows))
        if stage == "frame":  # where there is none the motion is the law's
            return of(f"law.{name}") if f"law.{name}" in titles else np.zeros(len(rows))
        if stage == "steering" and name.endswith("_angle_rad"):
            return of(f"pointing.{name}")
        if not steered or title in SHARES:
            return None
        # lengths and ways stand apart now
        wheel, _, what = name.removesuffix("_m_s").rpartition("_")
        if what == "limited":
            return of(f"steering.{wheel}_speed_m_s")
        return of(title) * of(f"steering.{wheel}_way")

    def test_the_line(self) -> None:
        compared = 0
        for name in ALL:
            table, line = Table(name), Line(rig_of_then(name))
            rows = played(line, table)
            lost = np.any([table[t] != 0 for t in table.titles if t.endswith("_lost_m_s")], axis=0)
            # what was put right: the turn that the limits leave counts in the frame; a resting side of a tank rests
            # and a pivot is one at every level; dust is nothing; the residual of steered wheels is a length
            right = ~lost if line.rig.law.kind == "planar" else table["law.level"] == 2
            for title in table.titles:
                if title.startswith(("sensed.", "raw.")) or title in SHARES:
                    continue
                if title == "motion.residual_m_s" and "steering" in line.stages:
                    continue
                if name == "coot" and title in ("bindings.forward", "bindings.turn", "frame.heading_rad"):
                    continue
                found = self.today(line, rows, title)
                assert found is not None, title
                wanted = table[title]
                if title.endswith(("forward_duty", "backward_duty", "robot_coast")):
                    # both pins were low while it braked; now both are high, and who also coasts brakes
                    titles = line.layout.titles
                    braked = (rows[:, titles.index("bindings.brake")] != 0) & (
                        rows[:, titles.index("law.entered")] == 0
                    )
                    self.assertGreater(int(braked.sum()), 5)
                    wanted = np.where(braked, 0.0 if title.endswith("coast") else 255.0, wanted)
                late = title.startswith(("frame.", "wheels.", "steering.", "limits.", "motion.", "outputs.", "law."))
                keep = right if late and name != "plover" else np.ones(len(rows), bool)
                given = title.replace("outputs.", "limits.").replace("_hums", "_limited_m_s")
                if title.endswith("_hums") and given in table.titles:
                    keep = keep & ((table[given] == 0) | (np.abs(table[given]) > 1e-9))
                np.testing.assert_allclose(found[keep], wanted[keep], rtol=0, atol=1e-9, err_msg=f"{name} {title}")
                compared += int(keep.sum())
        self.assertGreater(compared, 60_000)

    def test_a_recording(self) -> None:
        """Plover's recorded driver, robot and field with it, of which every 24th tick and the next are kept."""
        table = Table("plover-recorded")
        rig, field = rig_of_then("plover"), open_folder(DEMO).settings.field
        rows = np.array(
            [r.copy() for r in play_through(rig, Recording(TICKS / "watering.csv"), field, every_tick=True)]
        )
        rows = rows[np.arange(len(rows)) % 24 < 2]
        titles = Line(rig).layout.titles
        for title in table.titles:
            if title not in SHARES:
                now = "truth." + title.removeprefix("sensed.") if title not in titles else title
                np.testing.assert_allclose(rows[:, titles.index(now)], table[title], rtol=0, atol=1e-9, err_msg=title)

    def test_the_robot(self) -> None:
        """The commands of then through the simulated robot of today, which works on arrays."""
        for name in ALL:
            table, rig = Table(name), rig_of_then(name)
            model = IdealBody(rig)
            told = [t for t in table.titles if t.startswith("outputs.") and not t.endswith("_hums")]
            commands = np.stack([table[t] for t in told], axis=1)
            robot = model.start()
            for i, values in enumerate(commands):
                if name == "coot" and i == 90:
                    robot = robot._replace(upside_down=np.array(1.0))
                sensed = dict(zip((c.title for c in sensed_columns(rig)), model.sense(robot), strict=True))
                truth = dict(zip(("x_m", "y_m", "heading_rad", "blocked"), model.truth(robot), strict=True))
                for title, value in (*sensed.items(), *((f"sensed.{t}", v) for t, v in truth.items())):
                    self.assertAlmostEqual(value, table[title][i], places=9, msg=f"{name} {title} {i}")
                robot = model.step(robot, values, rig.dt_s)


if __name__ == "__main__":
    unittest.main()
