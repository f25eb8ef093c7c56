"""Unified kernels: one loader file with kernel, initramfs and command line in sections of their
own.

Source: the UAPI Group's specifications "Unified Kernel Image", section "UKI Components", and "Boot
Loader Specification", section "Type #2"; what a manager needs to show one: systemd 252,
`src/boot/efi/boot.c` as described in the manual page systemd-boot(7).
"""

import msgspec

from mending.boot.chain import BootEnvironment
from mending.boot.linux.start import LinuxStart, Part
from mending.disk.volume import Volume
from mending.formats.executable import pe
from mending.model import Where, Window, clean_text
from mending.model.limits import LOADED_BYTES

_KERNEL, _INITRD, _WORDS, _RELEASE = b".linux", b".initrd", b".cmdline", b".osrel"


class Unified(msgspec.Struct, frozen=True):
    """What a unified kernel says of itself.

    Attributes:
        keys: rows of its release file; empty where it has none, and then no manager shows it.
        problem: what is wrong with the file as a loader; empty where nothing is.
    """

    path: str
    command_line: str
    keys: dict[str, str]
    has_initrd: bool
    problem: str = ""

    @property
    def title(self) -> str:
        """What a manager calls it."""
        return next(
            (
                self.keys[key]
                for key in ("PRETTY_NAME", "IMAGE_ID", "NAME", "ID")
                if self.keys.get(key)
            ),
            "",
        )

    @property
    def version(self) -> str:
        """By what a manager sorts within one system."""
        names = ("IMAGE_VERSION", "VERSION", "VERSION_ID", "BUILD_ID")
        return next((self.keys[key] for key in names if self.keys.get(key)), "")

    @property
    def sort_key(self) -> str:
        """By what a manager sorts systems."""
        return self.keys.get("IMAGE_ID") or self.keys.get("ID", "")


def read_unified(environment: BootEnvironment, volume: Volume, path: str) -> Unified | None:
    """A loader file that is a unified kernel; None where it is something else. Raises
    OutOfReachError.
    """
    data = environment.read(volume, path, LOADED_BYTES)
    reading = pe.read(Window(data))
    if pe.section(data, reading.record, _KERNEL) is None:
        return None
    command_line, release = (
        _text(pe.section(data, reading.record, name)) for name in (_WORDS, _RELEASE)
    )
    rows = (row.partition("=") for row in release.splitlines())
    keys = {key.strip(): clean_text(value.strip("\"' "), 120) for key, _, value in rows if value}
    initrd = pe.section(data, reading.record, _INITRD) is not None
    problem = (
        ""
        if not reading.problems
        else f"{reading.problems[0].found} instead of {reading.problems[0].expected}"
    )
    return Unified(path, " ".join(command_line.split()), keys, initrd, problem)


def start_of(volume: Volume, found: Unified) -> LinuxStart:
    """What its own stub loads."""
    initrds = (Part(volume, found.path, _INITRD),) if found.has_initrd else ()
    kernel, manager = Part(volume, found.path, _KERNEL), f"The stub of {found.path}"
    return LinuxStart(
        kernel, initrds, found.command_line, Where(path=found.path), manager, damage=found.problem
    )


def _text(data: bytes | None) -> str:
    return (data or b"").split(b"\0")[0].decode("utf-8", errors="replace")
