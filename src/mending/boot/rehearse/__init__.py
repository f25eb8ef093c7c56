"""Running a disk's own boot code in an emulator and watching how far it gets."""

from mending.boot.rehearse.disk_run import rehearse_disk
from mending.boot.rehearse.machine import Handed, Stop, can_rehearse, rehearse_code, screen_lines
from mending.boot.rehearse.results import MEANINGS, RehearsalResult

__all__ = [
    "MEANINGS",
    "Handed",
    "RehearsalResult",
    "Stop",
    "can_rehearse",
    "rehearse_code",
    "rehearse_disk",
    "screen_lines",
]
