"""The robot's own end: programs for its board, written from the rig.

`flat.py` makes of a rig's kernels one flat program, without what no output needs (`needed.py`); `printing.py` prints it as C99.
"""
