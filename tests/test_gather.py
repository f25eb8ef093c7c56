"""A bundle answers as its disk does, holds nothing that is nobody's business, and is not believed
blindly.
"""

import json
import shutil
import unittest
import zipfile
from unittest import mock

import msgspec
from benchmarks.conversations import HAND, host_in

from mending.app import gathering
from mending.app.evidence import attach, crashes_of
from mending.app.gathering import gather
from mending.app.targets import NamedTarget
from mending.app.tracing import trace
from mending.boot.trace import open_environment
from mending.case import causes_of, open_case
from mending.disk.files import Files
from mending.knowledge import base_pack
from mending.repair.boot import own_code
from mending.source import open_source, settle_output
from mending.workshop import make_sample, samples
from tests.support import InFolder, needs, part_of, sha, tool, trace_file

PACK = base_pack()
SAMPLES = {sample.name: sample for sample in samples(own_code()) if sample.draw is not None}
MIB = 1 << 20
SECRET = "$6$quayside$" + "Z9" * 43
OLDER = "q7Wn2zR.uYpKs"
DIARY = b"Dear diary, the ferry was late again. " * 40


class Answers(InFolder):
    def of(self, path, number):
        """Trace, crashes and causes of a target, without its name."""
        host = host_in(self.folder)
        found = msgspec.to_builtins(trace(NamedTarget(str(path), host), host))
        crashes = msgspec.to_builtins(crashes_of(str(path), None, host))
        found["target"].pop("path")
        found.pop("barred")  # of what is only read no repair is asked whether it can be done
        for finding in found["findings"]:
            finding.pop("repairs")
        crashes.pop("target")
        crashes["files"] = [name.replace(str(path), "the disk") for name in crashes["files"]]
        case = open_case(self.folder / f"case-{number}", lambda _: [], HAND.since)
        grown = attach(case, str(path), host, as_disk=True)
        causes = msgspec.to_builtins(causes_of(grown.state, PACK))
        return found, crashes, causes

    def test_sample_pcs_and_their_bundles_give_the_same_answers(self):
        for number, (name, sample) in enumerate(part_of(SAMPLES.items(), 4)):
            with self.subTest(name):
                disk = make_sample(sample, self.folder)
                bundle = self.folder / f"{name}.zip"
                before = sha(disk)
                result = gather(NamedTarget(str(disk), host_in(self.folder)), settle_output(bundle))
                self.assertEqual(sha(disk), before)
                self.assertLess(result.bytes, 4 * MIB)
                self.assertEqual(self.of(disk, 2 * number), self.of(bundle, 2 * number + 1))
                disk.unlink()

    def test_the_same_disk_makes_the_same_file(self):
        disk = make_sample(SAMPLES["harbour-2"], self.folder)
        for name in ("a.zip", "b.zip"):
            self.run_here("gather", disk, "-o", self.folder / name)
        self.assertEqual(sha(self.folder / "a.zip"), sha(self.folder / "b.zip"))


