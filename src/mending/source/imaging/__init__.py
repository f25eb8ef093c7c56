"""An image that is still being copied from a drive: which bytes of it are safe, the file that says
so, and the image itself.
"""

from mending.source.imaging.byte_ranges import ByteRanges
from mending.source.imaging.growing_image import GrowingImage, open_image
from mending.source.imaging.reading_record import (
    ReadingHeader,
    ReadingRecord,
    load_record,
    record_path,
)

__all__ = [
    "ByteRanges",
    "GrowingImage",
    "ReadingHeader",
    "ReadingRecord",
    "load_record",
    "open_image",
    "record_path",
]
