"""Drawing the stage with OpenGL into a picture, through an EGL context of its own."""

from __future__ import annotations

from functools import partial

import moderngl
import numpy as np

from ..core.scene.figure import MARIONETTE, PERFORMER, ball_matrices, spindle_matrices
from ..core.turning import turned
from . import shapes
from .dress import Dresser
from .flushing import flusher
from .palette import NIGHT, OF_KIND

_SHADOW_SIZE, _SHADOW_REACH = 384, 3.2
SEEN_THROUGH = 0.42
_THIN = 0.0145  # metres; what is thinner is drawn in fewer corners while things move

_FLOOR_VERTEX = """#version 330
in vec2 place; out vec3 world; uniform mat4 view; uniform vec3 centre; uniform float reach;
void main() { world = vec3(place.x * reach + centre.x, 0.0, place.y * reach + centre.z); gl_Position = view * vec4(world, 1.0); }"""
_FLOOR_FRAGMENT = """#version 330
in vec3 world; out vec4 colour; uniform vec3 eye; uniform vec3 centre; uniform float reach; uniform vec3 ground; uniform vec3 line;
float lines(vec2 p, vec2 f, float width) { vec2 d = abs(fract(p - 0.5) - 0.5) / f;
  return (1.0 - min(min(d.x, d.y) / width, 1.0)) * clamp(1.5 - 1.667 * max(f.x, f.y), 0.0, 1.0); }
void main() {
  vec2 off = world.xz - centre.xz; float away = dot(off, off);
  if (away > reach * reach) discard;
  float far = 1.0 - smoothstep(0.06, 1.0, away / (reach * reach)); float pool = 1.0 / (1.0 + away * away * 0.012 + away * 0.11);
  vec2 f = max(fwidth(world.xz), vec2(1e-5));
  vec3 c = ground + pool * vec3(0.165, 0.130, 0.080);
  c = mix(c, line, 0.30 * lines(world.xz * 2.0, f * 2.0, 1.0) + 0.75 * lines(world.xz, f, 1.3));
  vec2 axis = abs(world.xz) / f;
  c = mix(c, line * 1.6, 0.7 * (1.0 - min(min(axis.x, axis.y) / 1.6, 1.0)));
  colour = vec4(c, far * smoothstep(0.0, 0.06, abs(eye.y) / length(eye - world)));
}"""
# The shadow lies over the finished floor, so that the floor can be kept while only figures move.
_SHADE_VERTEX = """#version 330
in vec2 place; out vec3 world; uniform mat4 view; uniform vec4 bounds;
void main() { world = vec3(mix(bounds.xy, bounds.zw, place * 0.5 + 0.5), 0.0).xzy; gl_Position = view * vec4(world, 1.0); }"""
_SHADE_FRAGMENT = """#version 330
in vec3 world; out vec4 colour; uniform vec3 shadow_centre; uniform float shadow_reach; uniform sampler2D shadow; uniform bool soft;
void main() {
  vec2 s = (world.xz - shadow_centre.xz) / (2.0 * shadow_reach) + 0.5;
  float d = 1.6 / 384.0; float dark = texture(shadow, s).r;
  if (soft) dark = 0.36 * dark + 0.16 * (texture(shadow, s + vec2(d, 0)).r + texture(shadow, s - vec2(d, 0)).r + texture(shadow, s + vec2(0, d)).r + texture(shadow, s - vec2(0, d)).r);
  if (dark <= 0.0) discard;
  colour = vec4(0.0, 0.0, 0.0, 0.86 * min(dark, 1.0)); }"""
_FIGURE_VERTEX = """#version 330
in vec3 place; in vec3 normal; in vec4 row0; in vec4 row1; in vec4 row2; in vec4 tint;
out vec3 n; out vec3 world; out vec4 paint; out vec3 own; uniform mat4 view;
void main() {
  vec4 p = vec4(place, 1.0); world = vec3(dot(row0, p), dot(row1, p), dot(row2, p));
  mat3 m = transpose(mat3(row0.xyz, row1.xyz, row2.xyz));
  vec3 s = vec3(dot(m[0], m[0]), dot(m[1], m[1]), dot(m[2], m[2]));
  n = m * (normal / max(s, vec3(1e-12))); paint = tint; own = place; gl_Position = view * vec4(world, 1.0); }"""
