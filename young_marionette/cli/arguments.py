"""The words of the command line: which commands there are, and what each takes."""

from __future__ import annotations

from argparse import SUPPRESS, ArgumentParser, Namespace
from collections.abc import Iterator
from pathlib import Path
from typing import NoReturn

from ..core.errors import InputError

FPS = "Frames per second of the result; its length stays."
CLIP = "Which clip of a file with several, by its name."
SKELETON = "Which skeleton of a file with several, by its root's name."


class _Parser(ArgumentParser):
    """Tells wrong usage as InputError, like all that the user gives and that can't be used."""

    def __init__(self, **more: object) -> None:
        super().__init__(allow_abbrev=False, **more)  # type: ignore[arg-type]

    def error(self, message: str) -> NoReturn:
        text = " ".join(message.split())
        raise InputError(text[:1].upper() + text[1:] + ("" if text.endswith(".") else "."))


def parsed(words: list[str]) -> tuple[Namespace, ArgumentParser]:
    """What ``words`` ask for (``command``: the name of a command, or None), and the parser, for its help.

    InputError where they make no sense; SystemExit after the help that they ask for.
    """
    parser = made_parser()
    return parser.parse_args([*_with_axes(words)]), parser


def made_parser() -> ArgumentParser:
    """The parser of the whole command line: of which its manual and what completes it in a shell are made, too."""
    parser = _Parser(
        prog="young-marionette", description="Bring motion from any skeleton onto your own rigs.", epilog=_EPILOG
    )
    parser.add_argument("--version", action="store_true", help="Print the version.")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", title="commands")
    for add in (
        _info,
        _contacts,
        _solve,
        _retarget,
        _match,
        _rename,
        _convert,
        _filter,
        _thin,
        _adjust,
        _mirror,
        _retime,
        _join,
        _controls,
        _batch,
        _watch,
        _words,
        _completion,
        _demo,
    ):
        add(commands)
    return parser


def _with_axes(words: list[str]) -> Iterator[str]:
    """``--in-place`` takes the word after it only where that names axes, so that a file may follow it."""
    for word, after in zip(words, [*words[1:], ""]):
        named = set(after.lower().replace(" ", "").split(",")) <= {"x", "y", "z", "none"}
        yield "--in-place=x,z" if word == "--in-place" and not (after and named) else word


_EPILOG = "young-marionette COMMAND --help tells what a command takes."


def _command(commands: object, name: str, does: str) -> ArgumentParser:
    one: ArgumentParser = commands.add_parser(name, help=does, description=does)  # type: ignore[attr-defined]
    return one


def _file(command: ArgumentParser, name: str, tells: str, metavar: str | None = None) -> None:
    command.add_argument(name, type=Path, metavar=metavar or name.upper(), help=tells)


def _result(command: ArgumentParser, required: bool = True, tells: str = "The file to write.") -> None:
    command.add_argument("--out", type=Path, metavar="FILE", required=required, help=tells)


def _switch(command: ArgumentParser, name: str, tells: str) -> None:
    command.add_argument(name, action="store_true", help=tells)


def _text(command: ArgumentParser, name: str, tells: str, metavar: str = "NAME", **more: object) -> None:
    command.add_argument(name, metavar=metavar, help=tells, **more)  # type: ignore[arg-type]


def _which(command: ArgumentParser) -> None:
    """Which of several that a file may hold, and how it stands there."""
    _text(command, "--skeleton", SKELETON)
    _text(command, "--clip", CLIP)
    _axes(command)


def _axes(command: ArgumentParser) -> None:
    """Which axes of the source's file are up and ahead, where what is found is wrong."""
    _text(command, "--source-up", "The axis that is up in the source's file, such as Z; found without it.", "AXIS")
    _text(command, "--source-facing", "The axis that it faces at rest, such as -Y; found without it.", "AXIS")


def _result_options(command: ArgumentParser, written: bool = True) -> None:
    if written:
        _switch(command, "--overwrite", "Overwrite existing files.")
    command.add_argument("--json", dest="as_json", action="store_true", help="Print JSON instead of tables.")


def _motion_options(command: ArgumentParser) -> None:
    command.add_argument("--fps", type=_number, metavar="NUMBER", help=FPS)
    _text(command, "--range", "Frames A to B of the source, both included, from 0.", "A:B", dest="frames")
    _text(command, "--clip", CLIP)
    _axes(command)
    _body_options(command)


