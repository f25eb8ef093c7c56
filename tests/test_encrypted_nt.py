"""Encrypted volumes of the nt family: real samples against an independent reader, and a whole
system behind a real head.
"""

import contextlib
import hashlib
import os
import struct
import unittest
import zlib
from random import Random

import pybde
from cryptography.hazmat.primitives.ciphers import Cipher
from cryptography.hazmat.primitives.ciphers.algorithms import AES
from cryptography.hazmat.primitives.ciphers.modes import CBC, ECB, XTS

from mending.disk.layout import survey
from mending.disk.locked import unlock_fve, unlocking
from mending.disk.volume import fve_head
from mending.formats import fve
from mending.model import InputError, MendingError
from mending.source import MemorySource, open_source
from mending.workshop.nt import other_program_at_sign_in
from tests.nt_pc import PROGRAMS, SYSTEM_AT, SYSTEM_BYTES, NtPc
from tests.samples import needs_samples, read_samples, sample_stream
from tests.support import InFolder, Overlaid, ids, needs, part_of, trace_file

MIB, SECTOR = 1 << 20, 512
PASSWORD = b"password12!@"
STICK_PASSWORD = b"bde-TEST"
PASSWORDS = ("aes_128", "aes_256", "aes-xts_128", "aes-xts_256", "aes_128_diffuser")
DIGITS = b"284867-596541-514998-422114-660297-261613-215424-199408"
OLD_DIGITS = b"517506-503998-044583-576191-587004-635965-501270-087802"
HALF_DIGITS = b"131450-120197-153989-250338-511368-495572-680944-381546"
FOLDER = "_data/bde"
SUMS = {
    "vista": "dbe79012159ecff65fb5fc3e2f0855ed56a0762c1b1dade6ab8cee31687852a7",
    "decrypted": "b3f17a20397b06aa2030da90398cb5e02b5138e96bfe63316c0f863a66282b82",
}
"""Of plain bytes, worked out by a reader that knows these two kinds (dissect.fve)."""
HALF_SUMS = {
    (0, 4 * MIB): "76f94f800a5eeb2762c80176614915dab92db8158f888aaf82d40b2b6bc1ad35",
    (0x442D5000 - MIB, 2 * MIB): "2ea6c73d697560995ede9e2bfc4a2bbe05e9a70f5582c90b93cc9d043940e2ec",
    (0x1FFA7000, 16384): "b586a29e89c262fe90eb2b850eb7140424b3903ed39cf568d5d9b3131afd1c41",
    (0x2E2B000, 200_000): "050bcd1704a3f3b9d0c01b9081b3e0522ca212778997d1948d973a4f5a306d55",
}
"""The same of places of a volume that is half decrypted: around the edge, the first sectors, a
block of its head."""


def sample(name):
    return next(data for _, data in read_samples("dissect.fve", f"{FOLDER}/{name}.bin.gz"))


def key_file(name):
    with sample_stream("dissect.fve", f"{FOLDER}/{name}.bek") as file:
        return file.read()


def volume_key(data, secret):
    """The key of the volume itself."""
    source = MemorySource(data)
    head = fve_head(source, survey(source).volumes[0])
    protector = head.protectors[-1]
    (key,) = unlocking._keys(protector, secret)
    return unlocking._unlocked(head.volume_key, unlocking._opened(protector.inside, key))[:32]


def opened(data, secret):
    source = MemorySource(data)
    return unlock_fve(source, survey(source).volumes[0], secret)


class Theirs(InFolder):
    def plain(self, data, **ways):
        """What the independent reader makes of a volume."""
        path = self.folder / "volume"
        path.write_bytes(data)
        volume = pybde.volume()
        if "password" in ways:
            volume.set_password(ways["password"].decode())
        if "digits" in ways:
            volume.set_recovery_password(ways["digits"].decode())
        if "file" in ways:
            held = self.folder / "key"
            held.write_bytes(ways["file"])
            volume.read_startup_key(str(held))
        volume.open(str(path))
        self.assertFalse(volume.is_locked())
        found = b""
        while len(found) < len(data):
            found += volume.read_buffer(min(MIB, len(data) - len(found)))
        volume.close()
        return found


