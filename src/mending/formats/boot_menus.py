"""Boot entries as small text files, and the settings beside them.

Source: the Boot Loader Specification of the UAPI Group, "Type #1 Boot Loader Specification
Entries"; systemd 252, manual page loader.conf(5).
"""

import re
import struct
from collections.abc import Iterator

import msgspec

from mending.model import clean_text

_MOST_BYTES = 65_536


class BootEntry(msgspec.Struct, frozen=True):
    """One entry. Paths are as written; `command_line` is for the kernel; `loader` an EFI program
    instead of a kernel.
    """

    id: str
    title: str
    version: str
    sort_key: str
    kernel: str
    initrds: tuple[str, ...]
    command_line: str
    loader: str

    @property
    def program(self) -> str:
        """What the manager loads."""
        return self.kernel or self.loader


def read_entry(data: bytes, name: str) -> BootEntry:
    """Read an entry. Any bytes give one. Args: name: of its file, which is its identifier."""
    rows = _rows(data)

    def last(key: str) -> str:
        return next((value for found, value in reversed(rows) if found == key), "")

    def every(key: str) -> tuple[str, ...]:
        return tuple(value for found, value in rows if found == key)

    return BootEntry(
        id=name,
        title=last("title"),
        version=last("version"),
        sort_key=last("sort-key"),
        kernel=last("linux"),
        initrds=every("initrd"),
        command_line=" ".join(every("options")),
        loader=last("efi"),
    )


def default_entry_pattern(data: bytes) -> str:
    """The pattern that `loader.conf` gives for the default entry; empty where it gives none."""
    return next((value for key, value in reversed(_rows(data)) if key == "default"), "")


def _rows(data: bytes) -> list[tuple[str, str]]:
    """Keys and values, without comments and empty lines."""
    text = data[:_MOST_BYTES].decode("utf-8", errors="replace")
    split = (
        row.strip().split(None, 1) for row in text.splitlines() if not row.lstrip().startswith("#")
    )
    return [(row[0], clean_text(row[1], 4096)) for row in split if len(row) == 2]


# The texts of rEFInd: its settings with the entries written by hand, and the command lines that
# lie beside kernels.
#
# Source: rEFInd 0.13.2, `refind.conf-sample` and `refind/config.c` (`ReadConfig`,
# `ScanUserConfigured`, `ReadLinuxOptionsFile`).


REFIND_MARK = "rEFInd Boot Manager".encode("utf-16-le")
"""In the loader file of the manager itself."""
_WORD = re.compile(r'"((?:[^"]|"")*)"|([^\s,="]+)')
_LISTS = {"scanfor", "also_scan_dirs", "dont_scan_dirs", "dont_scan_files", "scan_driver_dirs"}
_FALSE = {"false", "off", "0"}


class Stanza(msgspec.Struct, frozen=True):
    """An entry written by hand. `line` is that of its head, from 1."""

    title: str
    volume: str
    loader: str
    initrds: tuple[str, ...]
    options: str
    line: int


class Settings(msgspec.Struct, frozen=True):
    """What the settings say.

    Attributes:
        lists: of the keys that take several words.
        default: texts of which one is in the name of the entry that starts; empty where the entry
            that was started last does.
        kernels: whether kernels without the ending of a loader are found.
    """

    lists: dict[str, tuple[str, ...]]
    default: tuple[str, ...]
    stanzas: tuple[Stanza, ...]
    included: tuple[str, ...]
    kernels: bool = True

    def named(self, key: str) -> tuple[str, ...]:
        """The words of a key; none where it is not set."""
        return self.lists.get(key, ())


def words_of(row: str) -> list[str]:
    """The words of a line: blanks, commas and equals signs part them, quotes hold them together."""
    return [
        (found[1] or "").replace('""', '"') if found[1] is not None else found[2]
        for found in _WORD.finditer(row.split("#")[0] if '"' not in row else row)
    ]


