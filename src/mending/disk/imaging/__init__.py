"""The most out of a failing drive: what matters first, no byte read twice.

Everything that reads file systems reads them through a source that keeps what it gets in the image
(`CopyingSource`), so looking at the drive is already copying it. Then the rest is fetched piece by
piece, always the piece next that promises most for a second of the drive's remaining life.
"""

from mending.disk.imaging.copier import Copied, Progress, fetch_all
from mending.disk.imaging.copying_source import CopyingSource, DriveGoneError
from mending.disk.imaging.effort import Regions
from mending.disk.imaging.worth import Holdings, Worth, find_holdings

__all__ = [
    "Copied",
    "CopyingSource",
    "DriveGoneError",
    "Holdings",
    "Progress",
    "Regions",
    "Worth",
    "fetch_all",
    "find_holdings",
]
