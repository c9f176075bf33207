"""What every robot is to the session: commands in, sensed values out."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from pivrex.sim.stand_in import StandIn, StandInState

__all__ = ["Robot", "StandInRobot"]

Floats = NDArray[np.float64]


class Robot(Protocol):
    """A robot behind a link, or the stand-in."""

    title: str

    def sense(self) -> Floats:
        """Give the newest sensed values, (S,), as `pivrex.line.given.sensed_columns` orders them."""
        ...

    def truth(self) -> Floats:
        """Give what is true of it, (4,): x and y in m, heading in rad, whether it is blocked. NaN where nobody knows."""
        ...

    def command(self, told: Floats, dt_s: float) -> None:
        """Tell the motor drivers these values, (V,), for the coming tick."""
        ...

    def put_back(self) -> None:
        """Put it at its start, where that is possible."""
        ...


class StandInRobot:
    """The stand-in robot behind the session's protocol. Time passes for it with each command."""

    title = "stand-in"

    def __init__(self, model: StandIn, state: StandInState | None = None) -> None:
        self._model = model
        self.state = state if state is not None and model.fits(state) else model.start()

    def sense(self) -> Floats:
        return self._model.sense(self.state)

    def truth(self) -> Floats:
        return self._model.truth(self.state)

    def command(self, told: Floats, dt_s: float) -> None:
        self.state = self._model.step(self.state, told, dt_s)

    def put_back(self) -> None:
        self.state = self._model.start()

    def lift(self, up: bool) -> None:
        """Put it on a block, wheels up, or back on the floor."""
        self.state = self.state._replace(lifted=np.array(float(up)))

    def turn_over(self) -> None:
        """Turn it on its back, or back on its wheels."""
        self.state = self.state._replace(upside_down=1.0 - self.state.upside_down)

    def point_ahead(self) -> None:
        """Turn its steered wheels straight ahead by hand."""
        self.state = self._model.point_ahead(self.state)

    def seen(self) -> str:
        """Say what moves to the eye now, whatever the sensors say; empty if nothing does."""
        return self._model.seen(self.state)