def _body_options(command: ArgumentParser) -> None:
    body = command.add_mutually_exclusive_group()
    tells = "Leave the body away; without this, meshes and skin are written where the rig has them and the format can hold them."
    body.add_argument("--motion-only", dest="body", action="store_false", default=None, help=tells)
    body.add_argument("--without-body", dest="body", action="store_false", default=None, help=SUPPRESS)
    body.add_argument(
        "--with-body", dest="body", action="store_true", default=None, help="Write meshes and skin, or nothing at all."
    )


def _number(text: str) -> float:
    """A number; its own name is what wrong ones are told with."""
    return float(text)


_number.__name__ = "number"


def _info(commands: object) -> None:
    does = (
        "Tell what a file holds: skeleton, joints, rate, frames, length, unit, axes, rest pose, body, facing, oddities."
    )
    command = _command(commands, "info", does)
    _file(command, "file", "A motion, a skeleton or a recording of markers.")
    _text(command, "--skeleton", SKELETON)
    _axes(command)
    _result_options(command, written=False)


def _contacts(commands: object) -> None:
    does = "Tell what the feet, hands, knees and the seat of a clip touch: frames, height over the floor, slide."
    command = _command(commands, "contacts", does)
    _file(command, "file", "A motion.")
    _which(command)
    _result_options(command, written=False)


def _solve(commands: object) -> None:
    does = "Solve a recording of markers into a take on a figure of the performer's own size; faulty markers are named."
    command = _command(commands, "solve", does)
    _file(command, "markers", "C3D, TRC, or a table of markers as CSV.")
    _result(command, tells="The take to write; its ending tells the format.")
    command.add_argument("--figure", type=Path, metavar="FILE", help="A saved figure of the performer to use.")
    command.add_argument(
        "--labels", type=Path, metavar="FILE", help="A saved labelling: which marker is on which segment."
    )
    command.add_argument("--save-figure", type=Path, metavar="FILE", help="Where to save the figure that was fitted.")
    command.add_argument(
        "--reference", type=Path, metavar="FILE", help="A recording of the performer in a T-pose, to fit the figure by."
    )
    _text(command, "--subject", "Whose markers to solve, of a recording of several performers.")
    _text(command, "--range", "Frames A to B of the recording, both included, from 0.", "A:B", dest="frames")
    command.add_argument("--fps", type=_number, metavar="NUMBER", help=FPS)
    _result_options(command)


def _retarget(commands: object) -> None:
    command = _command(commands, "retarget", "Carry the motion of SOURCE onto RIG: tie, match, transfer, bake, write.")
    _file(command, "source", "The motion, or a recording of markers.")
    _file(command, "rig", "Any file with a skeleton.")
    _result(command, tells="The file to write; its ending tells the format.")
    command.add_argument("--stringing", type=Path, metavar="FILE", help="A saved stringing to use.")
    command.add_argument(
        "--save-stringing", type=Path, metavar="FILE", help="Where to save the stringing that was used."
    )
    command.add_argument(
        "--onto-controls",
        action="store_true",
        help="Carry the motion over the rig's controls on the way; the bones stay the same.",
    )
    command.add_argument("--controls", type=Path, metavar="FILE", help="The set of controls for that (*.controls).")
    _travel(command)
    _transfer_options(command)
    _motion_options(command)
    _result_options(command)


def _controls(commands: object) -> None:
    command = _command(
        commands, "controls", "Tell which controls RIG gets, by what its bones were read as; write them to a file."
    )
    _file(command, "rig", "Any file with a skeleton.")
    command.add_argument("--controls", type=Path, metavar="FILE", help="A saved set instead, to be looked at on RIG.")
    _text(command, "--skeleton", "The skeleton whose root is called so, where the file has several.", "NAME")
    _result(command, False, "The set of controls to write (*.controls).")
    _result_options(command)


def _transfer_options(command: ArgumentParser) -> None:
    """What feet and hands do."""
    feet = command.add_mutually_exclusive_group()
    for word, setting, tells in (
        ("--pin", "planted", "Plant the feet where the source's stand; the usual where the proportions differ."),
        ("--no-pin", "free", "Leave the feet as the transfer puts them."),
    ):
        feet.add_argument(word, dest="feet", action="store_const", const=setting, help=tells)
    tells = (
        "What hands keep: their directions, their places, or what they touch; the usual where the proportions differ."
    )
    command.add_argument("--hands", choices=("directions", "places", "touch"), help=tells)


