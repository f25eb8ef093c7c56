"""Locked volumes: made by the real program, whose plain bytes are known, opened by our own view."""

import hashlib
import os
import re
import subprocess
import tempfile
import unittest
from pathlib import Path
from random import Random

import pexpect
from cryptography.hazmat.primitives.ciphers import Cipher
from cryptography.hazmat.primitives.ciphers.algorithms import AES
from cryptography.hazmat.primitives.ciphers.modes import XTS
from filelock import FileLock

from mending.disk.layout import survey
from mending.disk.locked import GivenKey, KeyRing
from mending.formats import luks
from mending.model import InputError, MendingError, Window
from mending.source import MemorySource, open_source
from mending.workshop.disks import _template
from tests.root_disks import root_disk
from tests.support import PROGRAM, InFolder, ids, needs, needs_mounts, sha, tool, trace_file
from tests.systems import cpio
from tests.templates import ROOT_UUID

MAKER = "cryptsetup"
ONE_AT_A_TIME = Path(tempfile.gettempdir()) / "mending-tests-luks.lock"
SECRET = b"seven calm seas"
QUICK = ("--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000")
MIB = 1 << 20
LUKS_UUID = "5ea00000-0000-4000-8000-00000000aaaa"
KINDS = {
    "large sectors": ("--sector-size", "4096"),
    "xts": ("--sector-size", "512"),
    "essiv": ("--cipher", "aes-cbc-essiv:sha256", "--key-size", "256"),
    "plain numbers": ("--cipher", "aes-xts-plain", "--key-size", "256"),
    "cbc": ("--cipher", "aes-cbc-plain64", "--key-size", "256"),
}
HEADS = {
    "version 1": ("--type", "luks1", "--pbkdf-force-iterations", "1000"),
    "argon2id": (
        "--type",
        "luks2",
        "--sector-size",
        "512",
        "--pbkdf-memory",
        "32768",
        "--pbkdf-force-iterations",
        "4",
    ),
    "argon2i": (
        *(
            "--type",
            "luks2",
            "--sector-size",
            "512",
            "--pbkdf",
            "argon2i",
            "--pbkdf-memory",
            "32768",
        ),
        *("--pbkdf-force-iterations", "4"),
    ),
}


class Locked(InFolder):
    def key(self, data=SECRET):
        path = self.folder / "key"
        path.write_bytes(data)
        return path

    def encrypted(self, plain, *words):
        """A volume whose plain bytes are known: the real program encrypts it in place."""
        path = self.folder / "locked.img"
        path.write_bytes(plain + bytes(32 * MIB))
        room = ("--reduce-device-size", "32M", "--type", "luks2", "--uuid", LUKS_UUID)
        self.made("reencrypt", "--encrypt", *room, *QUICK, *words, path)
        return path

    def made(self, *words):
        # it works on one volume of a name at a time, whatever the folder
        with FileLock(ONE_AT_A_TIME):
            done = subprocess.run(
                [MAKER, "-q", *map(str, words), "--key-file", self.key()],
                cwd=self.folder,  # it leaves a header there for a while, named after the volume
                capture_output=True,
                text=True,
                check=False,
            )
        self.assertEqual(done.returncode, 0, done.stderr)

    def opened(self, path, secret=SECRET):
        source = self.enterContext(open_source(str(path)))
        return KeyRing(GivenKey(secret)).unlocked(source, survey(source).volumes[0])


