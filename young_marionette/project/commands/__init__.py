"""All edits of the document. Each command has a label in plain words and makes a new state of an old one."""

from .base import Command
from .contacts import DeleteContact, DrawContact, LetGoContacts, MoveContactEnd, SetLimit, SetThreshold, SplitContact
from .library import AddEntries, Choose, Correct, GroundFrame, Remove, Rename, RenameBones, SetJointLimit, SetRole, Tag
from .result import AdaptStringing, AddBake, Bake, BakeAnew, KeepStringing, SetTouch, SetTransfer, UseStringing
from .stance import (
    AdoptPose,
    MatchStance,
    MirrorTurn,
    ResetBone,
    SetAngle,
    SetTolerance,
    SetTurn,
    TurnBone,
    turn_degrees,
)
from .strings import DeclareAbsent, Lock, SwapSides, TieAll, TieBones, Untie

__all__ = [
    "AdaptStringing",
    "AddBake",
    "AddEntries",
    "AdoptPose",
    "Bake",
    "BakeAnew",
    "Choose",
    "Command",
    "Correct",
    "DeclareAbsent",
    "DeleteContact",
    "DrawContact",
    "GroundFrame",
    "KeepStringing",
    "LetGoContacts",
    "Lock",
    "MatchStance",
    "MirrorTurn",
    "MoveContactEnd",
    "Remove",
    "Rename",
    "RenameBones",
    "ResetBone",
    "SetAngle",
    "SetJointLimit",
    "SetLimit",
    "SetRole",
    "SetThreshold",
    "SetTolerance",
    "SetTouch",
    "SetTransfer",
    "SetTurn",
    "SplitContact",
    "SwapSides",
    "Tag",
    "TieAll",
    "TieBones",
    "TurnBone",
    "Untie",
    "UseStringing",
    "turn_degrees",
]
