"""Types and import contracts: checked beside the other tests, for they take as long as some of them."""

from __future__ import annotations

import subprocess
import sys
import unittest
from pathlib import Path

from tests.support import ROOT

BIN = Path(sys.executable).parent


class StaticTest(unittest.TestCase):
    def run_tool(self, *words: str) -> None:
        found = subprocess.run([str(BIN / words[0]), *words[1:]], cwd=ROOT, capture_output=True, text=True, check=False)
        self.assertEqual(found.returncode, 0, found.stdout + found.stderr)

    def test_types(self) -> None:
        self.run_tool("mypy")

    def test_imports_run_downwards_and_never_in_a_circle(self) -> None:
        self.run_tool("lint-imports")
