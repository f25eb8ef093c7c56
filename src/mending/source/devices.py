"""What this machine knows about a device: whether it is in use, its sector size and serial
number.
"""

import ctypes
import os
import re
import struct
from collections.abc import Iterator
from pathlib import Path

import msgspec

from mending.model import RefusedError
from mending.source.portable import ask_device, lock_handle

_BLOCKS = Path("/sys/block")
_BLKSSZGET = 0x1268
"""Linux ioctl for the logical sector size (linux/fs.h)."""
_HDIO_GET_IDENTITY, _IDENTITY_BYTES = 0x030D, 512
"""Linux ioctl that gives the identity of an ATA drive (linux/hdreg.h)."""
_SG_IO, _SG_FROM_DEVICE, _SG_PATIENCE = 0x2285, -3, 5000
"""Linux ioctl that hands a SCSI command to a device, the mark of a command that only reads, and the
milliseconds that a device is given (scsi/sg.h)."""
_SERIAL_PAGE = 0x80
"""The page of vital product data with the serial number of the unit (SPC-4, 7.8.15)."""
_BLKROGET = 0x125E
"""Linux ioctl that tells whether a block device is read only (linux/fs.h)."""


class _ScsiCommand(ctypes.Structure):
    """A command to a SCSI device and what came of it (`sg_io_hdr`, scsi/sg.h)."""

    _fields_ = (
        ("interface", ctypes.c_int),
        ("direction", ctypes.c_int),
        ("command_bytes", ctypes.c_ubyte),
        ("sense_room", ctypes.c_ubyte),
        ("pieces", ctypes.c_ushort),
        ("answer_room", ctypes.c_uint),
        ("answer", ctypes.c_void_p),
        ("command", ctypes.c_void_p),
        ("sense", ctypes.c_void_p),
        ("patience", ctypes.c_uint),
        ("flags", ctypes.c_uint),
        ("number", ctypes.c_int),
        ("ours", ctypes.c_void_p),
        ("status", ctypes.c_ubyte),
        ("masked_status", ctypes.c_ubyte),
        ("message_status", ctypes.c_ubyte),
        ("sense_written", ctypes.c_ubyte),
        ("host_status", ctypes.c_ushort),
        ("driver_status", ctypes.c_ushort),
        ("not_written", ctypes.c_int),
        ("took", ctypes.c_uint),
        ("info", ctypes.c_uint),
    )


def device_sector_bytes(fd: int) -> int:
    """Logical sector size of an open block device in bytes.

    Raises:
        OSError
    """
    answer = ask_device(fd, _BLKSSZGET, struct.pack("I", 0))
    size: int = struct.unpack("I", answer)[0]
    return size


def is_read_only(fd: int) -> bool:
    """Whether the system takes an open block device to be read only.

    Raises:
        OSError
    """
    answer = ask_device(fd, _BLKROGET, struct.pack("i", 0))
    return bool(struct.unpack("i", answer)[0])


def device_serial(path: str, fd: int | None = None) -> str:
    """Serial number or world-wide name of a block device, as the system shows it, else as the
    device itself answers; empty where neither tells.

    Args:
        fd: of the open device; None: it is not asked.
    """
    device = (Path("/sys/class/block") / Path(path).resolve().name).resolve()
    for folder in (device, device.parent):  # a part of a disk has that of the disk
        for name in ("device/serial", "serial", "wwid", "device/wwid"):
            try:
                serial = (folder / name).read_text(errors="replace").strip()
            except OSError:
                continue
            if serial:
                return serial
        try:
            kept = _serial_in((folder / "device/vpd_pg80").read_bytes())
        except OSError:
            continue
        if kept:
            return kept
    return (_ata_serial(fd) or _scsi_serial(fd)) if fd is not None else ""


def _ata_serial(fd: int) -> str:
    """The serial number in the identity of an ATA drive (ATA Command Set, IDENTIFY DEVICE, words
    10 to 19; the system hands them out in the order of the text).
    """
    try:
        answer = ask_device(fd, _HDIO_GET_IDENTITY, bytes(_IDENTITY_BYTES))
    except OSError:
        return ""
    return bytes(answer[20:40]).decode("ascii", "replace").strip(" \0")


