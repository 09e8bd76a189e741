"""Writing files: whole or not at all, together or not at all, under any name; and reading what is not there."""

import errno
import os
import subprocess
import sys
from pathlib import Path
from unittest import mock

from tests.support import Case, show_folder
from young_marionette.core.errors import InputError
from young_marionette.formats import files, read
from young_marionette.formats.files import Output, check_free, check_results, opened, write_together, write_whole
from young_marionette.project import delivery, opening


class Together(Case):
    def write(self, *names, chunks=(b"new",)):
        write_together([Output(self.folder / name, list(chunks)) for name in names])

    def contents(self):
        return {p.name: p.read_bytes() for p in self.folder.iterdir() if p.is_file()}

    def test_all_or_none(self):
        (self.folder / "a").write_bytes(b"old")
        (self.folder / "c").mkdir()  # a folder can't be replaced by a file
        self.refuses(lambda: self.write("a", "b", "c"), "c")
        self.assertEqual(self.contents(), {"a": b"old"})
        self.write("a", "b")
        self.assertEqual(self.contents(), {"a": b"new", "b": b"new"})

    def test_a_disk_that_gets_full_at_any_moment(self):
        (self.folder / "a").write_bytes(b"old")
        for full_after in range(6):
            calls = []

            def fsync(_handle, full_after=full_after, calls=calls):
                calls.append(1)
                if len(calls) > full_after:
                    raise OSError(errno.ENOSPC, "No space left on device")

            with mock.patch.object(files.os, "fsync", fsync):
                outputs = [Output(self.folder / n, [b"new"]) for n in ("a", "b")]
                outputs.append(Output(self.folder / "pictures" / "p.png", [b"new"], in_folder=True))
                if full_after < 3:
                    self.refuses(lambda o=outputs: write_together(o), "No space left")
                    self.assertEqual(self.contents(), {"a": b"old"})
                    self.assertFalse((self.folder / "pictures").exists())
                else:
                    write_together(outputs)
                    self.assertEqual((self.folder / "pictures/p.png").read_bytes(), b"new")

    def test_a_rename_that_fails_brings_the_others_back(self):
        for name in ("a", "b"):
            (self.folder / name).write_bytes(b"old")
        real = os.replace

        def replace(source, target):
            if Path(target).name == "b" and ".part" in str(source) and Path(source).read_bytes() == b"new":
                raise OSError(errno.EIO, "Input/output error")
            real(source, target)

        with mock.patch.object(files.os, "replace", replace):
            self.refuses(lambda: self.write("a", "b"), "Input/output")
        self.assertEqual(self.contents(), {"a": b"old", "b": b"old"})

    def test_a_folder_that_is_a_link_is_not_written_through(self):
        elsewhere = self.folder / "elsewhere"
        elsewhere.mkdir()
        (self.folder / "pictures").symlink_to(elsewhere)
        output = Output(self.folder / "pictures" / "p.png", [b"x"], in_folder=True)
        self.refuses(lambda: write_together([output, Output(self.folder / "a", [b"x"])]), "link")
        self.assertEqual(list(elsewhere.iterdir()), [])
        self.assertFalse((self.folder / "a").exists())

    def test_what_dead_writers_left_is_swept_and_what_living_ones_write_is_not(self):
        code = (
            f"import sys; sys.path.insert(0, {str(Path.cwd())!r})\nimport os, signal\n"
            "from young_marionette.formats.files import write_whole\n"
            f"def chunks():\n yield b'half'\n os.kill(os.getpid(), signal.SIGKILL)\nwrite_whole({str(self.folder / 'x')!r}, chunks())"
        )
        self.assertEqual(subprocess.run([sys.executable, "-c", code]).returncode, -9)
        (left,) = self.folder.iterdir()
        os.utime(left, (0, 0))

        def chunks():
            (mine,) = (p for p in self.folder.iterdir() if p != left)
            os.utime(mine, (0, 0))
            yield b"a"
            write_whole(self.folder / "other", [b"b"])  # sweeps the dead one's, not ours
            self.assertTrue(mine.exists())
            self.assertFalse(left.exists())

        write_whole(self.folder / "one", chunks())
        self.assertEqual(self.contents(), {"one": b"a", "other": b"b"})


class Names(Case):
    def test_any_name_that_the_system_allows(self):
        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        latin = os.fsdecode(b"h\xe4ngend \xff")
        for name in ("n" * 251, "ü" * 125, latin, " leading", "-dash", "a\nb", "[b]", "<b>", "%41"):
            for ending in (".bvh", ".glb", ".usdc", ".usda", ".usdz"):
                if len(os.fsencode(name + ending)) > 255:
                    continue
                path = self.folder / f"{name}{ending}"
                delivery.convert(source, path, frames=(0, 3))
                again = read(path)
                self.assertEqual(again.skeletons[0].clips[0].frames, 4, name)
                again.skeletons[0].name.encode()
                path.unlink()

    def test_names_that_it_does_not_allow(self):
        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        for path in (
            self.folder / ("n" * 300 + ".bvh"),
            self.folder / ("d/" * 2500 + "x.bvh"),
            self.folder / "a\0b.bvh",
        ):
            self.refuses(lambda p=path: delivery.convert(source, p))
            self.refuses(lambda p=path: read(p))

    def test_links_in_a_circle(self):
        (self.folder / "a.bvh").symlink_to(self.folder / "b.bvh")
        (self.folder / "b.bvh").symlink_to(self.folder / "a.bvh")
        self.refuses(lambda: read(self.folder / "a.bvh"), "a.bvh")
        source = opening.open_source(show_folder() / "quay/light_lamp.bvh")
        self.refuses(lambda: delivery.convert(source, self.folder / "a.bvh"))
        self.refuses(lambda: delivery.convert(source, self.folder / "a.bvh" / "x.bvh"))

    def test_a_file_that_may_not_be_read_ends_in_a_sentence(self):
        path = show_folder() / "quay/light_lamp.bvh"
        with mock.patch("builtins.open", side_effect=PermissionError(13, "Permission denied")):
            self.refuses(lambda: opened(path).__enter__(), "permission was denied")


