"""Guides: what a person does with the robot step by step, asked, watched and written into the rig."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.guides.calibration_guide import CalibrationGuide
    from pivrex.tui.guides.shakedown_guide import ShakedownGuide

__all__ = ["CalibrationGuide", "ShakedownGuide"]
__getattr__ = showing(__name__, shakedown_guide="ShakedownGuide", calibration_guide="CalibrationGuide")
