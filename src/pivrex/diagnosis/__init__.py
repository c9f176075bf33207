"""Finds what is wrong with a robot: the shakedown, the smallest duty, calibration."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.diagnosis.calibration import Calibration
    from pivrex.diagnosis.correction import corrections
    from pivrex.diagnosis.hypotheses import WiringHypotheses
    from pivrex.diagnosis.practice import practise
    from pivrex.diagnosis.shakedown import Shakedown
    from pivrex.diagnosis.smallest import Sweep
    from pivrex.diagnosis.steps import Option, Step

__all__ = ["Calibration", "Option", "Shakedown", "Step", "Sweep", "WiringHypotheses", "corrections", "practise"]
__getattr__ = showing(
    __name__,
    shakedown="Shakedown",
    steps="Option Step",
    hypotheses="WiringHypotheses",
    calibration="Calibration",
    correction="corrections",
    practice="practise",
    smallest="Sweep",
)
