"""Routines on a board: the table of their steps, and what goes on with it."""

from __future__ import annotations

import numpy as np

from pivrex.board.watching import BY_ROUTINE, DRIVES, NOT_AT_REST
from tests.test_alone import AloneCase
from tests.test_board import WITH_CHIP

PIN = ('supply = "5 V"', 'supply = "5 V"\nstart_pin = "A5"')


@WITH_CHIP
class OnChipTest(AloneCase):
    """A routine on the small chip, begun by a button."""

    TEXT = "drive ahead 40 cm\nturn right 45 deg\n"

    def test_it(self) -> None:
        self.go(1.0)
        self.bid("run")
        self.go(4.0)
        print(len(self.ticks), [t.number for t in self.ticks if not t.same][:5], {t.why for t in self.ticks})
        print([t.routine for t in self.ticks if t.routine])
        at = self.line.layout.at("routine", "line")
        print({float(t.row[at]) for t in self.ticks})
        print(self.robot.body.pose if hasattr(self.robot.body,"pose") else self.robot.body)
        print(self.robot.never_used)
