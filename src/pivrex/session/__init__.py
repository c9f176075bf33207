"""The session: the clock, the sources, one line and one robot, in a process of their own."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.session.client import SessionClient
    from pivrex.session.core import Session
    from pivrex.session.moving import Event, Moving, State
    from pivrex.session.status import Status

__all__ = ["Event", "Moving", "Session", "SessionClient", "State", "Status"]
__getattr__ = showing(__name__, client="SessionClient", core="Session", moving="Event Moving State", status="Status")
