"""Reading UsdSkel stages that others might write; each with known answers."""

import numpy as np

from tests.formats import independent
from tests.support import Case, dense_clips, notes_of, show_folder
from young_marionette.core.kinematics import forward
from young_marionette.formats import read
from young_marionette.project import delivery, opening
from young_marionette.project.entry import entries_of

ONE = "((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1))"


def moved(x, y, z, scale=1):
    return f"(({scale},0,0,0),(0,{scale},0,0),(0,0,{scale},0),({x},{y},{z},1))"


STAGE = """#usda 1.0
(
    metersPerUnit = 0.01
    upAxis = "Z"
    timeCodesPerSecond = 48
)
def SkelRoot "Rig"
{
    %(over)s
    def Skeleton "Bones" (prepend apiSchemas = ["SkelBindingAPI"])
    {
        uniform token[] joints = ["hip/knee", "hip", "hip/knee/foot"]
        uniform matrix4d[] restTransforms = [%(knee)s, %(hip)s, %(foot)s]
        uniform matrix4d[] bindTransforms = [%(knee)s, %(hip)s, %(foot)s]
        rel skel:animationSource = </Rig/walk>
    }
    def SkelAnimation "walk"
    {
        uniform token[] joints = ["hip", "hip/knee"]
        float3[] translations = [(0, 0, 90), (0, 0, -40)]
        quatf[] rotations.timeSamples = {
            0: [(1, 0, 0, 0), (1, 0, 0, 0)],
            24: [(1, 0, 0, 0), (0.70710678, 0.70710678, 0, 0)],
        }
        half3[] scales = [(1, 1, 1), (1, 1, 1)]
    }
    def SkelAnimation "still"
    {
        uniform token[] joints = ["hip"]
        float3[] translations = [(5, 0, 90)]
        quatf[] rotations = [(1, 0, 0, 0)]
        half3[] scales = [(1, 1, 1)]
    }
    %(more)s
}
"""

MESH = """
    def Mesh "coat" (prepend apiSchemas = ["SkelBindingAPI", "MaterialBindingAPI"])
    {
        point3f[] points = [(0,0,0), (1,0,0), (1,1,0), (0,1,0)]
        int[] faceVertexCounts = [4]
        int[] faceVertexIndices = [0, 1, 2, 3]
        texCoord2f[] primvars:st = [(0,0), (1,0), (1,1), (0,1)] (interpolation = "faceVarying")
        matrix4d primvars:skel:geomBindTransform = %(geometry)s
        int[] primvars:skel:jointIndices = [1] (interpolation = "constant"; elementSize = 1)
        float[] primvars:skel:jointWeights = [1] (interpolation = "constant"; elementSize = 1)
        rel skel:skeleton = </Rig/Bones>
        uniform token[] skel:blendShapes = ["smile"]
        rel skel:blendShapeTargets = </Rig/coat/smile>
        rel material:binding = </Rig/paint>
        def BlendShape "smile"
        {
            uniform vector3f[] offsets = [(0, 0, 3)]
            uniform int[] pointIndices = [2]
        }
    }
    def Material "paint"
    {
        token outputs:surface.connect = </Rig/paint/surface.outputs:surface>
        def Shader "surface"
        {
            uniform token info:id = "UsdPreviewSurface"
            color3f inputs:diffuseColor = (0.1, 0.2, 0.3)
            token outputs:surface
        }
    }
"""


