"""GRUB: its core in sectors of its own, its menu file run on paper, the checks from one to the
other."""

from mending.boot.grub.core import (
    check_core,
    code_repairs,
    core_repairs,
    files_kept,
    find_core,
    room_for_core,
    spare_core,
)
from mending.boot.grub.menu import GrubChecks
from mending.boot.grub.script import MODULE_OF

__all__ = [
    "MODULE_OF",
    "GrubChecks",
    "check_core",
    "code_repairs",
    "core_repairs",
    "files_kept",
    "find_core",
    "room_for_core",
    "spare_core",
]
