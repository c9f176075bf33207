"""Kernels: one source, the same bits from Python and C; what is refused; which engine is chosen, and why."""

from __future__ import annotations

import math
import os
import re
import stat
import subprocess
import sys
import tempfile
import textwrap
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.board.flat_program import OWN_KERNELS
from pivrex.errors import KernelError, PivrexError, RigError
from pivrex.kernels import Form, Record, field
from pivrex.kernels import maths as m
from pivrex.kernels.building import built_into, compiler, file_name
from pivrex.kernels.calls import KernelLoop
from pivrex.kernels.engines import Engine, chosen, engine, loaded, with_engine
from pivrex.kernels.printer import printed
from pivrex.kernels.records import Flag, Number, Numbers, Whole, part
from pivrex.kernels.sources import FILES, PACKAGE, digest, read
from pivrex.kernels.trial import functions
from pivrex.kernels.trying import TICKS, equal_bits, same_bits
from pivrex.line import Line
from pivrex.line.entry import Entry
from pivrex.rig import Rig, open_folder, read_rig
from pivrex.routine import check_text, play
from pivrex.routine.rehearsal import rehearse
from pivrex.sim import Rollout
from pivrex.sim.model import simulator_of
from tests.chassis import ALL, Wheel, any_wheels, demo_path, rig_of
from tests.support import DEMO, TempCase, often, slow

FIELD = open_folder(DEMO).settings.field
PLAIN = Engine("plain", None, "for this test")

HEAD = """
from pivrex.kernels.maths import div, sqrt
from pivrex.kernels.records import Flag, Number, Numbers, Record, Whole, Wholes, field
from pivrex.kernels.subset import kernel


class Given(Record):
    values: Numbers = field("n")
    order: Wholes = field("n")
    one: Number = field()
    on: Flag = field()


"""


def c_engine() -> Engine:
    """The engine in C of this machine; the tests that compare need one."""
    now = engine()
    if now.library is None:
        raise unittest.SkipTest(f"nothing in C here: {now.said}")
    return now


def c_compiler() -> list[str]:
    """The C compiler of this machine; the tests that build need one."""
    found = compiler()
    if found is None:
        raise unittest.SkipTest("there is no C compiler here")
    return found


@cache
def made() -> bytes:
    """The library, built once."""
    c_engine()
    c_compiler()
    with tempfile.TemporaryDirectory() as folder:
        return built_into(Path(folder)).read_bytes()


