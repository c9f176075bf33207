"""The view Chassis: the robot from above, what a motion asks of its wheels, and how fast it can go."""