_FIGURE_FRAGMENT = """#version 330
in vec3 n; in vec3 world; in vec4 paint; in vec3 own; out vec4 colour; uniform vec3 eye;
void main() {
  vec3 N = normalize(n); vec3 V = normalize(eye - world); if (dot(N, V) < 0.0) N = -N;
  float key = max(dot(N, vec3(0.42054, 0.74763, 0.51400)), 0.0);
  float sky = 0.5 + 0.5 * N.y; float rim = 1.0 - max(dot(N, V), 0.0); rim = rim * rim * rim;
  float k = key * key; k *= k; k *= k; float gloss = k * k * k;
  float grain = 0.965 + 0.035 * sin(own.y * 46.0 + 5.0 * own.x);
  vec3 c = paint.rgb * grain * (0.30 + 0.26 * sky + 0.62 * key) + vec3(1.0, 0.93, 0.78) * (0.10 * rim + 0.16 * gloss);
  colour = vec4(c, paint.a); }"""
_SHADOW_VERTEX = """#version 330
in vec3 place; in vec4 row0; in vec4 row1; in vec4 row2; in vec4 tint; out float dark;
uniform vec3 centre; uniform float reach;
void main() { vec4 p = vec4(place, 1.0); vec3 w = vec3(dot(row0, p), dot(row1, p), dot(row2, p));
  dark = tint.a * (0.30 + 0.70 * (1.0 - smoothstep(0.0, 0.35, w.y))) * (1.0 - smoothstep(0.2, 2.6, w.y));
  vec2 s = (w.xz - vec2(0.18, 0.22) * w.y - centre.xz) / reach; gl_Position = vec4(s, 0.0, 1.0); }"""
_SHADOW_FRAGMENT = "#version 330\nin float dark; out vec4 colour; void main() { colour = vec4(dark, 0, 0, 1); }"
_LINE_VERTEX = """#version 330
in vec3 place; in vec4 tint; out vec4 paint; uniform mat4 view; void main() { paint = tint; gl_Position = view * vec4(place, 1.0); }"""
_LINE_FRAGMENT = "#version 330\nin vec4 paint; out vec4 colour; void main() { colour = paint; }"


_COLOURS = {name: np.array([int(value[i : i + 2], 16) / 255 for i in (1, 3, 5)]) for name, value in NIGHT.items()}


def _rgb(name):
    return _COLOURS[name]


def _dressed(figure):
    return figure.shows_body


def _covers(figure):
    return not (figure.ghost or figure.faint or figure.dress == "through")


def _look_of(figure):
    """What decides how a figure looks, to be compared."""
    return (
        figure.kind, figure.dress, figure.ghost, figure.faint, figure.chosen, figure.size, id(figure.character),
        id(figure.bones), figure.placed.tobytes(), figure.rotations.tobytes(), tuple(sorted(figure.weights.items())),
        tuple((joint, np.asarray(factors).tobytes()) for joint, factors in sorted(figure.factors.items())),
    )  # fmt: skip


def _colour_of(figure):
    return _rgb(OF_KIND[figure.kind])


def _renew(buffer, data):
    """Fill a buffer anew, in storage that nothing drawn before still uses."""
    raw = data.tobytes()
    buffer.orphan(len(raw) * 2 if buffer.size < len(raw) else buffer.size)
    buffer.write(raw)


