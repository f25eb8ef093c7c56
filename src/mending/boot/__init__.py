"""The boot chain, link by link, and the walk along it."""

from mending.boot.active import startable
from mending.boot.codes import CodeKind, recognise_code
from mending.boot.grub_core import find_core
from mending.boot.loader_kinds import SpareLoader, fallback_name, spare_loader
from mending.boot.mounts import mount_table, volume_named
from mending.boot.results import PhaseResult, RungResult, SystemResult, TargetResult, Trace, VolumeResult
from mending.boot.trace import trace_disk

__all__ = [
    "CodeKind",
    "PhaseResult",
    "RungResult",
    "SpareLoader",
    "SystemResult",
    "TargetResult",
    "Trace",
    "VolumeResult",
    "fallback_name",
    "find_core",
    "mount_table",
    "recognise_code",
    "spare_loader",
    "startable",
    "trace_disk",
    "volume_named",
]