def _travel(command: ArgumentParser) -> None:
    """What of the travel stays, and what a root bone carries."""
    command.add_argument(
        "--in-place",
        metavar="AXES",
        nargs="?",
        const="x,z",
        help="Keep the hips over one spot: along x (sideways), z (ahead) or, without a word, both.",
    )
    _text(command, "--root", "What the root bone carries: none, or some of x,y,z,turn (x,z).", "PARTS")
    command.add_argument(
        "--root-smooth", type=_number, metavar="SECONDS", help="Smooth the root's path over so many seconds."
    )
    bone = command.add_mutually_exclusive_group()
    for word, value, tells in (
        ("--add-root", "add", "Add a root bone on the floor to a rig that has none."),
        ("--remove-root", "remove", "Take the root bone out; the hips carry its motion."),
    ):
        bone.add_argument(word, dest="root_bone", action="store_const", const=value, default="", help=tells)
    _text(
        command, "--object", "What stands over the rig's skeleton: keep, apply (taken into the motion) or reset.", "WHAT",
        choices=("keep", "apply", "reset"), default=None, dest="over",
    )  # fmt: skip
    command.add_argument(
        "--start", choices=("origin", "line"), help="Start over the origin, or over the grid line that runs ahead."
    )
    _switch(command, "--ahead", "Turn the motion so that it faces ahead in its first frame.")


def _match(commands: object) -> None:
    does = "Tie and match SOURCE and RIG, say how sure that is and what is left, and save the stringing."
    command = _command(commands, "match", does)
    _file(command, "source", "The motion, or its skeleton.")
    _file(command, "rig", "Any file with a skeleton.")
    _result(command, required=False, tells="The stringing file to write.")
    _axes(command)
    _result_options(command)


def _rename(commands: object) -> None:
    does = "Give the bones of FILE the names of a convention or of another rig; the motion stays as it is."
    command = _command(commands, "rename", does)
    _file(command, "file", "A motion, a skeleton or a recording of markers.")
    _text(command, "--names", "vrm, h-anim, or a file whose skeleton has the names.", "NAMES", required=True)
    _result(command)
    _result_options(command)


def _words(commands: object) -> None:
    does = "Show your own words for bones, which names of bones are read with beside the built-in ones; add or forget some."
    command = _command(commands, "words", does)
    which = command.add_mutually_exclusive_group()
    which.add_argument("--add", nargs="+", metavar="WORD", help="A part of the body, left or right, then words for it.")
    which.add_argument("--forget", nargs="+", metavar="WORD", help="Words to take out.")
    _result_options(command, written=False)


def _convert(commands: object) -> None:
    does = "Write what IN holds in another format; motion, timing and names stay unless asked otherwise."
    command = _command(commands, "convert", does)
    _file(command, "file", "A motion, or a character.", "IN")
    _file(command, "out", "The file to write; its ending tells the format.", "OUT")
    _text(command, "--unit", "m, cm, mm, in, ft or dm: the unit of the result.", "UNIT")
    _text(command, "--up", "Y or Z: the axis that is up in the result.", "AXIS")
    _text(command, "--skeleton", SKELETON)
    _motion_options(command)
    _result_options(command)


def _filter(commands: object) -> None:
    does = (
        "Clean the motion of IN: take out spikes, smooth jitter; timing stays, and planted feet stay planted. "
        "Without a choice: spikes, then a low-pass whose cut-offs the motion asks for."
    )
    command = _command(commands, "filter", does)
    _file(command, "file", "A motion.", "IN")
    _result(command, tells="The file to write; its ending tells the format.")
    _switch(command, "--spikes", "Take out spikes: single frames that stand apart.")
    _text(command, "--low-pass", "Cut-off in hertz, or auto for what each joint asks for.", "HZ|auto")
    _text(command, "--smooth", "Smooth and keep accents (auto), or a Gaussian of so many seconds.", "auto|SECONDS")
    _text(command, "--joints", "Joints and morphs whose names are like this, with * and ?.", "PATTERN")
    _text(command, "--channels", "Some of rotation,position,morph; all without it.", "KINDS")
    _text(command, "--range", "Frames A to B, both included, from 0; the rest stays.", "A:B", dest="frames")
    kept = command.add_mutually_exclusive_group()
    kept.add_argument(
        "--keep-contacts",
        dest="keep",
        action="store_true",
        default=True,
        help="Keep what stands or holds in its place (usual).",
    )
    kept.add_argument(
        "--no-keep-contacts",
        dest="keep",
        action="store_false",
        help="Let feet and hands go where the filter moves them.",
    )
    _which(command)
    _result_options(command)


