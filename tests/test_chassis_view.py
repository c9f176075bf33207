"""The Chassis view, the shakedown's guide and the list of robots in Textual's pilot; and changing wheels in a file."""

import re
import unittest
from typing import Any

import numpy as np

from pivrex.diagnosis.correction import is_right
from pivrex.errors import RigError, UnitError
from pivrex.line.line import Line
from pivrex.line.questions.preview import preview
from pivrex.rig import RigFile, read_rig
from pivrex.rig.nudge import setting_at
from pivrex.rig.wheels import added, moved, of_kind, removed
from pivrex.session.messages import MoveSimulated, Probe, UseRig
from pivrex.sim.wiring import Wiring, faulty
from pivrex.tui.views.chassis import ChassisView
from tests.chassis import ALL, demo_path
from tests.local import where
from tests.support import TempCase, slow
from tests.test_app import AppCase, in_loop


class WheelFileTest(TempCase):
    def file(self, name: str) -> RigFile:
        path = self.folder / f"{name}.toml"
        path.write_text(demo_path(name).read_text())
        return RigFile(path)

    def test_a_wheel_is_placed(self) -> None:
        file = self.file("bittern")
        file.edit("place", moved(0, 0.12345, 0.1))
        wheel = file.rig.chassis.wheels[0]
        self.assertEqual((wheel.x_m, wheel.y_m), (0.123, 0.1))
        self.assertIn('x = "123 mm"', file.text)
        file.edit("place", moved(0, 0.2, 0.2), join=True)
        file.undo()  # both drags at once
        self.assertEqual(file.rig.chassis.wheels[0].x_m, 0.095)

    def test_a_wheel_more_and_less(self) -> None:
        for name in ALL:
            file = self.file(name)
            before = file.rig
            new, change = added(before, 0)
            file.edit("added", change)
            self.assertEqual(len(file.rig.chassis.wheels), len(before.chassis.wheels) + 1)
            self.assertEqual(file.rig.chassis.wheels[-1].name, new)
            self.assertIn(new, file.rig.motors)
            self.assertEqual(len(file.rig.steered), len(before.steered) + bool(before.steered))
            count = file.text.count("#")
            file.edit("removed", removed(file.rig, len(file.rig.chassis.wheels) - 1))
            self.assertEqual(file.rig, before, name)
            self.assertEqual(file.text.count("#"), count)
            file.undo()
            file.undo()
            self.assertEqual(file.text, demo_path(name).read_text())

    def test_a_wheel_of_another_kind(self) -> None:
        file = self.file("bittern")
        for kind in ("plain", "omni", "steered", "mecanum"):
            file.edit(kind, of_kind(file.rig, 0, kind))
            self.assertEqual(file.rig.chassis.wheels[0].kind, kind)
            self.assertEqual(bool(file.rig.steered), kind == "steered")
            Line(file.rig)
        self.assertEqual(file.rig.chassis, read_rig(demo_path("bittern")).chassis)
        avocet = self.file("avocet")
        with self.assertRaisesRegex(RigError, "this chassis cannot do that"):  # it would be dragged aside
            avocet.edit("plain", of_kind(avocet.rig, 3, "plain"))
        avocet.edit("omni", of_kind(avocet.rig, 3, "omni"))
        self.assertEqual(len(avocet.rig.steered), 3)
        avocet.edit("steered", of_kind(avocet.rig, 3, "steered"))
        self.assertEqual(len(avocet.rig.steered), 4)

    def test_settings_that_may_be_left_out_have_units(self) -> None:
        rig = read_rig(demo_path("bittern"))
        self.assertEqual(setting_at("chassis.wheels.0.rollers").shown(rig, "-45 deg"), "-45 deg")
        self.assertEqual(setting_at("chassis.wheels.0.rollers").stepped(rig, "-45 deg", 1), "-40 deg")
        avocet = read_rig(demo_path("avocet"))
        plain_number = setting_at("steering.wheels.front left.d")
        self.assertEqual(plain_number.shown(avocet, 0.05), "0.05")
        self.assertEqual(plain_number.stepped(avocet, 0.05, 2), 0.07)
        self.assertEqual(plain_number.stepped(avocet, 0.05, -9), 0.0)
        self.assertEqual(plain_number.typed(0.05, "0.2"), 0.2)
        for wrong in ("0.2 m", "-1", "11"):
            with self.assertRaises(UnitError):
                plain_number.typed(0.05, wrong)


