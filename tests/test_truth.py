"""The why tells the truth: every number of every sentence and rung is the Tick's or the rig's, and each arrow starts from
the number before it. Random rigs, sticks, buttons, letters, levels, frames, sides up.
"""

import math
import re
import unittest

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Line
from pivrex.line.correction import Correction
from pivrex.line.kinematics import motion_stage
from pivrex.line.why import ladder, sentence
from pivrex.line.zeroing import Zeroing
from pivrex.rig import Rig, read_rig
from pivrex.sim import Rollout, simulator_of
from tests.chassis import ALL, MECANUM, STEERED, Wheel, demo_path, rig_of
from tests.support import slow

Floats = NDArray[np.float64]
N = r"[+-]?\d+(?:\.\d+)?"
TURN = rf"{N} deg/s(?: left| right)?"

MIXES: dict[str, list[list[float]]] = {  # the laws by hand: forward, left, turn from the functions
    "tank": [[0.5, 0.5], [0, 0], [-0.5, 0.5]],
    "arcade": [[1, 0], [0, 0], [0, 1]],
    "split arcade": [[1, 0], [0, 0], [0, 1]],
    "triggers": [[1, -1, 0], [0, 0, 0], [0, 0, 1]],
    "planar": [[1, 0, 0], [0, 1, 0], [0, 0, 1]],
}


def random_rig(chance: np.random.Generator) -> Rig:
    """A shipped robot, or wheels of the tests with random settings."""
    if chance.random() < 0.4:
        return read_rig(demo_path(str(chance.choice(ALL))))
    two: list[Wheel] = [(0.0, 0.25, 0.0, None, False), (0.0, -0.25, 0.0, None, False)]
    wheels, laws = (two, ["tank", "arcade", "split arcade", "triggers"]) if chance.random() < 0.5 else (
        [MECANUM, STEERED][int(chance.integers(2))], ["planar", "tank", "arcade"]
    )  # fmt: skip
    law = str(chance.choice(laws))
    parts = ['[shaping]\nmeasure = "stick"\n']
    if law == "planar" and chance.random() < 0.5:
        parts.append('direction = "kept"\n')
    for f in ("forward", "sideways", "turn", "left", "right", "ahead", "back"):
        numbers = chance.uniform(0, 0.2), chance.uniform(0, 1), chance.uniform(0.4, 1)
        rates = f'slew_up = "{chance.uniform(2, 9):.2f} /s"\n' if chance.random() < 0.4 else ""
        parts.append(
            f"[shaping.{f}]\ndead_band = {numbers[0]:.3f}\ncurve = {numbers[1]:.3f}\nscale = {numbers[2]:.3f}\n{rates}"
        )
    parts.append("[gyro]\n[upside_down]\n" if chance.random() < 0.5 else "[gyro]\n")
    if law == "planar":
        parts.append('[plane]\nframe = "field"\n[[plane.points]]\nname = "tip"\nx = "300 mm"\ny = "50 mm"\n')
        parts.append(f'[limits]\nfirst = "{chance.choice(["both", "turning", "moving"])}"\n')
    else:
        parts.append(f'[limits]\nfit = "{chance.choice(["scale", "clip"])}"\n')
    for name in ("low", "mid"):
        parts.append(f'[[speed_levels.levels]]\nname = "{name}"\nmoving = {chance.uniform(0.2, 0.8):.3f}\n'
                     f'turning = {chance.uniform(0.2, 0.8):.3f}\n')  # fmt: skip
    parts.append('[[speed_levels.levels]]\nname = "all"\n')
    for i, does in enumerate(
        ("slow 40 %", "turn left 60 %", "pivot right 50 %", "brake", "faster level", "slower level")
    ):
        parts.append(f'[[bindings]]\nchannel = "button_{i}"\ndoes = "{does}"\n')
    if law == "planar":
        parts.append(
            '[[bindings]]\nchannel = "button_8"\ndoes = "next point"\n[[bindings]]\nchannel = "button_9"\ndoes = "other frame"\n'
        )
    parts.append(
        '[sources.box]\nkind = "letters"\nwire = { kind = "tcp", port = 1 }\n[sources.box.letters]\nF = "forward 50 %"\n'
    )
    return rig_of(wheels, "".join(parts) + f'[law]\nkind = "{law}"\n')


