"""Drawing the stage with OpenGL into a picture, through an EGL context of its own."""

from __future__ import annotations

import moderngl
import numpy as np
from PySide6.QtGui import QImage

from ..theme import NIGHT
from . import shapes
from .figure import BAKED, MARIONETTE, PERFORMER, ball_matrices, spindle_matrices

_SHADOW_SIZE, _SHADOW_REACH = 384, 3.2

_FLOOR_VERTEX = """#version 330
in vec2 place; out vec3 world; uniform mat4 view; uniform vec3 centre; uniform float reach;
void main() { world = vec3(place.x * reach + centre.x, 0.0, place.y * reach + centre.z); gl_Position = view * vec4(world, 1.0); }"""
_FLOOR_FRAGMENT = """#version 330
in vec3 world; out vec4 colour; uniform vec3 eye; uniform vec3 centre; uniform float reach; uniform vec3 ground; uniform vec3 line;
uniform vec3 shadow_centre; uniform float shadow_reach; uniform sampler2D shadow;
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
  vec2 s = (world.xz - shadow_centre.xz) / (2.0 * shadow_reach) + 0.5;
  if (s.x > 0.0 && s.x < 1.0 && s.y > 0.0 && s.y < 1.0) {
    float d = 1.6 / 384.0; float dark = 0.36 * texture(shadow, s).r;
    dark += 0.16 * (texture(shadow, s + vec2(d, 0)).r + texture(shadow, s - vec2(d, 0)).r + texture(shadow, s + vec2(0, d)).r + texture(shadow, s - vec2(0, d)).r);
    c *= 1.0 - 0.86 * min(dark, 1.0); }
  colour = vec4(c, far * smoothstep(0.0, 0.06, abs(eye.y) / length(eye - world)));
}"""
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
  float key = max(dot(N, normalize(vec3(0.45, 0.8, 0.55))), 0.0);
  float sky = 0.5 + 0.5 * N.y; float rim = pow(1.0 - max(dot(N, V), 0.0), 3.0);
  float grain = 0.965 + 0.035 * sin(own.y * 46.0 + 5.0 * own.x);
  vec3 c = paint.rgb * grain * (0.30 + 0.26 * sky + 0.62 * key) + vec3(1.0, 0.93, 0.78) * (0.10 * rim + 0.16 * pow(key, 24.0));
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


def _rgb(name):
    value = NIGHT[name].lstrip("#")
    return np.array([int(value[i : i + 2], 16) / 255 for i in (0, 2, 4)])


