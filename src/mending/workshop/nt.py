"""Sound disks with a system of the nt family, BIOS and UEFI, and the ways in which they get broken.

The system's volume is a template that the real mkfs and a real driver made (`tests/templates.py`);
what differs from PC to PC is laid over the places of its files. The volume that starts it is FAT32,
with a stub in place of the manager, which nobody may hand on.
"""

import functools
import lzma
import struct
import tomllib
import uuid
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from mending.formats import boot_store, gpt, mbr
from mending.formats.boot_store import StoreDevice
from mending.workshop.disks import (
    DESK,
    DISK_GUID,
    DISK_SECTORS,
    SECTOR,
    STORE,
    ImageDraft,
    code,
    put_desk,
    put_guid_table,
)

# Writes a settings hive: keys and values from nested tables, in one bin.
#
# Layout: as `formats.hives` reads it; written here on its own, so that a
# reader that takes what it writes proves something.


_BASE, _BIN_HEAD, _NOTHING = 4096, 32, 0xFFFF_FFFF
_ROOT, _PLAIN_NAME = 0x2C, 0x20
_TEXT, _EXPANDED, _BINARY, _NUMBER, _TEXTS = 1, 2, 3, 4, 7
_SECURITY = bytes.fromhex("010004800000000000000000000000001400000002000800") + bytes(8)
"""A descriptor with an empty list of rights."""


class Expanded(str):
    """Text in which the system puts values for names between per cent signs."""


Value = str | int | bytes | list[str]
Keys = Mapping[str, Any]
"""Names of subkeys (tables) and values (the rest)."""


def hive_bytes(keys: Keys, written: int) -> bytes:
    """A hive that was written to its end.

    Args:
        written: when, in 100 ns since 1601.
    """
    return _Writer(written).hive(keys)


