"""Programs of the nt family: real ones against an independent reader, and on a whole disk."""

import sys
import unittest
from pathlib import Path

import pefile

from mending.formats import pe
from mending.model import Window
from mending.workshop.nt import program_bytes, with_checksum
from tests.nt_pc import BASE, NtPc
from tests.nt_pc import PROGRAMS as MAKERS
from tests.samples import PROGRAMS, needs_programs
from tests.support import InFolder, ids, needs, trace_file

LAUNCHERS = sorted(Path(sys.prefix).rglob("*.exe"))
"""Real programs that packages bring which every Python has."""
DRIVERS = {"quaydisk": "scsiport.sys", "tidefs": "fltmgr.sys", "quayvol": "mountmgr.sys"}


def independent(data):
    """Checksum that fits, wanted names by library, offered names."""
    image = pefile.PE(data=data)
    wanted = {
        entry.dll.decode().lower(): {each.name.decode() for each in entry.imports if each.name}
        for entry in getattr(image, "DIRECTORY_ENTRY_IMPORT", [])
    }
    offered = getattr(image, "DIRECTORY_ENTRY_EXPORT", None)
    names = {each.name.decode() for each in (offered.symbols if offered else []) if each.name}
    return image.generate_checksum(), wanted, names


class Tables(unittest.TestCase):
    def check(self, data):
        sums, wanted, names = independent(data)
        kept = pe.checksum(data)
        self.assertIn(kept[1] if kept else sums, {sums})
        mine = {each.library.lower(): set(each.names) for each in pe.imports(data)}
        self.assertEqual(mine, wanted)
        self.assertEqual(pe.exports(data), names)
        self.assertEqual(pe.read_program(Window(data)).problems, ())
        return bool(kept and kept[0] == kept[1])

    def test_real_launchers_read_as_an_independent_reader_reads_them(self):
        whole = 0
        for path in LAUNCHERS:
            with self.subTest(path.name):
                whole += self.check(path.read_bytes())
        self.assertGreater(whole, 3)

    @needs_programs
    def test_real_libraries_and_drivers(self):
        for name in ("ntoskrnl.exe", "hal.dll", *DRIVERS.values()):
            data = (PROGRAMS / name).read_bytes()
            with self.subTest(name):
                self.check(data)
                kept, made = pe.checksum(with_checksum(data))
                self.assertEqual(kept, made)

    def test_our_placeholders(self):
        for image in (program_bytes(), program_bytes(("A", "Bc"), {"hal.dll": ["H"]})):
            self.assertTrue(self.check(image))

    def test_every_turned_bit_is_seen(self):
        data = program_bytes(("A",), {"hal.dll": ["H", "I"]})
        at = int.from_bytes(data[60:64], "little") + 24 + 64
        for place in range(0, len(data), 7):
            other = bytearray(data)
            other[place] ^= 0x10
            sums = pe.checksum(bytes(other))
            moved = place in range(60, 64) or place in range(at, at + 4)
            self.assertTrue(moved or sums[0] != sums[1], place)


@needs_programs
@needs(*MAKERS)
class OnDisk(InFolder):
    def test_real_programs_fit_together_and_one_turned_bit_is_named(self):
        pc = NtPc(self.folder, "uefi")
        real = {path.name: with_checksum(path.read_bytes()) for path in PROGRAMS.iterdir()}
        files = {f"{BASE}/{name}": data for name, data in real.items() if "sys" not in name}
        files |= {f"{BASE}/drivers/{name}.sys": real[of] for name, of in DRIVERS.items()}
        files[f"{BASE}/drivers/scsiport.sys"] = real["scsiport.sys"]
        pc.write(files)
        trace = trace_file(pc.path)
        said = [found.says for found in trace.findings]
        self.assertEqual((said, trace.verdict), ([], "no-fault-found"))
        self.assertEqual(trace.failing_phase, None)
        broken = bytearray(real["mountmgr.sys"])
        broken[100_000] ^= 4
        pc.write({f"{BASE}/drivers/quayvol.sys": bytes(broken)})
        self.assertEqual(ids(trace_file(pc.path), "fatal"), ["boot-driver-damaged"])


if __name__ == "__main__":
    unittest.main()
