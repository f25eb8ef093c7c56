"""A name in a folder of a volume made of inodes."""

import msgspec

_FOLDER, _LINK = 2, 7
"""Kinds as ext and XFS write them, as Linux numbers the types of directory entries' files."""


class FolderName(msgspec.Struct, frozen=True):
    """A name and what it stands for.

    Attributes:
        inode: number of the inode.
        kind: 2 folder, 7 link; 0 where the volume does not keep kinds.
    """

    inode: int
    name: bytes
    kind: int

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder, as far as the name's row tells."""
        return self.kind == _FOLDER

    @property
    def is_link(self) -> bool:
        """Whether it is a symbolic link, as far as the name's row tells."""
        return self.kind == _LINK
