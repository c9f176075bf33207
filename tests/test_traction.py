"""What is too little to move, and why a robot has traction: by hand, on the body, in `check`, on the screen and in runs."""

import unittest

import numpy as np
from tomlkit import TOMLDocument

from pivrex.devices.worries import warnings_in
from pivrex.line import Line
from pivrex.line.too_little import too_little
from pivrex.line.why import ladder
from pivrex.rig import Rig, read_rig
from pivrex.routine import check_text, play
from pivrex.runs.figures import Figures
from pivrex.sim.body import RealisticBody
from pivrex.sim.traction import traction_of
from tests.chassis import demo_path
from tests.support import PLAIN, ROOT, TempCase, nothing_sensed, plain_rig
from tests.test_app import AppCase, in_loop
from tests.test_body import TWO, _caster, body_rig, run, told
from tests.test_cli import Ran

G = 9.81

LEVELS = """[speed_levels]
[[speed_levels.levels]]
name = "creep"
moving = "30 %"
turning = "60 %"
[[speed_levels.levels]]
name = "dash"
[law]"""


def hums(*changes: tuple[str, str], smallest: str = "20 %") -> Rig:
    """The plain rig, each of whose wheels needs 20 % to turn, with a slow level."""
    text = "output = { kind"
    return plain_rig(("[law]", LEVELS), (text, f'smallest = "{smallest}"\n{text}'), *changes)


class TooLittleTest(unittest.TestCase):
    def test_level_times_scale_against_the_smallest_drive(self) -> None:
        half = ("[shaping.forward]\ndead_band = 0", "[shaping.forward]\ndead_band = 0\nscale = 0.5")
        # forward at creep: 30 % · 50 % = 15 %; on the spot both wheels roll at their top, so a turn is 60 %
        (one,) = too_little(Line(hums(half)))
        self.assertEqual((one.function, one.level_name, one.motor), ("forward", "creep", "left"))
        self.assertAlmostEqual(one.drive, 0.15)
        self.assertEqual(
            one.said, "forward at level creep: a full stick gives left 15 % drive, and less than 20 % only hums"
        )
        self.assertEqual(too_little(Line(hums())), [])
        found = too_little(Line(hums(half, smallest="55 %")))
        self.assertEqual([(t.function, t.level) for t in found], [("forward", 0), ("forward", 1)])
        self.assertEqual([round(t.drive, 6) for t in found], [0.15, 0.5])

    def test_what_a_feedforward_and_a_loop_add(self) -> None:
        half = ("[shaping.forward]\ndead_band = 0", "[shaping.forward]\ndead_band = 0\nscale = 0.5")
        forward = ("[shaping.forward]", '[control]\nwheels = "feedforward"\n{}[shaping.forward]')
        # by itself it adds what friction takes; of a static of 2 % there come 2 + 98 · 15 %
        self.assertEqual(too_little(Line(hums(half, (forward[0], forward[1].format(""))))), [])
        (one,) = too_little(Line(hums(half, (forward[0], forward[1].format('static = "2 %"\n')))))
        self.assertAlmostEqual(one.drive, 0.02 + 0.98 * 0.15)
        pid = ("[shaping.forward]", '[control]\nwheels = "pid"\nstatic = 0\n[shaping.forward]')
        counts = ('smallest = "20 %"', 'smallest = "20 %"\ncounts_per_turn = 100')
        self.assertEqual(too_little(Line(hums(half, pid, counts))), [])

    def test_motors_on_a_bench(self) -> None:
        text = (
            'name = "B"\n[motors.drum]\ntop_speed = "10 rad/s"\nsmallest = "30 %"\noutput = { kind = "fraction" }\n'
            "[shaping.motors.drum]\nscale = 0.25\n"
        )
        from pathlib import Path

        from pivrex.rig import read_text

        (one,) = too_little(Line(read_text(text, Path("b.toml"), Rig)))
        self.assertEqual((one.function, one.motor, one.level_name), ("drum", "drum", ""))
        self.assertAlmostEqual(one.drive, 0.25)

    def test_no_shipped_robot_has_too_little(self) -> None:
        for name in ("plover", "coot", "bittern", "dunlin", "avocet"):
            self.assertEqual(too_little(Line(read_rig(demo_path(name)))), [], name)

    def test_the_why_says_that_no_stick_is_enough(self) -> None:
        half = ("[shaping.forward]\ndead_band = 0", "[shaping.forward]\ndead_band = 0\nscale = 0.5")
        for rig, said in (
            (
                hums(half, ("[speed_levels]", '[speed_levels]\nstart = "creep"')),
                "; even a full stick gives it only 15 % at level creep",
            ),
            (hums(("[speed_levels]", '[speed_levels]\nstart = "creep"')), ""),
        ):
            line = Line(rig)
            push = -1.0 if said else -0.5
            _, row = line.step(line.start(), np.array([push, 0.0]), nothing_sensed(line), 0.0)
            (rung,) = [r for r in ladder(line, row, "left") if r.stage == "output"]
            self.assertEqual(rung.note, "! too little to turn it: it only hums" + said)


