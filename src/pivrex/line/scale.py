"""Scale: the output of a function at full stick; and the winner of moving and turning, if the law lets only one count."""

from __future__ import annotations

from pivrex.kernels.records import Flag, Form, Numbers, Record, Whole, field
from pivrex.kernels.subset import kernel
from pivrex.line.inputs import Inputs
from pivrex.line.laws import LAWS, one_at_a_time
from pivrex.line.stage import Fractions, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.controls import EITHER
from pivrex.rig.rig import Rig

__all__ = ["Scale", "ScaleSettings", "scale_step", "settings_of"]


class ScaleSettings(Record):
    """``scale``, (C,): each channel's own scale times the overall one. ``one``: whether the weaker of moving and turning rests, by the
    functions of ``law``.
    """

    is_settings = True

    scale: Numbers = field("functions")
    one: Flag = field()
    law: Whole = field()


@kernel
def scale_step(s: ScaleSettings, curve: Fractions, out: Fractions) -> None:
    """Leave each function its share."""
    for k in range(len(out.value)):
        out.value[k] = curve.value[k] * s.scale[k]
    if s.one:
        one_at_a_time(s.law, out.value)


def settings_of(rig: Rig) -> ScaleSettings:
    """Return the scales of the functions of a rig's law; where the push keeps its direction, forward's counts for both."""
    roles = [("forward" if rig.keeps_direction and f == "sideways" else f) for f in rig.law.axes()]
    made: ScaleSettings = Form(ScaleSettings, functions=len(roles)).of(
        scale=[rig.shaping.of(role).scale * rig.shaping.overall for role in roles],
        one=rig.law.move_and_turn == EITHER,
        law=LAWS[rig.law.kind],
    )
    return made


class Scale(Stage):
    """The scales of the law's functions."""

    name = "scale"

    def __init__(self, rig: Rig, functions: tuple[str, ...]) -> None:
        self.functions = functions
        self._rig = rig
        self.settings: ScaleSettings = settings_of(rig)
        self.columns = named("scale", *((f, "") for f in functions))
        self.form = Form(Fractions, functions=len(functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Scale:
        return cls(rig, inputs.functions)

    def phrases(self, tick: WheelTick) -> list[str]:
        if not tick.by_stick or self.settings.scale[self.functions.index(tick.main)] == 1:
            return []
        return [f"scale {tick.of_function('scale')[0]:.2f}"]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        found = []
        shaping = self._rig.shaping
        for function in self.functions:
            by = "forward" if self._rig.keeps_direction and function == "sideways" else function
            text = (
                f"{function}: {tick('curve', function):+.3f}, {shaping.of(by).scale * 100:g} % · overall "
                f"{shaping.overall * 100:g} % → {tick('scale', function):+.3f}"
            )
            rests = self.settings.one and tick("curve", function) != 0 and tick("scale", function) == 0
            found.append(
                Rung("scale", text, f"{shaping.key(by)}.scale", "rests: either moves or turns" if rests else "")
            )
        return found
