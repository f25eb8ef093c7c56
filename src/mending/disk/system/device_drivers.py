"""Which driver a device uses, by the table in which a system of the linux family keeps that.

`modules.alias` of a kernel has lines `alias PATTERN MODULE`; a device has a text of its identifiers
that one of the patterns fits, with `*` for any (depmod(8); Linux 6.1, `scripts/mod/file2alias.c`).
A log tells maker and product of a device, for one on the inner bus its class, too: patterns that
ask for more are passed over.
"""

import re
from collections.abc import Iterable, Iterator
from fnmatch import translate

from mending.disk.files import Files
from mending.disk.system.brought import Brought

_KERNELS = ("usr/lib/modules", "lib/modules")
_TABLE = "modules.alias"
_TABLE_BYTES, _MOST_KERNELS = 16 << 20, 8
_USB = re.compile(r"idVendor=([0-9a-f]{4}), idProduct=([0-9a-f]{4})", re.IGNORECASE)
_PCI = re.compile(
    r"\[([0-9a-f]{4}):([0-9a-f]{4})\].* class (?:0x)?([0-9a-f]{2})([0-9a-f]{2})([0-9a-f]{2})",
    re.IGNORECASE,
)


def drivers_of(files: Files, names: Iterable[str]) -> dict[str, Brought]:
    """The drivers of devices, by the words in which a kernel tells of them; those that none of the
    system's kernels has a driver for are left out.

    Raises:
        FilesUnavailableError: damage hides the tables.
    """
    wanted = {name: text for name in names if (text := _identifiers(name))}
    found: dict[str, set[str]] = {}
    for table in _tables(files) if wanted else ():
        for name, module in _fitting(table, wanted):
            found.setdefault(name, set()).add(module)
    return {name: Brought(frozenset(modules)) for name, modules in found.items()}


def _identifiers(name: str) -> str:
    """The text that patterns are held against; empty where the words name no device by numbers.
    What is not known is `?`, which fits `*` alone.
    """
    if match := _USB.search(name):
        vendor, product = match.groups()
        return f"usb:v{vendor.upper()}p{product.upper()}d?dc?dsc?dp?ic?isc?ip?in?"
    if match := _PCI.search(name):
        vendor, device, base, sub, interface = (part.upper() for part in match.groups())
        return f"pci:v0000{vendor}d0000{device}sv?sd?bc{base}sc{sub}i{interface}"
    return ""


def _tables(files: Files) -> Iterator[str]:
    for home in _KERNELS:
        folder = files.find(home)
        if folder is None or not folder.is_folder:
            continue
        kernels = sorted(
            (each.path for each in files.listing(folder.path) if each.is_folder), reverse=True
        )
        for kernel in kernels[:_MOST_KERNELS]:
            table = files.find(f"{kernel}/{_TABLE}")
            if table is not None and not table.is_folder:
                yield files.read(table, _TABLE_BYTES).decode("ascii", errors="replace")
        return


def _fitting(table: str, wanted: dict[str, str]) -> Iterator[tuple[str, str]]:
    for line in table.splitlines():
        words = line.split()
        if len(words) != 3 or words[0] != "alias" or not words[1].startswith(("usb:", "pci:")):
            continue
        if words[1].startswith(("usb:v*", "pci:v*d*sv*sd*bc*")):  # whoever made it, whatever it is
            continue
        fits = re.compile(translate(words[1])).match
        for name, text in wanted.items():
            if fits(text):
                yield name, words[2]
