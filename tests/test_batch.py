"""Many robots at once and each alone: the same bits, whatever the others do."""

import ast
import dataclasses
import unittest

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels import Record
from pivrex.kernels.trying import equal_bits
from pivrex.line import Line
from pivrex.line.input_stages import NOWHERE
from pivrex.line.order import STAGES
from pivrex.rig import Rig, open_folder, read_rig
from pivrex.runs import as_played
from pivrex.sim import IdealBody, IdealState, Rollout
from pivrex.sim.chance import draw
from pivrex.sim.driving import drive_through
from pivrex.sim.model import simulator_of
from tests.chassis import ALL, demo_path, rig_of
from tests.support import DEMO, PLOVER, ROOT, often

Floats = NDArray[np.float64]
FIELD = open_folder(DEMO).settings.field
ROBOTS, TICKS = 64, 36

OWN = (  # a source with a calibration of its own, a combination, a count, ramps, an arm that follows a stick
    '[sources.box]\nkind = "numbers"\ncolumns = ["left_x", "left_y"]\nsilent_after = "1 s"\n'
    'wire = { kind = "udp", port = 1 }\n[sources.box.axes.left_y]\nminimum = -0.5\nmaximum = 0.25\n'
    '[[bindings]]\nchannel = "button_0"\ndoes = "forward 50 %"\nslew_up = "3 /s"\nslew_down = "2 /s"\n'
    '[[bindings]]\nchannel = "button_0"\nwith = "button_1"\ndoes = "turn left 40 %"\n'
    '[[bindings]]\nchannel = "button_2"\ndoes = "slow 30 %"\nwhen = "toggle"\n'
    '[[bindings]]\nchannel = "button_3"\ndoes = "boom to 40 deg"\nwhen = "press 2"\n'
    '[[bindings]]\nchannel = "right_y"\ndoes = "boom follows"\n'
    '[[bindings]]\nchannel = "button_4"\ndoes = "coast"\n'
    '[attachments.boom]\nkind = "position"\ncounts_per_turn = 360\nminimum = "-10 deg"\nmaximum = "100 deg"\n'
    'output = { kind = "percent" }\n'
)


def rigs() -> list[Rig]:
    own = rig_of([(0.0, 0.25, 0.0, None, False), (0.0, -0.25, 0.0, None, False)], OWN)
    return [*(read_rig(demo_path(n)) for n in ALL), own]


class Script:
    """What 64 robots are told: sticks, buttons, stops and drivers, each its own."""

    def __init__(self, line: Line, seed: int) -> None:
        chance = np.random.default_rng(seed)
        shape = (TICKS, ROBOTS)
        self.raw = chance.uniform(-1.2, 1.2, (*shape, len(line.channels)))
        buttons = [i for i, c in enumerate(line.channels) if not c.endswith(("_x", "_y"))]
        self.raw[..., buttons] = chance.random((*shape, len(buttons))) < 0.2
        self.raw[chance.random(self.raw.shape) < 0.02] = np.nan
        self.stop = (chance.random(shape) < 0.1).astype(float)
        self.driving = chance.integers(0, 1 + len(line.inputs.calibrated), shape).astype(float)


def one(state: IdealState, i: int) -> IdealState:
    return state.take(i)


