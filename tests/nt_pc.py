"""Whole disks with a system of the nt family: the workshop's sound ones, changed by real programs.

`ntfscp` writes into the system's volume, mtools into the volume that starts it; only names are
changed in place, for no program here takes a file off an NTFS volume.
"""

from pathlib import Path

from mending.disk.ntfs import NtfsReader
from mending.model import ByteOffset
from mending.source import MemorySource
from mending.workshop import nt
from mending.workshop.disks import DESK, STORE
from mending.workshop.nt import nt_bios_disk, nt_uefi_disk
from tests.support import SECTOR, tool

MBR_CODE = Path("/usr/lib/syslinux/mbr/mbr.bin")
PROGRAMS = ("ntfscp", "mcopy", "mdel", MBR_CODE)
SYSTEM_AT, SYSTEM_BYTES = STORE[0] * SECTOR, STORE[1] * SECTOR
BASE = "ferry/system32"
SYSTEM, SOFTWARE = f"{BASE}/config/SYSTEM", f"{BASE}/config/SOFTWARE"
NAME_AT = 66
"""Of a name behind the reference of its folder (`$FILE_NAME`)."""
LENGTHS = {b"FILE": 1024, b"INDX": 4096}
STORES = {"bios": "BOOT/BCD", "uefi": "EFI/HARBOUR/BOOT/BCD"}


class NtPc:
    """A PC whose disk is in a file.

    Args:
        firmware: `bios` or `uefi`.
        faults: of the workshop, which change the tree of files.
    """

    def __init__(self, folder, firmware, *faults):
        self.folder, self.firmware, self.path = Path(folder), firmware, Path(folder) / "nt.img"
        self.path.unlink(missing_ok=True)
        if firmware == "bios":
            nt_bios_disk(MBR_CODE.read_bytes()[:440], *faults).save(self.path)
        else:
            nt_uefi_disk(*faults).save(self.path)

    def write(self, files):
        """Contents into the system's volume, by path."""
        volume, held = self.folder / "volume", self.folder / "held"
        with self.path.open("rb") as disk:
            disk.seek(SYSTEM_AT)
            volume.write_bytes(disk.read(SYSTEM_BYTES))
        for name, data in files.items():
            held.write_bytes(data)
            tool("ntfscp", "-q", volume, held, name)
        self.put(SYSTEM_AT, volume.read_bytes())

    def lose(self, name):
        """Let the name of a file that starts the system end in another letter, in its record and
        its folder; its copies keep theirs.
        """
        reader = NtfsReader(MemorySource(self.path.read_bytes()), ByteOffset(SYSTEM_AT))
        paths = [path for path in nt.system_tree(b"") if path.endswith(f"/{name}")]
        home = next(path for path in paths if "/winsxs/" not in path).rpartition("/")[0]
        folder = reader._find(home).to_bytes(8, "little")
        with self.path.open("rb") as disk:
            disk.seek(SYSTEM_AT)
            data = disk.read(SYSTEM_BYTES)
        wanted = name.encode("utf-16-le")
        other = f"{name[:-1]}{chr(ord(name[-1]) + 1)}".encode("utf-16-le")
        changed = 0
        for at in range(0, len(data), 512):
            length = LENGTHS.get(data[at : at + 4], 0)
            part = data[at : at + length]
            place = part.find(wanted)
            while place >= 0:
                if part[place - NAME_AT : place - NAME_AT + 8] == folder:
                    self.put(SYSTEM_AT + at + place, other)
                    changed += 1
                place = part.find(wanted, place + 1)
        if changed < 2:
            raise ValueError(f"{name} is not on the volume")

    def put(self, offset, data):
        with self.path.open("r+b") as disk:
            disk.seek(offset)
            disk.write(data)

    @property
    def _esp(self):
        return f"{self.path}@@{DESK[0] * SECTOR}"

    def desk(self, name, data):
        """A file of the volume that starts the system; None takes it off."""
        if data is None:
            tool("mdel", "-i", self._esp, f"::{name}")
            return
        held = self.folder / "held"
        held.write_bytes(data)
        tool("mcopy", "-o", "-i", self._esp, held, f"::{name}")

    def read_desk(self, name):
        held = self.folder / "out"
        tool("mcopy", "-n", "-o", "-i", self._esp, f"::{name}", held)
        return held.read_bytes()

    def store(self, data):
        """Another boot configuration, or None."""
        self.desk(STORES[self.firmware], data)


def put_by_driver(pc, files):
    """Files and their folders into the system's volume, by the real driver; needs to mount."""
    volume, mounted = pc.folder / "volume", pc.folder / "mounted"
    mounted.mkdir(exist_ok=True)
    with pc.path.open("rb") as disk:
        disk.seek(SYSTEM_AT)
        volume.write_bytes(disk.read(SYSTEM_BYTES))
    tool("ntfs-3g", volume, mounted)
    try:
        for name, data in files.items():
            place = mounted / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)
    finally:
        tool("umount", mounted)
    pc.put(SYSTEM_AT, volume.read_bytes())
