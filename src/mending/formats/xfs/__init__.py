"""Structures of XFS: superblock, inodes, extents, folders, log."""
