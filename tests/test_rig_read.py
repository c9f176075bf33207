import tomllib
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from pivrex.errors import RigError
from pivrex.rig import Rig, read_rig, read_text, read_workspace_file
from pivrex.rig.place import find_places
from tests.support import DEMO, PLAIN, PLOVER, TempCase


def mistakes(text: str) -> list[str]:
    try:
        read_text(text, Path("r.toml"), Rig)
    except RigError as problem:
        return problem.lines()
    return []


class PlacesTest(unittest.TestCase):
    def test_every_kind_of_place(self) -> None:
        text = (
            'a = 1\n# [no.table]\n[b.c]\nd = "x # y"\n"quoted key" = 2\ne.f = [\n  1,\n  2, # two\n  { g = 3 },\n]\n'
            "[[h]]\ni = 1\n[[h]]\ni = 2\n[h.k]\nl = '''\nmore\nlines'''\nm = 1979-05-27 07:32:00\n"
        )
        places = find_places(text)
        for path, line in (
            (("a",), 1),
            (("b", "c"), 3),
            (("b", "c", "d"), 4),
            (("b", "c", "quoted key"), 5),
            (("b", "c", "e", "f"), 6),
            (("b", "c", "e", "f", 0), 7),
            (("b", "c", "e", "f", 2, "g"), 9),
            (("h", 0), 11),
            (("h", 1, "i"), 14),
            (("h", 1, "k", "l"), 16),
            (("h", 1, "k", "m"), 19),
        ):
            self.assertEqual(places.get(path), line, path)

    @given(st.text(alphabet='ab.=[]{}"\n #1,', max_size=60))
    def test_anything_that_is_toml_has_all_its_keys_placed(self, text: str) -> None:
        try:
            data = tomllib.loads(text)
        except tomllib.TOMLDecodeError:
            return
        places = find_places(text)
        for key in data:
            if key.strip() == key and key and "." not in key and '"' not in key:
                self.assertIn((key,), places)


