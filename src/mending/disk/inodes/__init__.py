"""What readers of volumes made of inodes have in common."""

from mending.disk.inodes.reader import InodeReader, Listed, Node, Run, filled

__all__ = ["InodeReader", "Listed", "Node", "Run", "filled"]