class BatchTest(unittest.TestCase):
    def test_sixty_four_robots_do_what_each_does_alone(self) -> None:
        for rig in rigs():
            line, model = Line(rig), IdealBody(rig, FIELD)
            script = Script(line, len(line.layout))
            robots = model.start((ROBOTS,), np.arange(ROBOTS, dtype=np.uint64))
            turned = np.arange(ROBOTS) % 3 == 0 if rig.upside_down is not None else np.zeros(ROBOTS, bool)
            robots = robots._replace(
                upside_down=turned.astype(float), lifted=(np.arange(ROBOTS) % 7 == 0).astype(float)
            )
            many = Rollout(line, model, line.start((ROBOTS,)), robots)
            rows = [many.tick(r, s, d) for r, s, d in zip(script.raw, script.stop, script.driving, strict=True)]
            self.assertGreater(len({r.tobytes() for r in rows[-1]}), ROBOTS // 2)  # they do go apart
            for i in range(0, ROBOTS, often(1, 8)):
                alone = Rollout(line, model, line.start(), one(robots, i))
                for k in range(TICKS):
                    row = alone.tick(script.raw[k, i], script.stop[k, i], script.driving[k, i])
                    if row.tobytes() != rows[k][i].tobytes():
                        at = np.flatnonzero(row.view(np.uint64) != rows[k][i].copy().view(np.uint64))
                        self.fail(f"{rig.name}, robot {i}, tick {k}: {[line.layout.titles[j] for j in at]}")
                self.assertEqual(alone.robot.data.tobytes(), one(many.robot, i).data.tobytes(), rig.name)

    def test_one_stopped_robot_stops_no_other(self) -> None:
        rig = read_rig(demo_path("avocet"))
        line, model = Line(rig), IdealBody(rig)
        free, both = Rollout(line, model), Rollout(line, model, line.start((2,)))
        raw = line.rest()
        raw[line.channels.index("left_x")] = -0.9
        for _ in range(20):
            row = free.tick(raw)
            rows = both.tick(np.stack([raw, raw]), np.array([0.0, 1.0]))
        self.assertEqual(rows[0].tobytes(), row.tobytes())
        np.testing.assert_array_equal(line.commands(rows[1]), line.resting())

    def test_levels_of_a_batch_are_each_robots_own(self) -> None:
        line = Line(read_rig(PLOVER))
        state = line.start((3,))
        raw = line.rest((3,))
        state, _ = line.step(state, raw, np.zeros((3, len(line.stages["sensed"].columns))))
        raw[0, line.channels.index("button_5")] = 1.0
        raw[2, line.channels.index("button_4")] = 1.0
        _, rows = line.step(state, raw, np.zeros((3, len(line.stages["sensed"].columns))))
        self.assertEqual(rows[:, line.layout.at("law", "level")].tolist(), [2.0, 1.0, 0.0])

    def test_each_robot_has_the_calibration_of_its_driver(self) -> None:
        line = Line(rig_of([(0.0, 0.25, 0.0, None, False), (0.0, -0.25, 0.0, None, False)], OWN))
        self.assertEqual((line.source_number("box"), line.source_number("keys")), (1.0, 0.0))
        raw = line.rest((2,))
        raw[:, line.channels.index("left_y")] = -0.25
        sensed = np.zeros((2, len(line.stages["sensed"].columns)))
        _, rows = line.step(line.start((2,)), raw, sensed, 0.0, np.array([0.0, 1.0]))
        # -1 to 1 makes a quarter of it; -0.5 to 0.25 is half way at -0.125, and a third of the 0.375 above the end
        np.testing.assert_allclose(rows[:, line.layout.at("axes", "forward")], [0.25, 1 / 3])
        self.assertEqual(rows[:, line.layout.at("clock", "source")].tolist(), [0.0, 1.0])

    def test_chance_is_each_robots_own(self) -> None:
        seeds = np.arange(5, dtype=np.uint64)
        many = draw(seeds, 3, 4)
        for seed in range(5):
            np.testing.assert_array_equal(draw(seed, 3, 4), many[seed])
        even = draw(1, np.arange(20_000, dtype=np.uint64), 2)
        self.assertTrue(((even >= 0) & (even < 1)).all())
        # the mean of 40,000 even numbers is 1/2 with a spread of 1/√(12·40,000) = 0.0014
        self.assertAlmostEqual(float(even.mean()), 0.5, delta=0.006)
        self.assertAlmostEqual(float(np.corrcoef(even[:-1, 0], even[1:, 0])[0, 1]), 0.0, delta=0.03)
        # worked through the published algorithm by hand for the seed 0: its first number is 0xE220A8397B1DCDAF
        self.assertEqual(int(_finalised(0x9E3779B97F4A7C15)), 0xE220A8397B1DCDAF)


def _finalised(z: int) -> int:
    from pivrex.sim import chance

    return int(chance._mixed(np.array([z], np.uint64))[0])


class StageTest(unittest.TestCase):
    def test_a_stage_reads_only_what_stands_before_its_own(self) -> None:
        """A kernel knows nothing but its arguments: those of each call are columns before the ones that it writes. Truth is never read."""
        tree = ast.parse((ROOT / "src" / "pivrex" / "line" / "tick.py").read_text())
        kernels = [n for n in tree.body if isinstance(n, ast.FunctionDef)]
        seen = set()
        for node in (n for k in kernels for n in ast.walk(k)):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id.endswith("_step"):
                columns = [
                    a.value.attr if isinstance(a.value, ast.Attribute) else a.attr
                    for a in node.args if isinstance(a, ast.Attribute) and ast.unparse(a).startswith("t.")
                ]  # fmt: skip
                own = node.func.id.removesuffix("_step")
                self.assertEqual(columns[-1], own)
                for column in columns[:-1]:
                    self.assertLess(STAGES.index(column), STAGES.index(own), f"{own} reads {column}")
                seen.add(own)
                self.assertNotIn("truth", columns)
        self.assertEqual(seen, set(STAGES) - {"clock", "sensed", "truth", "raw", "probe", "aim", "routine"})

    def test_a_stage_writes_only_its_own_columns(self) -> None:
        """What was in a row before a half of the line ran is there after it, but in that half's own columns."""
        for rig in rigs():
            line = Line(rig)
            script, state = Script(line, 1), line.start()
            half = line.layout.stage("probe").start
            for k in range(6):
                sensed = np.random.default_rng(k).uniform(-2, 2, len(line.stages["sensed"].columns))
                row = line.begin(state.tick, script.raw[k, 0], sensed, script.stop[k, 0], 0.0, NOWHERE)
                row[half:] = np.arange(len(row) - half)
                row[:] = line.form.from_plain(line.form.to_plain(row.tolist()))  # a flag is 0 or 1
                before = row.copy()
                line.pass_through(state.memory, line.memory.start(), row, follows=False)
                self.assertEqual(row[half:].tobytes(), before[half:].tobytes())
                given = line.layout.stage("raw").stop
                self.assertEqual(row[:given].tobytes(), before[:given].tobytes())
                before = row.copy()
                line.pass_through(state.memory, line.memory.start(), row, asks=False)
                until = line.layout.stage("following").start
                frame = line.layout.stage("frame").start if line.layout.stage("frame").stop else until
                self.assertEqual(row[:frame].tobytes(), before[:frame].tobytes(), rig.name)

    def test_settings_are_numbers(self) -> None:
        """So that they can be written out in another language: no words, no objects with methods."""

        def check(where: str, value: object) -> None:
            if isinstance(value, Record):
                self.assertEqual(value.data.dtype, np.float64, where)
            elif dataclasses.is_dataclass(value):
                for field in dataclasses.fields(value):
                    check(f"{where}.{field.name}", getattr(value, field.name))
            elif isinstance(value, tuple):
                for i, part in enumerate(value):
                    check(f"{where}[{i}]", part)
            elif isinstance(value, np.ndarray):
                self.assertIn(value.dtype.kind, "fib", where)
            else:
                self.assertIsInstance(value, float | int | None, where)

        for rig in rigs():
            for name, stage in Line(rig).stages.items():
                check(f"{rig.name}.{name}", stage.settings)

    def test_states_are_the_batchs(self) -> None:
        for rig in rigs():
            for name, stage in Line(rig).stages.items():
                if stage.memory is not None:
                    self.assertEqual(stage.start((3, 2)).data.shape[:2], (3, 2), f"{rig.name} {name}")

    def test_many_ticks_in_one_go_are_those_one_by_one(self) -> None:
        """Into walls and benches and out again, with readings of sensors given and ticks among them that do not count."""
        for name in ("plover", "coot", "avocet"):
            for rig in (as_played(read_rig(demo_path(name))), read_rig(demo_path(name))):
                line, model = Line(rig), simulator_of(rig, FIELD)
                script, chance = Script(line, 5), np.random.default_rng(4)
                raw, count = script.raw[:, 0], [k % 5 != 3 for k in range(TICKS)]
                given = np.where(
                    chance.random((TICKS, len(line.stages["sensed"].columns))) < 0.1, chance.uniform(-1, 1), np.nan
                )
                alone, ticks, wanted = Rollout(line, model), [], []
                for k in range(TICKS):
                    ticks.append(float(alone.state.tick))
                    sensed = np.where(np.isnan(given[k]), model.sense(alone.robot), given[k])
                    wanted.append(alone.tick(raw[k], sensed=sensed, counts=count[k]))
                state, robot, found = line.start(), model.start(), []
                for part in (slice(0, 12), slice(12, TICKS)):
                    rows = line.begin(np.array(ticks[part]), raw[part], np.zeros(given.shape[1]), 0.0, 0.0, NOWHERE)
                    state, robot = drive_through(line, model, state, robot, rows, given[part], count[part])
                    found.append(rows)
                self.assertTrue(equal_bits(np.concatenate(found), np.array(wanted)), rig.name)
                self.assertTrue(equal_bits(state.memory.data, alone.state.memory.data), rig.name)
                self.assertTrue(equal_bits(robot.data, alone.robot.data), rig.name)


if __name__ == "__main__":
    unittest.main()