class ReadTest(unittest.TestCase):
    def test_the_demo_rig(self) -> None:
        rig = read_rig(PLOVER)
        # 9000 rpm / 30 = 300 rpm = 10 pi rad/s at a radius of 32 mm
        self.assertAlmostEqual(rig.full_forward_m_s, 0.032 * 10 * 3.141592653589793)
        # turning on the spot: 2 V / track
        self.assertAlmostEqual(rig.full_turn_rad_s, 2 * rig.full_forward_m_s / 0.16)
        self.assertEqual(rig.motors["left"].counts_per_wheel_turn, 360)

    def test_every_mistake_is_reported_with_its_line(self) -> None:
        text = PLOVER.read_text()
        changes = {
            'radius = "32 mm"': 'radius = "-32 mm"',
            "minimum = -0.98": "minimum = 2",
            "gear = 30 ": "geer = 30 ",
            "pin = 6": "pin = 5",
            'dead_band = "6 %"': 'dead_band = "6 parsecs"',
            'kind = "arcade"': 'kind = "arkade"',
            "bits = 8": "bits = 80",
            'start = "cruise"': 'start = "cruse"',
        }
        for old, new in changes.items():
            self.assertIn(old, text)
            text = text.replace(old, new, 1)
        found = mistakes(text)
        lines = text.splitlines()
        for new, key, said in (
            ('radius = "-32 mm"', "chassis.wheels.1.radius", '"-32 mm", but must be at least 1 mm'),
            ("minimum = 2", "axes.left_y.minimum", "less than maximum, 0.99"),
            ("geer = 30", "motors.left.geer", 'did you mean "gear"'),
            ("pin = 5", "motors.right.output.pin", "pin 5, which motors.left.output.pin uses already"),
            ('dead_band = "6 parsecs"', "shaping.forward.dead_band", "'parsecs' is not one of %"),
            ('kind = "arkade"', "law.kind", 'one of "tank", "arcade", "split arcade", "triggers"'),
            ("bits = 80", "motors.left.output.bits", "at most 16"),
            ('start = "cruse"', "speed_levels.start", 'did you mean "cruise"'),
        ):
            where = max(i for i, line in enumerate(lines, 1) if line.startswith(new))
            hits = [f for f in found if f.startswith(f"r.toml:{where}: {key}: ") and said in f]
            self.assertEqual(len(hits), 1, f"{new}: {found}")
        self.assertEqual(len(found), len(changes), found)

    def test_a_mistake_makes_no_others(self) -> None:
        # each wrong value alone gives exactly one message
        for old, new in (
            ('kind = "arcade"', 'kind = "x"'),
            ('y = "250 mm"', 'y = "nan mm"'),
            ('length = "400 mm"', "length = []"),
            (
                'top_speed = "10 rad/s"\noutput = { kind = "fraction" }\n[motors.right]',
                'top_speed = "10 rad/s"\noutput = { kind = "f" }\n[motors.right]',
            ),
            ("[law]", 'rate = "60 Hz"\n[law]'),
        ):
            with self.subTest(new):
                self.assertIn(old, PLAIN)
                self.assertEqual(len(mistakes(PLAIN.replace(old, new, 1))), 1, mistakes(PLAIN.replace(old, new, 1)))

    def test_refusals(self) -> None:
        wheels = PLAIN[PLAIN.index("wheels = [\n") : PLAIN.index("]\n[motors.left]") + 2]
        for change, said in (
            (('y = "-250 mm"', 'y = "250 mm"'), "a track of zero"),
            (
                ('radius = "100 mm" },\n    { name = "right"', 'radius = "0 mm" },\n    { name = "right"'),
                "at least 1 mm",
            ),
            ((wheels, 'wheels = [{ name = "left", x = "0 m", y = "1 m", radius = "1 m" }]\n'), "one wheel"),
            ((wheels, "wheels = []\n"), "no wheel"),
            (('name = "right"', 'name = "left"'), 'is "left" again'),
            (('wheels = ["right"]', 'wheels = ["rihgt"]'), 'is "rihgt", but the chassis has "left", "right"'),
            (('wheels = ["right"]', 'wheels = ["left"]'), "which motor left turns already"),
            (('x = "0 mm", y = "250 mm"', 'x = "0 mm", y = "nan"'), "should be a length"),
            (('x = "0 mm", y = "250 mm"', "x = nan, y = '250 mm'"), "is nan"),
            (('x = "0 mm", y = "250 mm"', 'x = "20 km", y = "250 mm"'), "'km' is not one of"),
            (('x = "0 mm", y = "250 mm"', 'x = "20 m", y = "250 mm"'), "at most 10 m"),
            (
                ("[law]", '[correction]\ncapture_below = "200 deg/s"\n[law]'),
                "more than 0 deg/s and at most 114.6 deg/s",
            ),
            (("[law]", '[correction]\ncapture_below = "30 rpm"\n[law]'), "more than 0 rpm and at most 19.1 rpm"),
            (("[law]", '[correction]\nwithin = "70 s"\n[law]'), "at least 0 s and at most 10 s"),
            (('kind = "arcade"', 'kind = "arcade"\nturn = "right_x"'), 'that is the law "split arcade"'),
            (('kind = "arcade"', 'kind = "split arcade"\nturn = "left_x"'), 'that is the law "arcade"'),
            (('kind = "arcade"', 'kind = "arcade"\nahead = "left_y"'), "is not a function of the law arcade"),
            (('kind = "arcade"', 'kind = "tank"\nleft = "right_trigger"'), "goes only one way"),
            (('kind = "arcade"', 'kind = "triggers"\nahead = "left_y"'), "needs a trigger"),
            (('kind = "arcade"', 'kind = "arcade"\nturn = "left_y"'), "already; choose another"),
            (('kind = "arcade"', 'kind = "arcade"\nturn = "knob"'), "neither an axis of this rig"),
            (("[law]", "[axes.knob]\n[law]"), "names no channel"),
            (("[law]", '[axes.left_y]\nchannel = "left_yy"\n[law]'), 'did you mean "left_y"'),
            (("[law]", "[axes.left_y]\ncentre = [0.5, 0.2]\n[law]"), "must rise"),
            (("[law]", "[axes.left_y]\ncentre = [-1, 0]\n[law]"), "would do nothing"),
            (("[law]", "[axes.left_trigger]\ncentre = [0, 0.1]\n[law]"), "has no centre"),
            (("[law]", "[speed_levels]\nup = 'left_x'\n[law]"), "which is no button"),
            (("[law]", "[speed_levels]\nup = 'button_1'\ndown = 'button_1'\n[law]"), "the same button as up"),
            (
                ("dead_band = 0\n[shaping.turn]", "points = [[0, 0], [0.5, 0.6], [1, 0.5]]\n[shaping.turn]"),
                "goes down somewhere",
            ),
            (("dead_band = 0\n[shaping.turn]", "points = [[0.1, 0], [1, 1]]\n[shaping.turn]"), "must begin with"),
            (
                ("dead_band = 0\n[shaping.turn]", "points = [[0, 0], [0.5, 0.2], [0.5, 0.3], [1, 1]]\n[shaping.turn]"),
                "larger in",
            ),
            (("dead_band = 0\n[shaping.turn]", "points = [[0, 0], [1, 2]]\n[shaping.turn]"), "outside 0 to 1"),
            (("dead_band = 0\n[shaping.turn]", "curve = 1.5\n[shaping.turn]"), "at most 100 %"),
            (('name = "Plain"', 'name = "Pl@in"'), "a name has letters"),
            (('name = "Plain"', 'name = "Plain"\nrate = "5 Hz"'), "at least 20 Hz and at most 200 Hz"),
            (('output = { kind = "fraction" }', "output = {}"), "has no kind"),
            (('output = { kind = "fraction" }', 'output = { kind = "servo", rest = "900 us" }'), "must lie between"),
        ):
            with self.subTest(change[1]):
                self.assertIn(change[0], PLAIN)
                text = PLAIN.replace(change[0], change[1], 1)
                found = mistakes(text)
                self.assertTrue(any(said in f for f in found), f"{said!r} not in {found}")

    def test_what_is_not_toml_names_the_first_place(self) -> None:
        self.assertRegex(mistakes('name = "x"\nrate = \n')[0], r"^r.toml:2: is not TOML at column \d+: ")
        self.assertRegex(mistakes("a = [\n1,\n")[0], r"^r.toml:2: is not TOML at the end")
        self.assertRegex(mistakes("a = 1\na = 2\n")[0], r"^r.toml:\d: is not TOML")

    def test_missing_keys_are_all_named(self) -> None:
        for text, keys in (
            ('name = "a"\n', ("chassis", "law", "motors")),
            ('name = "a"\n[motors.a]\n', ("motors.a.top_speed", "motors.a.output")),  # on a bench
            ('name = "a"\n[chassis]\n[motors.a]\n', ("law", "chassis.length", "chassis.wheels", "motors.a.top_speed")),
        ):
            found = mistakes(text)
            for key in keys:
                self.assertTrue(any(f" {key}: is missing" in f for f in found), (key, found))

    @given(
        st.recursive(
            st.none() | st.booleans() | st.floats() | st.text(max_size=5),
            lambda c: st.lists(c, max_size=3),
            max_leaves=5,
        ),
        st.sampled_from(["name", "rate", "chassis", "motors", "axes", "shaping", "law", "limits", "speed_levels"]),
    )
    def test_wrong_types_are_sentences_not_crashes(self, value: object, key: str) -> None:
        import tomlkit

        if value is None:
            return
        document = tomlkit.parse(PLAIN)
        try:
            document[key] = value
            text = tomlkit.dumps(document)
            tomllib.loads(text)
        except Exception:  # what TOML cannot hold is not for this test
            return
        for line in mistakes(text):
            self.assertNotIn("Input should", line)


class FileTest(TempCase):
    def test_files_that_cannot_be_read(self) -> None:
        with self.assertRaisesRegex(RigError, "cannot be read: no such file"):
            read_rig(self.folder / "none.toml")
        path = self.folder / "latin.toml"
        path.write_bytes(b'name = "x"\n# \xe9\n')
        with self.assertRaisesRegex(RigError, r"latin.toml:2: is not UTF-8"):
            read_rig(path)
        with self.assertRaises(RigError):
            read_rig(self.folder)

    def test_a_huge_file_is_refused_before_it_is_read(self) -> None:
        path = self.write("big.toml", "#" * 1_100_000)
        with self.assertRaisesRegex(RigError, "larger than a megabyte"):
            read_rig(path)

    def test_the_demo_field(self) -> None:
        field = read_workspace_file(DEMO / "workspace.toml").field
        self.assertEqual((field.length_m, field.width_m), (5.0, 4.0))
        self.assertEqual(len(field.blocks), 4)

    def test_a_start_outside_the_walls(self) -> None:
        path = self.write("workspace.toml", '[field.start]\nx = "9 m"\n')
        with self.assertRaisesRegex(RigError, r"workspace.toml:1: field.start: lies outside the walls"):
            read_workspace_file(path)
