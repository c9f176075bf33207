"""Lines that were read become a program for one rig, and every mistake in them is found: names, kinds, what the chassis cannot."""

from pivrex.routine.checking.scope import Reader
from pivrex.routine.checking.whole import Checked, check_text

__all__ = ["Checked", "Reader", "check_text"]
