"""Questions about a line, answered by its stages: what a motion needs, curves, envelopes, figures, what is at rest."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.line.questions.ask import ask_wheels, can_do
    from pivrex.line.questions.envelope import Envelope
    from pivrex.line.questions.figures import travel_for, wheel_figures
    from pivrex.line.questions.neutral import not_at_rest
    from pivrex.line.questions.preview import doing, preview
    from pivrex.line.questions.response import respond

__all__ = [
    "Envelope",
    "ask_wheels",
    "can_do",
    "doing",
    "not_at_rest",
    "preview",
    "respond",
    "travel_for",
    "wheel_figures",
]
__getattr__ = showing(
    __name__,
    ask="ask_wheels can_do",
    envelope="Envelope",
    figures="travel_for wheel_figures",
    neutral="not_at_rest",
    preview="doing preview",
    response="respond",
)