class Renderer:
    """Draws figures into pictures. Raises (any moderngl error) where no OpenGL context can be had."""

    def __init__(self):
        self.context = moderngl.create_context(standalone=True, backend="egl")
        programs = (
            (_FLOOR_VERTEX, _FLOOR_FRAGMENT),
            (_FIGURE_VERTEX, _FIGURE_FRAGMENT),
            (_SHADOW_VERTEX, _SHADOW_FRAGMENT),
            (_LINE_VERTEX, _LINE_FRAGMENT),
            (_SHADE_VERTEX, _SHADE_FRAGMENT),
        )
        self._floor, self._figure, self._shadow, self._line, self._shade = (
            self.context.program(vertex_shader=v, fragment_shader=f) for v, f in programs
        )
        square = self.context.buffer(np.array([-1, -1, 1, -1, -1, 1, 1, 1], "f4").tobytes())
        self._floor_array, self._shade_array = (
            self.context.vertex_array(program, [(square, "2f", "place")]) for program in (self._floor, self._shade)
        )
        self._kept_floors, self._last = {}, {}
        self._meshes = {
            name: tuple(self.context.buffer(part.tobytes()) for part in turned(profile, sides))
            for name, profile, sides in (
                ("fine baluster", shapes.BALUSTER, 11),
                ("fine spindle", shapes.SPINDLE, 10),
                ("fine egg", shapes.EGG, 15),
                ("fine ball", shapes.BALL, 10),
                ("baluster", shapes.BALUSTER, 7),
                ("spindle", shapes.SPINDLE, 6),
                ("egg", shapes.EGG, 10),
                ("ball", shapes.BEAD, 7),
                ("plain", shapes.PLAIN, 5),
                ("bead", shapes.BEAD, 5),
            )
        }
        self._instances = self.context.buffer(reserve=1 << 16, dynamic=True)
        self._arrays = {}
        self._lines = self.context.buffer(reserve=1 << 16, dynamic=True)
        self._line_array = self.context.vertex_array(self._line, [(self._lines, "3f 4f", "place", "tint")])
        self._shadow_map = self.context.texture((_SHADOW_SIZE, _SHADOW_SIZE), 1)
        self._shadow_target = self.context.framebuffer([self._shadow_map])
        self._targets = {}
        self._dresser, self._flush = Dresser(self.context), flusher()

    def describe(self):
        """What draws, in a few words."""
        return self.context.info["GL_RENDERER"]

    def _target(self, size, fine):
        key = (size, fine)
        if key not in self._targets:
            # Quick and smooth pictures are asked for in turn, each of one size; other sizes are not any more.
            for old in [k for k in self._targets if k[1] == fine]:
                for part in self._targets.pop(old):
                    part.release()
                self._kept_floors.pop(old[1], None)
            self._kept_floors.pop(fine, None)
            samples = 4 if fine else 0
            parts = []
            for _ in ("picture", "floor alone"):
                colour, depth = (
                    self.context.renderbuffer(size, 4, samples=samples),
                    self.context.depth_renderbuffer(size, samples=samples),
                )
                parts += [self.context.framebuffer(colour, depth), colour, depth]
            parts.append(self.context.simple_framebuffer(size, 4) if fine else parts[0])
            self._targets[key] = parts
        parts = self._targets[key]
        return parts[0], parts[3], parts[-1]

    def draw(self, size, pose, figures, lines=(), fine=False):
        """A picture of ``size (width, height)`` pixels, seen from a camera pose, see ``taken``.

        ``lines``: ``(points, rgba)``.
        """
        return self.begin(size, pose, figures, lines, fine)()

    def begin(self, size, pose, figures, lines=(), fine=False):
        """Begin with a picture, see ``draw``: what gives it once it is needed. A driver that draws on other cores does so meanwhile."""
        size = (max(size[0], 2), max(size[1], 2))
        view = pose.matrix(size[0] / size[1])
        parts = {id(figure): list(_figure_batches(figure, fine)) for figure in figures}
        centre = np.mean([f.placed.mean(0) for f in figures], axis=0) if figures else np.zeros(3)
        self._draw_shadows(_batches(figures, parts), centre)
        target, floor, result = self._target(size, fine)
        # Rows of a picture run down, those of OpenGL up: the projection is flipped instead of the pixels.
        flipped = (np.diag([1.0, -1.0, 1.0, 1.0]) @ view).T.astype("f4").tobytes()
        self.context.enable(moderngl.BLEND)
        self.context.disable(moderngl.CULL_FACE)
        self.context.enable(moderngl.DEPTH_TEST)
        still, moving = ([], figures) if fine else self._parted(figures)
        if self._kept_floors.get(fine) != (key := (size, flipped, *map(_look_of, still))):
            floor.use()
            floor.clear(*_rgb("base") * 0.82, 1.0, depth=1.0)
            self._draw_floor(flipped, pose)
            self._draw_figures(still, parts, flipped, pose, fine)
            self._kept_floors[fine] = key
        self.context.copy_framebuffer(target, floor)
        target.use()
        if figures:
            self._draw_shade(flipped, figures, fine, target, bool(still))
        self._draw_figures(moving, parts, flipped, pose, fine)
        self._draw_lines(
            flipped, [*lines, *(line for f in figures if f.kind == MARIONETTE and not f.ghost for line in _strings(f))]
        )
        if fine:
            self.context.copy_framebuffer(result, target)
        self.context.disable(moderngl.DEPTH_TEST)
        self._flush()
        return partial(self.taken, result, size)

    def _parted(self, figures):
        """``(the first of them that look as in the last quick picture, all others)``: where one figure is dragged, those before it
        are kept with the floor. What is seen through is painted over all else, so it is drawn each time.
        """
        looks = [_look_of(f) for f in figures]
        # The figures are kept too, so that their bodies' places in memory stay their own.
        last, self._last = self._last, dict(zip(looks, figures))
        still = 0
        while still < len(figures) and looks[still] in last and _covers(figures[still]):
            still += 1
        return figures[:still], figures[still:]

    def _draw_figures(self, figures, parts, view, pose, fine):
        self._figure["view"].write(view)
        self._figure["eye"].value = tuple(pose.eye)
        # Turned shapes are closed: their far sides need not be painted. Pictures are drawn upside down.
        self.context.front_face = "cw"
        self.context.enable(moderngl.CULL_FACE)
        for mesh, data in _batches([f for f in figures if f.shows_bones], parts):
            self._draw_batch(self._figure, mesh, data)
        self.context.disable(moderngl.CULL_FACE)
        for figure in filter(_dressed, figures):
            alpha = SEEN_THROUGH if figure.dress == "through" else 1.0
            self._dresser.draw(figure, view, pose.eye, _rgb("brass"), _colour_of(figure), alpha, fine)

    def taken(self, result, size):
        """What was drawn into a framebuffer, as bytes: red, green, blue and one more for each pixel, from the upper left."""
        return result.read(components=4)

    def _draw_floor(self, view, pose):
        reach = max(9.0, pose.distance * 1.6)
        self._floor["view"].write(view)
        for name, value in (
            ("eye", pose.eye),
            ("centre", (pose.target[0], 0.0, pose.target[2])),
            ("ground", _rgb("base") * 1.02),
            ("line", _rgb("line") * 0.92),
        ):
            self._floor[name].value = tuple(value)
        self._floor["reach"].value = reach
        self._floor_array.render(moderngl.TRIANGLE_STRIP)

    def _draw_shade(self, view, figures, fine, target, behind):
        """The shadows on the floor, no further than the figures may throw any; ``behind`` figures that are drawn already."""
        places = np.concatenate([f.placed for f in figures])
        # The light slants: what is high throws its shadow to one side.
        cast = places[:, [0, 2]] - np.array([0.18, 0.22]) * np.maximum(places[:, 1:2], 0)
        self._shade["view"].write(view)
        self._shade["soft"].value = fine
        self._shade["bounds"].value = (*(cast.min(0) - 0.3), *(cast.max(0) + 0.3))
        self._shade["shadow_centre"].value, self._shade["shadow_reach"].value = (
            tuple(self._shadow_centre),
            self._shadow_reach,
        )
        self._shadow_map.use(0)
        if not behind:
            self.context.disable(moderngl.DEPTH_TEST)
        target.depth_mask, self.context.polygon_offset = (
            False,
            (-1.0, -4.0),
        )  # a little before the floor that it lies on
        self._shade_array.render(moderngl.TRIANGLE_STRIP)
        target.depth_mask, self.context.polygon_offset = True, (0.0, 0.0)
        self.context.enable(moderngl.DEPTH_TEST)

    def _draw_shadows(self, batches, centre):
        self._shadow_centre, self._shadow_reach = centre, _SHADOW_REACH
        self._shadow_target.use()
        self._shadow_target.clear(0, 0, 0, 0)
        self.context.disable(moderngl.DEPTH_TEST)
        self.context.enable(moderngl.BLEND)
        self.context.blend_equation = moderngl.MAX
        self._shadow["centre"].value, self._shadow["reach"].value = tuple(centre), _SHADOW_REACH
        limbs = [data for mesh, data in batches if not mesh.endswith(("ball", "bead"))]
        if limbs:
            self._draw_batch(self._shadow, "plain", np.concatenate(limbs))
        self.context.blend_equation = moderngl.FUNC_ADD

    def _draw_batch(self, program, mesh, data):
        _renew(self._instances, data.astype("f4"))
        key = (program, mesh)
        if key not in self._arrays:
            # Shadows have no use for normals, and a program lacks what it does not use.
            vertex = ("3f 12x", "place") if program is self._shadow else ("3f 3f", "place", "normal")
            self._arrays[key] = self.context.vertex_array(
                program,
                [(self._meshes[mesh][0], *vertex), (self._instances, "4f 4f 4f 4f/i", "row0", "row1", "row2", "tint")],
                self._meshes[mesh][1],
            )
        self._arrays[key].render(moderngl.TRIANGLES, instances=len(data))

    def _draw_lines(self, view, lines):
        """All lines in one go: each write to a buffer in use would make the driver wait."""
        pairs = []
        for points, tints in lines:
            strip = np.concatenate([points, np.broadcast_to(tints, (len(points), 4))], 1)
            pairs.append(np.stack([strip[:-1], strip[1:]], 1).reshape(-1, 7))
        if not pairs:
            return
        data = np.concatenate(pairs).astype("f4")
        _renew(self._lines, data)
        self._line["view"].write(view)
        self._line_array.render(moderngl.LINES, vertices=len(data))


