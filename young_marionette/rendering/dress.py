"""Bodies on the stage: meshes kept on the graphics card and bent there by their joints."""

from __future__ import annotations

import contextlib
import io

import moderngl
import numpy as np
from PIL import Image

from .arrays import arrays_of

MAX_KEPT = 8
TEXTURE_SIZE = 1024

VERTEX = """#version 330
in vec3 place; in vec3 normal; in vec2 coord; in vec4 joints; in vec4 weights;
out vec3 n; out vec3 world; out vec2 uv; out float chosen; uniform mat4 view;
layout(std140) uniform Bones { vec4 rows[%d]; };
void main() {
  vec4 a = vec4(0.0), b = vec4(0.0), c = vec4(0.0); chosen = 0.0;
  for (int i = 0; i < 4; i++) { float w = weights[i]; if (w <= 0.0) break; int j = int(joints[i]) * 4;
    a += w * rows[j]; b += w * rows[j + 1]; c += w * rows[j + 2]; chosen += w * rows[j + 3].x; }
  vec4 p = vec4(place, 1.0); world = vec3(dot(a, p), dot(b, p), dot(c, p));
  n = vec3(dot(a.xyz, normal), dot(b.xyz, normal), dot(c.xyz, normal));
  uv = coord; gl_Position = view * vec4(world, 1.0); }"""
FRAGMENT = """#version 330
in vec3 n; in vec3 world; in vec2 uv; in float chosen; out vec4 colour;
uniform vec3 eye; uniform vec4 paint; uniform vec3 mark; uniform vec3 edge; uniform sampler2D image; uniform bool textured;
void main() {
  vec3 N = normalize(n); vec3 V = normalize(eye - world); if (dot(N, V) < 0.0) N = -N;
  float key = max(dot(N, vec3(0.42054, 0.74763, 0.51400)), 0.0); float sky = 0.5 + 0.5 * N.y;
  float rim = 1.0 - max(dot(N, V), 0.0); rim = rim * rim * rim;
  float k = key * key; k *= k; k *= k; float gloss = k * k * k;
  vec3 base = paint.rgb; if (textured) base *= texture(image, uv).rgb;
  base = mix(base, mark, 0.75 * chosen);
  vec3 c = base * (0.30 + 0.28 * sky + 0.66 * key) + vec3(1.0, 0.93, 0.78) * 0.14 * gloss + edge * 0.55 * rim;
  colour = vec4(c, paint.a); }"""


def displayed(colour):
    """A linear colour as a screen shows it."""
    return tuple(float(c) ** (1 / 2.2) for c in colour[:3])


class _Part:
    """One mesh on the card. Its places and normals are written anew when the weights of its morphs change."""

    def __init__(self, context, program, mesh):
        self.mesh, self.weights, self.arrays = mesh, None, arrays_of(mesh)
        self.used = self.arrays.used
        self.places = context.buffer(self.arrays.shape.tobytes(), dynamic=bool(self.arrays.morphs))
        self.still = context.buffer(self.arrays.still.tobytes())
        self.corners = context.buffer(mesh.triangles.astype("i4").tobytes())
        layout = [(self.places, "3f 3f", "place", "normal"), (self.still, "2f 4f 4f", "coord", "joints", "weights")]
        self.array = context.vertex_array(program, layout, self.corners)

    def blend(self, weights):
        """Show morphs at their weights."""
        arrays = self.arrays
        own = tuple(float(weights.get(name, 0.0)) for name in arrays.morphs)
        if own == (self.weights or (0.0,) * len(own)):
            return
        self.weights = own
        shape = arrays.shape[arrays.first : arrays.first + len(arrays.added[0])].copy()
        for added, weight in zip(arrays.added, own):
            if weight:
                shape += added * np.float32(weight)
        self.places.write(shape.tobytes(), offset=arrays.first * arrays.shape.strides[0])

    def release(self):
        for part in (self.array, self.places, self.still, self.corners):
            part.release()


