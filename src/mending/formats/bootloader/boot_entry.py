"""Boot entries as small text files, and the settings beside them.

Source: the Boot Loader Specification of the UAPI Group, "Type #1 Boot Loader Specification
Entries"; systemd 252, manual page loader.conf(5).
"""

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


def read(data: bytes, name: str) -> BootEntry:
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


def default_pattern(data: bytes) -> str:
    """The pattern that `loader.conf` gives for the default entry; empty where it gives none."""
    return next((value for key, value in reversed(_rows(data)) if key == "default"), "")


def _rows(data: bytes) -> list[tuple[str, str]]:
    """Keys and values, without comments and empty lines."""
    text = data[:_MOST_BYTES].decode("utf-8", errors="replace")
    split = (
        row.strip().split(None, 1) for row in text.splitlines() if not row.lstrip().startswith("#")
    )
    return [(row[0], clean_text(row[1], 4096)) for row in split if len(row) == 2]