def _batches(figures, parts):
    """``(mesh, rows)`` of all figures together, of ``parts {id(figure): [(mesh, matrices, tints)]}``; what is seen through last."""
    gathered = {}
    for figure in sorted(figures, key=lambda f: f.ghost or f.faint):
        for mesh, matrices, tints in parts[id(figure)]:
            gathered.setdefault(mesh, []).append(np.concatenate([matrices.reshape(-1, 12), tints], 1))
    return [(mesh, np.concatenate(rows)) for mesh, rows in gathered.items()]


def _figure_batches(figure, fine):
    """``(mesh, matrices, tints)`` of a figure's spindles, head and balls; in fewer corners unless ``fine``."""
    bones = figure.bones
    if not len(bones.start) and not len(bones.balls):
        return
    starts, ends = figure.segments()
    base = _colour_of(figure)
    alpha = 0.35 if figure.ghost or figure.faint else 1.0
    tints = np.tile([*base, alpha], (len(starts), 1))
    lit = np.tile([*(base * 0.72 + 0.28 * _rgb("text")), alpha], (len(bones.balls), 1))
    if figure.chosen:
        tints[np.isin(bones.start, figure.chosen), :3] = _rgb("brass")
        lit[np.isin(bones.balls, figure.chosen), :3] = _rgb("brass")
    head = bones.heads
    slim = 0.8 if figure.kind == PERFORMER else 1.0
    matrices = spindle_matrices(starts, ends, np.where(head, 1.25, slim) * bones.radius)
    sizes = bones.joint_radius[bones.balls]
    balls = ball_matrices(figure.placed[bones.balls], sizes * slim)
    thin, small = ~head & (bones.radius < _THIN) & (not fine), (sizes < _THIN) & (not fine)
    level = "fine " if fine else ""
    limb = level + ("spindle" if figure.kind == PERFORMER else "baluster")
    for mesh, picked in ((limb, ~head & ~thin), ("plain", thin), (level + "egg", head)):
        if picked.any():
            yield mesh, matrices[picked], tints[picked]
    for mesh, picked in ((level + "ball", ~small), ("bead", small)):
        if picked.any():
            yield mesh, balls[picked], lit[picked]


def _strings(figure):
    """A marionette's strings: from head and hands upwards, fading."""
    for joint in figure.hands:
        start = figure.placed[joint]
        points = np.array([start, start + [0, 0.45, 0], start + [0, 1.3, 0]])
        tint = np.tile([*_rgb("text"), 0.0], (3, 1))
        tint[:, 3] = (0.55, 0.3, 0.0)
        yield points, tint
