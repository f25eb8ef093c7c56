"""What was signed of programs: a real signed one, page by page, and catalogues made by OpenSSL."""

import hashlib
import re
import struct
import subprocess
import unittest
from collections import Counter
from pathlib import Path
from random import Random
from unittest.mock import patch

import pefile
from asn1crypto import algos, core

from mending.disk.files import open_files
from mending.disk.layout import survey
from mending.disk.system.installed import Catalogues
from mending.formats import pe, signatures
from mending.source import open_source
from tests.nt_pc import BASE, PROGRAMS, NtPc, put_by_driver
from tests.samples import LISTED, SIGNED, needs_listed, needs_signed
from tests.support import EVERY, InFolder, needs, needs_mounts, tool

PAGE = 4096
SHA256_PAGES = "1.3.6.1.4.1.311.2.3.2"
MEMBER_FILE = "1.3.6.1.4.1.311.12.2.1"
MIB = 1 << 20


def left_out(data):
    """What a digest leaves out, by an independent reader of headers."""
    image = pefile.PE(data=data, fast_load=True)
    header = image.OPTIONAL_HEADER
    row = header.DATA_DIRECTORY[4]
    checksum = header.get_field_absolute_offset("CheckSum")
    start = row.VirtualAddress or len(data)
    return checksum, row.get_file_offset(), start, row.Size


def digest(data):
    checksum, row, start, _ = left_out(data)
    counted = data[:checksum] + data[checksum + 4 : row] + data[row + 8 : start]
    return hashlib.sha256(counted + bytes(-start % 8)).digest()


def sequence(*parts, tag=b"\x30"):
    body = b"".join(parts)
    length = len(body)
    head = bytes([length]) if length < 128 else b"\x84" + length.to_bytes(4, "big")
    return tag + head + body


def indirect(total, pages=b""):
    """The content of a signature of a file, with digests of its pages."""
    algorithm = algos.DigestAlgorithm({"algorithm": "sha256"}).dump()
    told = sequence(algorithm, core.OctetString(total).dump())
    kind = core.ObjectIdentifier("1.3.6.1.4.1.311.2.1.15").dump()
    held = sequence(core.OctetString(pages).dump(), tag=b"\x31")
    inner = sequence(core.ObjectIdentifier(SHA256_PAGES).dump(), held)
    value = sequence(inner if pages else b"")
    return sequence(sequence(kind, value), told)


def page_digests(data):
    checksum, row, start, _ = left_out(data)
    table = b""
    for at in range(0, start, PAGE):
        page = data[at : min(at + PAGE, start)]
        if at == 0:
            page = page[:checksum] + page[checksum + 4 : row] + page[row + 8 :]
            page = page.ljust(PAGE - 12, b"\0")
        table += (
            struct.pack("<I", at) + hashlib.sha256(page.ljust(PAGE if at else 0, b"\0")).digest()
        )
    return table + struct.pack("<I", start) + bytes(32)


def catalogues():
    """The catalogues that packages bring, by their path below the samples."""
    return {str(path.relative_to(LISTED)): path for path in sorted(LISTED.rglob("*.cat"))}


def programs():
    """Programs, libraries and drivers that packages bring, by their path below the samples."""
    return {
        str(path.relative_to(LISTED)): path.read_bytes()
        for path in sorted(LISTED.rglob("*"))
        if path.is_file() and path.suffix != ".cat"
    }


def printed_digests(path):
    """What OpenSSL prints of a catalogue's content: strings as long as the digest before them."""
    shown = tool("openssl", "asn1parse", "-inform", "DER", "-in", path)
    rows = re.findall(r"(\d+):d=\d+ +hl=(\d+) l= *(\d+) (?:cons|prim): +(.*)", shown)
    kind = next(at for at, row in enumerate(rows) if row[3].endswith(signatures.SUBJECTS))
    end = sum(map(int, rows[kind + 1][:3]))
    digests, name = set(), ""
    for at, _, _length, says in rows:
        if int(at) < end and says.startswith("OBJECT"):
            name = says.rpartition(":")[2]
        elif int(at) < end and name in ("sha1", "sha256") and "HEX DUMP" in says:
            digests.add(bytes.fromhex(says.rpartition(":")[2]))
            name = ""
    return digests