class RobotCase(AppCase):
    """A workspace that opens another robot."""

    robot = "bittern"

    def setUp(self) -> None:
        super().setUp()
        text = (self.home / "workspace.toml").read_text()
        (self.home / "workspace.toml").write_text(text.replace('rig = "plover"', f'rig = "{self.robot}"'))
        self.rig_file = self.home / "rigs" / f"{self.robot}.toml"

    def wire(self, words: str, seed: int = 0) -> Wiring:
        """Return the simulated robot faults behind the screen's back."""
        session: Any = self.model.client.session  # type: ignore[union-attr]
        session._wired.wiring = faulty(self.model.rig, words, seed)
        session.handle(UseRig(self.model.rig, self.model.serial), 0.0)
        return session._wired.wiring

    async def until_there(self, text: str) -> None:
        """Let simulated time pass until a text is there."""
        for _ in range(200):
            await self.frames(4)
            if text in self.text("chassis"):
                return
        raise AssertionError(f"{text!r} not in\n{self.text('chassis')}")


class ChassisViewTest(RobotCase):
    @property
    def view(self) -> ChassisView:
        found: Any = self.app.views["chassis"]
        assert isinstance(found, ChassisView)
        return found

    @in_loop
    async def test_a_motion_of_ones_own_is_nudged_and_shown(self) -> None:
        async with self.running(view="chassis"):
            self.assertIn("front left  = forward − left − 0.21·turn", self.text("chassis"))
            await self.press("right", "right", "right", "right", "right")
            self.assertIn("your motion", self.text("chassis"))
            self.assertIn("+0.10 m/s", self.text("chassis"))
            await self.press("down", "left", "left", "left", "left", "left")
            # 0.10 ahead and 0.10 to the left: front left and rear right stand, the others make 0.20
            own = self.view.chassis.own
            assert own is not None
            np.testing.assert_allclose(own, [0.1, 0.1, 0.0], atol=1e-12)
            np.testing.assert_allclose(preview(self.model.line, own).limited, [0, 0.2, 0.2, 0], atol=1e-12)
            self.assertIn("= 0.10 + 0.10 + 0.00 m/s", self.text("chassis"))
            await self.press("v")
            self.assertIn("live", self.text("chassis"))

    @in_loop
    async def test_too_much_is_said_with_what_is_left(self) -> None:
        async with self.running(view="chassis"):
            await self.press("equals_sign", *"1.5 m/s", "enter")
            self.assertIn("! 4 of 4 wheels too fast: scale leaves 1.26 m/s forward", self.text("chassis"))
            await self.press("equals_sign", *"99 m/s", "enter")
            self.assertGreater(len(self.app.screen_stack), 1)  # the typing stays, with the sentence next to it
            await self.press("escape", "0")
            self.assertNotIn("too fast", self.text("chassis"))

    @in_loop
    async def test_clipped_wheels_disagree_and_that_is_said(self) -> None:
        async with self.running(view="chassis"):
            self.model.type_in("limits.first", "both")
            self.model.type_in("law.move_and_turn", "either")
            await self.frames(2)
            self.assertRegex(self.text("chassis"), r"move and turn +together +either")
            self.assertEqual(self.model.line.rig.law.move_and_turn, "either")
            self.model.type_in("limits.fit", "clip")
            self.view.chassis.own = np.array([0.9, 0.7, 2.0])
            await self.frames(2)
            self.assertIn("the wheels disagree by", self.text("chassis"))
            self.model.type_in("limits.fit", "scale")
            await self.frames(2)
            self.assertNotIn("the wheels disagree by", self.text("chassis"))

    @in_loop
    async def test_geometry_changes_the_equation_at_once_and_undo_brings_it_back(self) -> None:
        async with self.running(view="chassis"):
            self.view.select("chassis.wheels.0.x")
            await self.press("right", "right")
            self.assertEqual(self.model.rig.chassis.wheels[0].x_m, 0.105)
            self.assertIn("= forward − left − 0.22·turn", self.text("chassis"))
            self.assertIn('x = "105 mm"', self.rig_file.read_text())
            await self.press("u", "u")
            self.assertIn("front left  = forward − left − 0.21·turn", self.text("chassis"))
            self.view.select("chassis.wheels.0.drive")
            await self.press("right")
            self.assertIn("= 1.08·forward − 0.909·left", self.text("chassis"))

    @in_loop
    async def test_wheels_come_and_go_in_place(self) -> None:
        async with self.running(view="chassis"):
            await self.press("plus")
            self.assertEqual(len(self.model.line.wheels), 5)
            self.assertEqual(self.model.wheel_name, "wheel 1")
            await self.frames(3)
            self.assertIn("wheel 1", self.text("chassis"))
            await self.press("backspace")
            self.assertEqual(len(self.model.line.wheels), 4)
            self.view.select("wheel.kind")
            await self.press("right")
            self.assertEqual(self.model.rig.chassis.wheels[self.model.wheel].kind, "steered")
            await self.frames(3)
            await self.press("u", "u", "u")
            self.assertEqual(self.rig_file.read_text(), demo_path("bittern").read_text())

    @in_loop
    async def test_the_mouse_drags_motions_and_wheels(self) -> None:
        async with self.running(view="chassis"):
            view = self.view
            placing = view._robot._placing
            assert placing is not None
            x, y = placing.cell(0.0, 0.0)
            for phase, dy in (("press", 0), ("drag", -4), ("release", -4)):
                view.point(x, y + dy, phase)
            own = view.chassis.own
            assert own is not None
            self.assertGreater(own[0], 0.2)
            self.assertAlmostEqual(own[1], 0.0, delta=0.05)
            x, y = placing.cell(-0.115, 0.095)  # ahead is up, left is left
            to = placing.cell(-0.115, 0.05)
            view.point(x, y, "press")
            view.point(*to, "drag")
            view.point(*to, "release")
            self.assertAlmostEqual(self.model.rig.chassis.wheels[0].x_m, 0.05, delta=0.01)
            self.assertEqual(self.model.wheel_name, "front left")
            view.draw(160, 41)
            key, row, start, _ = view._motion._bars[2]
            at = where(view, view._motion)
            view.point(at.x + start, at.y + row, "press")
            assert view.chassis.own is not None
            self.assertGreater(view.chassis.own[2], 0)  # the left end of the turn's bar turns left
            self.assertEqual(view.settings.chosen, key)

    @in_loop
    async def test_a_law_it_cannot_follow_is_refused_with_a_sentence(self) -> None:
        async with self.running(view="chassis"):
            for i in range(4):
                self.model.edit("plain", of_kind(self.model.rig, i, "plain"))
                await self.frames(1)
            self.assertIn("not changed", self.text("foot"))
            self.assertIn("moving sideways", self.model.message)
            self.assertEqual(self.model.rig.chassis.wheels[3].kind, "mecanum")

    @in_loop
    async def test_another_robot_is_opened(self) -> None:
        async with self.running(view="chassis", source="recording strafing"):
            await self.press("b")
            self.assertIn("which robot?", self.over())
            await self.press("up", "enter")
            self.assertEqual(self.model.rig.name, "Avocet")
            self.assertEqual(self.model.status.source, "recording swinging")
            await self.frames(4)
            self.assertIn("points", self.text("chassis"))
            self.assertIn("Avocet", self.text("head"))
            for name in ("2", "5", "3"):
                await self.press(name)
            rigs = [path.stem for path in self.model.folder.rigs()]
            await self.press("b", *["down"] * (rigs.index("plover") - rigs.index("avocet")), "enter")
            self.assertEqual(self.model.rig.name, "Plover")
            await self.frames(3)
            self.assertIn("speed against turn", self.text("chassis"))

    @in_loop
    async def test_a_click_on_the_line_opens_its_cell(self) -> None:
        async with self.running(view="chassis"):
            await self.frames(1)
            for x, name in (
                (5, "driver"),
                (30, "shaping"),
                (55, "chassis"),
                (78, "heading"),
                (100, "field"),
                (125, "routine"),
                (150, "runs"),
            ):
                await self.pilot.click("#line", offset=(x, 1))
                self.assertEqual(self.app.view.view_name, name)

    @in_loop
    async def test_every_robot_at_every_size(self) -> None:
        for size in ((160, 47), (100, 30), (80, 24)):
            async with self.running(view="chassis", size=size):
                for path in self.model.folder.rigs():
                    self.model.open_rig(path)
                    await self.frames(3)
                    text = self.text("chassis")
                    self.assertIn("forward", text)
                    self.assertIn(self.model.line.wheels[0], text)
                    for view in ("2", "5", "3"):
                        await self.press(view)