class Kept(InFolder):
    def linux_disk(self):
        """A sample PC whose accounts have passwords, and somebody's diary."""
        disk = make_sample(SAMPLES["gangway-1"], self.folder)
        root = next(each for each in trace_file(disk).volumes if each.filesystem == "ext")
        volume = f"{disk}?offset={root.start * 512}"
        for name, data in (
            ("/etc/shadow", f"root:{SECRET}:19000:0:99999:7:::\nola:{OLDER}:19000:0:::\n".encode()),
            ("/diary.txt", DIARY),
        ):
            held = self.folder / "held"
            held.write_bytes(data)
            for request in (f"rm {name}", f"write {held} {name}"):
                tool("debugfs", "-w", "-R", request, volume)
        return disk

    @needs("debugfs")
    def test_no_password_and_no_personal_file_is_in_it(self):
        disk, bundle = self.linux_disk(), self.folder / "b.zip"
        self.assertIn(SECRET.encode(), disk.read_bytes())
        shown = self.run_here("gather", disk, "-o", bundle)
        self.assertIn("boot files", shown)
        with zipfile.ZipFile(bundle) as archive:
            held = b"".join(archive.read(name) for name in archive.namelist())
        self.assertNotIn(SECRET[12:].encode(), held)
        self.assertNotIn(OLDER.encode(), held)
        self.assertIn(b"root:$6$xxxxxxxx", held)  # the file itself was read, and is in it
        self.assertNotIn(b"Dear diary", held)
        self.assertNotIn(str(self.folder).encode(), held)
        self.assertEqual(bundle.stat().st_mode & 0o777, 0o600)

    def test_hives_with_secrets_keep_their_first_block_alone(self):
        disk, bundle = make_sample(SAMPLES["tide-table"], self.folder), self.folder / "b.zip"
        result = self.json_here("gather", disk, "-o", bundle)
        self.assertIn("SAM, but for its first block", " ".join(result["left_out"]))
        traced = self.json_here("trace", bundle)
        self.assertEqual(traced["failing_phase"], "loader")
        self.assertIn("as its disk answered", traced["target"]["path"])

    def test_logs_of_such_hives_and_packed_ones_are_left_out_whole(self):
        disk = make_sample(SAMPLES["harbour-1"], self.folder)
        data = bytearray(disk.read_bytes())
        hives = [at for at in range(0, len(data), 512) if data[at : at + 4] == b"regf"]
        with open_source(str(disk)) as source:
            volumes = open_environment(source)
            nt = next(each for each in volumes.volumes if each.filesystem == "ntfs")
            sam = volumes.files(nt).find("/ferry/system32/config/SAM")
            start = nt.offset + volumes.files(nt).extents(sam)[0][0]
            other = volumes.files(nt).find("/ferry/system32/config/DEFAULT")
            log = nt.offset + volumes.files(nt).extents(other)[0][0]
        self.assertIn(start, hives)
        secret = b"pursers-secret-9f"
        data[start + 4000 : start + 4000 + len(secret)] = secret  # in its first block
        data[start + 4200 : start + 4200 + len(secret)] = secret
        in_log = b"pursers-log-4c"
        data[log + 100 : log + 100 + len(in_log)] = in_log
        disk.write_bytes(data)
        logs = mock.patch.object(gathering, "_SECRETS", ("SAM", "DEFAULT"))  # as a log of it
        for number, packed in enumerate((False, True)):
            bundle = self.folder / f"{number}.zip"
            target = NamedTarget(str(disk), host_in(self.folder))
            plain = Files.extents

            def extents(files, found, packed=packed, plain=plain):
                hidden = packed and found.path.endswith("/SAM")
                return None if hidden else plain(files, found)

            with mock.patch.object(Files, "extents", extents), logs:
                result = gather(target, settle_output(bundle))
            with zipfile.ZipFile(bundle) as archive:
                held = b"".join(archive.read(name) for name in archive.namelist())
            self.assertEqual(held.count(secret), 0 if packed else 1)
            self.assertNotIn(in_log, held)
            self.assertEqual("which is packed" in " ".join(result.left_out), packed)


class Doubted(InFolder):
    def bundle(self):
        disk, bundle = make_sample(SAMPLES["quay-desk-2"], self.folder), self.folder / "b.zip"
        self.run_here("gather", disk, "-o", bundle)
        return bundle

    def changed(self, bundle, change):
        """The same bundle with another index, or another range."""
        other = self.folder / "other.zip"
        with zipfile.ZipFile(bundle) as old, zipfile.ZipFile(other, "w") as new:
            for name in old.namelist():
                data = old.read(name)
                if name == "bundle.json":
                    data = json.dumps(change(json.loads(data))).encode()
                new.writestr(name, data)
        return other

    def test_what_was_not_gathered_is_said_and_is_no_damage(self):
        bundle = self.bundle()
        with open_source(str(bundle)) as source:
            self.assertEqual(len(source.read(0, 512)), 512)
        said = self.run_here("search", bundle, expect=3)
        self.assertIn("were not gathered", said)
        self.assertIn("only read", self.run_here("mend", bundle, "--all", "--yes", expect=4))
        self.assertIn("no disk", self.run_here("gather", bundle, "-o", "x.zip", expect=4))
        self.assertIn(
            "there already",
            self.run_here("gather", self.folder / "quay-desk-2.img", "-o", bundle, expect=4),
        )

    def test_an_index_that_asks_for_anything_is_refused(self):
        bundle = self.bundle()

        def with_ranges(index, **first):
            index["ranges"][0] |= first
            return index

        wrong = (
            lambda index: index | {"bytes": 1 << 62},
            lambda index: index | {"bytes": -1},
            lambda index: index | {"sector": 3},
            lambda index: with_ranges(index, offset=-512),
            lambda index: with_ranges(index, length=1 << 40),
            lambda index: with_ranges(index, length=0),
            lambda index: with_ranges(index, sha256="0" * 64),
            lambda index: index | {"ranges": index["ranges"] * 2},
            lambda _: {"mending": "bundle/1"},
        )
        for change in wrong:
            other = self.changed(bundle, change)
            said = self.run_here("trace", other, expect=3)
            self.assertEqual(said.count("\n"), said.count("\n", 0, 400))
        other = self.folder / "cut.zip"
        shutil.copy(bundle, other)
        with other.open("r+b") as file:
            file.truncate(2000)
        self.run_here("trace", other, expect=None)

    def test_folders_moments_and_small_limits_are_refused(self):
        said = self.run_here("gather", self.folder, "-o", self.folder / "x.zip", expect=4)
        self.assertIn("only a disk", said)
        self.run_here("gather", self.folder / "none.img", "-o", "x.zip", expect=3)
        self.run_here("gather", self.folder, "-o", "x.zip", "--limit", "0", expect=2)


if __name__ == "__main__":
    unittest.main()
