"""Questions about a line, answered by calls of its stages: what a motion asks, curves, envelopes, figures, what is at rest."""