def _thin(commands: object) -> None:
    does = "Turn the motion of IN, with a key on every frame, into few poses with curves between, within a tolerance."
    command = _command(commands, "thin", does)
    _file(command, "file", "A motion.", "IN")
    _result(command, tells="The file to write; GLB and glTF hold the keys, other formats get a key on every frame.")
    command.add_argument("--within", type=_number, metavar="CM", default=1.0, help="How far any joint may be off (1).")
    command.add_argument(
        "--angle",
        type=_number,
        metavar="DEG",
        help="How far any joint may be turned off (5 for each cm, 5 to 20).",
    )
    command.add_argument(
        "--contacts", type=_number, metavar="CM", help="How far what stands or is held may be off (0.3)."
    )
    command.add_argument(
        "--weights", type=_number, metavar="W", default=0.02, help="How far any morph may be off (0.02)."
    )
    tells = (
        "Some of contacts,keys,joints: keys where contacts change, further keys, which joints are held; all without it."
    )
    _text(command, "--stage", tells, "STAGES")
    _text(command, "--range", "Frames A to B, both included, from 0; the rest keeps its keys.", "A:B", dest="frames")
    _which(command)
    _result_options(command)


def _adjust(commands: object) -> None:
    does = (
        "Change the motion of IN by a few numbers, all through or in a range: hips, head, arms, a lean, single bones."
    )
    command = _command(commands, "adjust", does)
    _file(command, "file", "A motion.", "IN")
    _result(command, tells="The file to write; its ending tells the format.")
    for name, metavar, tells in (
        ("--hips-up", "CM", "Raise the hips, or with less than 0 lower them; no leg gets longer than it is."),
        ("--look-up", "DEG", "Turn the head up, or with less than 0 down."),
        ("--arms-wider", "DEG", "Take both arms away from the body."),
        ("--lean", "DEG", "Lean ahead from the hips up, or with less than 0 back."),
    ):
        command.add_argument(name, type=_number, metavar=metavar, default=0.0, help=tells)
    command.add_argument(
        "--turn",
        action="append",
        metavar="BONE=X,Y,Z",
        help="Turn a bone by degrees about its own axes; may be repeated.",
    )
    _text(command, "--range", "Frames A to B, both included, from 0; the rest stays.", "A:B", dest="frames")
    command.add_argument(
        "--ease",
        type=_number,
        metavar="SECONDS",
        default=0.3,
        help="Over which it comes and goes beside the range (0.3).",
    )
    planted = command.add_mutually_exclusive_group()
    planted.add_argument(
        "--planted", dest="keep", action="store_true", default=True, help="Feet stay where they are (usual)."
    )
    planted.add_argument("--free", dest="keep", action="store_false", help="Feet go where the hips take them.")
    _which(command)
    _result_options(command)


def _of_one(commands: object, name: str, does: str) -> ArgumentParser:
    """A command that makes of one motion another one, as a whole."""
    command = _command(commands, name, does)
    _file(command, "file", "A motion.", "IN")
    _result(command, tells="The file to write; its ending tells the format.")
    _which(command)
    _result_options(command)
    return command


def _mirror(commands: object) -> None:
    _of_one(commands, "mirror", "Change left and right of the motion of IN over, also on uneven rigs.")


def _retime(commands: object) -> None:
    command = _of_one(commands, "retime", "Make the motion of IN quicker or slower, at the same frame rate.")
    tells = "2 is twice as quick, 0.5 half as quick."
    command.add_argument("--speed", type=_number, metavar="FACTOR", required=True, help=tells)


def _join(commands: object) -> None:
    does = "Join two motions of one rig: B goes on where A is then, on the same foot, without sliding feet."
    command = _command(commands, "join", does)
    _file(command, "first", "A motion.", "A")
    _file(command, "second", "A motion of the same rig.", "B")
    _result(command, tells="The file to write; its ending tells the format.")
    command.add_argument(
        "--blend", type=_number, metavar="SECONDS", default=0.4, help="Over which A is led over into B (0.4)."
    )
    _text(command, "--at", "Frames of A and of B where that begins; without it, where they are most alike.", "A:B")
    _text(command, "--skeleton", SKELETON)
    _axes(command)
    _result_options(command)