@needs_samples("dissect.fve")
class Samples(Theirs):
    def compared(self, name, secret, **ways):
        data = sample(name)
        volume = opened(data, secret)
        mine = volume.read(0, len(data))
        self.assertEqual(mine == self.plain(data, **ways), True, name)
        random = Random(name)
        for _ in range(40):
            at, length = random.randrange(len(data)), random.randrange(1, 20_000)
            self.assertEqual(volume.read(at, length), mine[at : at + length])
        self.assertEqual((volume.read(len(data), 1), volume.read(-1, 1)), (b"", b""))

    def test_every_cipher_by_password(self):
        for name in part_of(PASSWORDS, 2):
            with self.subTest(name):
                self.compared(name, PASSWORD, password=PASSWORD)

    def test_every_other_way_in(self):
        self.compared("recovery_password", DIGITS, digits=DIGITS)
        for name in ("recovery_key", "startup_key"):
            self.compared(name, key_file(name), file=key_file(name))
        self.compared("suspended", None)

    def test_the_first_version_and_one_that_is_decrypted(self):
        for name, secret in (("vista", OLD_DIGITS), ("decrypted", None)):
            data = sample(name)
            plain = opened(data, secret).read(0, len(data))
            self.assertEqual(hashlib.sha256(plain).hexdigest(), SUMS[name], name)

    def test_one_that_is_half_decrypted(self):
        path = self.folder / "half.img"
        with path.open("wb") as file, sample_stream("dissect.fve", f"{FOLDER}/win7*") as packed:
            while piece := packed.read(MIB):
                if piece.count(0) != len(piece):
                    file.write(piece)
                else:
                    file.seek(len(piece), os.SEEK_CUR)
            file.truncate(file.tell())
        with open_source(str(path)) as source:
            volume = unlock_fve(source, survey(source).volumes[0], HALF_DIGITS)
            for (at, length), total in HALF_SUMS.items():
                plain = volume.read(at, length)
                self.assertEqual(hashlib.sha256(plain).hexdigest(), total, hex(at))

    @needs_samples("dfvfs-source")
    def test_one_whose_first_sector_is_that_of_another_kind(self):
        """A volume on a stick that FAT readers may see: its first sector names no encryption."""
        data = next(data for _, data in read_samples("dfvfs-source", "bdetogo.raw"))
        mine = opened(data, STICK_PASSWORD).read(0, len(data))
        self.assertEqual(mine == self.plain(data, password=STICK_PASSWORD), True)
        path = self.folder / "stick.img"
        path.write_bytes(data)
        trace = trace_file(path)
        self.assertEqual((trace.verdict, ids(trace)), ("unsure", ["volume-encrypted"]))
        self.assertEqual([volume.filesystem for volume in trace.volumes], ["encrypted"])

    def test_wrong_keys_and_ways_in_are_told(self):
        data = sample("recovery_password")
        for wrong in (b"password12!!", b"0" * 48, DIGITS[:-1] + b"9", b"\xff\xfe", b"", None):
            with self.assertRaisesRegex(InputError, "none of the 2 ways into volume 1"):
                opened(data, wrong)
        source = MemorySource(data)
        says = fve_head(source, survey(source).volumes[0]).says
        self.assertIn("encrypted, aes-128-xts, called DESKTOP", says[0])
        self.assertIn("identifier 3C116B76-C67B-484E-B439-CE2ED68B561E", says[1])
        self.assertEqual(opened(data, DIGITS.replace(b"-", b" ")).read(3, 4), b"NTFS")

    def test_a_damaged_copy_of_the_head_makes_way_for_another(self):
        data = bytearray(sample("suspended"))
        first = fve.read_first(bytes(data))
        for number, place in enumerate(first.blocks):
            self.assertEqual(opened(bytes(data), None).read(3, 4), b"NTFS", number)
            data[place + 200] ^= 1
            data[place + 300] ^= 1
            if number == 1:
                data[place : place + 8] = bytes(8)

    def test_maps_of_chunks(self):
        data = next(data for _, data in read_samples("dissect.fve", f"{FOLDER}/decrypted*"))
        first = fve.read_first(data)
        described = fve.read_description(data[first.maps[0] :][: fve.DESCRIPTION_BYTES])
        self.assertEqual((described.chunk, len(described.places)), (8 * MIB, 6))
        at = described.places[0]
        found = fve.read_map(data[at : at + fve.MAP_BYTES])
        self.assertEqual((found.start, found.end), (0x2000, 0x11F0000))
        random = Random(3)
        for _ in range(200):
            hurt = bytearray(data[at : at + 2048])
            hurt[random.randrange(60)] ^= 1 << random.randrange(8)
            self.assertIsNone(fve.read_map(bytes(hurt)))

    def test_heads_that_ask_for_anything(self):
        """Bytes changed in a head, its checksum set right again: our own error, or plain bytes."""
        data, random = bytearray(sample("suspended")), Random(5)
        first = fve.read_first(bytes(data))
        place = first.blocks[0]
        for other in first.blocks[1:]:
            data[other : other + 8] = bytes(8)
        block, start = bytes(data[place : place + 1024]), bytes(data[:512])
        size = int.from_bytes(block[8:10], "little") * 16
        source = Overlaid(bytes(data))
        methods = [block.replace(b"\x04\x80\0\0", bytes([each, 0x80, 0, 0])) for each in range(6)]
        for number in range(700):
            hurt, head = bytearray(block), bytearray(start)
            hurt = bytearray(methods[number]) if number < len(methods) else hurt
            for _ in range(random.choice((1, 1, 4)) if number >= len(methods) else 0):
                value = random.choice((0, 1, 0x7F, 0x80, 0xFF, random.randrange(256)))
                hurt[random.randrange(8, size)] = value
            hurt[size + 4 : size + 8] = zlib.crc32(hurt[:size]).to_bytes(4, "little")
            if random.random() < 0.2:
                head[random.randrange(11, 200)] = random.randrange(256)
            source.over = {place: bytes(hurt), 0: bytes(head)}
            for volume in survey(source).volumes:
                with contextlib.suppress(MendingError):
                    unlock_fve(source, volume, None).read(0, 70_000)