class Signing(InFolder):
    def structure(self, content, kind):
        """A signed structure around some content, made by OpenSSL."""
        held, out = self.folder / "content", self.folder / "signed"
        held.write_bytes(content)
        key, own = self.folder / "key.pem", self.folder / "own.pem"
        if not key.exists():
            words = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "9"]
            words += ["-subj", "/CN=Skerrivane Ferries", "-keyout", key, "-out", own]
            subprocess.run(words, check=True, capture_output=True)
        words = ["openssl", "cms", "-sign", "-binary", "-nodetach", "-outform", "DER"]
        words += ["-econtent_type", kind, "-signer", own, "-inkey", key, "-in", held, "-out", out]
        subprocess.run(words, check=True, capture_output=True)
        return out.read_bytes()

    def signed(self, data):
        """A program with a signature behind it."""
        data += bytes(-len(data) % 8)
        held = self.structure(indirect(digest(data), page_digests(data)), signatures.INDIRECT)
        held += bytes(-len(held) % 8)
        _, row, _, _ = left_out(data)
        table = struct.pack("<II", len(data), len(held) + 8)
        made = data[:row] + table + data[row + 8 :]
        made += struct.pack("<IHH", len(held) + 8, 0x200, 2) + held
        return summed(made)

    def catalogue(self, *programs):
        """A list of these programs, each by its digest in both places where one may stand."""
        subjects = []
        for number, data in enumerate(programs):
            total = digest(data)
            named = "".join(f"{each:02X}" for each in total).encode("utf-16-le")
            identifier = total if number % 2 else named  # newer lists name a subject so, older so
            value = sequence(indirect(total), tag=b"\x31")
            kind = core.ObjectIdentifier(signatures.INDIRECT).dump()
            attributes = sequence(sequence(kind, value), tag=b"\x31")
            subjects.append(sequence(core.OctetString(identifier).dump(), attributes))
        usage = sequence(core.ObjectIdentifier("1.3.6.1.4.1.311.12.1.1").dump())
        body = sequence(usage, core.OctetString(bytes(16)).dump(), sequence(*subjects))
        return self.structure(body, signatures.SUBJECTS)


def summed(data):
    checksum, *_ = left_out(data)
    kept = pe.checksum(data)
    if kept is None:
        return data
    return data[:checksum] + struct.pack("<I", kept[1]) + data[checksum + 4 :]


@needs_signed
class RealOne(unittest.TestCase):
    def test_both_signatures_of_a_real_program_hold(self):
        data = SIGNED.read_bytes()
        found = signatures.signatures_of(data)
        self.assertGreaterEqual(len(found), 1)
        self.assertEqual({each.digest for each in found}, {digest(data)})
        self.assertEqual(signatures.judged(data), (True, None))

    def test_every_changed_byte_is_found_or_left_out(self):
        data, random = SIGNED.read_bytes(), Random(7)
        left, outside = signatures.left_out(data), 0
        places = [random.randrange(len(data)) for _ in range(190)] + [216, 219, 296, 303, 304]
        places += [random.randrange(left.signatures[0], len(data)) for _ in range(5)]
        self.assertEqual(len(places), 200)
        for at in places:
            hurt = bytearray(data)
            hurt[at] ^= 1 << random.randrange(8)
            verdict = signatures.judged(bytes(hurt))[0]
            if left.covers(at):
                outside += 1
            else:
                self.assertIs(verdict, False, at)
        self.assertGreater(outside, 5)

    def test_two_thousand_changes_in_the_signatures_themselves(self):
        data, random = SIGNED.read_bytes(), Random(8)
        left = signatures.left_out(data)
        start, size = left.signatures
        small = bytearray(data[:1024] + data[start:])
        struct.pack_into("<II", small, left.row[0], 1024, size)
        for _ in range(2000):
            hurt = bytearray(small)
            for _ in range(random.choice((1, 3))):
                hurt[random.randrange(1024, 1024 + size)] = random.randrange(256)
            signatures.signatures_of(bytes(hurt))