def _batch(commands: object) -> None:
    does = "Deliver many clips onto one or more rigs, over all cores; one bad clip never stops the rest."
    command = _command(commands, "batch", does)
    command.add_argument(
        "sources", type=Path, nargs="+", metavar="CLIPS_OR_FOLDERS", help="Motion files, and folders of them."
    )
    _delivery_options(command)
    _switch(command, "--resume", "Do only what an earlier run into the same folder has not done.")
    _switch(command, "--dry-run", "Look at everything, tell what would be written, and write nothing.")
    command.add_argument("--report", type=Path, metavar="FILE.html", help="Write a report with numbers and pictures.")
    _result_options(command)


def _delivery_options(command: ArgumentParser) -> None:
    """What clips are delivered onto, where to, and how."""
    command.add_argument(
        "--rig",
        type=Path,
        action="append",
        metavar="RIG",
        default=[],
        dest="rigs",
        help="A rig; may be given again. Needed unless the recipe names rigs.",
    )
    command.add_argument("--out", type=Path, metavar="DIR", required=True, help="The folder for the results.")
    command.add_argument(
        "--stringing", type=Path, action="append", default=[], metavar="FILE", dest="stringings",
        help="A saved stringing; may be given again. Clips that none of them fits are left out.",
    )  # fmt: skip
    command.add_argument(
        "--recipe", type=Path, metavar="FILE", help="A saved recipe; what else is given here counts more."
    )
    command.add_argument("--save-recipe", type=Path, metavar="FILE", help="Save what is asked for as a recipe.")
    _text(
        command, "--format", "bvh, glb, gltf, usda, usdc, usdz or vrma; that of the rig's file without it.", "FORMATS"
    )
    _text(command, "--name", "Names of files, of {clip}, {rig}, {source}, {date}, {number} ({clip}_{rig}).", "TEMPLATE")
    command.add_argument("--fps", type=_number, metavar="NUMBER", help=FPS)
    _text(command, "--range", "Frames A to B of each clip, both included, from 0.", "A:B", dest="frames")
    _switch(command, "--from-zero", "Start every result at frame zero.")
    _text(command, "--unit", "m, cm, mm, in, ft or dm: the unit of the results.", "UNIT")
    _text(command, "--up", "Y or Z: the axis that is up in the results.", "AXIS")
    _text(command, "--bones", "vrm, h-anim, or a file whose skeleton has the names.", "NAMES")
    _switch(command, "--no-prefix", "Leave out what all bone names begin with.")
    _switch(command, "--no-ends", "Leave out bones that only end the bone above.")
    _switch(command, "--one-file", "All clips of a rig as the animations of one GLB or glTF file.")
    _switch(command, "--subfolders", "Keep the subfolders that the clips lie in.")
    _axes(command)
    _body_options(command)
    _travel(command)
    _transfer_options(command)
    command.add_argument("--jobs", type=_whole, metavar="N", help="Worker processes (one for each core).")
    _text(command, "--cluster", "Let the workers of a Dask scheduler do it; all see the same folders.", "ADDRESS")


def _watch(commands: object) -> None:
    does = "Deliver motion files that arrive in a folder: each once, when it is completely written."
    command = _command(commands, "watch", does)
    _file(command, "folder", "The folder to watch, with all in it.")
    _delivery_options(command)
    _switch(command, "--once", "Deliver what is there now, and end.")
    command.add_argument("--overwrite", action="store_true", help="Overwrite existing files.")


def _completion(commands: object) -> None:
    command = _command(commands, "completion", "Print what lets a shell complete the words of this command line.")
    command.add_argument("shell", choices=("bash", "zsh", "tcsh"), help="Which shell.")


def _whole(text: str) -> int:
    """A number of processes; its own name is what wrong ones are told with."""
    number = int(text)
    if not 0 < number <= 1024:
        raise ValueError
    return number


_whole.__name__ = "number"


def _demo(commands: object) -> None:
    does = "Play the full example on the demo show: read, tie, match, transfer, bake, write, and a short report."
    command = _command(commands, "demo", does)
    command.add_argument(
        "--out", type=Path, metavar="FOLDER", default=Path("quillmouth"), help="The folder for the show's files."
    )