class Renderer:
    """Draws figures into a QImage. Raises (any moderngl error) where no OpenGL context can be had."""

    def __init__(self):
        self.context = moderngl.create_context(standalone=True, backend="egl")
        programs = (
            (_FLOOR_VERTEX, _FLOOR_FRAGMENT),
            (_FIGURE_VERTEX, _FIGURE_FRAGMENT),
            (_SHADOW_VERTEX, _SHADOW_FRAGMENT),
            (_LINE_VERTEX, _LINE_FRAGMENT),
        )
        self._floor, self._figure, self._shadow, self._line = (
            self.context.program(vertex_shader=v, fragment_shader=f) for v, f in programs
        )
        square = self.context.buffer(np.array([-1, -1, 1, -1, -1, 1, 1, 1], "f4").tobytes())
        self._floor_array = self.context.vertex_array(self._floor, [(square, "2f", "place")])
        self._meshes = {
            name: tuple(self.context.buffer(part.tobytes()) for part in shapes.turned(profile, sides))
            for name, profile, sides in (
                ("baluster", shapes.BALUSTER, 9),
                ("spindle", shapes.SPINDLE, 8),
                ("egg", shapes.EGG, 13),
                ("ball", shapes.BALL, 8),
                ("plain", shapes.PLAIN, 5),
            )
        }
        self._instances = self.context.buffer(reserve=1 << 16, dynamic=True)
        self._arrays = {}
        self._lines = self.context.buffer(reserve=1 << 16, dynamic=True)
        self._line_array = self.context.vertex_array(self._line, [(self._lines, "3f 4f", "place", "tint")])
        self._shadow_map = self.context.texture((_SHADOW_SIZE, _SHADOW_SIZE), 1)
        self._shadow_target = self.context.framebuffer([self._shadow_map])
        self._targets = {}

    def describe(self):
        """What draws, in a few words."""
        return self.context.info["GL_RENDERER"]

    def _target(self, size, fine):
        key = (size, fine)
        if key not in self._targets:
            for old in self._targets.values():
                for part in old:
                    part.release()
            self._targets = {}
            samples = 4 if fine else 0
            parts = [
                self.context.renderbuffer(size, 4, samples=samples),
                self.context.depth_renderbuffer(size, samples=samples),
            ]
            parts.append(self.context.framebuffer(parts[0], parts[1]))
            if fine:
                parts.append(self.context.simple_framebuffer(size, 4))
            self._targets[key] = parts
        parts = self._targets[key]
        return parts[2], parts[-1]

    def draw(self, size, pose, figures, lines=(), fine=False):
        """A picture of ``size (width, height)`` pixels, seen from a camera pose. ``lines``: ``(points, rgba)``."""
        size = (max(size[0], 2), max(size[1], 2))
        view = pose.matrix(size[0] / size[1])
        batches = self._batches(figures)
        centre = np.mean([f.placed.mean(0) for f in figures], axis=0) if figures else np.zeros(3)
        self._draw_shadows(batches, centre)
        target, result = self._target(size, fine)
        target.use()
        # Rows of a picture run down, those of OpenGL up: the projection is flipped instead of the pixels.
        flipped = (np.diag([1.0, -1.0, 1.0, 1.0]) @ view).T.astype("f4").tobytes()
        target.clear(*_rgb("base") * 0.82, 1.0, depth=1.0)
        self.context.enable(moderngl.BLEND)
        self.context.disable(moderngl.CULL_FACE)
        self.context.enable(moderngl.DEPTH_TEST)
        self._figure["view"].write(flipped)
        self._figure["eye"].value = tuple(pose.eye)
        for mesh, data in batches:
            self._draw_batch(self._figure, mesh, data)
        # The floor after the figures: what they hide of it need not be painted.
        self._draw_floor(flipped, pose, centre)
        self._draw_lines(
            flipped, [*lines, *(line for f in figures if f.kind == MARIONETTE and not f.ghost for line in _strings(f))]
        )
        if fine:
            self.context.copy_framebuffer(result, target)
        self.context.disable(moderngl.DEPTH_TEST)
        pixels = result.read(components=4)
        return QImage(pixels, size[0], size[1], size[0] * 4, QImage.Format.Format_RGBX8888).copy()

    def _draw_floor(self, view, pose, centre):
        reach = max(9.0, pose.distance * 1.6)
        self._floor["view"].write(view)
        for name, value in (
            ("eye", pose.eye),
            ("centre", centre),
            ("ground", _rgb("base") * 1.02),
            ("line", _rgb("line") * 0.92),
            ("shadow_centre", self._shadow_centre),
        ):
            self._floor[name].value = tuple(value)
        self._floor["reach"].value, self._floor["shadow_reach"].value = reach, self._shadow_reach
        self._shadow_map.use(0)
        self._floor_array.render(moderngl.TRIANGLE_STRIP)

    def _draw_shadows(self, batches, centre):
        self._shadow_centre, self._shadow_reach = centre, _SHADOW_REACH
        self._shadow_target.use()
        self._shadow_target.clear(0, 0, 0, 0)
        self.context.disable(moderngl.DEPTH_TEST)
        self.context.enable(moderngl.BLEND)
        self.context.blend_equation = moderngl.MAX
        self._shadow["centre"].value, self._shadow["reach"].value = tuple(centre), _SHADOW_REACH
        limbs = [data for mesh, data in batches if mesh != "ball"]
        if limbs:
            self._draw_batch(self._shadow, "plain", np.concatenate(limbs))
        self.context.blend_equation = moderngl.FUNC_ADD

    def _draw_batch(self, program, mesh, data):
        raw = data.astype("f4").tobytes()
        if self._instances.size < len(raw):
            self._instances.orphan(len(raw) * 2)
        else:
            self._instances.orphan()
        self._instances.write(raw)
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
        self._line["view"].write(view)
        for points, tints in lines:
            data = np.concatenate([points, np.broadcast_to(tints, (len(points), 4))], 1).astype("f4").tobytes()
            if len(data) <= self._lines.size:
                self._lines.write(data)
                self._line_array.render(moderngl.LINE_STRIP, vertices=len(points))

    def _batches(self, figures):
        gathered = {}
        for figure in sorted(figures, key=lambda f: f.ghost):
            for mesh, matrices, tints in _figure_batches(figure):
                gathered.setdefault(mesh, []).append(np.concatenate([matrices.reshape(-1, 12), tints], 1))
        return [(mesh, np.concatenate(parts)) for mesh, parts in gathered.items()]


def _figure_batches(figure):
    """``(mesh, matrices, tints)`` of a figure's spindles, head and balls."""
    bones = figure.bones
    if not len(bones.start):
        return
    starts, ends = figure.segments()
    base = _rgb({PERFORMER: "performer", MARIONETTE: "marionette", BAKED: "baked"}[figure.kind])
    alpha = 0.35 if figure.ghost else 1.0
    chosen = np.isin(bones.start, figure.chosen)
    tints = np.tile([*base, alpha], (len(starts), 1))
    tints[chosen, :3] = _rgb("brass")
    head = (bones.start == bones.head) & (bones.end < 0)
    slim = 0.8 if figure.kind == PERFORMER else 1.0
    matrices = spindle_matrices(starts, ends, bones.radius * slim)
    yield ("spindle" if figure.kind == PERFORMER else "baluster"), matrices[~head], tints[~head]
    if head.any():
        yield "egg", spindle_matrices(starts[head], ends[head], bones.radius[head] * 1.25), tints[head]
    shown = np.flatnonzero(bones.joint_radius > 0)
    lit = np.tile([*(base * 0.72 + 0.28 * _rgb("text")), alpha], (len(shown), 1))
    lit[np.isin(shown, figure.chosen), :3] = _rgb("brass")
    yield "ball", ball_matrices(figure.placed[shown], bones.joint_radius[shown] * slim), lit


def _strings(figure):
    """A marionette's strings: from head and hands upwards, fading."""
    for joint in figure.hands:
        start = figure.placed[joint]
        points = np.array([start, start + [0, 0.45, 0], start + [0, 1.3, 0]])
        tint = np.tile([*_rgb("text"), 0.0], (3, 1))
        tint[:, 3] = (0.55, 0.3, 0.0)
        yield points, tint
