"""Any number of attachments with an encoder: in the line, in routines, on the screen and over a link; and lifts, which go to heights."""

import random
import socket
import unittest
from math import pi, radians
from pathlib import Path

import numpy as np

from pivrex.devices.link import RobotLink
from pivrex.devices.robot_end import DRIVING, RobotEnd
from pivrex.errors import RigError
from pivrex.line import Line
from pivrex.line.entry import Entry
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.offered import offered
from pivrex.rig.transports import Link, UdpTransport
from pivrex.routine import check_text
from pivrex.tui.panels.standings import standing_of
from tests.local import local_model
from tests.support import PLAIN, ROOT, TempCase, nothing_sensed, wait_for
from tests.test_routine_running import played

HERON = ROOT / "tests" / "rigs" / "heron.toml"
LIFT = (
    '[attachments.lift]\nkind = "lift"\ndrum_radius = "20 mm"\ncounts_per_turn = 720\nminimum = "-10 mm"\nmaximum = "400 mm"\n'
    'top_speed = "100 mm/s"\nfull_at = "40 mm"\noutput = { kind = "percent" }\n'
)


def bound(channel: str, does: str) -> str:
    return f'[[bindings]]\nchannel = "{channel}"\ndoes = "{does}"\n'


def lifting(*parts: str) -> Rig:
    return read_text(PLAIN + LIFT + "".join(parts), Path("lift.toml"), Rig)


class LiftTest(unittest.TestCase):
    """A drum of 20 mm: a radian of its shaft is 20 mm of cord."""

    def test_height_and_drive_by_the_drum(self) -> None:
        rig = lifting(bound("button_0", "lift to 300 mm"))
        line = Line(rig)
        sensed, raw, state = nothing_sensed(line), line.rest(), line.start()
        at, layout = line.layout.stage("sensed").start, line.layout
        sensed[layout.at("sensed", "lift_at") - at] = 14.0
        raw[line.inputs.names.index("button_0")] = 0.0
        state, _ = line.step(state, raw, sensed)
        raw[line.inputs.names.index("button_0")] = 1.0
        _, row = line.step(state, raw, sensed)
        self.assertAlmostEqual(row[layout.at("attachments", "lift_height")], 0.28)
        self.assertAlmostEqual(row[layout.at("attachments", "lift_target")], 0.3)
        self.assertAlmostEqual(row[layout.at("outputs", "lift_percent")], 50.0)  # 20 mm of 40 mm are missing
        self.assertEqual(
            [c.unit for c in layout.columns if c.name in ("lift_height", "lift_target", "lift_to")], ["m"] * 3
        )

    def test_routine(self) -> None:
        rig = lifting()
        made = played(
            "move lift to 300 mm and wait\nif lift > 29 cm\n    wait 100 ms\nmove lift by 360 counts and wait\nwait 1 s",
            rig,
        )
        self.assertEqual((made.ended, len(made.steps)), ("finished", 4))
        layout = Line(rig).layout
        height = made.rows[:, layout.at("attachments", "lift_height")]
        arrives = made.steps[0].end
        self.assertAlmostEqual(height[arrives], 0.3, delta=0.002)
        # 260 mm at 100 mm/s, then e^(-t/0.4 s) from 40 mm to 2 mm
        self.assertAlmostEqual(arrives / 60, 2.6 + 0.4 * np.log(20), delta=0.1)
        self.assertAlmostEqual(height[-1], 0.3 + pi * 0.02, delta=0.001)  # half a turn of the drum

    def test_homed_at_a_height(self) -> None:
        rig = lifting()
        made = played(
            "move lift to 80 mm and wait\nhome lift at -40 % as 5 mm at most 6 s\nmove lift to 50 mm and wait\nwait 1 s",
            rig,
        )
        layout = Line(rig).layout
        self.assertNotIn("limit", made.steps[1].marks)
        # its lower stop is 10 mm below where it was switched on; called 5 mm, so 50 mm lie 45 mm above the stop
        self.assertAlmostEqual(
            made.rows[made.steps[-1].end - 1, layout.at("sensed", "lift_at")] * 0.02, -0.010 + 0.045, delta=0.001
        )
        self.assertAlmostEqual(
            made.rows[made.steps[-1].end - 1, layout.at("attachments", "lift_height")], 0.050, delta=0.001
        )

    def test_what_does_not_fit_is_said(self) -> None:
        for does, what in (
            ("lift to 30 deg", "but lift is a lift, which goes to a length such as 300 mm"),
            ("lift to 500 mm", "outside the limits of lift, -10 to 400 mm"),
            ("lift to 300", "is without a unit; write an angle such as 45 deg, or for a lift a length such as 300 mm"),
            ("lift on", "lift is a lift, which can follows, a speed, to, by"),
        ):
            with self.assertRaises(RigError) as refused:
                lifting(bound("button_0", does))
            self.assertIn(what, str(refused.exception), does)
        rig = lifting()
        for text, what in (
            ("move lift to 30 deg", "where it goes is a length or encoder counts, but this is an angle"),
            ("move lift to 90 cm", 'outside of what "lift" can reach, -10 to 400 mm'),
            ("home lift at -30 % as 0.1 rad", "what it is called there is a length, but this is an angle"),
        ):
            self.assertIn(what, " ".join(str(w) for w in check_text(text, rig).wrong), text)
        with self.assertRaises(RigError) as refused:
            read_text(PLAIN + LIFT.replace('"-10 mm"', '"20 mm"'), Path("lift.toml"), Rig)
        self.assertIn("must have 0 between them", str(refused.exception))

    def test_what_is_offered_can_be_bound(self) -> None:
        words = [w for w, _ in offered(lifting()) if w.startswith("lift ")]
        self.assertIn("lift to 400 mm", words)
        for does in words:
            lifting(bound("right_y" if "follows" in does else "button_0", does))