def _scsi_serial(fd: int) -> str:
    """The serial number that a SCSI device, or a bridge that speaks so, gives when it is asked for
    that page (INQUIRY, SPC-4, 6.6). Nothing on the device changes by it.
    """
    page = ctypes.create_string_buffer(252)
    words = (ctypes.c_ubyte * 6)(0x12, 1, _SERIAL_PAGE, 0, len(page), 0)
    sense = ctypes.create_string_buffer(32)
    asked = _ScsiCommand(
        interface=ord("S"),
        direction=_SG_FROM_DEVICE,
        command_bytes=len(words),
        sense_room=len(sense),
        answer_room=len(page),
        answer=ctypes.addressof(page),
        command=ctypes.addressof(words),
        sense=ctypes.addressof(sense),
        patience=_SG_PATIENCE,
    )
    try:
        ask_device(fd, _SG_IO, asked)
    except OSError:
        return ""
    failed = asked.status or asked.host_status or asked.driver_status
    return "" if failed else _serial_in(page.raw)


def _serial_in(page: bytes) -> str:
    """The text of a page with a serial number: type, number of the page, length of two bytes, text
    padded with blanks; empty for any other page.
    """
    if len(page) < 4 or page[1] != _SERIAL_PAGE:
        return ""
    length = int.from_bytes(page[2:4], "big")
    return page[4 : 4 + length].decode("ascii", "replace").strip(" \0")


def lock(fd: int, path: str) -> None:
    """Keep other repairs away until the handle is closed.

    Raises:
        RefusedError: one is under way.
    """
    try:
        lock_handle(fd)
    except BlockingIOError as error:
        raise RefusedError(
            f"Another repair of {path} is under way.", "Wait until it is done, then try again."
        ) from error
    except OSError:
        return  # a file system without locks; the bytes before every write are compared anyway


def refuse_if_busy(path: str, is_device: bool) -> None:
    """Raise RefusedError when the target, a part of it, or a loop device over it is mounted; also
    when the file behind it is attached elsewhere, under whatever name.
    """
    real = Path(path).resolve()
    backing = _backing_of(real.name) if is_device else str(real)
    loops = [loop for loop in _loops_over(backing) if loop != str(real)] if backing else []
    held = [*loops, str(real)]
    for device, where in _mounts():
        if any(device == name or _is_part(device, name) for name in held):
            raise RefusedError(f"{path} is mounted at {where}.", "Unmount it, then try again.")
    if loops:
        raise RefusedError(
            f"{path} is attached as {loops[0]}.", "Detach that loop device, then try again."
        )


def _is_part(device: str, disk: str) -> bool:
    rest = device.removeprefix(disk)
    return device.startswith(disk) and rest.removeprefix("p").isdigit()


def _mounts() -> list[tuple[str, str]]:
    try:
        lines = Path("/proc/self/mounts").read_text(errors="replace").splitlines()
    except OSError:
        return []  # not Linux: opening a device for exclusive use is then the only guard
    pairs = [line.split(" ")[:2] for line in lines]
    return [
        (os.path.realpath(pair[0]), pair[1])
        for pair in pairs
        if len(pair) == 2 and pair[0].startswith("/")
    ]


def _backing_of(name: str) -> str:
    """The file behind a loop device or a part of one; empty for every other device."""
    match = re.fullmatch(r"(loop\d+)(?:p\d+)?", name)
    whole = match.group(1) if match else ""
    try:
        return (_BLOCKS / whole / "loop/backing_file").read_text(errors="replace").strip()
    except OSError:
        return ""


def _loops_over(image: str) -> list[str]:
    """The loop devices over a file, known by its number, for a file may have several names."""
    try:
        wanted = Path(image).stat()
    except OSError:
        return []
    found = []
    for backing in sorted(_BLOCKS.glob("loop*/loop/backing_file")):
        try:
            behind = Path(backing.read_text(errors="replace").strip())
            if os.path.samestat(behind.stat(), wanted):
                found.append(f"/dev/{backing.parent.parent.name}")
        except OSError:
            continue  # detached between the listing and the read
    return found


# Names of block devices (Linux, sysfs and udev). A name such as `/dev/sdb` goes to whatever is
# plugged in next; the links in `/dev/disk/by-id` are made of what the drive says of itself, so they
# go with the drive.


_LASTING, _CLASS_BLOCKS, _DEVICES = Path("/dev/disk/by-id"), Path("/sys/class/block"), Path("/dev")
_SYSFS_SECTOR = 512
"""Sizes in sysfs are in sectors of so many bytes, whatever the device has."""
_MOST = 4096
"""Devices and links that are looked at."""


