"""The files of a sample system of the nt family: hives and a boot configuration of our own making,
and placeholder programs that are whole by every rule of a loader and do nothing.

Keys, values and file names are those that the chain of the family needs; drivers, programs and
accounts are the ferries' own.
"""

import functools
import uuid
from collections.abc import Mapping, Sequence
from typing import Any

from mending.formats.nt import boot_store
from mending.formats.nt.boot_store import StoreDevice
from mending.workshop.disks import code
from mending.workshop.hive_file import Expanded, hive_bytes
from mending.workshop.program_file import BOOT_PROGRAM, GRAPHIC, program_bytes

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
_BASE = f"{ROOT}/system32"
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
        f"{_BASE}/winload.exe": own(subsystem=BOOT_PROGRAM),
        f"{_BASE}/winload.efi": own(subsystem=BOOT_PROGRAM),
        f"{_BASE}/ntoskrnl.exe": own(_KERNEL, {"hal.dll": _HARDWARE}),
        f"{_BASE}/hal.dll": own(_HARDWARE),
        f"{_BASE}/ntdll.dll": own(_CALLS),
        **{f"{_BASE}/{name}.exe": own((), calls) for name in ("smss", "autochk")},
        **{
            f"{_BASE}/{name}.exe": own((), calls, GRAPHIC)
            for name in (
                *("csrss", "wininit", "winlogon", "services", "lsass", "userinit", "ticketd"),
            )
        },
        f"{ROOT}/explorer.exe": own((), calls, GRAPHIC),
        f"{_BASE}/drivers/quayport.sys": own(_PORT, kernel),
        **{
            f"{_BASE}/drivers/{name}.sys": own((), port if "quayd" in name else kernel)
            for name in ("quaybus", "quaydisk", "quaymode", "quayvol", "tidefs", "deskprint")
        },
    }


def kept_copies() -> Tree:
    """The system's own store of its files, with one of an older build, and its boot managers."""
    store = f"{ROOT}/winsxs"
    older = programs(OLDER)[f"{_BASE}/drivers/quaydisk.sys"]
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
    config = f"{_BASE}/config"
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