@slow
class SizesTest(RobotCase):
    robot = "coot"

    @in_loop
    async def test_the_body_is_changed_here_and_mirrored_wheels_together(self) -> None:
        async with self.running(view="chassis"):
            self.assertIn("body length", self.text("chassis"))
            self.model.type_in("chassis.length", "310 mm")
            self.assertEqual(read_rig(self.rig_file).chassis.length_m, 0.31)
            self.model.type_in("chassis.wheels.0.y", "101 mm")
            self.model.type_in("chassis.wheels.0.x", "93 mm")
            wheels = read_rig(self.rig_file).chassis.wheels
            self.assertEqual(
                [(w.x_m, w.y_m) for w in wheels], [(0.093, 0.101), (0.093, -0.101), (-0.09, 0.095), (-0.09, -0.095)]
            )
            self.model.undo()
            self.assertEqual(read_rig(self.rig_file).chassis.wheels[1].x_m, 0.09)

    @in_loop
    async def test_in_a_small_window_the_selected_setting_is_seen_and_more_is_said(self) -> None:
        async with self.running(view="chassis", size=(80, 24)):
            for label in ("kind", "radius", "body length", "to turn"):
                for _ in range(20):
                    if f"▸ {label}" in self.text("chassis"):
                        break
                    await self.press("down")
                self.assertIn(f"▸ {label}", self.text("chassis"))
                self.assertIn("more: ", self.text("chassis"))
            await self.press("1")
            self.assertRegex(self.text("driver"), r"\d+ more: ↓")
            self.assertRegex(self.text("driver"), r"channels of keys, \d+ of \d+")

    @in_loop
    async def test_a_wheel_far_outside_is_questioned(self) -> None:
        async with self.running(view="chassis"):
            self.model.type_in("chassis.wheels.0.y", "9 m")
            self.assertIn("wheel front left would be 9.00 m from the centre", self.model.message)
            self.assertEqual(read_rig(self.rig_file).chassis.wheels[0].y_m, 0.095)
            self.model.type_in("chassis.wheels.0.y", "9 m")
            self.assertEqual(read_rig(self.rig_file).chassis.wheels[0].y_m, 9.0)


