"""Types and import contracts: checked next to the other tests, for they take as long as some of them."""

from __future__ import annotations

import getpass
import re
import subprocess
import sys
import unittest
from pathlib import Path
from tempfile import gettempdir

from tests.support import ROOT

BIN = Path(sys.executable).parent


class StaticTest(unittest.TestCase):
    def run_tool(self, *words: str) -> None:
        found = subprocess.run([str(BIN / words[0]), *words[1:]], cwd=ROOT, capture_output=True, text=True, check=False)
        self.assertEqual(found.returncode, 0, found.stdout + found.stderr)

    def test_types(self) -> None:
        # what was checked before is known, also to another clone of the same text
        self.run_tool("mypy", "--cache-dir", str(Path(gettempdir()) / f"pivrex-mypy-{getpass.getuser()}"))

    def test_imports_run_downwards_and_never_in_a_circle(self) -> None:
        self.run_tool("lint-imports")


class SafetyPageTest(unittest.TestCase):
    def test_the_tests_that_the_page_names_are_there(self) -> None:
        page = (ROOT / "docs" / "safety.md").read_text("utf-8")
        named = re.findall(r"`(?:(test_\w+)(?:\.(\w+Test))?|(\w+Test))`", page)
        self.assertGreater(len(named), 20)
        module = ""
        for first, of, alone in named:
            module = first or module  # a class alone stands behind one of the same file
            text = (ROOT / "tests" / f"{module}.py").read_text("utf-8")
            if of or alone:
                self.assertIn(f"class {of or alone}(", text, module)
