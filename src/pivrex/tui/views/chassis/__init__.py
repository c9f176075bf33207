"""The view Chassis: the robot from above, what a motion asks of its wheels, and how fast it can go."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.views.chassis.view import ChassisView

__all__ = ["ChassisView"]
__getattr__ = showing(__name__, view="ChassisView")