class SubsetTest(TempCase):
    def printed(self, body: str) -> str:
        (self.folder / "own.py").write_text(HEAD + textwrap.dedent(body))
        return printed(read(("own.py",), self.folder), "a version")

    def refused(self, body: str, said: str) -> None:
        with self.assertRaises(KernelError) as caught:
            self.printed(body)
        text = str(caught.exception)
        self.assertIn(said, text)
        line = next(i for i, line in enumerate((HEAD + textwrap.dedent(body)).splitlines(), 1) if "# here" in line)
        self.assertTrue(text.startswith(f"own.py:{line}: "), text)

    def test_what_is_outside_the_subset_is_refused_with_its_line(self) -> None:
        for statement, said in (
            ("x = [1.0, 2.0]", "cannot say"),
            ("x = s.values[0] / s.one", "may be 0: write div(a, b)"),
            ("x = s.values[0] % 2.0", "% of whole numbers"),
            ("x = s.values[-1]", "none from the end"),
            ("x = s.other", "no field other"),
            ("x = unknown", "no name that this kernel knows"),
            ("x = abs(s.values)", "abs takes a number"),
            ("x = print(1.0)", "print is no kernel"),
            ("x = s.values.sum()", "by name and with plain arguments"),
            ("x = 1.0 if s.one else 2.0", "yes or no belongs here"),
            ("s.on = 1.0", "s.on is yes or no, not a number"),
            ("s.order[0] = 1.5", "is a whole number, not a number"),
            ("x = s.one + s.on", "only numbers can be added up"),
            ("x = s.on < 1.0", "only numbers can be compared"),
            ("x, y = s.one", "as many values as names"),
            ("import math", "cannot say import here"),
            ("return 1.0", "returns nothing"),
            ("x = sqrt(s.one, 2.0)", "sqrt takes 1 numbers"),
            ("x = len(s.one)", "how long"),
        ):
            with self.subTest(statement):
                self.refused(f"@kernel\ndef own(s: Given) -> None:\n    {statement}  # here\n", said)

    def test_a_name_keeps_its_kind(self) -> None:
        self.refused(
            "@kernel\ndef own(s: Given) -> None:\n    x = 0\n    x = s.one  # here\n", "cannot become a number"
        )

    def test_a_function_says_what_it_takes_and_gives(self) -> None:
        self.refused("@kernel\ndef own(s: Given, x) -> None:  # here\n    pass\n", "x needs a kind")
        self.refused("@kernel\ndef own(s: dict) -> None:  # here\n    pass\n", "no number, row or record")
        self.refused("@kernel\ndef own(s: Given):  # here\n    pass\n", "must say what it returns")

    def test_arguments_fit(self) -> None:
        two = "@kernel\ndef two(a: float, b: float) -> float:\n    return a + b\n\n\n@kernel\ndef own(s: Given) -> None:\n    "
        self.refused(two + "s.one = two(s.one)  # here\n", "two takes 2 arguments")
        self.refused(two + "s.one = two(s.one, 1)  # here\n", "1 is a whole number")

    @slow
    def test_what_is_printed_does_what_python_does(self) -> None:
        """A kernel of a file next to, printed, compiled and called: loops, chained comparisons, tuples and steps backwards."""
        c_engine()
        folder = Path(tempfile.mkdtemp(dir=self.folder))
        source, made = folder / "k.c", folder / "k.so"
        body = """
        @kernel
        def swapped(a: float, b: float) -> tuple[float, float]:
            return b, a


        @kernel
        def own(s: Given) -> None:
            total, last = 0.0, s.one
            for k in range(len(s.values) - 1, -1, -1):
                if 0.0 < s.values[k] <= 2.0 and not s.on:
                    continue
                total, last = swapped(total, last)
                total += s.values[k] * k
            s.one = total - last
            s.on = s.on or total in (1.0, 2.0)
            s.order[0] = s.order[0] - 7 % 3 + (-7) % 3
        """
        source.write_text(self.printed(body))
        flags = ["-std=c99", "-O2", "-shared", "-fPIC"]
        subprocess.run([*c_compiler(), *flags, "-o", str(made), str(source), "-lm"], check=True)
        import ctypes

        form = Form(Row, n=4)
        text = HEAD + textwrap.dedent(body)
        names: dict[str, Any] = {"__name__": "own"}
        exec(text.replace("from pivrex.kernels.records import", "from pivrex.kernels.records import part,"), names)
        loop = KernelLoop(names["own"], ("s",))
        for on in (0.0, 1.0):
            mine = form.of(values=[0.5, 3.0, -1.0, 2.0], order=[5, 0, 0, 0], one=0.25, on=on)
            theirs = mine._replace()
            loop.plainly((), (mine,))
            loop.in_c(ctypes.CDLL(str(made)), (), (theirs,))
            np.testing.assert_array_equal(mine.data, theirs.data)


class Row(Record):
    values: Numbers = field("n")
    order: Whole = field("n")
    one: Number = field()
    on: Flag = field()


class Inner(Record):
    a: Number = field(unit="m")
    b: Numbers = field("n", 2)


class Outer(Record):
    is_settings = True

    first: Number = field()
    inner: Inner = part()
    missing: Inner = part()
    count: Whole = field()
    flags: Flag = field("m")


