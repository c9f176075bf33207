"""Guides: step-by-step work with the robot, which Pivrex watches and writes to the rig."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.guides.calibration_guide import CalibrationGuide
    from pivrex.tui.guides.shakedown_guide import ShakedownGuide

__all__ = ["CalibrationGuide", "ShakedownGuide"]
__getattr__ = showing(__name__, shakedown_guide="ShakedownGuide", calibration_guide="CalibrationGuide")