class Results(Case):
    def test_no_result_replaces_an_input_or_another_result(self):
        source = self.folder / "a.bvh"
        source.write_text("x")
        (self.folder / "hard.bvh").hardlink_to(source)
        (self.folder / "soft.bvh").symlink_to(source)
        (self.folder / "inner").mkdir()
        for name in ("a.bvh", "hard.bvh", "soft.bvh", "inner/../a.bvh"):
            self.refuses(lambda n=name: check_results([self.folder / n], [None, source]), "files that are read")
        out = self.folder / "out.bvh"
        self.refuses(lambda: check_results([out, self.folder / "inner/../out.bvh"], [source]), "Two results")
        check_results([out, None, self.folder / "b.bvh"], [source, None, self.folder / "no such file"])
        self.refuses(lambda: check_free(source), "exists already")


class Pictures(Case):
    """Textures beside a USD file."""

    def convert(self, name, out, **more):
        delivery.convert(opening.open_rig(show_folder() / "puppets/bodies" / name), self.folder / out, **more)

    def pictures(self, name):
        character = read(self.folder / name).skeletons[0].layout.character
        return {m.texture for m in character.materials if m.texture}

    def test_nobody_wears_anothers_picture(self):
        self.convert("Puffin.usdz", "body.usda")
        first = self.pictures("body.usda")
        self.convert("Heron.vrm", "body.usda", overwrite=True)
        second = self.pictures("body.usda")
        heron = opening.open_rig(show_folder() / "puppets/bodies/Heron.vrm").character
        self.assertEqual(second, {m.texture for m in heron.materials if m.texture})
        self.assertNotEqual(first, second)
        self.convert("Puffin.usdz", "body.usda", overwrite=True)
        self.assertEqual(self.pictures("body.usda"), first)

    def test_a_file_of_that_name_with_other_bytes_is_left_alone(self):
        self.convert("Puffin.usdz", "body.usda")
        (picture,) = (self.folder / "body_textures").iterdir()
        first = self.pictures("body.usda")
        picture.write_bytes(b"somebody else's")
        self.convert("Puffin.usdz", "body.usda", overwrite=True)
        self.assertEqual(picture.read_bytes(), b"somebody else's")
        self.assertEqual(self.pictures("body.usda"), first)

    def test_where_the_pictures_can_not_go_nothing_is_written(self):
        elsewhere = self.folder / "elsewhere"
        elsewhere.mkdir()
        (self.folder / "a_textures").symlink_to(elsewhere)
        self.refuses(lambda: self.convert("Puffin.usdz", "a.usda"), "link")
        self.assertEqual(list(elsewhere.iterdir()), [])
        (self.folder / "b_textures").write_bytes(b"a file")
        self.refuses(lambda: self.convert("Puffin.usdz", "b.usda"))
        real = files.tempfile.mkstemp

        def denied(**where):
            if Path(where["dir"]).name.endswith("_textures"):
                raise PermissionError(13, "Permission denied")
            return real(**where)

        with mock.patch.object(files.tempfile, "mkstemp", denied):
            self.refuses(lambda: self.convert("Puffin.usdz", "c.usda"), "permission was denied")
        self.assertFalse([p.name for p in self.folder.iterdir() if p.suffix == ".usda" or p.name == "c_textures"])


class Vanishing(Case):
    def test_a_usd_file_that_goes_away_between_two_looks(self):
        from young_marionette.formats.usd import worker

        path = self.folder / "a.usdc"
        delivery.convert(opening.open_source(show_folder() / "quay/light_lamp.bvh"), path, frames=(0, 3))
        data, real = path.read_bytes(), worker.status_of

        def look(place):
            found = real(place)
            path.unlink()
            return found

        with mock.patch.object(worker, "status_of", look):
            self.refuses(lambda: read(path), "not there any more")
        path.write_bytes(data)
        with mock.patch.object(worker, "status_of", lambda _place: None):
            self.refuses(lambda: read(path), "There is no file")
        self.assertEqual(read(path).skeletons[0].clips[0].frames, 4)


class Sentences(Case):
    def test_every_refusal_is_short_and_holds_no_controls(self):
        text = str(InputError("The \x1b[31mjoint\n\u202e" + "x" * 5000 + " ends here."))
        self.assertLess(len(text), 400)
        self.assertTrue(text.endswith("ends here."))
        self.assertFalse([c for c in text if ord(c) < 32 or c in "\x7f\u202e"])