class RecordTest(unittest.TestCase):
    form = Form(Outer, m=2, inner=Form(Inner, n=3))

    def test_fields_are_views_and_parts_are_records(self) -> None:
        made = self.form.of(
            first=1.0, inner=Form(Inner, n=3).of(a=2.0, b=[(1, 2), (3, 4), (5, 6)]), count=4, flags=[1, 0]
        )
        self.assertEqual(made.data.tolist(), [1, 2, 1, 2, 3, 4, 5, 6, 4, 1, 0])
        self.assertEqual(made.inner.b[2].tolist(), [5, 6])
        with self.assertRaises(AttributeError):
            _ = made.missing
        plain = made.plain
        self.assertEqual((plain.inner.b, plain.count, plain.flags), ([[1, 2], [3, 4], [5, 6]], 4, [True, False]))
        self.assertEqual(self.form.from_plain(plain), made.data.tolist())

    def test_a_form_is_one_and_the_same(self) -> None:
        self.assertIs(self.form, Form(Outer, m=2, inner=Form(Inner, n=3)))
        self.assertIsNot(self.form, Form(Outer, m=3, inner=Form(Inner, n=3)))

    def test_other_values_make_another_record_of_a_batch_too(self) -> None:
        one = self.form.of(first=1.0)
        many = one._replace(first=np.array([2.0, 3.0]), inner=one.inner._replace(a=np.array([5.0, 6.0])))
        self.assertEqual((many.batch, many.first.tolist(), many.inner.a.tolist()), ((2,), [2, 3], [5, 6]))
        self.assertEqual((float(one.first), float(one.inner.a)), (1.0, 0.0))
        self.assertEqual(float(many.take(1).inner.a), 6.0)

    def test_a_record_goes_to_another_process(self) -> None:
        import pickle

        made = self.form.of(first=1.0, count=3)
        again = pickle.loads(pickle.dumps(made))
        self.assertIs(again.form, made.form)
        self.assertEqual(again.data.tolist(), made.data.tolist())

    def test_a_field_hides_nothing_that_every_record_has(self) -> None:
        with self.assertRaisesRegex(TypeError, "cannot be called data"):
            type("Wrong", (Record,), {"__annotations__": {"data": "Number"}, "data": field()})


SPECIAL = [
    0.0,
    -0.0,
    1.0,
    -1.0,
    0.5,
    -2.5,
    1e-310,
    5e-324,
    1e308,
    -1e308,
    math.inf,
    -math.inf,
    math.nan,
    709.0,
    1e19,
    2.0**62,
]
numbers = st.one_of(st.sampled_from(SPECIAL), st.floats())


class MathsTest(unittest.TestCase):
    """The functions against IEEE 754 and the definitions, and C's against Python's."""

    def test_what_python_raises_for(self) -> None:
        self.assertEqual([m.div(1.0, 0.0), m.div(-1.0, 0.0), m.div(1.0, -0.0)], [math.inf, -math.inf, -math.inf])
        for value in (
            m.div(0.0, 0.0),
            m.sqrt(-1.0),
            m.sin(math.inf),
            m.cos(-math.inf),
            m.mod(1.0, 0.0),
            m.exp(math.nan),
        ):
            self.assertTrue(math.isnan(value))
        self.assertEqual((m.exp(1000.0), m.exp(-1000.0)), (math.inf, 0.0))
        self.assertEqual((m.whole(math.nan), m.whole(math.inf), m.whole(-2.9), m.whole(1e30)), (0, 0, -2, 0))
        self.assertEqual((m.floor(-0.5), m.rint(2.5), m.rint(-0.4), m.floor(math.inf)), (-1.0, 2.0, 0.0, math.inf))

    def test_the_rules_of_larger_smaller_and_clamp(self) -> None:
        for one, other in ((math.nan, 1.0), (1.0, math.nan)):
            self.assertTrue(math.isnan(m.larger(one, other)) and math.isnan(m.smaller(one, other)))
        self.assertEqual(math.copysign(1.0, m.larger(-0.0, -0.0)), 1.0)
        self.assertTrue(math.isnan(m.clamp(math.nan, -1.0, 1.0)))
        self.assertEqual((m.clamp(2.0, -1.0, 1.0), m.clamp(-2.0, -1.0, 1.0), m.clamp(0.3, -1.0, 1.0)), (1.0, -1.0, 0.3))

    @given(st.floats(-1e6, 1e6))
    def test_a_wrapped_angle_is_the_same_direction(self, angle: float) -> None:
        found = m.wrap(angle)
        self.assertTrue(-math.pi <= found < math.pi + 1e-9)
        self.assertAlmostEqual(math.cos(found), math.cos(angle), places=6)
        self.assertAlmostEqual(math.sin(found), math.sin(angle), places=6)

    @given(st.lists(st.tuples(numbers, numbers), min_size=1, max_size=20))
    @settings(max_examples=often(400, 60))
    def test_c_and_python_give_the_same_bits_for_whatever_goes_in(self, pairs: list[tuple[float, float]]) -> None:
        library = c_engine().library
        loop = KernelLoop(functions, ("out",))
        x, y = (np.array(v) for v in zip(*pairs, strict=True))
        mine, theirs = np.zeros((2, len(pairs), 16))
        loop.plainly((len(pairs),), (x, y, mine))
        loop.in_c(library, (len(pairs),), (x, y, theirs))
        self.assertTrue(equal_bits(mine, theirs), (pairs, mine, theirs))


