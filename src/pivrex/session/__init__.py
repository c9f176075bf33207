"""The session: the clock, the sources, one line and one robot, in a process of their own."""