class SteeringViewTest(RobotCase):
    robot = "avocet"

    @in_loop
    async def test_the_ladder_leads_to_the_wheel_and_its_loop(self) -> None:
        async with self.running(view="field"):
            await self.press("n", "enter")
            rungs = [r.stage for r in self.app.why._rungs()]
            await self.press(*["down"] * rungs.index("steer"), "enter")
            self.assertEqual(self.app.view.view_name, "chassis")
            view: Any = self.app.view
            self.assertEqual(view.settings.chosen, "steering.wheels.front right.p")
            await self.press("right")
            steering = self.model.rig.steering
            assert steering is not None
            self.assertEqual(steering.wheels["front right"].p_per_s, 14.5)
            self.assertEqual(steering.wheels["front left"].p_per_s, 14.0)
            view.select("chassis.wheels.2.x")
            self.assertEqual(self.model.wheel_name, "rear left")

    @in_loop
    async def test_the_travel_for_any_turn(self) -> None:
        async with self.running(view="chassis"):
            view: Any = self.app.view
            view.select("figure.angle")
            self.assertIn("to turn 90 deg left", self.text("chassis"))
            # 0.105·√2 m from the centre: π/2 of that is 233.3 mm, a whole turn four times as much
            self.assertIn("−233.3 mm", self.text("chassis"))
            await self.press("equals_sign", *"1 turn", "enter")
            self.assertIn("to turn 360 deg left", self.text("chassis"))
            self.assertIn("−933.0 mm", self.text("chassis"))

    @in_loop
    async def test_calibration_asks_and_then_writes(self) -> None:
        async with self.running(view="chassis"):
            truth = self.wire("none")
            self.model.type_in("steering.wheels.front left.sensor.offset", "12 deg")
            await self.press("f")
            self.assertIn("point all steered wheels straight ahead", self.model.message)
            self.assertIn(MoveSimulated("point ahead"), self.asked)
            await self.frames(3)
            await self.press("f")
            self.assertIn('offset = "37.5 deg"', self.rig_file.read_text())
            self.assertTrue(is_right(self.model.rig, truth))

    @in_loop
    async def test_a_shakedown_of_eight_motors(self) -> None:
        async with self.running(view="chassis"):
            truth = self.wire("random", 11)
            await self.press("c", "enter")
            self.assertIn("Point all steered wheels straight ahead", self.text("chassis"))
            await self.press("enter")
            await self.until_there("Enter sends it: the sensors look")
            await self.press("enter")
            client: Any = self.model.client
            client.ticks = 30  # a look at its rows: quicker than the screen would
            # a real body is dragged along by the wheel that drives, so that a person is asked more than once
            view: Any = self.app.views["chassis"]
            for _ in range(2200):
                text = self.text("chassis")
                if "Enter writes this to the rig" in text:
                    break
                if "What moved?" in text:
                    eyes = next(row for row in text.splitlines() if "to the eye:" in row).split("to the eye:")[1]
                    said = eyes.split(";")[0].strip().replace("rolls", "rolled").replace("turns", "turned")
                    options = [o.text for o in view.guide.step.options]
                    self.assertIn(said, options)
                    await self.press(*["down"] * (1 + options.index(said)), "enter")
                elif "What did the numbers do?" in text:
                    # which wheel it is has been said; the sensors' numbers stand there
                    pane = " ".join(row.split("│")[-1].strip() for row in text.splitlines())
                    port = pane.split("Port ")[1].split(":")[0]
                    (count,) = re.findall(
                        rf"{truth.plugs[port][0]} ([+−])[\d.]+", pane.split("counted:")[1].split(";")[0]
                    )
                    (heading,) = re.findall(r"heading ([+−]?[\d.]+) deg", pane.split("counted:")[1])
                    turned = float(heading.replace("−", "-"))
                    way = "stayed" if abs(turned) < 0.23 else "rose" if turned > 0 else "fell"
                    said = f"its count went {'up' if count == '+' else 'down'}, the heading {way}"
                    options = [o.text for o in view.guide.step.options]
                    await self.press(*["down"] * (1 + options.index(said)), "enter")
                elif "Enter sends it" in text:
                    await self.press("enter")
                else:
                    await self.frames(1)
            self.assertIn("Enter writes this to the rig", self.text("chassis"))
            await self.press("enter")
            self.assertTrue(is_right(read_rig(self.rig_file), truth))