class Stages(Case):
    def stage(self, over="", more="", **joints):
        told = {"hip": moved(0, 0, 90), "knee": moved(0, 0, -40), "foot": moved(0, 0, -35), **joints}
        path = self.folder / "a.usda"
        path.write_text(STAGE % {"over": over, "more": more, **told})
        return read(path)

    def test_unit_axis_rate_and_order(self):
        file = self.stage()
        self.assertEqual((file.skeletons[0].declared.unit, file.skeletons[0].declared.up), (0.01, "+Z"))
        # Joints are listed in any order in the file, and by parents first with us.
        self.assertEqual(file.skeletons[0].skeleton.names, ("hip", "knee", "foot"))
        self.close(file.skeletons[0].skeleton.rest_world[0], [[0, 0, 90], [0, 0, 50], [0, 0, 15]], 1e-9)

    def test_animations(self):
        file = self.stage()
        walk, still = dense_clips(file)
        self.assertEqual((walk.name, walk.frames, walk.seconds), ("a: walk", 13, 0.5))
        self.assertEqual((still.frames, still.name), (1, "a: still"))
        places = forward(walk)[0]
        # The knee turns by a quarter about X: what hung along -Z then points along Y.
        self.close(places[0, 2], [0, 0, 15], 1e-5)
        self.close(places[-1, 2], [0, 35, 50], 1e-5)
        self.close(places[6, 2], [0, 35 * np.sin(np.pi / 4), 50 - 35 * np.cos(np.pi / 4)], 1e-4)
        self.close(forward(still)[0][0, 0], [5, 0, 90], 1e-6)

    def test_a_root_under_a_transform(self):
        over = (
            "double3 xformOp:translate = (7, 0, 0)\n double xformOp:rotateZ = 90\n double3 xformOp:scale = (2, 2, 2)\n"
        )
        over += ' uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateZ", "xformOp:scale"]'
        file = self.stage(over, knee=moved(10, 0, -40))
        self.close(file.skeletons[0].skeleton.rest_world[0][:2], [[7, 0, 180], [7, 20, 100]], 1e-6)
        out = self.folder / "again.usda"
        entry = entries_of(file)[0]
        delivery.write_entry(entry, out)
        again = read(out)
        self.close(again.skeletons[0].skeleton.rest_world[0], file.skeletons[0].skeleton.rest_world[0], 1e-5)
        self.close(forward(dense_clips(again)[0])[0], forward(dense_clips(file)[0])[0], 1e-4)

    def test_what_a_skeleton_stands_under_may_move(self):
        """Motion of the prims over a skeleton, as many programs write a figure's travel, comes over its root."""
        over = """double3 xformOp:translate.timeSamples = {0: (0, 0, 0), 24: (48, 0, 0)}
            float xformOp:rotateZ.timeSamples = {0: 0, 24: 90}
            uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateZ"]"""
        walk, still = dense_clips(self.stage(over, more=MESH % {"geometry": moved(0, 0, 90)}))
        self.close(forward(walk)[0][0], [[0, 0, 90], [0, 0, 50], [0, 0, 15]], 1e-5)
        self.close(forward(walk)[0][-1], [[48, 0, 90], [48, 0, 50], [13, 0, 50]], 1e-5)
        half = np.sqrt(0.5)
        self.close(forward(still)[0][[0, 6, 12], 0], [[5, 0, 90], [24 + 5 * half, 5 * half, 90], [48, 5, 90]], 1e-4)
        # Written into its own file, with the body, it moves once and not twice.
        out = self.folder / "again.usda"
        entry = next(e for e in entries_of(read(self.folder / "a.usda")) if e.clip is not None)
        delivery.write_entry(entry, out)
        self.close(forward(dense_clips(read(out))[0])[0], forward(walk)[0], 1e-3)
        self.assertIsNotNone(read(out).skeletons[0].layout.character)
        # Without any animation of joints, the way alone is a clip.
        path = self.folder / "a.usda"
        path.write_text(path.read_text().replace("def SkelAnimation", "def Scope"))
        (alone,) = dense_clips(read(path))
        self.close(forward(alone)[0][-1], [[48, 0, 90], [48, 0, 50], [48, 0, 15]], 1e-5)

    def test_animations_belong_to_the_skeletons_that_are_bound_to_them(self):
        self.stage()
        path = self.folder / "a.usda"
        text = path.read_text()
        one = text[text.index("def SkelRoot") :]
        path.write_text(text + one.replace("Rig", "Twin").replace('"walk"', '"row"').replace("/walk>", "/row>"))
        file = read(path)
        # "still" is bound to nobody in either.
        names = [[c.name.split(": ")[1] for c in part.clips] for part in file.skeletons]
        self.assertEqual(names, [["walk", "still", "still"], ["still", "row", "still"]])

    def test_scales_that_half_floats_can_not_hold(self):
        """Animations of USD have scales as half floats; joints are where others' code sees them all the same."""
        # UsdSkel's own queries want parents first, so that the two stand the other way round here.
        self.stage(knee=moved(0, 0, 90, 0.01), hip=moved(0, 0, -4000, 1.7), foot=moved(0, 0, -2000))
        path, out = self.folder / "a.usda", self.folder / "b.usda"
        text = path.read_text().replace(
            "half3[] scales = [(1, 1, 1), (1, 1, 1)]", "half3[] scales = [(0.01, 0.01, 0.01), (1.7, 1.7, 1.7)]"
        )
        text = text.replace('["hip/knee", "hip", ', '["hip", "hip/knee", ')
        path.write_text(
            text.replace("translations = [(0, 0, 90), (0, 0, -40)]", "translations = [(0, 0, 90), (0, 0, -4000)]")
        )
        entry = next(e for e in entries_of(read(path)) if e.clip is not None)
        delivery.write_entry(entry, out)
        for frame in (0, 5, 12):
            # 48 time codes a second make two of 24 frames; what is written counts frames.
            places = forward(entry.clip)[0][frame]
            for file, code in ((path, frame * 48 / entry.clip.rate), (out, frame)):
                told = independent.usd_joints(file, float(code))
                for name, place in zip(entry.skeleton.names, places):
                    self.close(told[name], place, 2e-4, f"{file.name}: {name}")

    def test_variants_survive_with_the_body(self):
        """Those not chosen, too; old motion in a variant is gone from what is delivered."""
        self.stage(more=MESH % {"geometry": moved(0, 0, 90)})
        path, out = self.folder / "a.usda", self.folder / "b.usda"
        text = path.read_text()
        take = text[text.index("    def SkelAnimation") : text.index('    def SkelAnimation "still"')]
        head = 'def SkelRoot "Rig" (variants = {string mood = "calm"}\n prepend variantSets = "mood")'
        told = 'over "coat"\n{\ncustom string told = "%s"\n}\n'
        calm, merry = told % "calm" + take.replace('"walk"', '"stroll"'), told % "merry"
        sets = f'variantSet "mood" = {{\n"calm" {{\n{calm}}}\n"merry" {{\n{merry}}}\n}}\n'
        at = text.rindex("}")
        path.write_text(text[:at].replace('def SkelRoot "Rig"', head) + sets + text[at:])
        file = read(path)
        self.assertEqual(len(file.skeletons[0].clips), 3)
        entry = next(e for e in entries_of(file) if e.clip is not None)
        delivery.write_entry(entry, out)
        self.assertEqual(len(read(out).skeletons[0].clips), 1)
        from pxr import Usd

        stage = Usd.Stage.Open(str(out))
        variants = stage.GetPrimAtPath("/Rig").GetVariantSet("mood")
        for mood in ("calm", "merry"):
            variants.SetVariantSelection(mood)
            self.assertEqual(stage.GetPrimAtPath("/Rig/coat").GetAttribute("told").Get(), mood)

    def test_scales_are_in_the_offsets(self):
        file = self.stage(hip=moved(0, 0, 90, 2))
        self.close(file.skeletons[0].skeleton.rest_world[0], [[0, 0, 90], [0, 0, 10], [0, 0, -60]], 1e-6)

    def test_a_mesh(self):
        """A rigid square of four corners, bound by a constant weight to the hip, with a blend shape."""
        file = self.stage(more=MESH % {"geometry": moved(0, 0, 90)})
        mesh = file.skeletons[0].layout.character.meshes[0]
        self.assertEqual((len(mesh.points), mesh.triangles.tolist()), (4, [[0, 1, 2], [0, 2, 3]]))
        # The stage lists the knee first: weights count in its order, joints here in ours.
        self.assertEqual(set(mesh.joints.ravel().tolist()), {file.skeletons[0].skeleton.index["hip"]})
        self.close(mesh.texcoords, [[0, 1], [1, 1], [1, 0], [0, 0]], 1e-7)
        self.close(mesh.morphs[0].points[2], [0, 0, 3], 0)
        self.close(file.skeletons[0].layout.character.materials[mesh.material].colour, [0.1, 0.2, 0.3, 1], 1e-6)
        from young_marionette.core.character.meshes import joint_matrices, skinned

        matrices = joint_matrices(file.skeletons[0].skeleton, *file.skeletons[0].skeleton.rest_world)
        self.close(skinned(mesh, matrices, {"smile": 1.0})[2], [1, 1, 93], 1e-5)

    def test_scales_over_time_move_what_is_below(self):
        self.stage()
        path = self.folder / "a.usda"
        still = "half3[] scales = [(1, 1, 1), (1, 1, 1)]"
        path.write_text(path.read_text().replace(still, """half3[] scales.timeSamples = {
            0: [(1, 1, 1), (1, 1, 1)], 24: [(2, 2, 2), (3, 3, 3)]}"""))  # fmt: skip
        file = read(path)
        # At the end the knee hangs twice as deep, and turned by a quarter the foot is six times as far from it.
        self.close(forward(dense_clips(file)[0])[0][-1], [[0, 0, 90], [0, 0, 10], [0, 210, 10]], 1e-4)
        self.assertIn("scales hip and 1 more over time", notes_of(file.skeletons[0]))

    def test_corners_with_values_of_their_own_are_split_and_no_others(self):
        """Two triangles that share an edge: folded sharply by their normals, or one surface."""
        mesh = MESH % {"geometry": moved(0, 0, 90)}
        mesh = mesh.replace("[4]", "[3, 3]").replace("[0, 1, 2, 3]", "[0, 1, 2, 0, 2, 3]")
        plain = "[(0,0), (1,0), (1,1), (0,1)]"
        up, side = "(0,0,1)", "(0,1,0)"
        sharp = f'normal3f[] normals = [{", ".join([up] * 3 + [side] * 3)}] (interpolation = "faceVarying")'
        soft = sharp.replace(side, up)
        listed = 'normal3f[] primvars:normals = [(0,0,1), (0,1,0)] (interpolation = "faceVarying")\n'
        listed += "int[] primvars:normals:indices = [0, 0, 0, 1, 1, 1]"
        coords = "[(0,0), (1,0), (1,1), (0,0), (1,1), (0,1)]"
        seam = "[(0,0), (1,0), (1,1), (0,0.5), (1,1), (0,1)]"
        for normals, st, count in (
            (soft, coords, 4),
            (sharp, coords, 6),
            (listed, coords, 6),
            (soft, seam, 5),
            (sharp, seam, 6),
        ):
            body = mesh.replace(plain, st).replace("texCoord2f[]", f"{normals}\n texCoord2f[]")
            made = self.stage(more=body).skeletons[0].layout.character.meshes[0]
            with self.subTest(normals=normals, st=st):
                self.assertEqual(len(made.points), count)
                square = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 0, 0], [1, 1, 0], [0, 1, 0]]
                self.close(made.points[made.triangles].reshape(-1, 3), square, 0)
                last = [0, 0, 1] if normals == soft else [0, 1, 0]
                self.close(made.normals[made.triangles], [[[0, 0, 1]] * 3, [last] * 3], 1e-6)
                found = made.texcoords[made.triangles].reshape(-1, 2)
                self.close(found, [[u, 1 - v] for u, v in eval(st)], 1e-6)
                # The shape moves its point in every copy of it.
                moves = made.morphs[0].points[made.triangles].reshape(-1, 3)[:, 2]
                self.assertEqual(moves.tolist(), [0, 0, 3, 0, 3, 0])

    def test_arrays_are_the_same_by_two_processes(self):
        from unittest import mock

        from young_marionette.formats.usd.opening import open_usd

        found = []
        path = show_folder() / "puppets/bodies/Puffin.usdz"
        for large in (1 << 40, 0):
            with mock.patch("young_marionette.formats.usd.unpacking._LARGE", large), open_usd(path) as (parts, *_):
                found.append(parts[0][2].meshes)
        self.assertEqual(len(found[0]), len(found[1]))
        for one, other in zip(*found):
            for key in ("points", "triangles", "joints", "weights", "normals"):
                self.assertTrue(np.array_equal(getattr(one, key), getattr(other, key)), key)

    def test_what_a_file_draws_in_is_an_input_too(self):
        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        delivery.convert(source, self.folder / "base.usda", frames=(0, 2))
        (self.folder / "top.usda").write_text(
            '#usda 1.0\n(\n    defaultPrim = "Rig"\n    subLayers = [@./base.usda@]\n)\n'
        )
        before = (self.folder / "base.usda").read_bytes()
        entry = opening.open_source(self.folder / "top.usda")
        self.refuses(lambda: delivery.convert(entry, self.folder / "base.usda", overwrite=True), "files that are read")
        self.assertEqual((self.folder / "base.usda").read_bytes(), before)

    def test_a_broken_text_tells_the_line(self):
        self.stage()
        path = self.folder / "a.usda"
        path.write_text(
            path.read_text().replace("float3[] translations = [(0, 0, 90)", "float3[] translations = [(0, 0, up)")
        )
        self.refuses(lambda: read(path), "line")

    def test_names_that_paths_can_not_have(self):
        """Bone names with colons and blanks survive, though USD's paths can't hold them."""
        source = opening.open_source(self._odd_names())
        delivery.convert(source, self.folder / "b.usdc")
        self.assertEqual(
            read(self.folder / "b.usdc").skeletons[0].skeleton.names, ("quay:the hip", "2nd bone", "bone", "öl")
        )

    def _odd_names(self):
        from young_marionette.core.clip import Clip
        from young_marionette.core.skeleton import Skeleton
        from young_marionette.formats import write

        s = Skeleton(
            ("quay:the hip", "2nd bone", "bone", "öl"), [-1, 0, 1, 1], [[0, 1, 0], [0, 1, 0], [0, 1, 0], [1, 0, 0]]
        )
        path = self.folder / "odd.glb"
        write(path, Clip("odd", s, 30, np.tile(s.rest, (5, 1, 1))))
        return path
