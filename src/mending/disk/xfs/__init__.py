"""Files and folders of XFS volumes, by our own reader."""

from mending.disk.xfs.reader import XfsReader

__all__ = ["XfsReader"]
