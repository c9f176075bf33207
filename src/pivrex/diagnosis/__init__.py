"""Finding out what is wrong with a robot: the shakedown."""