def read_refind_settings(text: str) -> Settings:
    """Read a file of settings; keys that are not known are passed over, as the manager does."""
    lists: dict[str, tuple[str, ...]] = {}
    default: tuple[str, ...] = ()
    stanzas, included = list[Stanza](), list[str]()
    kernels, entry, depth = True, dict[str, list[str]](), 0
    for number, row in enumerate(text.splitlines(), 1):
        if row.lstrip().startswith("#"):
            continue
        words = words_of(row)
        key = words[0].lower() if words else ""
        if key == "menuentry":
            entry, depth = {"title": words[1:2], "line": [str(number)]}, 1
        elif key == "submenuentry" and depth:
            depth = 2
        elif key == "}":
            if depth == 1 and "disabled" not in entry:
                stanzas.append(_stanza(entry))
            depth = max(depth - 1, 0)
        elif depth == 1 and key:
            entry[key] = words[1:]
        elif depth == 0 and key in _LISTS:
            lists[key] = tuple(words[1:])
        elif depth == 0 and key == "default_selection":
            default = tuple(part for word in words[1:] for part in word.split(",") if part != "+")
        elif depth == 0 and key == "include":
            included += words[1:2]
        elif depth == 0 and key == "scan_all_linux_kernels":
            kernels = not (len(words) > 1 and words[1].lower() in _FALSE)
    return Settings(lists, default, tuple(stanzas), tuple(included), kernels)


def _stanza(entry: dict[str, list[str]]) -> Stanza:
    def first(key: str) -> str:
        return next(iter(entry.get(key, ())), "")

    return Stanza(
        first("title"),
        first("volume"),
        first("loader").replace("\\", "/"),
        tuple(name.replace("\\", "/") for name in entry.get("initrd", ())),
        first("options"),
        int(first("line")),
    )


def read_refind_options(text: str) -> tuple[str, int] | None:
    """The command line of the first entry in a file beside a kernel, and its line; None where there
    is none.
    """
    for number, row in enumerate(text.splitlines(), 1):
        if row.lstrip().startswith("#"):
            continue
        found = re.findall(r'"((?:[^"]|"")*)"', row)
        if len(found) > 1:
            return found[1].replace('""', '"'), number
    return None


# What the boot managers of the SYSLINUX family leave on a volume: the place of their second file
# in boot sector and file, its checksum, and their menu.
#
# The installer writes into the boot sector where the first sector of `ldlinux.sys` lies, and into
# that sector, behind a magic number, how long the file is, its checksum and where its other sectors
# lie. Nothing of that follows the file when it is moved or copied.
#
# Source: SYSLINUX 6.04, `libinstaller/syslxint.h` (`struct patch_area`, `struct ext_patch_area`,
# `struct syslinux_extent`), `libinstaller/syslxmod.c`, `doc/syslinux.txt` ("Configuration File").


NAME = b"SYSLINUX"
"""In the place where a boot sector has the name of what made it."""
_MAGIC = 0x3EB202FE
_AREA = struct.Struct("<IIHHIIHH")
_MORE = struct.Struct("<10H")
_EXTENT = struct.Struct("<QH")
_SEARCHED = 4096
_MOST_EXTENTS, _MOST_PATH = 512, 256
SYSLINUX_SECTOR = 512
"""Bytes; the unit of every place."""
_FROM_KERNEL = ("kernel", "linux", "com32", "fdimage", "boot", "localboot", "config")


class SecondFile(msgspec.Struct, frozen=True):
    """What `ldlinux.sys` says of itself.

    Attributes:
        folder: where it was installed, from the top of its volume.
        data_sectors: of it that are loaded and summed.
        sum_fits: whether its checksum does.
        extents: first sector on the volume and count, of all behind its first sector.
        place_low, place_high: where the boot sector has the two halves of its first sector.
    """

    folder: str
    data_sectors: int
    sum_fits: bool
    extents: tuple[tuple[int, int], ...]
    place_low: int
    place_high: int

    def first_sector(self, boot_sector: bytes) -> int | None:
        """Where the boot sector says that the file begins; None where it says nothing."""
        ends = max(self.place_low, self.place_high) + 4
        if ends > len(boot_sector):
            return None
        low = int.from_bytes(boot_sector[self.place_low : self.place_low + 4], "little")
        high = int.from_bytes(boot_sector[self.place_high : self.place_high + 4], "little")
        return high << 32 | low

    def sectors(self, first: int) -> Iterator[int]:
        """Every sector that is loaded, in order."""
        yield first
        left = self.data_sectors - 1
        for start, count in self.extents:
            yield from range(start, start + min(count, left))
            left -= min(count, left)


def is_syslinux_sector(sector: bytes) -> bool:
    """Whether a boot sector is one of this family."""
    return sector[3:11] == NAME