class CheckTest(TempCase):
    def test_check_says_both_with_their_place(self) -> None:
        path = self.write(
            "rigs/hums.toml", PLAIN.replace("[law]", LEVELS).replace("output =", 'smallest = "70 %"\noutput =')
        )
        rows = path.read_text().split("\n")
        found = {m.key: m for m in warnings_in(read_rig(path), path)}
        for key, row in (
            ("speed_levels.levels.0.moving", 'moving = "30 %"'),
            ("speed_levels.levels.0.turning", 'turning = "60 %"'),
        ):
            self.assertEqual(found[key].line, rows.index(row) + 1)
        self.assertRegex(
            Ran("check", str(demo_path("plover"))).out,
            r"plover.toml: 71 % of the weight is on driven wheels, which grip up to 3\.7 m/s²\n",
        )

    def test_a_robot_whose_weight_is_elsewhere_is_warned_of_with_a_remedy(self) -> None:
        text = demo_path("plover").read_text()
        path = self.write(
            "rigs/plover.toml", text.replace("mass_centre = {", 'mass_centre = { x = "-70 mm", y = "0 mm" } # {')
        )
        path.write_text(path.read_text().replace('slew_up = "2.5 /s"', 'slew_up = "9 /s"'))
        (found,) = [m for m in warnings_in(read_rig(path), path) if m.key == "chassis.mass_centre"]
        self.assertRegex(found.what, r"^\d+ % of the weight is on driven wheels, which grip up to")
        self.assertRegex(
            found.what, r"spins the wheels; put weight over the driven wheels, or let slew_up of forward be [\d.]+ /s$"
        )


class TractionTest(unittest.TestCase):
    """Two driven wheels under the robot's middle and a caster 0.2 m behind it; the weight x before the middle, 0.1 m high."""

    def rig(self, x: float, grip: float = 0.8, stall: str = "3 Nm") -> Rig:
        rig = body_rig(TWO, stall=stall, casters=0.05, grip=grip)
        centre = rig.chassis.mass_centre.model_copy(update={"x_m": x})
        chassis = rig.chassis.model_copy(update={"casters": (_caster(-0.2),), "mass_centre": centre})
        return rig.model_copy(update={"chassis": chassis})

    def test_share_and_hardest_start_by_moments(self) -> None:
        for x in (-0.15, -0.1, -0.05, 0.0):
            found = traction_of(self.rig(x))
            # moments about the caster: N·0.2 = m·g·(0.2 + x) - m·a·0.1, and m·a = 0.8·N - 0.05·(m·g - N)
            self.assertAlmostEqual(found.share, (0.2 + x) / 0.2, places=9)
            a = (0.85 * G * (0.2 + x) / 0.2 - 0.05 * G) / (1 + 0.85 * 0.1 / 0.2)
            self.assertAlmostEqual(found.ahead, a, places=9)
            back = (0.85 * G * (0.2 + x) / 0.2 - 0.05 * G) / (1 - 0.85 * 0.1 / 0.2)
            self.assertAlmostEqual(found.back, back, places=9)
            # two motors of 3 N·m on wheels of 0.1 m push 60 N; the caster drags, and a start takes load from the wheels onto it
            pushed = (60 / 2 - 0.05 * G * -x / 0.2) / (1 + 0.05 * 0.1 / 0.2)
            self.assertAlmostEqual(found.pushed, pushed, places=9)
            self.assertTrue(found.spins)
            self.assertAlmostEqual(found.slew, a / 1.0)  # full speed is 1 m/s

    def test_the_body_slides_above_it_and_holds_below(self) -> None:
        rig = self.rig(-0.1)
        # so quick that their torque hardly falls while the robot gains speed
        motors = {n: m.model_copy(update={"top_speed_rad_s": 1000.0}) for n, m in rig.motors.items()}
        rig = rig.model_copy(update={"motors": motors})
        held = traction_of(rig).ahead
        motor = next(iter(rig.motors.values()))
        for share, slides in ((0.8, False), (1.3, True)):
            # the torque that would start it so hard: both motors turn its mass and their rotors of 0.001 kg m²
            wanted = share * held
            force = 2.0 * (wanted * (1 + 0.05 * 0.1 / 0.2) + 0.05 * G * 0.1 / 0.2) + 2 * 0.001 * wanted / 0.01
            duty = force * 0.1 / 2 / motor.stall_Nm  # type: ignore[operator]
            model = RealisticBody(rig)
            state = run(model, model.start(), told(rig, duty, duty), 0.1, 1 / 240)
            self.assertEqual(float(state.slip[:2].max()) > 0.08, slides, share)

    def test_a_soft_start_spins_nothing(self) -> None:
        rig = self.rig(-0.1)
        shaping = rig.shaping.model_copy(
            update={"forward": rig.shaping.forward.model_copy(update={"slew_up_per_s": 1.0})}
        )
        found = traction_of(rig.model_copy(update={"shaping": shaping}))
        self.assertEqual((found.commanded, found.spins, found.remedy), (1.0, False, ""))
        self.assertNotIn("spins", found.said)

    def test_steered_and_slanted_wheels_carry_all_of_it(self) -> None:
        for name in ("bittern", "dunlin", "avocet", "coot"):
            self.assertAlmostEqual(traction_of(read_rig(demo_path(name))).share, 1.0, places=9, msg=name)


