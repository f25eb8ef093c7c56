"""FAT volumes: files as firmware reads them, the two FATs compared, files put on them."""

from mending.disk.fat.copies import FatCopy, read_fats, sound_one
from mending.disk.fat.reader import FatReader
from mending.disk.fat.writer import FatWriter

__all__ = ["FatCopy", "FatReader", "FatWriter", "read_fats", "sound_one"]
