"""The schema of ``project.json`` in a project file, version 8, with the fields that earlier versions had."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from .control_files import ControlSetFile
from .markers.files import FigureFile
from .pass_files import PassFile, PresetFile
from .strict import Strict
from .stringing.schema import Clear, Feet, Hands, InPlace, Root, Share, Start, StringingFile

VERSION = 8
Axis = Annotated[str, Field(pattern=r"^[+-]?[XYZ]$")]
_ID, _BLOB = r"^[0-9a-z-]{1,40}$", r"^[0-9a-f]{8,64}$"


class CorrectionFile(Strict):
    scale: float | None = Field(default=None, gt=1e-9, lt=1e9)
    up: Axis | None = None
    facing: Axis | None = None
    rate: float | None = Field(default=None, gt=0, le=1000)
    lift: float | None = Field(default=None, ge=-1000, le=1000)
    centred: Literal["origin", "line"] | None = None
    in_place: bool | None = None
    prefix: str | None = None
    family: str | None = None
    rest: int | None = Field(default=None, ge=-1)
    level: int | None = Field(default=None, ge=0)
    grounded: tuple[Annotated[int, Field(ge=0, lt=1 << 40)], ...] | None = None


class LayoutFile(Strict):
    """The file that entries came from, as its format stores it; its bytes are the blob ``blob``."""

    format: str = Field(pattern="^(BVH|glTF|USD)$")
    meta: dict
    blob: str | None = Field(default=None, pattern=_BLOB)
    source: int | None = Field(default=None, ge=0)  # versions 1 and 2: the number of a file in sources/


class MotionFile(Strict):
    """What a clip has beside its arrays, which are the blob ``blob``: frames, or keys (see core.keys.arrays).

    ``curves``: names of its morphs; in version 3 also of scales.
    """

    name: str
    rate: float = Field(gt=0, le=100_000)
    start: float = Field(default=0.0, ge=-1e7, le=1e7)
    keyed: bool = False
    curves: list[str] = []
    blob: str = Field(pattern=_BLOB)


class FindingFile(Strict):
    """Something that was told when a file was read (see core.findings)."""

    code: str
    values: dict[str, str | int | float | list[str] | None] = {}


Frame = Annotated[int, Field(ge=0, lt=1 << 40)]
Threshold = Literal["speed", "height", "slack", "held_speed", "shortest", "shortest_held", "gap"]
Point = Literal[
    "left heel", "left toe", "right heel", "right toe", "left hand", "right hand", "left knee", "right knee", "seat"
]


class AdjustedFile(Strict):
    """Other thresholds of contacts (see core.contacts.choices)."""

    changes: dict[Threshold, Annotated[float, Field(ge=0, le=100)]]
    point: Point | None = None
    frames: tuple[Frame, Frame] | None = None


class DrawnFile(Strict):
    """Frames in which a point touches or does not, as drawn by hand."""

    point: Point
    first: Frame
    last: Frame
    touches: bool


class ContactChoicesFile(Strict):
    adjusted: list[AdjustedFile] = []
    drawn: list[DrawnFile] = []


class ContactFile(Strict):
    """A contact that a bake was planted by (see core.contacts.finding)."""

    point: Point
    first: Frame
    last: Frame
    height: float = 0.0
    slide: float = 0.0
    held: bool = False
    by_hand: bool = False


class TouchFile(Strict):
    """What a hand touches of the own body, or hands each other (see core.contacts.touching)."""

    side: Literal["left", "right", "both"]
    to: str
    first: Frame
    last: Frame


class ContactsFile(Strict):
    floor: float = 0.0
    rate: float = Field(gt=0, le=100_000)
    found: list[ContactFile] = []
    touches: list[TouchFile] = []


Angle = Annotated[float, Field(ge=-6.3, le=6.3)]
Touch = Annotated[float, Field(ge=-90, le=90)]  # degrees
Metres = Annotated[float, Field(ge=-1e6, le=1e6)]


class BoxFile(Strict):
    """A stand-in of what a clip was acted on (see core.scene.props)."""

    centre: tuple[Metres, Metres, Metres]
    size: tuple[Metres, Metres, Metres]


class JointLimitFile(Strict):
    """How far a joint may turn from its rest: radians (see core.transfer.limits)."""

    joint: str
    swing: float | None = Field(default=None, ge=0, le=3.2)
    twist: tuple[Angle, Angle] | None = None


class EntryFile(Strict):
    """An entry; its arrays lie beside it as blobs. ``notes``: in version 3 sentences."""

    id: str = Field(pattern=_ID)
    role: str = Field(pattern="^(clip|rig)$")
    name: str
    path: str | None
    path_bytes: str | None = None  # percent-encoded, where the path is no text
    format: str
    joints: list[str] = Field(min_length=1)
    skeleton: str = Field(pattern=_BLOB)
    motion: MotionFile | None = None
    layout: LayoutFile | None = None
    unit: float | None = Field(default=None, gt=1e-9, lt=1e9)
    up: Axis | None = None
    bones: list[tuple[str, str]] = []
    correction: CorrectionFile = CorrectionFile()
    contacts: ContactChoicesFile = ContactChoicesFile()
    props: list[BoxFile] = []
    limits: list[JointLimitFile] = []
    notes: list[FindingFile | str] = []
    tags: list[str] = []
    controls: ControlSetFile | None = None


class PlacedFile(Strict):
    """What was set of where a recording lies."""

    unit: float | None = Field(default=None, gt=1e-9, lt=1e9)
    up: Axis | None = None
    turn: float = Field(default=0.0, ge=-36000, le=36000)
    ahead: bool = False
    floor: bool = True
    centred: bool = False
    trim: tuple[Annotated[int, Field(ge=0)], Annotated[int, Field(ge=0)]] | None = None


class MendFile(Strict):
    """What is decided of a marker on some frames, both included; ``other``: the one it changes places with."""

    kind: Literal["exchange", "leave out", "fill", "believe"]
    label: str
    first: int = Field(ge=0)
    last: int = Field(ge=0)
    other: str | None = None


class ReferenceFile(Strict):
    """A performer's T-pose from another recording; ``blob``: its points ``(frames, markers, 3)`` in metres."""

    name: str
    labels: list[str] = Field(min_length=1)
    blob: str = Field(pattern=_BLOB)


