"""Files and folders of ext2, ext3 and ext4 volumes, by our own reader."""

from mending.disk.ext.reader import ExtReader
from mending.disk.ext.volume import ExtVolume

__all__ = ["ExtReader", "ExtVolume"]