class Told:
    """What a Tick says, and comparing it with what is written."""

    def __init__(self, case: unittest.TestCase, line: Line, row: Floats, wheel: str) -> None:
        self.case, self.line, self.row, self.wheel = case, line, row, wheel
        self.column, self.w = wheel.replace(" ", "_"), line.wheels.index(wheel)
        self.where = ""

    def get(self, stage: str, name: str, otherwise: float = 0.0) -> float:
        layout = self.line.layout
        return float(self.row[layout.at(stage, name)]) if layout.has(stage, name) else otherwise

    def same(self, written: str, value: float, what: str) -> None:
        text = written.lstrip("+")
        digits = len(text.partition(".")[2])
        slack = 0.5 * 10.0**-digits + 0.000501  # what would be -0.000 is written as 0
        self.case.assertLessEqual(abs(float(text) - value), slack, f"{what}: {written} for {value} in {self.where}")

    def turn(self, written: str, value: float, what: str) -> None:
        number, _, way = written.partition(" deg/s")
        self.same(number, abs(math.degrees(value)), what)
        if abs(math.degrees(value)) > 0.06:
            self.case.assertEqual(way.strip(), "left" if value > 0 else "right", self.where)

    @property
    def motor(self) -> str:
        name = next(n for n, m in self.line.rig.motors.items() if self.wheel in m.wheels)
        return name.replace(" ", "_")

    def asked(self) -> float:
        return self.get("wheels", f"{self.column}_requested")

    def row_of(self) -> Floats:
        """The wheel's row of the matrix, for wheels that are not steered."""
        geometry = self.line.rig.chassis.geometry
        rows = geometry.rows_upside_down if self.get("heading", "upside_down") else geometry.rows
        return np.asarray(rows[geometry.of_wheel == self.w][0])

    def term(self, function: str) -> float:
        mix = np.array(MIXES[self.line.rig.law.kind])[:, self.line.functions.index(function)]
        full = np.array([self.get("law", f"full_{n}") for n in ("forward", "left", "turn")])
        return float((self.row_of() * mix * full).sum() * self.get("rate", function))


CHAIN = {"band": ("axes", "band"), "curve": ("band", "curve"), "scale": ("curve", "scale"), "rate": ("scale", "rate")}
"""What each rung of the shaping starts from, and ends in."""