def lock(pc, name):
    """Put the system's volume of a PC behind the head of a sample, encrypted here with the
    sample's key.
    """
    data = sample(name)
    first = fve.read_first(data)
    block = bytearray(data[first.blocks[0] :][:1024])
    size = int.from_bytes(block[8:10], "little") * 16
    key = volume_key(data, PASSWORD if name != "suspended" else None)
    with pc.path.open("rb") as disk:
        disk.seek(SYSTEM_AT)
        plain = disk.read(SYSTEM_BYTES)
    free = plain.index(bytes(MIB), 4 * MIB) // 4096 * 4096 + 4096  # nothing lies there
    places = [free, free + 0x20000, free + 0x40000]
    moved = free + 0x60000
    struct.pack_into("<Q", block, 16, SYSTEM_BYTES)
    block = block.replace(block[56:64], moved.to_bytes(8, "little"))  # an entry names it, too
    struct.pack_into("<4Q", block, 32, *places, moved)
    block[size + 4 : size + 8] = zlib.crc32(block[:size]).to_bytes(4, "little")

    def sealed(start, part):
        return b"".join(
            _sector(name, key, start // SECTOR + number, part[at : at + SECTOR])
            for number, at in enumerate(range(0, len(part), SECTOR))
        )

    hidden = bytearray(sealed(0, plain))
    hidden[moved : moved + 8192] = sealed(moved, plain[:8192])
    for place in places:
        hidden[place : place + 0x10000] = bytes(block).ljust(0x10000, b"\0")
    head = bytearray(data[:512])
    struct.pack_into("<3Q", head, 176, *places)
    hidden[:512] = head
    pc.put(SYSTEM_AT, hidden)


def _sector(name, key, number, plain):
    if "xts" in name or name == "suspended":
        return Cipher(AES(key), XTS(number.to_bytes(16, "little"))).encryptor().update(plain)
    place = (number * SECTOR).to_bytes(16, "little")
    first = Cipher(AES(key[:16]), ECB()).encryptor().update(place)
    return Cipher(AES(key[:16]), CBC(first)).encryptor().update(plain)


@needs_samples("dissect.fve")
@needs(*PROGRAMS)
class WholeSystem(InFolder):
    """A system of the workshop behind the head of a real sample: the volume is encrypted here with
    the sample's key, for no program that encrypts so runs here.
    """

    def test_told_without_a_key_and_traced_with_it(self):
        pc = NtPc(self.folder, "uefi")
        sound = self.json_here("trace", pc.path)
        lock(pc, "aes-xts_128")
        told = self.json_here("trace", pc.path)
        self.assertEqual(told["verdict"], "unsure")
        volume = next(each for each in told["volumes"] if each["filesystem"] == "encrypted")
        self.assertIn("a password, identifier 55FAEDED", " ".join(volume["locks"]))
        secret = self.folder / "secret"
        secret.write_bytes(PASSWORD)
        found = self.json_here("trace", pc.path, "--key-file", secret)
        states = [[phase["state"] for phase in each["phases"]] for each in (sound, found)]
        self.assertEqual(states[0], states[1])
        self.assertEqual(found["verdict"], sound["verdict"])
        shown = self.run_here("trace", pc.path, "--unlock", stdin=PASSWORD.decode() + "\n")
        self.assertIn("inside volume", shown)
        told = self.run_here("trace", pc.path, "--unlock", stdin="rough seas\n", expect=3)
        self.assertIn("opens none of the 1 ways into volume", told)

    def test_everything_reads_through_the_lock_and_nothing_keeps_the_key(self):
        pc, changed = NtPc(self.folder, "uefi"), self.folder / "changed"
        changed.mkdir()
        other = NtPc(changed, "uefi", other_program_at_sign_in)
        sound = {name: self.json_here(name, pc.path) for name in ("files", "crashes")}
        direct = self.json_here("compare", pc.path, other.path)
        lock(pc, "aes-xts_128")
        place = self.folder / "secret"
        place.write_bytes(PASSWORD)
        key = ("--key-file", place)
        files = self.json_here("files", pc.path, *key)
        for name in ("checked", "files", "proofs"):
            self.assertEqual(files[name], sound["files"][name])
        crashes = self.json_here("crashes", pc.path, *key)
        self.assertEqual(len(crashes["files"]), len(sound["crashes"]["files"]))
        found = self.json_here("compare", pc.path, other.path, *key)
        self.assertEqual(found["changes"], direct["changes"])
        case = self.folder / "case"
        self.run_here("open", case, "--disk", pc.path)
        self.run_here("trace", case, *key)
        self.run_here("crashes", case, *key)
        self.run_here("report", case, "-o", self.folder / "page.html")
        hashed = [hashlib.sha256(PASSWORD).hexdigest(), PASSWORD.decode().encode("utf-16-le").hex()]
        place.unlink()
        for each in [each for each in self.folder.rglob("*") if each.is_file()]:
            data = each.read_bytes()
            for form in (PASSWORD, *map(str.encode, hashed), PASSWORD.decode().encode("utf-16-le")):
                self.assertNotIn(form, data, each)

    def test_a_suspended_one_needs_no_key_and_faults_inside_are_found(self):
        pc = NtPc(self.folder, "uefi")
        pc.lose("SYSTEM")
        sound = self.json_here("trace", pc.path)
        lock(pc, "suspended")
        found = self.json_here("trace", pc.path)
        self.assertIn("suspended: its key lies open", str(found["volumes"]))
        ids = [[each["id"] for each in told["findings"]] for told in (sound, found)]
        self.assertEqual(ids[0], ids[1])
        self.assertEqual(found["verdict"], sound["verdict"])


if __name__ == "__main__":
    unittest.main()