@needs(MAKER)
class Volumes(Locked):
    def test_plain_bytes_are_those_that_were_encrypted(self):
        plain = Random(3).randbytes(3 * MIB)
        for kind, words in KINDS.items():
            with self.subTest(kind):
                volume = self.opened(self.encrypted(plain, *words))
                self.assertEqual(volume.read(0, len(plain)), plain)
                for at, length in ((0, 1), (511, 2), (4090, 9000), (len(plain) - 7, 7)):
                    self.assertEqual(volume.read(at, length), plain[at : at + length])
                self.assertEqual(volume.read(volume.bytes, 1), b"")
                self.assertEqual(volume.read(-1, 1), b"")

    def test_heads_of_both_versions_and_every_way_to_stretch(self):
        for kind, words in HEADS.items():
            with self.subTest(kind):
                path = self.folder / "locked.img"
                path.write_bytes(b"")
                os.truncate(path, 24 * MIB)
                self.made("luksFormat", *words, path)
                dumped = self.folder / "volume.key"
                dumped.unlink(missing_ok=True)
                self.made("luksDump", "--dump-volume-key", "--volume-key-file", dumped, path)
                number = 5
                other = Cipher(AES(dumped.read_bytes()), XTS(number.to_bytes(16, "little")))
                plain = other.decryptor().update(bytes(512))  # nothing was written there yet
                self.assertEqual(self.opened(path).read(number * 512, 512), plain)
                with self.assertRaisesRegex(InputError, "opens none of the 1 key slots"):
                    self.opened(path, b"seven rough seas")

    def test_the_second_copy_of_a_head(self):
        plain = Random(3).randbytes(MIB)
        path = self.encrypted(plain)
        data = bytearray(path.read_bytes())
        data[5000:5100] = bytes(100)
        path.write_bytes(data)
        self.assertEqual(self.opened(path).read(0, MIB), plain)

    def test_heads_that_ask_for_anything(self):
        data = self.encrypted(bytes(MIB)).read_bytes()[: 17 * MIB]
        random, head = Random(9), 20_000
        for _ in range(400):
            hurt = bytearray(data[:head])
            for _ in range(random.choice((1, 6))):
                hurt[random.randrange(head)] = random.randrange(256)
            luks.read_luks(Window(bytes(hurt)))
        tree = data[4096:16384].split(b"\0")[0]
        for old, new in (
            (b'"iterations":1000', b'"iterations":-100'),
            (b'"stripes":4000', b'"stripes":-400'),
            (b'"size":"dynamic"', b'"size":"dynamit"'),
            (b'"key_size":64', b'"key_size":99'),
            (b'"type":"luks2"', b'"type":[1,2]'),
        ):
            self.assertIn(old, tree)
            hurt = bytearray(data)
            hurt[4096:16384] = tree.replace(old, new).ljust(12_288, b"\0")
            hurt[448:512] = bytes(64)
            hurt[448:480] = hashlib.sha256(hurt[:16384]).digest()
            hurt[16384:16390] = bytes(6)  # the other copy is gone
            source = MemorySource(bytes(hurt))
            with self.assertRaises(MendingError, msg=new):
                KeyRing(GivenKey(SECRET)).unlocked(source, survey(source).volumes[0])