@slow
class TruthTest(unittest.TestCase):
    def test_random_drives(self) -> None:
        seen: set[str] = set()
        for seed in range(40):
            chance = np.random.default_rng(seed)
            rig = random_rig(chance)
            line = Line(rig)
            robot = Rollout(line, simulator_of(rig))
            if rig.upside_down is not None and chance.random() < 0.5:
                robot.robot = robot.robot._replace(upside_down=np.array(1.0))
            held = line.stages.get("correction")
            if isinstance(held, Correction) and chance.random() < 0.7:
                robot.state = line.changed(
                    robot.state, "correction", held.hold(line.of(robot.state, "correction"), True)
                )
            zero = line.stages.get("zeroing")
            if isinstance(zero, Zeroing) and chance.random() < 0.3:
                robot.state = line.changed(robot.state, "zeroing", zero.ask(line.of(robot.state, "zeroing")))
            robot.tick(line.rest())
            raw = line.rest()
            buttons = [i for i, c in enumerate(line.channels) if not c.endswith(("_x", "_y"))]
            for k in range(24):
                if k % 3 == 0:
                    raw = chance.uniform(-1, 1, len(line.channels)) * (chance.random() > 0.3)
                    raw[buttons] = chance.random(len(buttons)) < 0.15
                row = robot.tick(raw, float(chance.random() < 0.06))
                for wheel in line.wheels:
                    told = Told(self, line, row, wheel)
                    seen |= self.check_sentence(told, sentence(line, row, wheel))
                    self.check_ladder(told)
        # the drives came to every kind of part at least once
        for part in ("stick", "band", "curve", "scale", "rate", "sum", "button", "motion", "frame", "equation", "limited",
                     "steer", "brake", "control", "correct"):  # fmt: skip
            self.assertIn(part, seen)

    def check_sentence(self, t: Told, said: str) -> set[str]:  # noqa: C901, PLR0912, PLR0915 - follows a sentence part by part
        t.where = said
        said = said.replace("−", "-").replace("- ", "-").replace("+ ", "+")
        prefix = f"why {t.wheel}: "
        self.assertTrue(said.startswith(prefix))
        parts, seen = said[len(prefix) :].split(" → "), set()
        main, before = "", math.nan
        for i, part in enumerate(parts[:-1]):
            if match := re.fullmatch(rf"(\w+) (?:stick|trigger) ({N})( left| right)?", part):
                main = match[1]
                seen.add(self.shaped(t, "axes", main, match[2], match[3] or "", "stick"))
            elif match := re.fullmatch(rf"(band|curve|scale|rate) ({N})", part):
                seen.add(self.shaped(t, match[1], main, match[2], "", match[1]))
            elif (
                match := re.fullmatch(rf"(.*: )?({N}) m/s((?: [+-]\w+ {N})*)", part)
                if main and i < 8 and "deg" not in part and "=" not in part and not part.startswith("!")
                else None
            ):
                if (not match[3] and re.fullmatch(rf"{N} m/s", part) and "sum" in seen) or "steering" in t.line.stages:
                    t.same(match[2], t.asked(), "asked")
                else:
                    seen.add("sum")
                    self.shares(t, match[1] or "")
                    t.same(match[2], t.term(main), main)
                    total = t.term(main)
                    for sign, name, size in re.findall(rf"([+-])(\w+) ({N})", match[3]):
                        value = t.term(name) if name != "button" else t.asked() - sum(map(t.term, t.line.functions))
                        t.same(f"{sign}{size}", value, name)
                        total += value
                    self.assertAlmostEqual(total, t.asked(), delta=0.006, msg=t.where)
            elif match := re.fullmatch(rf"(.*: )?forward ({N})(?: left ({N}))? m/s, turn ({TURN})", part):
                words = match[1] or ""
                stage = "frame" if words.startswith(("field", "robot")) else "law"
                seen.add("frame" if stage == "frame" else "motion")
                if stage == "law":
                    self.shares(t, words)
                else:
                    self.framed(t, words)
                t.same(match[2], t.get(stage, "forward"), f"{stage} forward")
                if match[3]:
                    t.same(match[3], t.get(stage, "left"), f"{stage} left")
                t.turn(match[4], t.get(stage, "turn"), f"{stage} turn")
            elif match := re.fullmatch(rf"(.+) = ({N}) m/s", part):
                seen.add("equation")
                self.equation(t, match[1])
                t.same(match[2], t.asked(), "equation")
            elif match := re.fullmatch(rf"! limited to ({N}) m/s", part):
                seen.add("limited")
                t.same(match[1], t.get("limits", f"{t.column}_limited"), "limited")
            elif match := re.fullmatch(
                rf"to ({N}) deg, points ({N}) deg(, reversed)?(?:, cosine ({N}))?: ({N}) m/s", part
            ):
                seen.add("steer")
                for written, stage, name in ((match[1], "steering", "target"), (match[2], "pointing", "angle")):
                    away = math.degrees(t.get(stage, f"{t.column}_{name}")) - float(written)
                    self.assertLess(abs((away + 180) % 360 - 180), 0.6, t.where)
                self.assertEqual(bool(match[3]), t.get("steering", f"{t.column}_way") < 0, t.where)
                if match[4]:
                    t.same(match[4], t.get("steering", f"{t.column}_share"), "cosine")
                t.same(match[5], t.get("steering", f"{t.column}_speed"), "steered")
            elif match := re.fullmatch(rf"({N}) m/s", part):
                t.same(match[1], t.asked(), "asked")
            elif match := re.fullmatch(rf"({N}) % of top speed: drive ({N}) %", part):
                seen.add("control")
                for written, name in ((match[1], "setpoint"), (match[2], "drive")):
                    t.same(written, t.get("control", f"{t.motor}_{name}") * 100, name)
            elif match := re.fullmatch(rf"heading ({N}) deg off: ({TURN})", part):
                seen.add("correct")
                t.same(match[1], abs(math.degrees(t.get("correction", "error"))), "error")
                t.turn(match[2], t.get("correction", "output"), "given")
            elif match := re.fullmatch(r"(.+): no loop, no drive", part):
                seen.add("halted")
                for name in ("brake", "coast"):
                    self.assertEqual(name in match[1].split(" and "), t.get("bindings", name) == 1, t.where)
                self.assertEqual(t.get("drive", t.motor), 0.0, t.where)
            else:
                seen.add("brake" if part in ("brake", "coast") else "button")
                self.pressed(t, part)
        self.output(t, parts[-1])
        halted = (t.get("bindings", "brake") or t.get("bindings", "coast")) and not t.get("law", "entered")
        self.assertEqual("halted" in seen, bool(halted), t.where)
        self.assertFalse(math.isfinite(before))
        return seen

    def shaped(self, t: Told, stage: str, main: str, number: str, way: str, kind: str) -> str:
        value = t.get(stage, main)
        t.same(number, abs(value) if main == "turn" else value, f"{stage} of {main}")
        if way:
            self.assertEqual(way.strip(), "left" if value > 0 else "right", t.where)
        return kind

    def shares(self, t: Told, words: str) -> None:
        """The level's name where it takes something, and the slow button's share."""
        level = t.line.rig.speed_levels.levels[int(t.get("law", "level"))]
        self.assertEqual(level.name in words, min(level.moving, level.turning) < 1, t.where)
        slow = t.get("bindings", "slow", 1.0)
        self.assertEqual("slow" in words, slow < 1, t.where)
        for written in re.findall(rf"slow ({N}) %", words):
            t.same(written, slow * 100, "slow")

    def framed(self, t: Told, words: str) -> None:
        self.assertEqual(words.startswith("field"), t.get("frame", "field") == 1, t.where)
        self.assertEqual("on its back" in words, t.get("heading", "upside_down") == 1, t.where)
        self.assertEqual("about" in words, t.get("frame", "point") > 0, t.where)
        for written in re.findall(rf"heading ({N}) deg", words):
            away = math.degrees(t.get("frame", "heading")) - float(written)
            self.assertLess(abs((away + 180) % 360 - 180), 0.6, t.where)

    def equation(self, t: Told, text: str) -> None:
        """The sum as it is written, with the Tick's motion in it, comes to what is asked of the wheel."""
        stage = motion_stage(t.line.layout)
        motion = {n: t.get(stage, n) for n in ("forward", "left", "turn")}
        if text.startswith("("):
            return  # of a steered wheel two sums; the length is checked by the Tick's own columns below
        code = re.sub(rf"({N})·", r"\1*", text.replace("·", "*"))
        self.assertRegex(code, r"^[-+*. \d a-z]+$")
        value = eval(code, {"__builtins__": {}}, motion)
        self.assertAlmostEqual(value, t.asked(), delta=0.02, msg=t.where)

    def pressed(self, t: Told, part: str) -> None:
        self.assertTrue(
            any(t.get("bindings", n) for n in ("forward", "left", "turn", "pivot", "brake", "coast")), t.where
        )
        for one in part.split(", "):
            if one in ("brake", "coast"):
                self.assertEqual(t.get("bindings", one), 1.0, t.where)
            elif one not in ("a button", "falling back"):
                name = re.split(r" (?=forward|back|slide|turn|pivot)", one)[0]
                at = next((i for i, (_, c) in enumerate(t.line.inputs.wanted) if c == name), -1)
                self.assertGreaterEqual(at, 0, f"{name!r} in {t.where}")
                self.assertGreaterEqual(t.row[t.line.layout.stage("raw").start + at], 0.5, t.where)

    def output(self, t: Told, part: str) -> None:
        motor = next(n for n, m in t.line.rig.motors.items() if t.wheel in m.wheels)
        values = [v for v in t.line.outputs.values if v.motor == motor]
        numbers = re.findall(N, part.partition(" forward")[0].partition(" backward")[0].partition(" rest")[0])
        for value, written in zip(values, numbers, strict=False):
            if value.name != "direction":
                got = t.get("outputs", f"{motor.replace(' ', '_')}_{value.name}")
                self.assertAlmostEqual(float(written), got, delta=0.51 if "." not in written else 0.006, msg=t.where)
        drive = t.get("drive", motor.replace(" ", "_")) * (-1 if t.line.rig.motors[motor].reversed else 1)
        if abs(drive) > 0.001:
            self.assertIn("forward" if drive > 0 else "backward", part, t.where)
        self.assertEqual("hums" in part, t.get("outputs", f"{motor.replace(' ', '_')}_hums") == 1, t.where)

    # --- the ladder ---

    def check_ladder(self, t: Told) -> None:  # noqa: C901, PLR0912, PLR0915 - follows a ladder rung by rung
        for rung in ladder(t.line, t.row, t.wheel):
            t.where = f"{rung.stage}: {rung.text}"
            before, arrow, after = rung.text.partition(" → ")
            if rung.stage in ("stick", "trigger"):
                function = before.partition(":")[0]
                (read,) = re.findall(rf"reads ({N})", before)
                channel = t.line.channels[t.line.functions.index(function)]
                t.same(read, t.get("raw", channel), "raw")
                t.same(after, t.get("axes", function), "axes")
            elif rung.stage in CHAIN:
                function, _, rest = before.partition(": ")
                start, end = CHAIN[rung.stage]
                t.same(rest.split(",")[0], t.get(start, function), "starts from the number before")
                t.same(after, t.get(end, function), end)
                shaping = t.line.rig.shaping.of("forward" if t.line.rig.keeps_direction and function == "sideways"
                                                and rung.stage in ("curve", "scale") else function)  # fmt: skip
                for word, value in (("dead band", shaping.dead_band), ("cubic", shaping.curve)):
                    for written in re.findall(rf"{word} ({N}) %", rest):
                        t.same(written, value * 100, word)
                if rung.note == "still on its way":
                    self.assertNotAlmostEqual(t.get("scale", function), t.get("rate", function), places=4)
            elif rung.stage == "button":
                for name, written in re.findall(rf"(forward|left|turn|pivot) ({N})(?! %)", after):
                    t.same(written, t.get("bindings", name), name)
                self.assertEqual(
                    bool(arrow), any(t.get("bindings", n) for n in ("forward", "left", "turn", "pivot")), t.where
                )
                for written in re.findall(rf"slow ({N}) %", before):
                    t.same(written, t.get("bindings", "slow") * 100, "slow")
            elif rung.stage == "law":
                for function in t.line.functions:
                    (written,) = re.findall(rf"\b{function} ([+-]{N[5:]})", before)
                    t.same(written, t.get("rate", function), "starts from the rates")
                level = t.line.rig.speed_levels.levels[int(t.get("law", "level"))]
                for word, value in (
                    ("moving", level.moving),
                    ("turning", level.turning),
                    ("slow", t.get("bindings", "slow", 1.0)),
                ):
                    for written in re.findall(rf"{word} ({N}) %", before):
                        t.same(written, value * 100, word)
                self.motion(t, "law", after)
            elif rung.stage == "frame":
                forward, left = re.findall(rf"forward ({N}) left ({N})", before)[0]
                t.same(forward, t.get("law", "forward"), "starts from the law")
                t.same(left, t.get("law", "left"), "starts from the law")
                self.framed(t, before.partition(", ")[2])
                self.motion(t, "frame", after)
            elif rung.stage == "wheel":
                stage = motion_stage(t.line.layout)
                for name, written in re.findall(r"(forward|left|turn) ([+-]\d+\.\d+)", before.partition(" with ")[2]):
                    t.same(written, t.get(stage, name), "starts from the motion")
                self.equation(
                    t,
                    before.partition(" = ")[2]
                    .partition(" with ")[0]
                    .replace("− ", "-")
                    .replace("−", "-")
                    .replace("+ ", "+"),
                )
                t.same(after.split()[0], t.asked(), "asked")
            elif rung.stage == "limits":
                t.same(before.split()[0], t.asked(), "starts from what is asked")
                t.same(after.split()[0], t.get("limits", f"{t.column}_limited"), "given")
                for written in re.findall(rf"({N}) m/s lost", rung.note):
                    t.same(written, abs(t.get("limits", f"{t.column}_lost")), "lost")
            elif rung.stage == "steer":
                t.same(before.split()[0], t.get("limits", f"{t.column}_limited"), "starts from what is given")
                t.same(after.split()[0], t.get("steering", f"{t.column}_speed"), "steered")
                (share,) = re.findall(rf"share ({N})", before)
                t.same(share, t.get("steering", f"{t.column}_share"), "share")
            elif rung.stage == "control":
                for name, written in re.findall(
                    r"(static|speed|acceleration|measured|p|i|d) ([+-]\d+\.\d+)", before.partition(": ")[2]
                ):
                    t.same(written, t.get("control", f"{t.motor}_{name}"), name)
                t.same(before.partition(" of")[0], t.get("control", f"{t.motor}_setpoint"), "setpoint")
                t.same(after, t.get("control", f"{t.motor}_drive"), "drive")
            elif rung.stage == "correct" and "let go" not in before:
                for name, written in re.findall(r"\b(error|rate|p|i|d) ([+-]\d+\.\d+)", before):
                    t.same(written, math.degrees(t.get("correction", name)), name)
                t.same(after.partition(" deg")[0], math.degrees(t.get("correction", "output")), "given")
            elif rung.stage == "correct":
                self.assertNotEqual(t.get("correction", "fault"), 0.0)
            elif rung.stage == "zero":
                for name, written in re.findall(r"(bias|noise) ([+-]?\d+\.\d+)", before):
                    t.same(written, math.degrees(t.get("zeroing", name)), name)
            elif rung.stage == "side":
                (up,) = re.findall(rf"up ({N}) g", before)
                t.same(up, t.get("sensed", "up"), "up")
                self.assertEqual("back" in after, t.get("heading", "upside_down") == 1, t.where)
            elif rung.stage == "estimate":
                x, y, heading, sigma = re.findall(r"at (\S+) m, (\S+) m, (\S+) deg .* ± (\S+) cm", rung.text)[0]
                t.same(x, t.get("odometry", "x"), "x")
                t.same(y, t.get("odometry", "y"), "y")
                t.same(heading, math.degrees(t.get("odometry", "heading")), "heading")
                mean = (t.get("odometry", "xx") + t.get("odometry", "yy")) / 2
                t.same(sigma, 100 * math.sqrt(max(0.0, mean)), "one sigma")
            elif rung.stage == "drive":
                self.assertIn("the wheels get no drive", rung.text)
                self.assertEqual(t.get("drive", t.motor), 0.0)
            else:
                self.assertEqual(rung.stage, "output")
                motor = next(n for n, m in t.line.rig.motors.items() if t.wheel in m.wheels)
                (drive,) = re.findall(rf"drive ({N})", before)
                t.same(drive, t.get("drive", motor.replace(" ", "_")), "drive")
                self.output(t, after)

    def motion(self, t: Told, stage: str, text: str) -> None:
        for name, written in re.findall(r"(forward|left) ([+-]\d+\.\d+)", text):
            t.same(written, t.get(stage, name), f"{stage} {name}")
        (turn,) = re.findall(rf"turn ({TURN})", text)
        t.turn(turn, t.get(stage, "turn"), f"{stage} turn")


if __name__ == "__main__":
    unittest.main()
