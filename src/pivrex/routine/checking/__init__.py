"""Turns parsed lines into a program for one rig, and finds every mistake: names, kinds, and motions that the chassis cannot make."""

from pivrex.routine.checking.scope import Reader
from pivrex.routine.checking.whole import Checked, check_text

__all__ = ["Checked", "Reader", "check_text"]
