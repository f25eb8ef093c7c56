"""What a repair wants to change, as values."""

import msgspec


class Patch(msgspec.Struct, frozen=True):
    """One range of bytes before and after. `before` and `after` are of the same length.

    Attributes:
        offset: bytes from the start of the target.
        says: what the range is, for people.
    """

    offset: int
    before: bytes
    after: bytes
    says: str

    @property
    def length(self) -> int:
        """Bytes changed by this patch."""
        return len(self.after)

    def turned_round(self) -> "Patch":
        """The patch that takes this one back."""
        return Patch(self.offset, self.after, self.before, self.says)


class FileChange(msgspec.Struct, frozen=True):
    """One file of a mounted tree before and after; None where it is not there.

    Attributes:
        path: from the top of the tree, starting with a slash.
        says: what the file is, for people.
    """

    path: str
    before: bytes | None
    after: bytes | None
    says: str

    @property
    def length(self) -> int:
        """Bytes that are put, or taken away."""
        return len(self.after if self.after is not None else self.before or b"")

    def turned_round(self) -> "FileChange":
        """The change that takes this one back."""
        return FileChange(self.path, self.after, self.before, self.says)


Change = Patch | FileChange
