"""Runs: what was kept of every drive, listed, laid over each other, learnt from."""

from pivrex.tui.views.runs.view import RUNS_COMMANDS, RunsView, runs_bars, runs_exports

__all__ = ["RUNS_COMMANDS", "RunsView", "runs_bars", "runs_exports"]
