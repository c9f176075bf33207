import math
import unittest

from hypothesis import given
from hypothesis import strategies as st

from pivrex.errors import PivrexError, UnitError
from pivrex.units import KINDS, format_quantity, parse, readable, split, wrap_deg, wrap_rad


class ParseTest(unittest.TestCase):
    def test_units_by_definition(self) -> None:
        # an inch is 25.4 mm, a foot twelve, by definition; 60 rpm is one turn a second
        for text, kind, wanted in (
            ("32 mm", "length", 0.032),
            ("1 in", "length", 0.0254),
            ("1 ft", "length", 0.3048),
            ("180 deg", "angle", math.pi),
            ("0.5 turn", "angle", math.pi),
            ("3.6 km/h", "speed", 1.0),
            ("60 rpm", "turn rate", 2 * math.pi),
            ("360 deg/s", "turn rate", 2 * math.pi),
            ("1500 us", "time", 0.0015),
            ("20 ms", "time", 0.02),
            ("18 kHz", "frequency", 18000.0),
            ("40 %", "fraction", 0.4),
            ("250 %/s", "rate", 2.5),
            ("-1.5e2 mm", "length", -0.15),
        ):
            with self.subTest(text):
                self.assertAlmostEqual(parse(text, kind), wanted, places=12)

    def test_large_numbers_get_a_larger_unit_and_no_exponent(self) -> None:
        for si, kind, unit, wanted in (
            (25.0, "time", "ms", "25 s"),
            (0.999, "time", "ms", "999 ms"),
            (20e3, "resistance", "mohm", "20 kohm"),
            (1e7, "resistance", "kohm", "10000 kohm"),
            (2.0, "turn rate", "deg/s", "114.6 deg/s"),
            (0.0015, "time", "us", "1500 us"),
        ):
            self.assertEqual(readable(si, kind, unit, 4), wanted)

    def test_bare_numbers_only_where_they_cannot_be_mistaken(self) -> None:
        self.assertEqual(parse(0.4, "fraction"), 0.4)
        self.assertEqual(parse(0, "length"), 0.0)
        with self.assertRaisesRegex(UnitError, "without a unit"):
            parse(32, "length")

    def test_refusals_say_what_stands_there_and_what_would_be_right(self) -> None:
        for value, kind, wanted in (
            ("32 parsecs", "length", "'parsecs' is not one of m, cm, mm, in, ft"),
            ("fast", "speed", '"fast", but should be a speed such as "1.3 m/s"'),
            (True, "length", "is true"),
            ([1], "angle", "should be an angle"),
            (float("nan"), "length", "is nan"),
            (float("inf"), "fraction", "is inf"),
            ("", "time", "should be a time"),
        ):
            with self.subTest(value=value), self.assertRaisesRegex(UnitError, wanted):
                parse(value, kind)

    def test_a_unit_error_is_of_both_families(self) -> None:
        self.assertTrue(issubclass(UnitError, ValueError) and issubclass(UnitError, PivrexError))

    @given(st.floats(-1e5, 1e5), st.sampled_from([(k, u) for k, v in KINDS.items() for u in v.units]))
    def test_formatting_is_read_back(self, number: float, where: tuple[str, str]) -> None:
        kind, unit = where
        si = number * KINDS[kind].units[unit]
        again = parse(format_quantity(si, kind, unit), kind)
        self.assertAlmostEqual(again, si, delta=max(abs(si) * 1e-5, 1e-6 * KINDS[kind].units[unit]))

    def test_split(self) -> None:
        self.assertEqual(split(" -3.5 m/s "), (-3.5, "m/s"))
        self.assertEqual(split("7"), (7.0, ""))


class WrapTest(unittest.TestCase):
    @given(st.floats(-1e4, 1e4))
    def test_wrapped_angles_point_the_same_way(self, angle: float) -> None:
        for wrapped, full in ((wrap_deg(angle), 360.0), (wrap_rad(angle), 2 * math.pi)):
            self.assertTrue(-full / 2 < wrapped <= full / 2)
            turns = (angle - wrapped) / full
            self.assertAlmostEqual(turns, round(turns), places=6)

    def test_the_edge_belongs_to_the_positive_side(self) -> None:
        self.assertEqual(wrap_deg(-180.0), 180.0)
        self.assertEqual(wrap_deg(540.0), 180.0)
        self.assertEqual(wrap_rad(-math.pi), math.pi)