@slow
class GuideTest(RobotCase):
    """The guide on a robot with secret faults."""

    robot = "plover"

    @in_loop
    async def test_it_finds_corrects_and_sweeps(self) -> None:
        async with self.running(view="chassis"):
            truth = self.wire("random", 4)
            await self.press("c")
            self.assertIn("Where does the robot stand", self.text("chassis"))
            await self.press("enter")
            self.assertIn("64 explanations left", self.text("chassis"))
            await self.press("enter")
            await self.until_there("Enter sends it: you say what moved")
            await self.press("enter")
            await self.until_there("What moved?")
            self.assertIn("2 explanations left", self.text("chassis"))
            self.assertIn("to the eye:", self.text("chassis"))
            eyes = next(line for line in self.text("chassis").splitlines() if "to the eye:" in line).split(
                "to the eye:"
            )[1]
            said = eyes.split(";")[0].strip().replace("rolls", "rolled")
            view: Any = self.app.views["chassis"]
            options = [o.text for o in view.guide.step.options]
            await self.press(*["down"] * (1 + options.index(said)), "enter")
            await self.until_there("1 explanation left")
            await self.press("enter")
            await self.until_there("written to plover.toml")
            self.assertTrue(is_right(read_rig(self.rig_file), truth))
            await self.press("enter")
            self.assertIn("The smallest duty", self.text("chassis"))
            await self.press("enter")
            await self.until_there("Put it on the floor; Enter begins")
            await self.press("enter")
            await self.until_there("Enter writes this to the rig")
            await self.press("enter")
            found = read_rig(self.rig_file)
            for motor, (_, loaded) in truth.smallest.items():
                self.assertAlmostEqual(found.motors[motor].smallest, loaded, delta=0.02)
            await self.press("u", "u")
            self.assertEqual(self.rig_file.read_text(), demo_path("plover").read_text())

    @in_loop
    async def test_escape_stops_a_probe_and_enter_sends_it_again(self) -> None:
        async with self.running(view="chassis"):
            await self.press("c", "enter", "enter")
            self.assertTrue(self.model.status.probing)
            await self.press("escape")
            self.assertFalse(self.model.status.probing)
            await self.frames(3)
            self.assertIn("the probe was stopped", self.text("chassis"))
            before = sum(isinstance(r, Probe) for r in self.asked)
            await self.press("enter")
            self.assertEqual(sum(isinstance(r, Probe) for r in self.asked), before + 1)

    @in_loop
    async def test_it_goes_on_after_a_stop_by_hand(self) -> None:
        async with self.running(view="chassis"):
            await self.press("escape", "c", "enter", "enter")
            await self.until_there("Enter sends it: you say what moved")
            self.assertNotIn("was stopped", self.text("chassis"))

    @in_loop
    async def test_answers_that_clash_are_named_and_taken_back(self) -> None:
        async with self.running(view="chassis"):
            await self.press("c", "down", "down", "down", "enter")  # wheels up, I say
            self.assertTrue(self.model.status.lifted)
            for _ in range(2):
                await self.press("enter")
                await self.until_there("What moved?")
                await self.press("enter")  # the Enter that sent it should not answer it
                self.assertIn("choose what you saw first", self.text("chassis"))
                view: Any = self.app.views["chassis"]
                options = [o.text for o in view.guide.step.options]
                await self.press(*["down"] * (1 + options.index("left rolled forward")), "enter")
            self.assertIn("These two cannot both be true", self.text("chassis"))
            self.assertIn("0 explanations left", self.text("chassis"))
            await self.press("enter")
            self.assertNotIn("cannot both", self.text("chassis"))
            await self.press("backspace")
            self.assertIn("64 explanations left", self.text("chassis"))
            await self.press("c")
            self.assertNotIn("shakedown  ", self.text("chassis"))

    @in_loop
    async def test_a_rig_changed_meanwhile_begins_anew(self) -> None:
        async with self.running(view="chassis"):
            await self.press("c", "enter")
            self.model.nudge("motors.left.smallest", 1)
            await self.frames(2)
            self.assertIn("begins again", self.text("chassis"))

    @in_loop
    async def test_in_a_small_window_labels_are_whole_and_a_curve_of_five_rows_keeps_its_title(self) -> None:
        async with self.running(view="shaping", size=(80, 24)):
            text = self.text("shaping")
            for label in (
                "dead band",
                "slew up",
                "band measures",
                "after band",
                "overall scale",
                "over limit",
                "cruise: turning",
            ):
                self.assertRegex(text, rf"{label} +\S")
        async with self.running(view="shaping", size=(80, 19)):
            rows = self.text("shaping").split("\n")
            title = next(i for i, row in enumerate(rows) if "forward" in row)
            below = next(i for i, row in enumerate(rows) if "dead band ±6 %" in row)
            self.assertLessEqual(below - title - 1, 6)
            self.assertRegex("\n".join(rows[title:below]), "[\u2580-\u259f]")


if __name__ == "__main__":
    unittest.main()