@needs(MAKER)
class Disks(Locked):
    """A whole system behind a lock."""

    def disk(self, root="/dev/mapper/root"):
        path = self.encrypted(_template("linux-root.ext4"))
        line = f"root={root} ro rd.luks.name={LUKS_UUID}=root"
        return root_disk(self.folder, path, line)

    def test_told_without_a_key_and_traced_with_it(self):
        for root in ("/dev/mapper/root", "/dev/mapper/sda2_crypt", f"UUID={ROOT_UUID}"):
            with self.subTest(root):
                path = self.disk(root)
                told = self.json_here("trace", path)
                self.assertEqual(told["verdict"], "unsure")
                locked = next(each for each in told["volumes"] if each["filesystem"] == "luks")
                self.assertEqual(locked["locks"], ["key slot 0: a passphrase or key file (pbkdf2)"])
                found = self.json_here("trace", path, "--key-file", self.key())
                self.assertEqual(found["verdict"], "no-fault-found", found["phases"])
                self.assertEqual(found["systems"][0]["title"], "Ferry Linux 3")

    def test_an_initramfs_that_would_unlock_another_volume_is_told_without_a_key(self):
        path, line = self.encrypted(_template("linux-root.ext4")), "root=/dev/mapper/root ro"
        for name, row, stops in (
            ("root", f"UUID={LUKS_UUID}", False),
            ("root", "UUID=5ea00000-0000-4000-8000-00000000dead", True),
            ("gangway", "UUID=5ea00000-0000-4000-8000-00000000dead", True),
            ("gangway", f"UUID={LUKS_UUID}", False),
        ):
            table = f"{name} {row} none luks\n".encode()
            inside = cpio({"init": b"#!/bin/sh\n", "cryptroot/crypttab": table})
            trace = trace_file(root_disk(self.folder, path, line, inside))
            self.assertEqual(ids(trace, "fatal"), ["initramfs-lacks-part"] if stops else [])
            self.assertEqual(trace.failing_phase, "kernel" if stops else None)

    def plain_of(self, volume):
        """The plain bytes by the volume key that the real program tells, and another library."""
        words = ("luksDump", "-q", "--dump-volume-key", "--key-file", self.key(), volume)
        told = tool(MAKER, *words)
        key = bytes.fromhex("".join(told.partition("MK dump:")[2].split()))
        start = int(re.search(r"offset: (\d+) \[bytes\]", tool(MAKER, "luksDump", volume))[1])
        data = volume.read_bytes()[start:]
        return b"".join(
            Cipher(AES(key), XTS((at // 512).to_bytes(16, "little")))
            .decryptor()
            .update(data[at : at + 512])
            for at in range(0, len(data) // 512 * 512, 512)
        )

    @needs("debugfs", "fuse2fs")
    @needs_mounts
    def test_a_repair_inside_is_read_by_others_and_undone_without_a_key(self):
        plain, table = self.folder / "plain", self.folder / "fstab"
        plain.write_bytes(_template("linux-root.ext4"))
        lost = "5ea00000-dead-4000-8000-000000000001"
        rows = (f"UUID={ROOT_UUID} / ext4 defaults 0 1", f"UUID={lost} /srv ext4 defaults 0 2", "")
        table.write_text("\n".join(rows))
        tool("debugfs", "-w", "-R", "rm etc/fstab", plain)
        tool("debugfs", "-w", "-R", f"write {table} etc/fstab", plain)
        volume = self.encrypted(plain.read_bytes(), "--sector-size", "512")
        before = self.plain_of(volume)
        line = f"root=/dev/mapper/root ro rd.luks.name={LUKS_UUID}=root"
        path = root_disk(self.folder, volume, line)
        locked, key = sha(path), ("--key-file", self.key())
        told = self.json_here("mend", path, "mount-optional", "--mount", "--yes", *key)
        self.assertTrue(told["done"])
        data = path.read_bytes()
        start = data.index(volume.read_bytes()[:4096])
        volume.write_bytes(data[start : start + volume.stat().st_size])
        after = self.plain_of(volume)
        self.assertIn(b"nofail", after)
        written = {
            (write["offset"] + at) // 512
            for write in told["writes"]
            for at in range(0, write["length"], 512)
        }
        self.assertLess(len(written), 200)
        places = range(0, len(after), 512)
        unlike = sum(before[at : at + 512] != after[at : at + 512] for at in places)
        self.assertEqual(unlike, len(written))
        self.run_here("undo", path)
        self.assertEqual(sha(path), locked)

    def test_a_key_from_the_terminal_a_file_and_a_wrong_one(self):
        path = self.disk()
        shown = self.run_here("trace", path, "--unlock", stdin=SECRET.decode() + "\n")
        self.assertIn("no fault found", shown)
        shown = self.run_here("trace", path)
        self.assertIn("is locked; key slot 0: a passphrase or key file", shown)
        given = ("trace", path, "--key-file", "/dev/stdin")
        self.assertIn("no fault found", self.run_here(*given, stdin=SECRET.decode()))
        wrong = self.key(b"rough seas")
        told = self.run_here("trace", path, "--key-file", wrong, expect=3)
        self.assertIn("opens none of the 1 key slots of volume 2", told)
        self.run_here("trace", path, "--key-file", self.folder / "none", expect=3)
        self.run_here("trace", self.folder, "--key-file", wrong, expect=2)

    def test_what_is_typed_is_not_shown(self):
        path = self.disk()
        with pexpect.spawn(
            str(PROGRAM), ["trace", str(path), "--unlock"], encoding="utf-8", timeout=60
        ) as seen:
            seen.expect("passphrase: ")
            seen.sendline(SECRET.decode())
            seen.expect(pexpect.EOF)
            self.assertNotIn(SECRET.decode(), seen.before)
            self.assertIn("no fault found", seen.before)

    def test_a_case_keeps_nothing_of_the_key(self):
        path, case = self.disk(), self.folder / "case"
        self.run_here("open", case, "--disk", path)
        self.run_here("trace", case, "--key-file", self.key())
        self.key().unlink()
        path.unlink()
        (self.folder / "locked.img").unlink()
        kept = [each for each in self.folder.rglob("*") if each.is_file()]
        self.assertGreater(len(kept), 2)
        for each in kept:
            data = each.read_bytes()
            for form in (
                SECRET,
                SECRET.hex().encode(),
                hashlib.sha256(SECRET).hexdigest().encode(),
            ):
                self.assertNotIn(form, data, each)


if __name__ == "__main__":
    unittest.main()