class EngineTest(TempCase):
    """Which engine is chosen, and that a library that cannot be trusted is not."""

    def compiler_that(self, does: str) -> dict[str, str]:
        """An environment whose C compiler is a script."""
        path = self.folder / "cc"
        path.write_text(f"#!/bin/sh\n{does}\n")
        path.chmod(path.stat().st_mode | stat.S_IXUSR)
        return {"CC": str(path)}

    @contextmanager
    def environment(self, **values: str) -> Iterator[None]:
        before = dict(os.environ)
        os.environ.update(values)
        try:
            yield
        finally:
            os.environ.clear()
            os.environ.update(before)

    def test_the_built_one_counts_before_the_cached_one(self) -> None:
        (self.folder / "cache").mkdir()
        (self.folder / "cache" / file_name(digest())).write_bytes(made())
        self.assertEqual(chosen(package=self.folder, cache=self.folder / "cache").name, "cached")
        (self.folder / "built.kernels").write_bytes(made())
        found = chosen(package=self.folder, cache=self.folder / "cache")
        self.assertEqual((found.name, found.said), ("built", str(self.folder / "built.kernels")))
        self.assertEqual(chosen("plain", self.folder, self.folder / "cache").name, "plain")

    def test_another_version_is_not_taken(self) -> None:
        path = self.folder / "a library"
        path.write_bytes(made())
        self.assertEqual(loaded(path, "0" * 24), (None, "is of another version"))
        (self.folder / "built.kernels").write_bytes(made().replace(digest().encode(), b"0" * 24))
        found = chosen("built", self.folder, self.folder / "none")
        self.assertIsNone(found.library)

    def test_what_is_no_library_is_not_taken(self) -> None:
        (self.folder / "built.kernels").write_bytes(b"no library at all")
        library, said = loaded(self.folder / "built.kernels", digest())
        self.assertIsNone(library)
        self.assertIn("does not load", said)

    @slow
    def test_one_with_other_bits_is_refused_and_said(self) -> None:
        """Compiled so that the compiler may reorder sums: the trial at loading finds it."""
        c_engine()
        real = " ".join(c_compiler())
        own = printed(read(("kernels/trial.py",)), digest())  # all that is looked at
        with (
            self.environment(**self.compiler_that(f'exec {real} "$@" -ffast-math -O3')),
            patch("pivrex.kernels.building.printed", return_value=own),
        ):
            fast = built_into(self.folder / "cache")
        # in a process of its own: what is compiled so changes how its whole process computes
        code = (
            "import sys; from pathlib import Path; from pivrex.kernels.engines import chosen, loaded; "
            "from pivrex.kernels.sources import digest; print(loaded(Path(sys.argv[1]), digest())); "
            "print(chosen(package=Path(sys.argv[2]), cache=Path(sys.argv[1]).parent))"
        )
        run = subprocess.run(
            [sys.executable, "-c", code, str(fast), str(self.folder)], capture_output=True, text=True, check=True
        )
        first, second = run.stdout.splitlines()
        self.assertEqual(first, "(None, 'gives other bits than Python')")
        self.assertIn("name='plain', library=None", second)
        self.assertIn("gives other bits than Python", second)

    def test_a_compiler_that_is_missing_or_fails_is_said(self) -> None:
        failing = self.environment(**self.compiler_that("echo 'no licence for this compiler' >&2; exit 3"))
        with failing, self.assertRaisesRegex(PivrexError, "fails: no licence for this compiler"):
            built_into(self.folder)
        with self.environment(PATH=str(self.folder / "none"), CC=""):
            self.assertIsNone(compiler())
            with self.assertRaisesRegex(PivrexError, "no C compiler here"):
                built_into(self.folder)
            found = chosen(package=self.folder, cache=self.folder)
            self.assertEqual((found.name, found.said), ("plain", "there is no C compiler here"))
        self.assertEqual(list(self.folder.glob(".building*")), [])

    def test_a_cache_that_cannot_be_written_is_said(self) -> None:
        c_compiler()
        (self.folder / "file").write_text("in the way")
        with self.assertRaisesRegex(PivrexError, "cannot be written"):
            built_into(self.folder / "file" / "cache")

    def test_another_process_builds_beside_the_running_program(self) -> None:
        """It starts in Python, and goes on in C once that is ready: with the same numbers."""
        c_engine()
        code = (
            "import pivrex.kernels.engines as e; e.Path.exists_ = e.Path.exists; "
            "e.Path.exists = lambda p: p.name != 'built.kernels' and p.exists_(); "
            "first = e.engine().name; print(first, e.wait_for_it().name, e.engine().name)"
        )
        quickly = self.compiler_that(f'exec {" ".join(c_compiler())} "$@" -O0')
        env = {**os.environ, "PIVREX_HOME": str(self.folder), **quickly}
        run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=env)
        self.assertEqual(run.stdout.split(), ["plain", "cached", "cached"])
        self.assertEqual([p.name for p in (self.folder / "cache").iterdir()], [file_name(digest())])
        run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=env)
        self.assertEqual(run.stdout.split(), ["cached"] * 3)

    @unittest.skipUnless(hasattr(os, "fork"), "this system does not fork")
    def test_a_forked_process_has_threads_of_its_own(self) -> None:
        """A batch over threads in the parent, then in a child that was forked: it ends, with the same numbers."""
        c_engine()
        code = (
            "import os, numpy as np; import pivrex.kernels.calls as c; c._cores = lambda: 2\n"
            "from pivrex.line.se2 import move\n"
            "poses = np.random.default_rng(1).uniform(-1, 1, (500, 3))\n"
            "first = move(poses, poses)\n"
            "child = os.fork()\n"
            "if child == 0: os._exit(0 if np.array_equal(move(poses, poses), first) else 5)\n"
            "print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))"
        )
        run = subprocess.run(
            [sys.executable, "-W", "ignore", "-c", code], capture_output=True, text=True, check=True, timeout=60
        )
        self.assertEqual(run.stdout.strip(), "0", run.stderr)

    def test_the_trial_notices_a_single_bit(self) -> None:
        library = c_engine().library
        self.assertEqual(same_bits(library), "")

        class OneBitOff:
            """A library whose every tick is off by the last bit of one number."""

            def __getattr__(self, name: str) -> Any:
                return getattr(library, name)

        in_c = KernelLoop.in_c

        def off(loop: Any, *args: Any, **more: Any) -> None:
            in_c(loop, *args, **more)
            after = args[2][2].data
            after[0] = np.nextafter(after[0], 9.0)

        with patch.object(KernelLoop, "in_c", off):
            self.assertEqual(same_bits(OneBitOff(), ticks=2), "gives other bits than Python")
        self.assertGreaterEqual(TICKS, 200)

    @slow
    @slow
    def test_without_a_compiler_a_routine_ends_at_the_same_place(self) -> None:
        """The program where nothing was built and no compiler is there: in Python, to the last digit."""
        c_engine()
        code = "import sys; from pivrex.__main__ import main; sys.argv = ['pivrex', *sys.argv[1:]]; sys.exit(main())"
        words = [
            "play",
            str(DEMO / "routines" / "practice-1-straight.txt"),
            "--rig",
            str(demo_path("plover")),
            "--json",
        ]
        said = []
        for own in ({}, {"PIVREX_ENGINE": "plain"}):
            env = {**os.environ, **own}
            run = subprocess.run(
                [sys.executable, "-c", code, *words], capture_output=True, text=True, check=True, env=env
            )
            said.append(run.stdout)
        self.assertEqual(said[0], said[1])
        self.assertIn('"ended"', said[0])

    def test_every_file_of_kernels_is_read(self) -> None:
        """A kernel in a file that is not in the list would never be printed."""
        # what boards alone have is printed with each of them
        known = {PACKAGE / f for f in (*FILES, *OWN_KERNELS, "board/single.py")}
        for path in PACKAGE.rglob("*.py"):
            if "\n@kernel\n" in path.read_text("utf-8"):
                self.assertIn(path, known)


