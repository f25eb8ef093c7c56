"""Running a disk's own boot code in an emulator and watching how far it gets."""

from mending.boot.rehearse.machine import Handed, Stop, can_rehearse, rehearse_code
from mending.boot.rehearse.results import ReadResult, RehearsalResult
from mending.boot.rehearse.walk import rehearse_disk

__all__ = ["Handed", "ReadResult", "RehearsalResult", "Stop", "can_rehearse", "rehearse_code", "rehearse_disk"]
