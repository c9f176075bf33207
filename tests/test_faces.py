"""Each package's public face, and the family of errors that everything lower is put into."""

from __future__ import annotations

import contextlib
import csv
import importlib
import inspect
import pkgutil
import struct
import subprocess
import sys
import tomllib
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pydantic
import serial
import tomlkit
import tomlkit.exceptions

import pivrex
from pivrex import errors
from pivrex.cli import run
from pivrex.lower import as_ours, reason
from tests.support import ROOT, TempCase

PACKAGES = sorted(
    [m.name for m in pkgutil.walk_packages(pivrex.__path__, "pivrex.") if m.ispkg] + ["pivrex"]
)  # fmt: skip


class FaceTest(unittest.TestCase):
    def test_every_package_has_one_and_all_of_it_is_there(self) -> None:
        self.assertGreater(len(PACKAGES), 15)
        for name in PACKAGES:
            package = importlib.import_module(name)
            face = getattr(package, "__all__", None)
            self.assertTrue(face, f"{name} has no __all__")
            self.assertTrue(package.__doc__, name)
            assert face is not None
            self.assertEqual(list(face), sorted(face, key=_order), name)
            for one in face:
                self.assertTrue(hasattr(package, one), f"{name}.{one}")
            with self.assertRaises(AttributeError):
                package.nothing_of_the_kind  # noqa: B018

    def test_what_a_face_shows_is_told(self) -> None:
        for name in PACKAGES:
            package = importlib.import_module(name)
            for one in package.__all__:
                thing = getattr(package, one)
                if inspect.isclass(thing) or inspect.isfunction(thing):
                    self.assertTrue(inspect.getdoc(thing), f"{name}.{one} says nothing of itself")

    def test_every_module_says_what_it_shows(self) -> None:
        for path in (ROOT / "src" / "pivrex").rglob("*.py"):
            if "demo" not in path.parts and path.name != "__main__.py":
                self.assertIn("__all__", path.read_text("utf-8"), path)

    def test_no_file_is_over_four_hundred_lines(self) -> None:
        for path in (ROOT / "src" / "pivrex").rglob("*.py"):
            self.assertLessEqual(len(path.read_text("utf-8").splitlines()), 400, path)

    def test_a_face_loads_no_more_than_it_must(self) -> None:
        """The screen's start depends on it: whoever starts a session loads nothing large before."""
        code = "import sys, pivrex.session, pivrex.tui, pivrex.devices, pivrex.session.client\n"
        code += "print([m for m in ('numpy', 'textual', 'pydantic', 'matplotlib', 'sdl2') if m in sys.modules])"
        said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
        self.assertEqual(said.strip(), "[]")


def _order(name: str) -> tuple[bool, bool, str]:
    """As lint sorts them: constants, classes, functions."""
    return (not name.isupper(), not name[0].isupper(), name)


def raised() -> list[BaseException]:
    """One of every error that the system, Python's library and the packages in use can raise at what a person gives."""
    found: list[BaseException] = [
        kind(2, "No such thing", "place") for kind in _all_below(OSError) if kind.__module__ in ("builtins", "socket")
    ]
    found += [
        serial.SerialException("the port is closed"),
        serial.SerialTimeoutException("Write timeout"),
        serial.PortNotOpenError(),
    ]
    attempts: tuple[Callable[[], object], ...] = (
        lambda: b"\xff".decode("utf-8"),
        lambda: tomllib.loads("a = "),
        lambda: tomlkit.parse("a = "),
        lambda: list(csv.reader(['"a'], strict=True)),
        lambda: struct.unpack("q", b"1"),
        lambda: np.linalg.inv(np.zeros((2, 2))),
        lambda: pydantic.TypeAdapter(int).validate_python("x"),
    )
    for attempt in attempts:
        try:
            attempt()
        except Exception as problem:
            found.append(problem)
    for kind in _all_below(tomlkit.exceptions.TOMLKitError):
        for words in ((1, 1), ("x",), (), (1, 1, "x")):  # as many as it wants
            with contextlib.suppress(TypeError):
                found.append(kind(*words))
                break
    return [*found, RecursionError(), MemoryError()]


def _all_below(kind: type[Any]) -> list[type[Any]]:
    found = [kind]
    for below in kind.__subclasses__():
        found += _all_below(below)
    return found


class FamilyTest(TempCase):
    def test_everything_lower_is_mapped_with_a_sentence(self) -> None:
        problems = raised()
        self.assertGreater(len(problems), 40)
        for problem in problems:
            ours = as_ours(problem)
            self.assertIsInstance(ours, errors.PivrexError, repr(problem))
            self.assertGreater(len(str(ours)), 4, repr(problem))
            self.assertNotIn("\n", str(ours))

    def test_what_is_of_the_family_stays_as_it_is(self) -> None:
        for problem in (errors.UnitError("x"), errors.SaveError(Path("a"), "b"), errors.UsageError("c")):
            self.assertIs(as_ours(problem), problem)

    def test_a_fault_of_the_program_is_not_dressed_up(self) -> None:
        for problem in (TypeError("x"), KeyError("x"), AssertionError(), AttributeError("x"), ZeroDivisionError()):
            self.assertIsNone(as_ours(problem))
        with mock.patch("pivrex.cli.app.app", side_effect=TypeError("a fault")), self.assertRaises(TypeError):
            run(["describe", "x"])

    def test_what_escapes_a_command_is_one_line_and_not_a_traceback(self) -> None:
        problem = PermissionError(13, "Permission denied", "/etc/x")
        with mock.patch("pivrex.cli.app.app", side_effect=problem), mock.patch("sys.stderr") as said:
            self.assertEqual(run(["describe", "x"]), 1)
        self.assertIn("/etc/x: permission denied", "".join(c.args[0] for c in said.write.call_args_list))

    def test_reasons(self) -> None:
        for problem, words in (
            (OSError(2, "No such file or directory"), "no such file or directory"),
            (OSError("Something\nand more"), "something"),
            (serial.SerialException("[Errno 2] Could not open"), "could not open"),
            (ValueError(), "ValueError"),
        ):
            self.assertEqual(reason(problem).lower(), words.lower())

    def test_the_family_is_told_whole(self) -> None:
        told = errors.__doc__ or ""
        for kind in _all_below(errors.PivrexError):
            self.assertIn(kind.__name__, told)
            self.assertIn(kind.__name__, errors.__all__)
        self.assertTrue(Path(errors.__file__).exists())
