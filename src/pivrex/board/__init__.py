"""The robot's own end: its board's program, written from the rig, proven against the line, and run in an emulated chip."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.board.emulated import EmulatedRobot
    from pivrex.board.folder import board_files, write_board
    from pivrex.board.proving import prove
    from pivrex.board.report import BoardReport, written_and_reported

__all__ = ["BoardReport", "EmulatedRobot", "board_files", "prove", "write_board", "written_and_reported"]
__getattr__ = showing(
    __name__,
    emulated="EmulatedRobot",
    folder="board_files write_board",
    proving="prove",
    report="BoardReport written_and_reported",
)