def lasting_name(device: str) -> str:
    """The link that goes with the drive, the shortest of several; empty where there is none."""
    real = os.path.realpath(device)
    try:
        links = sorted(_LASTING.iterdir())[:_MOST]
    except OSError:
        return ""
    fitting = [str(link) for link in links if os.path.realpath(link) == real]
    return min(fitting, key=lambda name: (len(name), name), default="")


def devices_of_size(count: int) -> Iterator[str]:
    """All block devices that have so many bytes, by name."""
    try:
        rows = sorted(_CLASS_BLOCKS.iterdir())[:_MOST]
    except OSError:
        return
    for row in rows:
        try:
            sectors = int((row / "size").read_text())
        except (OSError, ValueError):
            continue  # pulled meanwhile
        if sectors * _SYSFS_SECTOR == count:
            yield str(_DEVICES / row.name.replace("!", "/"))


# What the operating system knows of a drive's health, and what lies on it (Linux, sysfs).


_NUMBERS = Path("/sys/dev/block")


class DriveHealth(msgspec.Struct, frozen=True, kw_only=True):
    """Counts since the drive was connected; None where the system does not tell."""

    state: str | None
    requests_failed: int | None
    requests_timed_out: int | None
    celsius: float | None


def drive_health(path: str) -> DriveHealth:
    """What sysfs tells of a block device."""
    device = (_CLASS_BLOCKS / Path(path).resolve().name).resolve() / "device"
    if not device.exists():
        device = (_CLASS_BLOCKS / Path(path).resolve().name).resolve().parent / "device"
    return DriveHealth(
        state=_text(device / "state"),
        requests_failed=_number(device / "ioerr_cnt"),
        requests_timed_out=_number(device / "iotmo_cnt"),
        celsius=_temperature(device),
    )


def lies_on(drive: str, place: str) -> bool:
    """Whether the folder of a file is on a drive, or on a part of it."""
    try:
        number = Path(place).absolute().parent.stat().st_dev
        home = (_NUMBERS / f"{os.major(number)}:{os.minor(number)}").resolve()
        wanted = (_CLASS_BLOCKS / Path(drive).resolve().name).resolve()
    except OSError:
        return False
    return home == wanted or wanted in home.parents


def _text(path: Path) -> str | None:
    try:
        return path.read_text(errors="replace").strip()[:40] or None
    except OSError:
        return None


def _number(path: Path) -> int | None:
    text = _text(path)
    try:
        return int(text, 0) if text is not None else None
    except ValueError:
        return None


def _temperature(device: Path) -> float | None:
    for sensor in sorted(device.glob("hwmon*/temp1_input")) + sorted(
        device.glob("hwmon/hwmon*/temp1_input")
    ):
        thousandths = _number(sensor)
        if thousandths is not None:
            return thousandths / 1000
    return None


# What is mounted where, as far as a walk through a tree has to know it.


PARTS = frozenset(
    {
        "boot",
        "boot/efi",
        "efi",
        "home",
        "opt",
        "srv",
        "usr",
        "usr/local",
        "var",
        "var/log",
    }
)
"""Where volumes of an installed system are mounted, from its top."""
NUMBERLESS = frozenset({"vfat", "msdos", "exfat", "fuse", "fuseblk", "9p", "nfs", "cifs"})
"""Types of file systems that number their folders anew at each mount."""


def type_of(handle: int) -> str:
    """The type of the file system that a handle lies on; empty where it is not told."""
    number = _mount_number(handle)
    try:
        rows = Path("/proc/self/mountinfo").read_text(errors="replace").splitlines()
    except OSError:
        return ""
    row = next((row for row in rows if row.split(" ", 1)[0] == number), "")
    return row.partition(" - ")[2].split(" ")[0]


def is_other_mount(above: int, handle: int) -> bool:
    """Whether a folder lies on another file system than the one that it is in.

    Parts of one file system may have device numbers of their own; the number of the mount tells
    them from others.
    """
    if os.fstat(above).st_dev == os.fstat(handle).st_dev:
        return False
    numbers = {_mount_number(above), _mount_number(handle)}
    return len(numbers) > 1 or "" in numbers


def _mount_number(handle: int) -> str:
    try:
        rows = Path(f"/proc/self/fdinfo/{handle}").read_text().splitlines()
    except OSError:
        return ""
    return next((row.partition(":")[2].strip() for row in rows if row.startswith("mnt_id:")), "")
