"""Running a disk's own boot code in an emulator and watching how far it gets."""

from mending.boot.rehearse.disk_run import rehearse_disk
from mending.boot.rehearse.machine import Stop, can_rehearse, rehearse_code
from mending.boot.rehearse.results import RehearsalResult

__all__ = ["RehearsalResult", "Stop", "can_rehearse", "rehearse_code", "rehearse_disk"]
