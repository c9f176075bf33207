"""Bench sums: the small calculations of a workbench, each with its formula, filled from the rig where possible."""

from pivrex.sums.sums import SUMS
from pivrex.sums.what import Operand, Result, Sum, computed

__all__ = ["SUMS", "Operand", "Result", "Sum", "computed"]