@needs_listed
@needs("openssl")
class Listed(unittest.TestCase):
    def test_catalogues_list_what_another_reader_prints(self):
        every = catalogues()
        self.assertGreater(len(every), 1000)
        total = {path: signatures.catalogue_digests(path.read_bytes()) for path in every.values()}
        self.assertTrue(all(total.values()))
        longest = sorted(total, key=lambda path: -path.stat().st_size)[:10]
        for path in [*longest, *Random(5).sample(list(total), 30 if not EVERY else 400)]:
            self.assertEqual(total[path], printed_digests(path), path)

    def test_damaged_ones_list_no_more_than_they_hold(self):
        random = Random(9)
        for path in random.sample(list(catalogues().values()), 40):
            data = path.read_bytes()
            whole = signatures.catalogue_digests(data)
            for _ in range(50 if EVERY else 10):
                hurt = bytearray(data)
                for _ in range(random.choice((1, 3))):
                    hurt[random.randrange(len(hurt))] = random.randrange(256)
                cut = bytes(hurt[: random.choice((len(hurt), random.randrange(len(hurt))))])
                self.assertLessEqual(len(signatures.catalogue_digests(cut)), len(whole) + 1)

    def test_programs_are_listed_or_signed_and_changed_ones_are_not(self):
        listed = frozenset().union(
            *(signatures.catalogue_digests(path.read_bytes()) for path in catalogues().values())
        )
        kinds, random = Counter(), Random(6)
        for name, data in programs().items():
            signed = signatures.judged(data)[0]
            known = not listed.isdisjoint(signatures.listed_as(data))
            kinds[signed, known] += 1
            if not (signed or known):
                continue
            left = signatures.left_out(data)
            for _ in range(20):
                at = random.randrange(512, left.signatures[0])
                hurt = bytearray(data)
                hurt[at] ^= 1 << random.randrange(8)
                if not left.covers(at):
                    self.assertIsNot(signatures.judged(bytes(hurt))[0], True, name)
                    self.assertTrue(listed.isdisjoint(signatures.listed_as(bytes(hurt))), name)
        self.assertEqual({each for each, _ in kinds}, {True, None})  # none of them is damaged
        self.assertGreaterEqual(kinds[True, False], 20)
        self.assertGreaterEqual(kinds[None, True], 5)


