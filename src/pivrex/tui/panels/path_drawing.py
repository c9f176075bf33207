"""The drawing of a path: on the field, and the numbers next to it."""

from __future__ import annotations

from math import degrees

import numpy as np
from numpy.typing import NDArray

from pivrex.path.plan import Plan
from pivrex.scene.chart import Series, chart, span_of
from pivrex.scene.plan import Tried, add_plan, shares_of
from pivrex.scene.scene import Scene
from pivrex.session.periods import Period
from pivrex.tui.documents.path_document import PathDocument
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.path_trial import PathTrial, Ran, ToTry
from pivrex.tui.model import ScreenModel

__all__ = ["PathDrawing"]

Floats = NDArray[np.float64]

TIED = "\u00a0"
"""Keeps words together while a row is broken."""


class PathDrawing:
    """How a path that is open and what was tried of it look."""

    def __init__(self, model: ScreenModel, document: PathDocument, trying: PathTrial) -> None:
        self._model, self.document, self.trying = model, document, trying

    def _live(self) -> Ran | None:
        """The drive of a robot that follows a path right now, as far as the screen remembers; None if none does."""
        model = self._model
        layout, rows = model.line.layout, model.history
        if model.status.match.period is not Period.ALONE or not len(rows) or self.document.content is None:
            return None
        rows = rows[rows[:, layout.at("following", "mode")] > 0]
        if len(rows) < 2:
            return None

        def these(stage: str, *names: str) -> Floats:
            return rows[:, [layout.at(stage, n) for n in names]]

        truth, estimated = these("truth", "x", "y", "heading"), these("odometry", "x", "y", "heading")
        truth = truth if np.isfinite(truth).all() else estimated  # of a real robot no one knows more
        feeds = (
            bool(rows[-1, layout.at("following", "feeds_forward")]),
            bool(rows[-1, layout.at("following", "feeds_back")]),
        )
        job = ToTry(self.document.content, model.rig, model.folder.settings.field, feeds, 0)
        t = rows[:, layout.at("clock", "t")]
        errors = these("following", "along_track", "cross_track", "heading_error")
        return Ran(
            job, "", t - t[0], truth, estimated, errors, these("following", "plan_forward", "plan_left", "plan_turn"),
            these("following", "correction_forward", "correction_left", "correction_turn"), float(np.hypot(errors[-1, 0], errors[-1, 1])),
            abs(float(errors[-1, 2])),
        )  # fmt: skip

    @property
    def ran(self) -> Ran | None:
        """The shown drive: of the robot that follows the path now, else of the simulated robot."""
        return self._live() or self.trying.now

    def draw_on(self, scene: Scene) -> None:
        """Draw the path onto the field."""
        plan = self.document.plan(self._model.rig)
        if plan is None:
            return
        ran, before = self.ran, self.trying.before
        tried = None
        if ran is not None and len(ran.truth):
            tried = Tried(ran.truth, ran.estimated, before.truth if before is not None else None)
        kept = plan.clearance(self._model.rig, self._model.folder.settings.field)
        add_plan(scene, self._model.rig, plan, kept.away < 0, self.document.mark, tried)

    def draw_side_by_side(self, picture: Picture, x: int, width: int, height: int) -> None:
        """Draw what there is to say of it: rows, the speed over its way, the errors over time, and the commands."""
        document, model = self.document, self._model
        name = document.path.stem if document.is_open else "none"
        picture.text(x, 0, f"path {name}", "title")
        plan = document.plan(model.rig)
        if plan is None:
            for k, part in enumerate(wrapped(document.problem or "there is no path", width)[: height - 2]):
                picture.text(x, 2 + k, part, "alarm")
            return
        picture.right(x + width, 0, "saved" if not document.held else "held", "dim")
        y = self._rows(picture, x, 1, width, height, plan)
        room = height - y - 1
        charts = 3 if room >= 24 else 2 if room >= 14 else 1 if room >= 6 else 0
        each = min(12, room // charts) if charts else 0
        if charts:
            y = self._speed(picture, x, y + 1, width, each, plan)
        if charts > 1:
            y = self._errors(picture, x, y, width, each)
        if charts > 2:
            self._given(picture, x, y, width, each)

    def _rows(self, picture: Picture, x: int, y: int, width: int, height: int, plan: Plan) -> int:
        """Say length and time, clearance, what holds it, the chosen point, and how well it is followed."""
        document, model = self.document, self._model
        assert document.content is not None
        rows: list[tuple[str, str]] = []
        fastest = float(plan.law.speed.max())
        rows.append((f"{plan.length_m:.2f} m in {plan.time_s:.2f} s, at most {fastest:.2f} m/s", "commanded"))
        wrong = document.troubles(model.rig, model.folder.settings.field)
        if wrong:
            more = f" (and {len(wrong) - 1} more)" if len(wrong) > 1 else ""
            rows += [(part, "alarm") for part in wrapped(f"! {wrong[0][1]}{more}", width)]
        else:
            kept = plan.clearance(model.rig, model.folder.settings.field)
            k = int(kept.away.argmin())
            rows.append((f"keeps {kept.away[k] * 100:.0f} cm from {kept.names[kept.what[k]]}", "rest"))
        held = [
            f"{letter} {share * 100:.0f} % {words}".replace(" ", TIED)
            for letter, words, share in shares_of(plan)
            if share > 0.004
        ]
        rows += [(part.replace(TIED, " "), "dim") for part in wrapped("limited by  " + "  ".join(held), width)]
        p = document.content.points[document.mark]
        direction = "" if p.direction_rad is None else f"  {degrees(p.direction_rad):.0f} deg"
        rows.append((
            f"◆ {document.mark + 1} of {len(document.content.points)}  x {p.x_m:.2f} m  y {p.y_m:.2f} m{direction}{'  stops' if p.stop else ''}",
            "chosen",
        ))  # fmt: skip
        rows += [(part, role) for text, role in self._followed() for part in wrapped(text, width)]
        for text, role in rows:
            if y < height:
                picture.text(x, y, text, role)
                y += 1
        return y

    def _followed(self) -> list[tuple[str, str]]:
        ran, before = self._live(), self.trying.before
        if ran is not None:
            now = f"now {ran.off_m * 100:.1f} cm and {degrees(ran.off_rad):.1f} deg off its plan"
            return [(f"{now}, {ran.said}" if ran.said else now, "measured")]
        ran = self.trying.now
        if ran is None:
            return [("simulating ..." if self.trying.goes_on else "", "dim")]
        if ran.why:
            said = [(f"! {f'{ran.said}: ' if ran.said else ''}{ran.why.removeprefix('line 1: ')}", "alarm")]
        else:
            how = f" {ran.said}" if ran.said else ""
            said = [
                (
                    f"the simulated robot{how} ends {ran.off_m * 100:.1f} cm and {degrees(ran.off_rad):.1f} deg off",
                    "measured",
                )
            ]
        if before is not None:
            what = before.why.removeprefix("line 1: ") or f"{before.off_m * 100:.1f} cm off"
            said.append((f"before, {before.said or 'with both'}: {what}", "ghost"))
        return said

    def _speed(self, picture: Picture, x: int, y: int, width: int, height: int, plan: Plan) -> int:
        law, s = plan.law, plan.curve.s
        top = float(law.speed.max()) * 1.3
        most = np.sqrt(np.minimum(plan.bounds.caps.min(axis=0), top * top))
        even = np.linspace(0, plan.length_m, 240)
        series = (
            Series("limit", np.interp(even, s, most), "ghost", 0.9),
            Series("planned", np.interp(even, s, law.speed), "commanded"),
        )
        scene = chart("speed", even, series, (0.0, top), ("m/s", "m"), (width, height))
        at = plan.curve.of[self.document.mark]
        scene.sign((float(s[at]), float(law.speed[at])), "◆", "chosen")
        picture.place(print_scene(scene, width, height), x, y)
        return y + height

    def _errors(self, picture: Picture, x: int, y: int, width: int, height: int) -> int:
        ran, before = self.ran, self.trying.before
        if ran is None or len(ran.t) < 2:
            return y
        t = np.linspace(0, float(ran.t[-1]), 240)

        def line(of: Floats, over: Floats, k: int, scale: float) -> Floats:
            return np.interp(t, over, of[:, k] * scale, right=np.nan)

        series = []
        if before is not None and len(before.t) > 1:
            series += [
                Series("", line(before.errors, before.t, 0, 100.0), "ghost", 0.9),
                Series("before", line(before.errors, before.t, 1, 100.0), "ghost", 0.9),
            ]
        series += [
            Series("heading, deg", line(ran.errors, ran.t, 2, degrees(1)), "target", 0.9),
            Series("cross-track", line(ran.errors, ran.t, 1, 100.0), "measured"),
            Series("along-track", line(ran.errors, ran.t, 0, 100.0), "commanded"),
        ]
        span = span_of(series, 4.0)
        picture.place(print_scene(chart("errors", t, series, span, ("cm", "s"), (width, height)), width, height), x, y)
        return y + height

    def _given(self, picture: Picture, x: int, y: int, width: int, height: int) -> None:
        ran = self.ran
        if ran is None or len(ran.t) < 2:
            return
        t = np.linspace(0, float(ran.t[-1]), 240)
        series = [
            Series("added turn, rad/s", np.interp(t, ran.t, ran.back[:, 2]), "target", 0.9),
            Series("added", np.interp(t, ran.t, ran.back[:, 0]), "measured"),
            Series("planned", np.interp(t, ran.t, ran.planned[:, 0]), "commanded"),
        ]
        span = span_of(series, 0.4)
        picture.place(
            print_scene(chart("commanded", t, series, span, ("m/s", "s"), (width, height)), width, height), x, y
        )
