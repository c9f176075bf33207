"""Guides: what a person does with the robot step by step, asked, watched and written into the rig."""
