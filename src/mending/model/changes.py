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

    @property
    def end(self) -> int:
        """Offset of the first byte behind it."""
        return self.offset + len(self.after)

    @property
    def shown(self) -> str:
        """Where it goes, for sentences."""
        return f"{self.length} bytes at offset {self.offset}"

    def may_have_left(self, now: bytes | None) -> bool:
        """Whether what stands there now is what a write leaves that was cut off anywhere: each
        byte is the one before or the one after.
        """
        if now is None or len(now) != self.length:
            return False
        pairs = zip(self.before, self.after, strict=True)
        return all(byte in pair for byte, pair in zip(now, pairs, strict=True))

    def turned_round(self) -> "Patch":
        """The patch that takes this one back."""
        return Patch(self.offset, self.after, self.before, self.says)


class FileAttributes(msgspec.Struct, frozen=True):
    """What a file has beside its bytes.

    Attributes:
        mode: permission bits, set-user-ID and its like included.
        owner: number of the user; group: of the group.
        modified_ns: when its bytes were changed last, in nanoseconds of Unix time; None for now.
        extended: names and values of extended attributes.
        is_link: a symbolic link, whose content is what it points at; it has no mode and no extended
            attributes of its own.
    """

    mode: int
    owner: int
    group: int
    modified_ns: int | None
    extended: tuple[tuple[str, bytes], ...] = ()
    is_link: bool = False


class FileChange(msgspec.Struct, frozen=True):
    """One file of a mounted tree before and after; None where it is not there.

    Attributes:
        path: from the top of the tree, starting with a slash.
        says: what the file is, for people.
        attributes_before: None where it is not there.
        attributes_after: None for those of the file that was there, or the usual ones.
        folders: those that the change makes on the way, or takes away with the file; the outermost
            first.
    """

    path: str
    before: bytes | None
    after: bytes | None
    says: str
    attributes_before: FileAttributes | None = None
    attributes_after: FileAttributes | None = None
    folders: tuple[str, ...] = ()

    @property
    def length(self) -> int:
        """Bytes that are put, or taken away."""
        return len(self.after if self.after is not None else self.before or b"")

    @property
    def is_link(self) -> bool:
        """Whether what is or will be there is a link."""
        sides = (self.attributes_before, self.attributes_after)
        return any(side is not None and side.is_link for side in sides)

    @property
    def shown(self) -> str:
        """Where it goes, for sentences."""
        return self.path

    def may_have_left(self, now: bytes | None) -> bool:
        """Whether what stands there now is what a write leaves that was cut off anywhere: a file is
        replaced as a whole.
        """
        return now in {self.before, self.after}

    def turned_round(self) -> "FileChange":
        """The change that takes this one back."""
        return FileChange(
            self.path,
            self.after,
            self.before,
            self.says,
            self.attributes_after,
            self.attributes_before,
            self.folders,
        )


Change = Patch | FileChange
