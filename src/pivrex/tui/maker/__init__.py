"""The maker: your own robot, chosen step by step, in a window over the views or alone."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.maker.maker_app import MakerApp
    from pivrex.tui.maker.maker_overlay import Maker
    from pivrex.tui.maker.robot_in_making import Making

__all__ = ["Maker", "MakerApp", "Making"]
__getattr__ = showing(__name__, maker_app="MakerApp", maker_overlay="Maker", robot_in_making="Making")