@needs_signed
@needs("openssl", "ntfs-3g", *PROGRAMS)
class MadeOnes(Signing):
    def test_the_first_page_that_differs(self):
        program = SIGNED.read_bytes()[:60_000]
        start = left_out(program)
        program = program[: start[1]] + bytes(8) + program[start[1] + 8 :]
        made = self.signed(program)
        self.assertEqual(signatures.judged(made), (True, None))
        for at in (5000, 4096, 59_999, 1000):
            hurt = bytearray(made)
            hurt[at] ^= 1
            self.assertEqual(signatures.judged(bytes(hurt)), (False, at // PAGE * PAGE))

    def test_catalogues_tell_listed_programs_from_others(self):
        program = SIGNED.read_bytes()
        others = [program[:-8] + bytes([number]) * 8 for number in range(3)]
        listed = signatures.catalogue_digests(self.catalogue(program, *others[:2]))
        self.assertIn(digest(program), listed)
        self.assertEqual(signatures.catalogue_digests(b"none"), frozenset())
        random, whole = Random(3), self.catalogue(program)
        for _ in range(500):
            hurt = bytearray(whole)
            for _ in range(random.choice((1, 4))):
                hurt[random.randrange(len(hurt))] = random.randrange(256)
            signatures.catalogue_digests(bytes(hurt))

    @needs_mounts
    def test_a_system_its_signed_programs_and_its_catalogue(self):
        pc = NtPc(self.folder, "uefi")
        files = self.files_of(pc, f"{BASE}/ntoskrnl.exe", f"{BASE}/drivers/quaydisk.sys")
        kernel, quay = (
            files[f"{BASE}/ntoskrnl.exe"],
            self.signed(files[f"{BASE}/drivers/quaydisk.sys"]),
        )
        lists = f"{BASE}/catroot/{{f750e6c3}}"
        files = {
            f"{BASE}/drivers/quaydisk.sys": quay,
            f"{lists}/harbour.cat": self.catalogue(kernel),
            f"{lists}/broken.cat": b"\x30\x84\xff\xff\xff\xff",
        }
        put_by_driver(pc, files)
        found = self.json_here("files", pc.path)
        self.assertEqual(found["files"], [])
        self.assertEqual((found["proofs"]["signature"], found["proofs"]["catalogue"]), (1, 1))
        self.bounded(pc, kernel)
        self.assertGreater(found["proofs"]["header-sum"], 5)
        shown = self.run_here("files", pc.path)
        self.assertIn("by a catalogue of the system", shown)
        self.assertIn("who signed is not judged", shown)
        put_by_driver(pc, {f"{BASE}/extra.dll": kernel})
        every = self.json_here("files", pc.path, "--every")
        self.assertEqual(every["proofs"]["catalogue"], 2)
        hurt = bytearray(quay)
        middle = pefile.PE(data=quay, fast_load=True).sections[0].PointerToRawData + 40
        hurt[middle] ^= 1
        put_by_driver(
            pc, {f"{BASE}/drivers/quaydisk.sys": summed(bytes(hurt))}
        )  # the sum is set right
        found = self.json_here("files", pc.path, "--check", expect=1)
        self.assertEqual(
            [each["path"] for each in found["files"]], [f"/{BASE}/drivers/quaydisk.sys"]
        )
        self.assertIn("not those that were signed; the first page", found["files"][0]["why"])
        trace = self.json_here("trace", pc.path)
        self.assertIn("boot-driver-damaged", [each["id"] for each in trace["findings"]])

    @needs_listed
    @needs_mounts
    def test_a_system_with_programs_and_catalogues_of_packages(self):
        pc = NtPc(self.folder, "uefi")
        lists = f"{BASE}/catroot/{{f750e6c3}}"
        files = {
            f"{lists}/{number}.cat": path.read_bytes()
            for number, path in enumerate(catalogues().values())
        }
        held = {
            f"{BASE}/{number}{Path(name).suffix}": data
            for number, (name, data) in enumerate(programs().items())
        }
        put_by_driver(pc, files | held)
        listed = frozenset().union(*map(signatures.catalogue_digests, files.values()))
        signed = {name for name, data in held.items() if signatures.judged(data)[0]}
        known = {
            name for name, data in held.items() if not listed.isdisjoint(signatures.listed_as(data))
        }
        self.assertGreaterEqual(len(signed | known), 27)
        before = self.json_here("files", pc.path, "--every")
        self.assertEqual(before["files"], [])
        proofs = before["proofs"]
        self.assertEqual((proofs["signature"], proofs["catalogue"]), (len(signed), len(known)))
        hurt = {name: bytearray(held[name]) for name in signed | known}
        for data in hurt.values():
            data[signatures.left_out(bytes(data)).signatures[0] * 3 // 4] ^= 1
        put_by_driver(pc, {name: summed(bytes(data)) for name, data in hurt.items()})
        after = self.json_here("files", pc.path, "--every")
        found = {each["path"].removeprefix("/") for each in after["files"]}
        self.assertEqual(found, signed)  # of the others no digest on the disk is known any more
        self.assertEqual(after["proofs"].get("catalogue", 0), 0)

    def bounded(self, pc, listed):
        """Catalogues are read until there are more digests than a system has."""
        put_by_driver(pc, {f"{BASE}/catroot/a.cat": self.catalogue(SIGNED.read_bytes())})
        with open_source(str(pc.path)) as source:
            there = open_files(source, survey(source).volumes[1])
            folder = f"/{BASE}/catroot"
            self.assertTrue(Catalogues(there, folder).know(listed))
            with patch("mending.disk.system.installed._MOST_DIGESTS", 0):
                first = Catalogues(there, folder)
                self.assertEqual((first.know(listed), first.count), (False, 1))

    def files_of(self, pc, *names):
        with open_source(str(pc.path)) as source:
            files = open_files(source, survey(source).volumes[1])
            return {name: files.read(files.find(f"/{name}"), MIB) for name in names}


if __name__ == "__main__":
    unittest.main()