class RecordingFile(Strict):
    """A recording of markers; ``blob``: its points ``(frames, markers, 3)``, residuals, and which have no label."""

    id: str = Field(pattern=_ID)
    name: str
    path: str | None
    path_bytes: str | None = None
    format: str
    labels: list[str] = Field(min_length=1)
    rate: float = Field(gt=0, le=100_000)
    first: int = 0
    blob: str = Field(pattern=_BLOB)
    unit: float | None = Field(default=None, gt=1e-9, lt=1e9)
    up: Axis | None = None
    subjects: list[str] = []
    placed: PlacedFile = PlacedFile()
    labelling: dict[str, str | None] = {}
    mends: list[MendFile] = []
    figure: FigureFile | None = None
    sizes: dict[str, Annotated[float, Field(gt=0, lt=10)]] = {}
    reference: ReferenceFile | None = None
    touches: tuple[Touch, Touch] = (0.0, 0.0)
    notes: list[FindingFile] = []
    tags: list[str] = []


class PairingFile(Strict):
    """A pairing, with the entries that it was made between."""

    source: str
    rig: str
    stringing: StringingFile


class UseFile(Strict):
    """What is set for one clip on one rig alone; what is left out is as the stringing has it."""

    source: str
    rig: str
    in_place: InPlace | None = None
    root: Root | None = None
    root_smooth: float | None = Field(default=None, ge=0, le=60)
    start: Start | None = None
    ahead: bool | None = None
    stride: float | None = Field(default=None, gt=0, le=100)
    height_offset: float | None = Field(default=None, ge=-100, le=100)
    feet: Feet | None = None
    hands: Hands | None = None
    hold_places: Share | None = None
    hold_room: Share | None = None
    hold_body: Share | None = None
    hold_hands: Share | None = None
    clear: Clear | None = None


class BakeFile(Strict):
    """A baked clip; ``rig``: as it was then. ``placed``: the blob of the skeleton that the motion is on, in our world."""

    id: str = Field(pattern=_ID)
    name: str
    source: str
    rig: EntryFile
    stringing: StringingFile | None = None
    source_joints: list[str] = []
    source_skeleton: str | None = Field(default=None, pattern=_BLOB)
    joints: list[str] = Field(min_length=1)
    placed: str = Field(pattern=_BLOB)
    motion: MotionFile
    fps: float | None = Field(default=None, gt=0, le=1000)
    frames: tuple[int, int] | None = None
    contacts: ContactsFile | None = None
    digest: str = ""
    tags: list[str] = []
    passes: list[PassFile] = []
    controls: ControlSetFile | None = None  # the motion is theirs, on the bones ``placed``


class LimitsFile(Strict):
    """How far feet may be off before it is a snag: metres."""

    slide: float = Field(default=0.01, ge=0, le=10)
    sink: float = Field(default=0.015, ge=0, le=10)
    hover: float = Field(default=0.02, ge=0, le=10)
    touching: float = Field(default=0.02, ge=0, le=10)


class ProjectFile(Strict):
    """The whole document."""

    format: Literal["young-marionette project"]
    version: int
    name: str
    entries: list[EntryFile]
    bakes: list[BakeFile] = []
    uses: list[UseFile] = []
    source: str | None = None
    rig: str | None = None
    pairings: list[PairingFile] = []
    stringings: list[StringingFile] = []
    stance_tolerance: float = Field(default=10.0, ge=0, le=180)
    limits: LimitsFile = LimitsFile()
    presets: list[PresetFile] = []
    recordings: list[RecordingFile] = []


# --- as earlier versions had it ------------------------------------------------------------------
class OldEntryFile(Strict):
    """An entry of version 1 or 2; its arrays lie beside it as ``arrays/<id>.npz``."""

    id: str = Field(pattern=_ID)
    role: Literal["clip", "rig", "baked"]
    name: str
    path: str | None
    format: str
    joints: list[str] = Field(min_length=1)
    rate: float | None = Field(default=None, gt=0, le=100_000)
    clip_name: str = ""
    curves: list[str] = []
    layout: LayoutFile | None = None
    layout_names: list[str] | None = None  # version 1
    layout_channels: list[list[str]] | None = None  # version 1
    unit: float | None = Field(default=None, gt=1e-9, lt=1e9)
    up: Axis | None = None
    bones: list[tuple[str, str]] = []
    correction: CorrectionFile = CorrectionFile()
    notes: list[str] = []
    made_from: list[str] = []
    tags: list[str] = []


class OldProjectFile(Strict):
    """The document of versions 1 and 2."""

    format: Literal["young-marionette project"]
    version: int
    name: str
    entries: list[OldEntryFile]
    source: str | None = None
    rig: str | None = None
    pairings: list[PairingFile] = []
    stringings: list[StringingFile] = []
    stance_tolerance: float = Field(default=10.0, ge=0, le=180)