def driven(rig: Rig, seed: int, ticks: int) -> list[NDArray[np.float64]]:
    """Random driving with stops, entries, pushes and walls: every row and state."""
    line, model, chance = Line(rig), simulator_of(rig, FIELD), np.random.default_rng(seed)
    rollout = Rollout(line, model, None, model.start((), np.array(seed, np.uint64)))
    rollout.robot = rollout.robot._replace(
        pose=np.array([chance.uniform(0.3, 4.7), chance.uniform(0.3, 3.7), chance.uniform(-3, 3)])
    )
    found = []
    for k in range(ticks):
        if k % 12 == 0:
            raw = chance.uniform(-1.2, 1.2, len(line.channels))
            raw[chance.random(len(raw)) < 0.1] = np.nan
        entry = Entry(twist=chance.uniform(-2, 2, 3)) if 0.3 < (k / ticks) < 0.6 and k % 5 else None
        if k % 50 == 49:
            rollout.robot = model.pushed(rollout.robot, chance.uniform(-2, 2, 3))
        row = rollout.tick(raw, float(chance.random() < 0.05), 0.0, entry)
        found.append(np.concatenate((row, rollout.robot.data, rollout.state.memory.data)))
    return found


class SameBitsTest(unittest.TestCase):
    def same(self, rig: Rig, seed: int, ticks: int) -> None:
        c_engine()
        theirs = driven(rig, seed, ticks)
        with with_engine(PLAIN):
            mine = driven(rig, seed, ticks)
        for k, (one, other) in enumerate(zip(mine, theirs, strict=True)):
            if not equal_bits(one, other):
                self.fail(f"{rig.name}, tick {k}: {np.flatnonzero(np.asarray(one) != np.asarray(other))[:5]}")

    @slow
    def test_every_shipped_rig(self) -> None:
        for name in ALL:
            rig = read_rig(demo_path(name))
            self.same(rig, 1, often(600, 120))
            self.same(rig.with_body("ideal"), 2, often(600, 60))

    @given(any_wheels(), st.integers(0, 10_000), st.booleans())
    @settings(max_examples=often(200, 10), deadline=None, suppress_health_check=[HealthCheck.filter_too_much])
    def test_any_rig(self, wheels: list[Wheel], seed: int, real: bool) -> None:
        try:
            rig = rig_of(wheels, '[gyro]\n[correction]\nhold = "on"\n' if seed % 2 else "")
        except RigError:
            assume(False)
        self.same(rig.with_body("realistic" if real else "ideal"), seed, often(600, 40))

    @slow
    def test_nan_and_infinity_through_line_and_body(self) -> None:
        """Whatever devices, links and callers hand in: readings, what was sensed, twists, aims, plans, commands."""
        c_engine()
        for name in ALL:
            found = []
            for one in (PLAIN, engine()):
                with with_engine(one):
                    found.append(list(self.strange(read_rig(demo_path(name)), often(200, 40))))
            for k, (mine, theirs) in enumerate(zip(*found, strict=True)):
                self.assertTrue(equal_bits(mine, theirs), f"{name} {k}")

    def strange(self, rig: Rig, ticks: int) -> Iterator[NDArray[np.float64]]:
        line, model, chance = Line(rig), simulator_of(rig, FIELD), np.random.default_rng(3)
        state, robot = line.start(), model.start()

        def values(count: int) -> NDArray[np.float64]:
            return np.where(chance.random(count) < 0.3, chance.choice(SPECIAL, count), chance.uniform(-1, 1, count))

        for k in range(ticks):
            sensed, plan = (
                values(len(line.stages["sensed"].columns)),
                np.array([float(chance.integers(1, 5)), *values(10)]),
            )
            entry = Entry(twist=values(3), aim=values(1)[0], plan=plan if k % 3 else None) if k % 4 else None
            state, row = line.step(state, values(len(line.channels)), sensed, float(k % 7 == 6), 0.0, entry=entry)
            if k % 10 == 9:
                state = line.start()  # a state that has become NaN throughout says nothing more
                robot = model.start()
            robot = model.step(
                robot, np.where(np.isnan(line.commands(row)), 0.0, values(len(line.commands(row)))), line.dt_s
            )
            yield np.concatenate((row, state.memory.data, robot.data, model.sense(robot)))

    TEXT = """start at 0.5 m, 0.5 m facing 0 deg
zero gyro
home boom at -30 % as -30 deg
at once until all end
    follow 0.8 m, 0.55 m then 1.3 m, 1.0 m until x > 0.9 m
    move spout to 60 deg over 0.7 s and wait
follow 1.4 m, 0.9 m
drive ahead at 30 % until front below 70 cm at most 0.5 s
turn left 40 deg
run stir at 50 % for 0.2 s
bend right 40 deg with radius 20 cm
settle at most 1 s
here is 1 m, 1 m
"""

    @slow
    def test_a_routine(self) -> None:
        """Plans, motions, attachments, watches: every Tick, of one robot alone, and of it among others."""
        c_engine()
        for name, body in (("avocet", "realistic"), ("bittern", "ideal")):
            rig = read_rig(demo_path(name)).with_body(body)
            checked = check_text(self.TEXT if "stir" in rig.attachments else re.sub("run.*", "", self.TEXT), rig)
            assert checked.program is not None, checked.wrong
            theirs = play(checked.program, rig, FIELD, 20.0, seed=2)
            with with_engine(PLAIN):
                mine = play(checked.program, rig, FIELD, 20.0, seed=2)
            self.assertEqual((mine.ended, mine.why), ("finished", ""), name)
            self.assertTrue(equal_bits(mine.rows, theirs.rows), name)
            self.assertTrue(equal_bits(mine.estimated, theirs.estimated), name)
            many = rehearse(checked.program, rig, FIELD, np.arange(64, dtype=np.uint64), 20.0)
            assert many is not None
            self.assertTrue(equal_bits(many.poses[2], theirs.pose), name)

    def test_batches_over_threads_are_each_as_one_alone(self) -> None:
        """More robots than one thread takes: each share of them computes in a place of its own."""
        rig = read_rig(demo_path("plover"))
        line, model, many = Line(rig), simulator_of(rig, FIELD), 300
        raw = np.random.default_rng(1).uniform(-1, 1, (many, len(line.channels)))
        start = model.start((many,), np.arange(many, dtype=np.uint64))
        together = Rollout(line, model, line.start((many,)), start)
        for _ in range(30):
            rows = together.tick(raw)
        for i in range(0, many, 37):
            alone = Rollout(line, model, None, start.take(i))
            for _ in range(30):
                row = alone.tick(raw[i])
            self.assertTrue(equal_bits(row, rows[i]))


if __name__ == "__main__":
    unittest.main()