class ManyTest(TempCase):
    RIG = read_rig(HERON)
    GOALS = (
        ("left_arm", "60 deg", radians(60)), ("middle_arm", "80 deg", radians(80)), ("right_arm", "-15 deg", radians(-15)),
        ("left_lift", "300 mm", 0.3), ("middle_lift", "35 cm", 0.35), ("right_lift", "0.1 m", 0.1),
        ("left_tip", "20 deg", radians(20)), ("middle_tip", "-50 deg", radians(-50)), ("right_tip", "-30 deg", radians(-30)),
    )  # fmt: skip

    def test_each_goes_where_it_is_sent(self) -> None:
        text = "".join(f"move {n} to {said}\n" for n, said, _ in self.GOALS) + "wait 4 s"
        layout = Line(self.RIG).layout
        made = played(text, self.RIG)
        for name, _, goal in self.GOALS:
            column = f"{name}_{'target' if 'tip' in name else 'height' if 'lift' in name else 'angle'}"
            self.assertAlmostEqual(
                made.rows[made.steps[-1].end - 1, layout.at("attachments", column)], goal, delta=0.002, msg=name
            )

    def test_each_is_homed_alone(self) -> None:
        """Only the one that is homed is called otherwise, and only it is driven against its stop."""
        layout = Line(self.RIG).layout
        for name, called in (("left_arm", "7 deg"), ("middle_lift", "8 mm"), ("right_arm", "9 deg")):
            made = played(f"home {name} at -50 % as {called} at most 6 s\nwait 100 ms", self.RIG)
            self.assertNotIn("limit", made.steps[0].marks, name)
            for other, _, _ in self.GOALS[:6]:
                kind = "height" if "lift" in other else "angle"
                at = made.rows[made.steps[-1].end - 1, layout.at("attachments", f"{other}_{kind}")]
                want = float(called[0]) * (0.001 if kind == "height" else pi / 180) if other == name else 0.0
                self.assertAlmostEqual(at, want, delta=0.004, msg=f"{name}: {other}")

    def test_any_number_in_any_order(self) -> None:
        rng = random.Random(5)
        text = HERON.read_text()
        head, *tables = text.split("\n[attachments.")
        tables[-1], _, _ = tables[-1].partition("\n[[bindings]]")
        for _ in range(12):
            some = rng.sample(tables, rng.randrange(1, len(tables) + 1))
            rig = read_text("\n[attachments.".join((head, *some)), Path("some.toml"), Rig)
            line = Line(rig)
            goals = [g for g in self.GOALS if g[0] in rig.attachments]
            made = played("".join(f"move {n} to {said}\n" for n, said, _ in goals) + "wait 4 s", rig)
            for name, _, goal in goals:
                column = f"{name}_{'target' if 'tip' in name else 'height' if 'lift' in name else 'angle'}"
                self.assertAlmostEqual(
                    made.rows[made.steps[-1].end - 1, line.layout.at("attachments", column)],
                    goal,
                    delta=0.002,
                    msg=name,
                )

    def test_over_a_link(self) -> None:
        """Each is driven by its own output, and what its encoder says comes back in its own column."""
        line, end = Line(self.RIG), RobotEnd(self.RIG, None, 0.0)
        robot = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(robot.close)
        robot.bind(("127.0.0.1", 0))
        robot.settimeout(0.02)
        link = RobotLink(line, Link(wire=UdpTransport(kind="udp", host="127.0.0.1", port=robot.getsockname()[1])))
        self.addCleanup(link.close)
        raw, state, clock = line.rest(), line.start(), iter(range(10**6))
        layout, first = line.layout, line.layout.stage("sensed").start
        asked = np.full((len(self.RIG.attachments), 3), [0.0, np.nan, 0.0])
        for name, _, goal in self.GOALS:
            asked[list(self.RIG.attachments).index(name), 1] = goal
        sensed = np.zeros(len(line.stages["sensed"].columns))

        def goes_on() -> bool:
            nonlocal state, sensed
            now = next(clock) * 0.02
            link.poll(now)
            link.drives = not link.problem(now)
            sensed = link.sense()
            state, row = line.step(state, raw, sensed, entry=Entry(requests=asked))
            link.command(line.commands(row), 0.02)
            try:
                while True:
                    data, sender = robot.recvfrom(4096)
                    end.take(data, "a", now)
                    for sentence in end.step(now):
                        robot.sendto(sentence, sender)
            except TimeoutError:
                pass
            at = {
                n: row[layout.at("attachments", f"{n}_{'height' if 'lift' in n else 'angle'}")]
                for n, _, _ in self.GOALS[:6]
            }
            return end.state == DRIVING and all(abs(at[n] - goal) < 0.003 for n, _, goal in self.GOALS[:6])

        wait_for(goes_on, 60, lambda: f"{sensed}")
        # a radian of the drum of 10, 15, 20 mm; the arms as they are
        for n, _, goal in self.GOALS[:6]:
            drum = {"left_lift": 0.010, "middle_lift": 0.015, "right_lift": 0.020}.get(n, 1.0)
            self.assertAlmostEqual(sensed[layout.at("sensed", f"{n}_at") - first] * drum, goal, delta=0.003, msg=n)

    def test_on_the_screen(self) -> None:
        home = self.folder / "ws"
        (home / "rigs").mkdir(parents=True)
        (home / "rigs" / "heron.toml").write_text(HERON.read_text())
        model = local_model(home)
        self.addCleanup(model.client.close)
        rows = {s.name: s for s in standing_of(model)}
        self.assertEqual(len(rows), 15)
        self.assertEqual((rows["middle_lift"].low, rows["middle_lift"].high), ("−10 mm", "360 mm"))
        self.assertEqual((rows["right_arm"].low, rows["right_arm"].high), ("−20 deg", "110 deg"))
