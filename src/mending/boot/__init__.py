"""The boot chain, link by link, and the walk along it."""

from mending.boot.active import startable
from mending.boot.boot_options import BootOptions, read_boot_options
from mending.boot.codes import CodeKind, recognise_code
from mending.boot.folder_grounds import FolderGrounds
from mending.boot.goals import Goal, entry_home, goal_of, the_linux_system
from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.grub.core import SpareCore, find_core, room_for_core, spare_core
from mending.boot.linux.kernels import SoundKernel, sound_kernels
from mending.boot.linux.mounts import mount_table, volume_named
from mending.boot.loader_kinds import SpareLoader, fallback_name, spare_loader
from mending.boot.results import PhaseResult, RungResult, SystemResult, TargetResult, Trace, VolumeResult
from mending.boot.trace import trace_disk, trace_target, trace_tree

__all__ = [
    "BootOptions",
    "CodeKind",
    "ElsewhereError",
    "FolderGrounds",
    "Goal",
    "Grounds",
    "PhaseResult",
    "RungResult",
    "SoundKernel",
    "SpareCore",
    "SpareLoader",
    "SystemResult",
    "TargetResult",
    "Trace",
    "VolumeResult",
    "entry_home",
    "fallback_name",
    "find_core",
    "goal_of",
    "mount_table",
    "read_boot_options",
    "recognise_code",
    "room_for_core",
    "sound_kernels",
    "spare_core",
    "spare_loader",
    "startable",
    "the_linux_system",
    "trace_disk",
    "trace_target",
    "trace_tree",
    "volume_named",
]