class Dresser:
    """Draws the bodies of figures; keeps the last few characters on the card."""

    def __init__(self, context):
        self._context = context
        most = min(int(context.info.get("GL_MAX_UNIFORM_BLOCK_SIZE", 1 << 14)), 1 << 16) // 16
        self._program = context.program(vertex_shader=VERTEX % most, fragment_shader=FRAGMENT)
        self._program["image"].value, self._program["Bones"].binding = 2, 0
        self._most, self._bones = most // 4, context.buffer(reserve=16 * most, dynamic=True)
        self._kept = {}

    def _of(self, character):
        """``(parts, textures)`` of a character; the character is kept, so that its place in memory stays its own."""
        hit = self._kept.pop(id(character), None)
        if hit is None:
            parts = [_Part(self._context, self._program, m) for m in character.meshes if len(m.triangles)]
            pictures = {}
            textures = [self._texture(m.texture, pictures) for m in character.materials]
            hit = (character, parts, textures, pictures)
        self._kept[id(character)] = hit
        while len(self._kept) > MAX_KEPT:
            _, parts, _, pictures = self._kept.pop(next(iter(self._kept)))
            for part in (*parts, *filter(None, pictures.values())):
                part.release()
        return hit[1], hit[2]

    def _texture(self, data, known):
        """An image file as a texture; None where there is none or it can't be decoded."""
        if data is None:
            return None
        if id(data) not in known:
            known[id(data)] = None
            # Whatever is wrong with a picture, the body is shown without it.
            with contextlib.suppress(OSError, ValueError, SyntaxError, Image.DecompressionBombError):
                image = Image.open(io.BytesIO(data))
                image.draft("RGB", (TEXTURE_SIZE, TEXTURE_SIZE))
                image = image.convert("RGBA").resize([min(side, TEXTURE_SIZE) for side in image.size])
                texture = self._context.texture(image.size, 4, image.tobytes())
                texture.filter = moderngl.LINEAR, moderngl.LINEAR
                known[id(data)] = texture
        return known[id(data)]

    def _set_bones(self, figure, part, matrices):
        """Put the matrices of a part's joints, and which of them are pointed out, where the card looks them up.

        Gives whether they show the part as in a mirror.
        """
        used = part.used[: self._most]
        rows = np.zeros((len(used), 4, 4), "f4")
        rows[:, :3] = (matrices[used] @ part.mesh.binds[used])[:, :3]
        rows[:, 3, 0] = np.isin(used, figure.chosen)
        self._bones.orphan()
        self._bones.write(rows.tobytes())
        self._bones.bind_to_uniform_block(0)
        return np.linalg.det(rows[0, :3, :3]) < 0

    def draw(self, figure, view, eye, mark, edge, alpha, fine):
        """Draw a figure's body, lit at its edges in the colour ``edge`` of what it is; one that is seen through
        covers itself, so that only its outer side shows; that is done for the ``fine`` picture only."""
        parts, textures = self._of(figure.character)
        program, character = self._program, figure.character
        program["view"].write(view)
        program["eye"].value, program["mark"].value, program["edge"].value = tuple(eye), tuple(mark), tuple(edge)
        for part in parts:
            part.blend(figure.weights)
        matrices = figure.joint_matrices
        # First without any colour, for depth alone: then only the outer side is drawn over what is behind.
        passes = (0.0, alpha) if alpha < 1 and fine else (alpha,)
        self._context.depth_func = "<=" if len(passes) > 1 else "<"
        for opacity in passes:
            for part in parts:
                mirrored = self._set_bones(figure, part, matrices)
                material = character.materials[part.mesh.material]
                texture = textures[part.mesh.material]
                program["paint"].value = (*displayed(material.colour), opacity * material.colour[3])
                program["textured"].value = texture is not None
                if texture is not None:
                    texture.use(2)
                if not material.double_sided:
                    self._context.front_face = "ccw" if mirrored else "cw"  # pictures are drawn upside down
                    self._context.enable(moderngl.CULL_FACE)
                part.array.render(moderngl.TRIANGLES)
                self._context.disable(moderngl.CULL_FACE)
        self._context.front_face = "cw"
        self._context.depth_func = "<"
