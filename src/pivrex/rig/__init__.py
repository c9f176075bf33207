"""The description of a robot and its controls: schema, reading, writing, errors."""

from pivrex.rig.edit import RigFile
from pivrex.rig.field import Field, Workspace
from pivrex.rig.read import read_rig, read_text, read_workspace_file
from pivrex.rig.rig import Rig
from pivrex.rig.workspace import Folder, find_rig, open_folder

__all__ = [
    "Field",
    "Folder",
    "Rig",
    "RigFile",
    "Workspace",
    "find_rig",
    "open_folder",
    "read_rig",
    "read_text",
    "read_workspace_file",
]