class _Writer:
    def __init__(self, written: int) -> None:
        self._written, self._cells = written, bytearray(_BIN_HEAD)

    def hive(self, keys: Keys) -> bytes:
        self._security = self._cell(
            b"sk" + struct.pack("<HIIII", 0, _BIN_HEAD, _BIN_HEAD, 1, len(_SECURITY)) + _SECURITY
        )
        root = self._key("root", keys, 0, _ROOT)
        length = -(-len(self._cells) // _BASE) * _BASE
        free = length - len(self._cells)
        if free:
            self._cells += struct.pack("<i", free) + bytes(free - 4)
        head = b"hbin" + struct.pack("<II8xQI", 0, length, self._written, 0)
        self._cells[:_BIN_HEAD] = head.ljust(_BIN_HEAD, b"\0")
        base = b"regf" + struct.pack(
            "<IIQIIIIIII", 1, 1, self._written, 1, 5, 0, 1, root, length, 1
        )
        base = base.ljust(508, b"\0")
        total = 0
        for (word,) in struct.iter_unpack("<I", base):
            total ^= word
        return (base + struct.pack("<I", total)).ljust(_BASE, b"\0") + bytes(self._cells)

    def _cell(self, body: bytes) -> int:
        """Where a cell is put, from the first bin on."""
        at, length = len(self._cells), -(-(len(body) + 4) // 8) * 8
        self._cells += struct.pack("<i", -length) + body.ljust(length - 4, b"\0")
        return at

    def _key(self, name: str, keys: Keys, parent: int, flags: int = _PLAIN_NAME) -> int:
        raw = name.encode("latin-1")
        at = self._cell(bytes(76 + len(raw)))
        below = sorted(
            ((key, inside) for key, inside in keys.items() if isinstance(inside, Mapping)),
            key=lambda pair: pair[0].upper(),
        )
        children = [(key, self._key(key, inside, at)) for key, inside in below]
        values = [
            self._value(key, value) for key, value in keys.items() if not isinstance(value, Mapping)
        ]
        listed = _NOTHING
        if children:
            rows = b"".join(struct.pack("<II", cell, _hash(key)) for key, cell in children)
            listed = self._cell(b"lh" + struct.pack("<H", len(children)) + rows)
        kept = self._cell(struct.pack(f"<{len(values)}I", *values)) if values else _NOTHING
        body = b"nk" + struct.pack(
            "<HQIIIIIIIIIIIIIIIHH",
            flags,
            self._written,
            0,
            parent,
            len(children),
            0,
            listed,
            _NOTHING,
            len(values),
            kept,
            self._security,
            _NOTHING,
            *(0, 0, 0, 0, 0),
            len(raw),
            0,
        )
        self._cells[at + 4 : at + 4 + len(body) + len(raw)] = body + raw
        return at

    def _value(self, name: str, value: Value) -> int:
        kind, data = _encoded(value)
        if len(data) <= 4:
            length, at = len(data) | 1 << 31, int.from_bytes(data.ljust(4, b"\0"), "little")
        else:
            length, at = len(data), self._cell(data)
        raw = name.encode("latin-1")
        return self._cell(b"vk" + struct.pack("<HIIIHH", len(raw), length, at, kind, 1, 0) + raw)


def _encoded(value: Value) -> tuple[int, bytes]:
    if isinstance(value, int):
        return _NUMBER, value.to_bytes(4, "little")
    if isinstance(value, bytes):
        return _BINARY, value
    if isinstance(value, str):
        kind = _EXPANDED if isinstance(value, Expanded) else _TEXT
        return kind, f"{value}\0".encode("utf-16-le")
    return _TEXTS, "".join(f"{part}\0" for part in [*value, ""]).encode("utf-16-le")


def _hash(name: str) -> int:
    total = 0
    for char in name.upper():
        total = (total * 37 + ord(char)) & 0xFFFF_FFFF
    return total


# Writes a placeholder program of the nt family: an image that is whole by every rule that a loader
# checks, and does nothing.
#
# Layout: the published PE/COFF specification, as `formats.pe` reads it.


X64, ARM64 = 0x8664, 0xAA64
NATIVE, GRAPHIC, BOOT_PROGRAM = 1, 2, 16
_HEADERS, _ALIGNED, _CODE, _TABLES = 1024, 512, 0x1000, 0x2000
_HEAD_AT, _OPTIONAL = 128, 240
_RETURNS = b"\x31\xc0\xc3"


def program_bytes(
    exports: Sequence[str] = (),
    imports: Mapping[str, Sequence[str]] | None = None,
    subsystem: int = NATIVE,
    machine: int = X64,
    version: tuple[int, int, int, int] | None = None,
) -> bytes:
    """A 64-bit image with its checksum.

    Args:
        exports: names that it offers.
        imports: names that it wants, by library.
        version: of the file; None for one that carries none.
    """
    code = _RETURNS.ljust(_ALIGNED, b"\xcc")
    tables, places = _tables(sorted(exports), imports or {})
    tables += _version(version) if version is not None else b""
    tables = tables.ljust(-(-len(tables) // _ALIGNED) * _ALIGNED, b"\0")
    head = b"MZ".ljust(60, b"\0") + struct.pack("<I", _HEAD_AT)
    head = head.ljust(_HEAD_AT, b"\0")
    head += b"PE\0\0" + struct.pack("<HHIIIHH", machine, 2, 0, 0, 0, _OPTIONAL, 0x22)
    head += struct.pack("<HBBIIIII", 0x20B, 14, 0, len(code), len(tables), 0, _CODE, _CODE)
    head += struct.pack("<QIIHHHHHHI", 0x1_4000_0000, 0x1000, _ALIGNED, 6, 0, 0, 0, 6, 0, 0)
    size = _TABLES + -(-len(tables) // 0x1000) * 0x1000
    head += struct.pack("<IIIHH", size, _HEADERS, 0, subsystem, 0)
    head += struct.pack("<QQQQII", 0x10000, 0x1000, 0x10000, 0x1000, 0, 16)
    head += struct.pack("<IIII", *places).ljust(16 * 8, b"\0")
    head += _section(b".text", len(code), _CODE, _HEADERS, 0x6000_0020)
    head += _section(b".rdata", len(tables), _TABLES, _HEADERS + len(code), 0x4000_0040)
    return with_checksum(head.ljust(_HEADERS, b"\0") + code + tables)


def _version(version: tuple[int, int, int, int]) -> bytes:
    """A version resource, as much of it as tells the version (`VS_VERSIONINFO`)."""
    major, minor, build, revision = version
    key = "VS_VERSION_INFO\0".encode("utf-16-le")
    fixed = struct.pack("<IIII", 0xFEEF04BD, 0x10000, major << 16 | minor, build << 16 | revision)
    head = struct.pack("<HHH", 6 + len(key) + 52, 52, 0)
    return head + key + bytes(-(len(head) + len(key)) % 4) + fixed.ljust(52, b"\0")


def with_checksum(image: bytes) -> bytes:
    """An image with the checksum in its header that its bytes make, word by word."""
    at = struct.unpack_from("<I", image, 60)[0] + 24 + 64
    blank = image[:at] + bytes(4) + image[at + 4 :]
    total = 0
    for (word,) in struct.iter_unpack("<H", blank + b"\0" * (len(blank) % 2)):
        total += word
        total = (total & 0xFFFF) + (total >> 16)
    return image[:at] + struct.pack("<I", total + len(image)) + image[at + 4 :]


def _section(name: bytes, length: int, address: int, at: int, flags: int) -> bytes:
    return name.ljust(8, b"\0") + struct.pack(
        "<IIIIIIHHI", length, address, length, at, 0, 0, 0, 0, flags
    )


def _tables(
    exports: Sequence[str], imports: Mapping[str, Sequence[str]]
) -> tuple[bytes, tuple[int, int, int, int]]:
    """Both tables, and address and length of each: exports, imports."""
    data = bytearray()

    def put(raw: bytes) -> int:
        at = _TABLES + len(data)
        data.extend(raw + b"\0" * (len(raw) % 2))
        return at

    offered, wanted = (0, 0), (0, 0)
    if exports:
        names = [put(name.encode() + b"\0") for name in exports]
        listed = put(struct.pack(f"<{len(names)}I", *names))
        functions = put(struct.pack(f"<{len(names)}I", *(_CODE for _ in names)))
        numbers = put(struct.pack(f"<{len(names)}H", *range(len(names))))
        fields = 0, 0, 0, names[0], 1, len(names), len(names), functions, listed, numbers
        offered = put(struct.pack("<10I", *fields)), 40
    if imports:
        rows = b""
        for library, names_of in imports.items():
            hints = [put(b"\0\0" + name.encode() + b"\0") for name in names_of]
            thunks = put(struct.pack(f"<{len(hints) + 1}Q", *hints, 0))
            rows += struct.pack("<5I", thunks, 0, 0, put(library.encode() + b"\0"), thunks)
        wanted = put(rows + bytes(20)), len(rows) + 20
    return bytes(data), (*offered, *wanted)


# The files of a sample system of the nt family: hives and a boot configuration of our own making,
# and placeholder programs that are whole by every rule of a loader and do nothing.
#
# Keys, values and file names are those that the chain of the family needs; drivers, programs and
# accounts are the ferries' own.


ROOT = "ferry"
VERSION, OLDER = (3, 1, 4159, 2), (3, 1, 4000, 1)
STORE_ON_ESP = "EFI/HARBOUR/BOOT/BCD"
"""A manager carries this path in itself."""
HIVE_ROOM = 131_072
"""Every hive file has this length, so that a changed hive takes the place of another."""
WRITTEN = 133_500_000_000_000_000
"""When all hives were last written: early in 2024, in 100 ns since 1601."""
ENTRY = "{5ea00000-0000-4000-8000-00000000f0e1}"
SETTINGS = "{5ea00000-0000-4000-8000-00000000f0e2}"
ACCOUNT = "S-1-5-21-1000000001-1000000002-1000000003-1001"
SET_ASIDE = f"{ACCOUNT}.bak"
VOLUMES = "{71a27cdd-812a-11d0-bec7-08002be2092f}"
DISKS = "{4d36e967-e325-11ce-bfc1-08002be10318}"
_KERNEL = ("IoCreateDevice", "IoDeleteDevice", "KeBugCheckEx", "ExAllocatePoolWithTag")
_HARDWARE = ("HalGetBusData", "KeStallExecutionProcessor")
_PORT = ("PortInitialize", "PortNotification")
_CALLS = ("NtCreateFile", "NtClose")
_NT_TREE_BASE = f"{ROOT}/system32"
_BUS, _MINIPORT, _FILES = "System Bus Extender", "SCSI miniport", "Boot File System"

HIVES = ("SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT")
Tree = dict[str, bytes]


def service(start: int, kind: int, error: int, **more: Any) -> dict[str, Any]:
    """The settings of a driver or service."""
    return {"Start": start, "Type": kind, "ErrorControl": error, **more}


def _driver(name: str, group: str, tag: int = 0) -> dict[str, Any]:
    path = Expanded(f"System32\\drivers\\{name}.sys")
    return service(0, 1, 3, Group=group, ImagePath=path, **({"Tag": tag} if tag else {}))


def services() -> dict[str, Any]:
    """Drivers and services of the sound system."""
    return {
        "quaybus": _driver("quaybus", _BUS, 2),
        "quayport": _driver("quayport", _BUS, 1),
        "quaydisk": _driver("quaydisk", _MINIPORT),
        "quaymode": _driver("quaymode", _MINIPORT) | {"Start": 3},
        "quayvol": service(0, 1, 3, Group=_FILES),
        "tidefs": _driver("tidefs", _FILES) | {"Type": 2},
        "deskprint": service(1, 1, 1, ImagePath="\\SystemRoot\\System32\\drivers\\deskprint.sys"),
        "ticketd": service(
            2, 16, 1, ImagePath=Expanded('"%SystemRoot%\\System32\\ticketd.exe" -desk')
        ),
        "gangwaycam": service(3, 1, 1),
    }


def system_keys(letter: bytes, more: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """The system hive.

    Args:
        letter: what the settings keep for the letter of the system's volume.
        more: services beside, or instead of, those of the sound system; None takes one out.
    """
    listed = {name: keys for name, keys in (services() | dict(more or {})).items() if keys}
    control = {
        "ServiceGroupOrder": {"List": [_BUS, _MINIPORT, _FILES]},
        "GroupOrderList": {_BUS: bytes.fromhex("020000000100000002000000")},
        "Class": {
            VOLUMES: {"Class": "Volume", "UpperFilters": ["quayvol"]},
            DISKS: {"Class": "DiskDrive"},
        },
        "CrashControl": {"CrashDumpEnabled": 2},
        "Session Manager": {
            "BootExecute": ["autocheck autochk *"],
            "Memory Management": {"PagingFiles": ["C:\\pagefile.sys 64 64"]},
        },
    }
    both = {"Control": control, "Services": listed}
    return {
        "Select": {"Current": 1, "Default": 1, "Failed": 0, "LastKnownGood": 2},
        "ControlSet001": both,
        "ControlSet002": both,
        "MountedDevices": {"\\DosDevices\\C:": letter},
        "Setup": {"SystemSetupInProgress": 0, "SetupType": 0, "CmdLine": ""},
    }


def software_keys(user_init: str = "", accounts: Sequence[str] = (ACCOUNT,)) -> dict[str, Any]:
    """The hive of the system's programs."""
    sign_in = {
        "Userinit": user_init or f"C:\\{ROOT}\\system32\\userinit.exe,",
        "Shell": "explorer.exe",
    }
    profiles = {
        name: {"ProfileImagePath": Expanded("%SystemDrive%\\users\\purser")} for name in accounts
    }
    current = {
        "SystemRoot": f"C:\\{ROOT}",
        "Winlogon": sign_in,
        "ProfileList": profiles,
    }
    return {"Skerrivane": {"Harbour": {"CurrentVersion": current}}}


def hive(keys: Mapping[str, Any]) -> bytes:
    """A hive file of the usual length."""
    data = hive_bytes(keys, WRITTEN)
    if len(data) > HIVE_ROOM:
        raise ValueError(f"a hive of {len(data)} bytes has no room in {HIVE_ROOM}")
    return data.ljust(HIVE_ROOM, b"\0")


def programs(version: tuple[int, int, int, int] = VERSION) -> Tree:
    """Every program, library and driver."""
    kernel = {"ntoskrnl.exe": _KERNEL[:3]}
    port = {**kernel, "quayport.sys": _PORT[:1]}
    calls = {"ntdll.dll": _CALLS}
    own = functools.partial(program_bytes, version=version)
    return {
        f"{_NT_TREE_BASE}/winload.exe": own(subsystem=BOOT_PROGRAM),
        f"{_NT_TREE_BASE}/winload.efi": own(subsystem=BOOT_PROGRAM),
        f"{_NT_TREE_BASE}/ntoskrnl.exe": own(_KERNEL, {"hal.dll": _HARDWARE}),
        f"{_NT_TREE_BASE}/hal.dll": own(_HARDWARE),
        f"{_NT_TREE_BASE}/ntdll.dll": own(_CALLS),
        **{f"{_NT_TREE_BASE}/{name}.exe": own((), calls) for name in ("smss", "autochk")},
        **{
            f"{_NT_TREE_BASE}/{name}.exe": own((), calls, GRAPHIC)
            for name in (
                *("csrss", "wininit", "winlogon", "services", "lsass", "userinit", "ticketd"),
            )
        },
        f"{ROOT}/explorer.exe": own((), calls, GRAPHIC),
        f"{_NT_TREE_BASE}/drivers/quayport.sys": own(_PORT, kernel),
        **{
            f"{_NT_TREE_BASE}/drivers/{name}.sys": own((), port if "quayd" in name else kernel)
            for name in ("quaybus", "quaydisk", "quaymode", "quayvol", "tidefs", "deskprint")
        },
    }


def kept_copies() -> Tree:
    """The system's own store of its files, with one of an older build, and its boot managers."""
    store = f"{ROOT}/winsxs"
    older = programs(OLDER)[f"{_NT_TREE_BASE}/drivers/quaydisk.sys"]
    manager = code("desk-loader-efi") + f"/{STORE_ON_ESP}".replace("/", "\\").encode("utf-16-le")
    return {
        **{
            f"{store}/{_folder(VERSION)}/{path.rpartition('/')[2]}": data
            for path, data in programs().items()
        },
        f"{store}/{_folder(OLDER)}/quaydisk.sys": older,
        f"{ROOT}/boot/pcat/bootmgr": code("desk-loader"),
        f"{ROOT}/boot/efi/harbour.efi": manager,
    }


def _folder(version: tuple[int, int, int, int]) -> str:
    return "desk_" + ".".join(map(str, version))


def system_tree(letter: bytes) -> Tree:
    """All files of the sound system, by path."""
    config = f"{_NT_TREE_BASE}/config"
    return {
        **programs(),
        **kept_copies(),
        f"{config}/SYSTEM": hive(system_keys(letter)),
        f"{config}/SOFTWARE": hive(software_keys()),
        **{f"{config}/{name}": hive({name: {}}) for name in HIVES[2:]},
        **{f"{config}/keepsake/{name}": b"" for name in HIVES},  # as recent systems leave it
        f"{ROOT}/winsxs/notes.txt": b"Nothing waits here.\r\n",
        "boot/notes.txt": b"This office starts from the other volume.\r\n",
        "users/purser/ntuser.dat": hive({"Desktop": {}}),
        "users/purser/float.txt": b"Till 2: 140.00 to begin the day\r\n" * 8,
    }


def store_bytes(
    device: StoreDevice,
    loader: str,
    numbers: Mapping[int, int] | None = None,
    more: Mapping[int, Any] | None = None,
) -> bytes:
    """A boot configuration with one entry; `store_keys` as a file."""
    return hive_bytes(store_keys(device, loader, numbers, more), WRITTEN)


def store_keys(
    device: StoreDevice,
    loader: str,
    numbers: Mapping[int, int] | None = None,
    more: Mapping[int, Any] | None = None,
) -> dict[str, Any]:
    """The keys of a boot configuration with one entry.

    Args:
        device: the system's volume.
        loader: the file name of the system's loader.
        numbers: further elements of the entry, numbers or switches. more: of other kinds.
    """
    raw = boot_store.encode_device(device)
    elements: dict[int, Any] = {
        boot_store.DEVICE: raw,
        boot_store.PATH: f"\\{ROOT}\\system32\\{loader}",
        boot_store.DESCRIPTION: "Ticket desk",
        boot_store.INHERITS: [SETTINGS],
        boot_store.SYSTEM_DEVICE: raw,
        boot_store.SYSTEM_ROOT: f"\\{ROOT}",
        **{
            element: value.to_bytes(1 if element >> 24 & 15 == 6 else 8, "little")
            for element, value in (numbers or {}).items()
        },
        **(more or {}),
    }
    manager = {boot_store.DEFAULT: ENTRY, boot_store.DISPLAY_ORDER: [ENTRY]}
    objects = {
        boot_store.BOOT_MANAGER: _object(0x1010_0002, manager),
        ENTRY: _object(boot_store.SYSTEM_LOADER, elements),
        SETTINGS: _object(0x2020_0003, {0x2500_0020: bytes(8)}),
    }
    return {"Description": {"KeyName": "BCD00000000"}, "Objects": objects}


def _object(kind: int, elements: Mapping[int, Any]) -> dict[str, Any]:
    rows = {f"{element:08x}": {"Element": value} for element, value in elements.items()}
    return {"Description": {"Type": kind}, "Elements": rows}


def letter_on_mbr(signature: int, offset: int) -> bytes:
    """What the settings keep for a letter on an MBR disk."""
    return signature.to_bytes(4, "little") + offset.to_bytes(8, "little")


def letter_on_gpt(partition: uuid.UUID) -> bytes:
    """What the settings keep for a letter on a GPT disk."""
    return b"DMIO:ID:" + partition.bytes_le


SIGNATURE = 0x5EA0F0E1
PARTITION = uuid.uuid5(DISK_GUID, "system")
_NTFS, _FAT32_LBA = 0x07, 0x0C
_DATA = uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
_AT = STORE[0] * SECTOR
_STUB_NAME, _MANAGER_NAME = b"DESKLOADBIN", b"BOOTMGR    "
_STEP = 4096

Fault = Callable[[Tree], None]
"""Changes the files of a system; the boot configuration is among them, as `store`."""
STORE_FILE = "store"


@functools.cache
def template() -> bytes:
    """The volume of the sound system."""
    path = Path(__file__).parent / "templates" / "nt-system.ntfs.xz"
    return lzma.decompress(path.read_bytes())


@functools.cache
def _places() -> dict[str, tuple[int, int]]:
    """Length and place of each file of the template that has clusters of its own."""
    path = Path(__file__).parent / "templates" / "nt-system.toml"
    rows = tomllib.loads(path.read_text())
    return {name: (size, start) for name, (size, start) in rows.items()}


def nt_bios_disk(boot_code: bytes, *faults: Fault) -> ImageDraft:
    """100 MiB: boot code, an active FAT32 volume with the manager and its store, and the system."""
    device = StoreDevice("partition", f"{SIGNATURE:08x}", offset=_AT)
    tree = _tree(letter_on_mbr(SIGNATURE, _AT), device, "winload.exe", faults)
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    table = mbr.encode_entry(mbr.ACTIVE, _FAT32_LBA, *DESK) + mbr.encode_entry(0, _NTFS, *STORE)
    fields = mbr.MbrFields(boot_code, SIGNATURE, 0, table, mbr.SIGNATURE)
    draft.put(0, mbr.MBR.encode(fields))
    inside = {"BOOTMGR": code("desk-loader"), **_kept("BOOT/BCD", tree)}
    boot = code("fat32-start").replace(_STUB_NAME, _MANAGER_NAME)
    put_desk(draft, "TICKETDESK", inside, boot)
    _put_system(draft, tree)
    return draft


def nt_uefi_disk(*faults: Fault) -> ImageDraft:
    """100 MiB: a GPT, an ESP with the manager and its store, and the system."""
    device = StoreDevice("partition", str(DISK_GUID), str(PARTITION))
    tree = _tree(letter_on_gpt(PARTITION), device, "winload.efi", faults)
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    put_guid_table(draft, DISK_GUID, [(gpt.EFI_SYSTEM, *DESK, "EFI"), (_DATA, *STORE, "system")])
    loader = tree[f"{ROOT}/boot/efi/harbour.efi"]
    inside = {
        "EFI/BOOT/BOOTX64.EFI": loader,
        "EFI/HARBOUR/BOOT/HARBOUR.EFI": loader,
        **_kept(STORE_ON_ESP, tree),
    }
    put_desk(draft, "EFI", inside)
    _put_system(draft, tree)
    return draft


def _tree(letter: bytes, device: StoreDevice, loader: str, faults: tuple[Fault, ...]) -> Tree:
    tree = system_tree(letter)
    tree[STORE_FILE] = store_bytes(device, loader)
    for fault in faults:
        fault(tree)
    return tree


def _kept(path: str, tree: Tree) -> dict[str, bytes]:
    data = tree.pop(STORE_FILE, None)
    return {path: data} if data is not None else {}


def _put_system(draft: ImageDraft, tree: Tree) -> None:
    """The template, with the files of the tree laid over their places.

    Raises:
        ValueError: a file has another length than in the template, or is not in the tree.
    """
    volume = bytearray(template())
    for path, (size, start) in _places().items():
        if path not in tree or len(tree[path]) != size:
            raise ValueError(f"{path} has another length in the template")
        volume[start : start + size] = tree[path]
    for at in range(0, len(volume), _STEP):
        piece = bytes(volume[at : at + _STEP])
        if any(piece):
            draft.put(_AT + at, piece)


def other_disk(tree: Tree) -> None:
    """The boot configuration of a disk that was copied to another one."""
    device = StoreDevice("partition", f"{SIGNATURE ^ 0xFFFF:08x}", offset=_AT)
    tree[STORE_FILE] = store_bytes(device, "winload.exe")


def filter_left_behind(tree: Tree) -> None:
    """A program was removed, and its driver is still named as a filter of all volumes."""
    path = "ferry/system32/config/SYSTEM"
    tree[path] = hive(system_keys(letter_on_mbr(SIGNATURE, _AT), {"quayvol": None}))


def damaged_driver(tree: Tree) -> None:
    """One byte in the driver of the disk controller has turned."""
    path = "ferry/system32/drivers/quaydisk.sys"
    data = bytearray(tree[path])
    data[1030] ^= 0x10
    tree[path] = bytes(data)


def half_written_hive(tree: Tree) -> None:
    """The power went while the system hive was written, and its second half is blank."""
    path = "ferry/system32/config/SYSTEM"
    length = int.from_bytes(tree[path][40:44], "little")
    tree[path] = tree[path][:4096] + bytes(length) + tree[path][4096 + length :]


def other_program_at_sign_in(tree: Tree) -> None:
    """Something that was removed since had put itself in front of the sign-in."""
    keys = software_keys("C:\\ferry\\system32\\greeter.exe,")
    tree["ferry/system32/config/SOFTWARE"] = hive(keys)


NT_FAULTS: Mapping[str, Fault] = {
    "other-disk": other_disk,
    "filter-left-behind": filter_left_behind,
    "damaged-driver": damaged_driver,
    "half-written-hive": half_written_hive,
    "other-program-at-sign-in": other_program_at_sign_in,
}
"""Ways to break a system; the first two are for a BIOS PC."""