def read_syslinux_file(data: bytes) -> SecondFile | None:
    """Read `ldlinux.sys`; None where the numbers of the installer are not in it."""
    at = next(
        (
            place
            for place in range(0, min(len(data), _SEARCHED) - _AREA.size, 4)
            if int.from_bytes(data[place : place + 4], "little") == _MAGIC
        ),
        None,
    )
    if at is None:
        return None
    _, _, sectors, _, words, _, _, more = _AREA.unpack_from(data, at)
    if more + _MORE.size > len(data) or not 0 < sectors <= _MOST_EXTENTS * 128:
        return None
    _, folder, folder_bytes, _, _, places, count, low, high, _ = _MORE.unpack_from(data, more)
    whole = 4 * words <= len(data)
    total = sum(struct.unpack_from(f"<{words}I", data)) & 0xFFFF_FFFF if whole else 0
    rows = [
        _EXTENT.unpack_from(data, places + _EXTENT.size * number)
        for number in range(min(count, _MOST_EXTENTS))
        if places + _EXTENT.size * (number + 1) <= len(data)
    ]
    text = data[folder : folder + min(folder_bytes, _MOST_PATH)].split(b"\0")[0]
    return SecondFile(
        text.decode("utf-8", errors="replace"),
        sectors,
        whole and total == _MAGIC,
        tuple((start, length) for start, length in rows if length),
        low,
        high,
    )


class Label(msgspec.Struct, frozen=True):
    """One entry of a menu.

    Attributes:
        kind: `linux` for a kernel; else the word that says what it is.
        initrds: images, in order.
        line: of the file, from 1, in which it names what it starts, or begins.
    """

    name: str
    kind: str
    kernel: str
    initrds: tuple[str, ...]
    command_line: str
    line: int


class Menu(msgspec.Struct, frozen=True):
    """What a menu file says.

    Attributes:
        default: the name of the label that starts by itself, or a command line.
        interface: a module that shows the menu; empty where none does.
        included: further files.
        waits_for_ever: nothing starts by itself.
    """

    default: str
    interface: str
    labels: tuple[Label, ...]
    included: tuple[str, ...]
    waits_for_ever: bool

    @property
    def chosen(self) -> Label | None:
        """The label that starts by itself."""
        word = self.default.split()[0].lower() if self.default else ""
        named = (label for label in self.labels if label.name.lower() == word)
        return next(named, self.labels[0] if self.labels and not word else None)


def read_syslinux_menu(text: str) -> Menu:
    """Read a menu file; words that are not known are passed over, as the manager does."""
    default, interface, marked, prompt, timeout = "", "", "", "", ""
    included: list[str] = []
    append, labels = "", list[dict[str, str]]()
    for number, row in enumerate(text.splitlines(), 1):
        words = row.split(None, 1)
        if not words or words[0].startswith("#"):
            continue
        key, value = words[0].lower(), words[1].strip() if len(words) > 1 else ""
        if key == "label":
            labels.append({"name": value, "line": str(number), "append": append})
        elif key == "default":
            default = value
        elif key == "ui":
            interface = value.split()[0] if value else ""
        elif key == "include":
            included.append(value.split()[0] if value else "")
        elif key == "prompt":
            prompt = value
        elif key == "timeout":
            timeout = value
        elif key == "menu" and value.lower() == "default" and labels:
            marked = labels[-1]["name"]
        elif key in {"append", "initrd", *_FROM_KERNEL}:
            if labels:
                named = key in _FROM_KERNEL
                more = {"kind": key, "kernel": value, "line": str(number)}
                labels[-1] |= more if named else {key: value}
            elif key == "append":
                append = value
    return Menu(
        marked or default,
        interface,
        tuple(map(_label, labels)),
        tuple(filter(None, included)),
        prompt not in {"", "0"} and timeout in {"", "0"},
    )


def _label(row: dict[str, str]) -> Label:
    line = row.get("append", "")
    line = "" if line == "-" else line
    words = line.split()
    named = [word.partition("=")[2] for word in words if word.startswith("initrd=")]
    initrds = [row["initrd"]] if "initrd" in row else named[-1:]
    kind = row.get("kind", "linux")
    return Label(
        row["name"],
        "linux" if kind == "kernel" else kind,
        row.get("kernel", row["name"]),
        tuple(part for each in initrds for part in each.split(",") if part),
        " ".join(word for word in words if not word.startswith("initrd=")),
        int(row["line"]),
    )