class RunTest(unittest.TestCase):
    def test_way_lost_to_slip(self) -> None:
        rig = read_rig(demo_path("plover"))
        program = check_text(
            "start at 1 m, 0.5 m\nwheels left 100 %, right 100 % for 0.6 s\nwheels left 0 %, right 0 % for 1 s", rig
        ).program
        assert program is not None
        made = play(program, rig, None)
        line = Line(rig)
        figures = Figures(line)
        for k in range(0, len(made.rows), 7):  # batch by batch, as a run is kept
            figures.add(made.rows[k : k + 7])
        found = figures.values()
        # by the encoders it rolled so far, and it is so far from where it began; braking it slides on the other way
        travel = made.rows[:, line.layout.these("sensed", ("left_travel", "right_travel"))].mean(axis=1)
        place = made.rows[:, line.layout.at("truth", "x")] - 1
        apart = travel - place
        self.assertGreater(apart.max(), 0.02)
        self.assertAlmostEqual(found["slipped_m"], apart.max(), delta=0.15 * apart.max() + 0.003)
        gentle = play(check_text("start at 1 m, 0.5 m\ndrive ahead 0.5 m at 30 %", rig).program, rig, None)  # type: ignore[arg-type]
        figures = Figures(line)
        figures.add(gentle.rows)
        self.assertLess(figures.values()["slipped_m"], 0.002)


def _hum(document: TOMLDocument) -> None:
    """Let no speed level turn a wheel."""
    for motor in document["motors"].values():
        motor["smallest"] = "60 %"
    document["control"]["wheels"] = "open"


class ScreenTest(AppCase):
    @in_loop
    async def test_shaping_says_it_on_the_curve_and_chassis_has_the_figures(self) -> None:
        async with self.running("keys", (160, 47), "shaping"):
            self.assertNotIn("only hums", self.text("shaping"))
            self.model.file.edit("hums", _hum)
            self.model.use_rig()
            await self.frames(3)
            said = " ".join(self.text("shaping").split())
            self.assertIn("only hums", said)
            await self.press("3")
            await self.frames(2)
            self.assertRegex(self.text("chassis"), r"load on the driven wheels +71 %")
            self.assertRegex(self.text("chassis"), r"acceleration before slip +3\.7 m/s²")


class DocsTest(unittest.TestCase):
    def test_the_guide_tells_where_one_would_look(self) -> None:
        guide = (ROOT / "docs" / "guide.md").read_text()
        self.assertIn("acceleration before slip", guide)
