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
