"""Real and simulated inputs and robots, each behind one small protocol."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.devices.keys import Keyboard
    from pivrex.devices.link import RobotLink
    from pivrex.devices.pads import Pads
    from pivrex.devices.recorded import RecordedDriver
    from pivrex.devices.remote import RemoteSource
    from pivrex.devices.robot import Robot, SimulatedRobot
    from pivrex.devices.robot_end import RobotEnd
    from pivrex.devices.source import Abilities, Source
    from pivrex.devices.sticks import ScreenSticks

__all__ = [
    "Abilities",
    "Keyboard",
    "Pads",
    "RecordedDriver",
    "RemoteSource",
    "Robot",
    "RobotEnd",
    "RobotLink",
    "ScreenSticks",
    "SimulatedRobot",
    "Source",
]
__getattr__ = showing(
    __name__,
    source="Abilities Source",
    keys="Keyboard",
    sticks="ScreenSticks",
    pads="Pads",
    recorded="RecordedDriver",
    remote="RemoteSource",
    robot="Robot SimulatedRobot",
    link="RobotLink",
    robot_end="RobotEnd",
)
