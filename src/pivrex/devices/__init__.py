"""Real and simulated inputs and robots, each behind one small protocol."""
