"""Files and folders of NTFS volumes, by our own reader."""

from mending.disk.ntfs.reader import NtfsReader

__all__ = ["NtfsReader"]
