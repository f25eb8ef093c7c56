"""What volumes made of inodes have in common: a name in a folder, and what an inode is."""

import stat

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


class FileKind:
    """What an inode is, by its mode, whose upper digits Linux and the file systems number alike."""

    __slots__ = ()

    @property
    def mode_bits(self) -> int:
        """Kind of file and permissions."""
        raise NotImplementedError

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return stat.S_ISDIR(self.mode_bits)

    @property
    def is_link(self) -> bool:
        """Whether it is a symbolic link."""
        return stat.S_ISLNK(self.mode_bits)

    @property
    def is_file(self) -> bool:
        """Whether it is a plain file."""
        return stat.S_ISREG(self.mode_bits)

    @property
    def permissions(self) -> int:
        """Permission bits."""
        return stat.S_IMODE(self.mode_bits)
