"""A Linux start from its kernel on: kernel, initramfs, root, init, mounts, default target,
sign-in."""

from mending.boot.linux.kernels import KernelWithInitramfs, find_sound_kernels
from mending.boot.linux.mounts import (
    diversion,
    mount_table,
    option,
    options,
    parse_name,
    volume_named,
)
from mending.boot.linux.programs import FIRST_PROGRAMS
from mending.boot.linux.root import RootChecks
from mending.boot.linux.sign_in import COPY_ENDING, read_accounts
from mending.boot.linux.start import (
    LinuxChecks,
    LinuxStart,
    Part,
    kernels_beside,
    read_unified,
    start_of,
)

__all__ = [
    "COPY_ENDING",
    "FIRST_PROGRAMS",
    "KernelWithInitramfs",
    "LinuxChecks",
    "LinuxStart",
    "Part",
    "RootChecks",
    "diversion",
    "find_sound_kernels",
    "kernels_beside",
    "mount_table",
    "option",
    "options",
    "parse_name",
    "read_accounts",
    "read_unified",
    "start_of",
    "volume_named",
]
