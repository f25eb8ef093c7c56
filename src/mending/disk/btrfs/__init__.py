"""Files and folders of Btrfs volumes on one device, by our own reader."""

from mending.disk.btrfs.reader import DEFAULT, BtrfsReader

__all__ = ["DEFAULT", "BtrfsReader"]
