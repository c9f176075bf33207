"""The interface of every robot for the session: commands in, sensed values out."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from pivrex.sim.body.robot import in_hand
from pivrex.sim.model import AnySimulator
from pivrex.sim.sampled import Sampled, placed_by

__all__ = ["Robot", "SimulatedRobot"]

Floats = NDArray[np.float64]


class Robot(Protocol):
    """A robot behind a link, or the simulated robot."""

    title: str

    def sense(self) -> Floats:
        """Return the newest sensed values, (S,), as `pivrex.line.input_stages.sensed_columns` orders them."""
        ...

    def truth(self) -> Floats:
        """Return what is true of it, (T,), as `pivrex.line.input_stages.truth_columns` orders it. NaN where no one knows."""
        ...

    def command(self, commands: Floats, dt_s: float) -> None:
        """Tell the motor drivers these values, (V,), for the coming tick."""
        ...

    def put_back(self) -> None:
        """Put it at its start, where that is possible."""
        ...


class SimulatedRobot:
    """The simulated robot behind the session's protocol. Time passes for it with each command."""

    title = "simulator"

    def __init__(self, model: AnySimulator, state: Any = None) -> None:
        self._model = model
        self.state = model.start() if state is None else state if model.fits(state) else model.adopt(state)

    def sense(self) -> Floats:
        sensed: Floats = self._model.sense(self.state)
        return sensed

    def truth(self) -> Floats:
        true: Floats = self._model.truth(self.state)
        return true

    def command(self, commands: Floats, dt_s: float) -> None:
        self.state = self._model.step(self.state, commands, dt_s)

    def put_at(self, pose: Floats, seed: int, found: Sampled, attached: tuple[float, ...] | None = None) -> None:
        """Put it somewhere, x and y in m, heading in rad, with the chance of a seed and as near as that one puts it. ``attached``
        is where its attachments with an encoder are, in rad; where they begin if left out.
        """
        self.state = placed_by(self._model, np.array(seed, np.uint64), pose, found)
        if attached is not None:
            self.state = self.state._replace(attached=np.array(attached))

    def put_back(self) -> None:
        self.state = self._model.start()

    @property
    def restarts(self) -> bool:
        """Whether its electronics start again, because the battery sagged: meanwhile no one answers."""
        return bool(getattr(self.state, "restart", 0.0) > 0)

    def push(self, forward_Ns: float, left_Ns: float, turn_Nms: float) -> None:  # noqa: N803 - newton seconds
        """Push it: an impulse on its mass centre, in its own directions."""
        self.state = self._model.pushed(self.state, np.array([forward_Ns, left_Ns, turn_Nms]))

    def lift(self, up: bool) -> None:
        """Put it on a block, wheels up, or back on the floor."""
        self.state = self.state._replace(lifted=np.array(float(up)))

    @property
    def balances(self) -> bool:
        """Whether it is one that balances."""
        return bool(getattr(getattr(self._model, "settings", None), "balances", 0.0))

    def take(self, what: str) -> None:
        """Take one that balances in hand; see `pivrex.sim.body.robot.in_hand`."""
        self.state = in_hand(self._model, self.state, what)

    def turn_over(self) -> None:
        """Turn it on its back, or back on its wheels."""
        self.state = self.state._replace(upside_down=1.0 - self.state.upside_down)

    def point_ahead(self) -> None:
        """Turn its steered wheels straight ahead by hand."""
        self.state = self._model.point_ahead(self.state)

    def seen(self) -> str:
        """Return what moves to the eye now, whatever the sensors say; empty if nothing does."""
        said: str = self._model.seen(self.state)
        return said
