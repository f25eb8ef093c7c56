"""Faults that nobody chose: an object of the chain and a kind of damage are drawn together, on
whole disks whose programs are real ones. The phase follows from the object alone.
"""

import shutil
import unittest
from random import Random

from mending.workshop.nt import ARM64, program_bytes, with_checksum
from tests.nt_faults import SOUND_TREE
from tests.nt_pc import BASE, SOFTWARE, STORES, SYSTEM, NtPc
from tests.nt_pc import PROGRAMS as MAKERS
from tests.samples import PROGRAMS, needs_programs
from tests.support import InFolder, ids, needs, trace_file
from tests.test_programs import DRIVERS

DRAWN = 26
PHASES = {
    # the object, and the phase that needs it
    "manager": "boot-manager",
    "store": "boot-manager",
    f"{BASE}/winload.exe": "loader",
    f"{BASE}/winload.efi": "loader",
    f"{BASE}/ntoskrnl.exe": "loader",
    f"{BASE}/hal.dll": "loader",
    f"{BASE}/drivers/quaydisk.sys": "loader",
    f"{BASE}/drivers/tidefs.sys": "loader",
    f"{BASE}/drivers/quayvol.sys": "loader",
    SYSTEM: "loader",
    SOFTWARE: "session",
    f"{BASE}/config/SECURITY": "session",
    f"{BASE}/smss.exe": "session",
    f"{BASE}/ntdll.dll": "loader",  # this kernel takes functions from it
    f"{BASE}/winlogon.exe": "session",
    f"{BASE}/userinit.exe": "desktop",
    "ferry/explorer.exe": "desktop",
}
ONLY = {"manager": "bios", f"{BASE}/winload.exe": "bios", f"{BASE}/winload.efi": "uefi"}


def real_programs():
    """The kernel, its libraries and the drivers of a package, by their path on the volume."""
    real = {path.name: with_checksum(path.read_bytes()) for path in PROGRAMS.iterdir()}
    files = {f"{BASE}/{name}": data for name, data in real.items() if not name.endswith(".sys")}
    files |= {f"{BASE}/drivers/{name}.sys": real[of] for name, of in DRIVERS.items()}
    return files | {f"{BASE}/drivers/scsiport.sys": real["scsiport.sys"]}


def damages(random):
    """Each kind of damage by its name, and whether only programs show it."""
    return {
        "empty": (lambda _: b"", False),
        "blank at its start": (lambda data: bytes(4096) + data[4096:], False),
        "cut": (lambda data: cut_short(data, random), False),
        "a bit turned": (lambda data: turned(data, random), True),
        "for another machine": (lambda _: program_bytes(machine=ARM64), True),
        "a sector of another file": (lambda data: strange_sector(data, random), True),
    }


def cut_short(data, random):
    """Into what is used; hives and programs end in zeros that nothing counts on."""
    used = len(data.rstrip(b"\0"))
    return data[: random.randrange(600, used * 3 // 4)]


def turned(data, random):
    at = random.randrange(1024, len(data))
    return data[:at] + bytes([data[at] ^ 1 << random.randrange(8)]) + data[at + 1 :]


def strange_sector(data, random):
    at = random.randrange(1, len(data) // 512) * 512
    return data[:at] + random.randbytes(512) + data[at + 512 :]


def draws():
    """Firmware, object, name of the damage; each pair at most once."""
    random = Random(29)
    pairs = [
        (ONLY.get(thing, firmware), thing, what)
        for thing in PHASES
        for firmware in ("bios", "uefi")
        for what, (_, programs_only) in damages(random).items()
        if not programs_only or thing.endswith((".exe", ".sys", ".dll", ".efi"))
    ]
    return random.sample(sorted(set(pairs)), DRAWN)


@needs_programs
@needs(*MAKERS)
class Drawn(InFolder):
    def setUp(self):
        super().setUp()
        self.real, self.sound = real_programs(), {}
        for firmware in ("bios", "uefi"):
            pc = NtPc(self.folder, firmware)
            pc.write(self.real)
            self.sound[firmware] = self.folder / firmware
            shutil.copy(pc.path, self.sound[firmware])

    def pc(self, firmware):
        pc = NtPc(self.folder, firmware)
        shutil.copy(self.sound[firmware], pc.path)
        return pc

    def spoil(self, pc, thing, change):
        if thing in {"manager", "store"}:
            name = "BOOTMGR" if thing == "manager" else STORES[pc.firmware]
            pc.desk(name, change(pc.read_desk(name)))
            return
        whole = self.real.get(thing) or SOUND_TREE.get(thing) or program_bytes()
        pc.write({thing: change(whole)})

    def test_drawn_faults_are_found_in_the_phase_of_their_object(self):
        random = Random(30)
        for firmware in ("bios", "uefi"):
            trace = trace_file(self.pc(firmware).path)
            self.assertEqual((trace.verdict, ids(trace, "fatal")), ("no-fault-found", []))
        for firmware, thing, what in draws():
            with self.subTest(f"{firmware}: {thing}, {what}"):
                pc = self.pc(firmware)
                self.spoil(pc, thing, damages(random)[what][0])
                trace = trace_file(pc.path)
                self.assertEqual((trace.verdict, trace.failing_phase), ("fails", PHASES[thing]))


if __name__ == "__main__":
    unittest.main()
