"""A bounds-checked view on bytes that knows where in the source it lies."""

from dataclasses import dataclass

from mending.model.errors import InputError


@dataclass(frozen=True, slots=True)
class Window:
    """Some bytes of a source.

    Attributes:
        data: the bytes; may be shorter than what was asked for at the end of a source.
        offset: absolute offset of the first of them, in bytes.
    """

    data: bytes
    offset: int = 0

    def __len__(self) -> int:
        return len(self.data)

    def take(self, at: int, length: int) -> bytes:
        """`length` bytes from `at`, counted from the start of this window.

        Raises:
            InputError: the range is not wholly inside the window.
        """
        if at < 0 or length < 0 or at + length > len(self.data):
            raise InputError(
                f"{length} bytes are needed at offset {self.offset + at}, but the data ends after"
                f" {len(self.data)}.",
                "The file is cut short or is not what it was taken for.",
            )
        return self.data[at : at + length]

    def part(self, at: int, length: int) -> "Window":
        """A smaller window inside this one; bounds as in `take`."""
        return Window(self.take(at, length), self.offset + at)

    @property
    def blank(self) -> bool:
        """Whether every byte is 00, or every byte is ff (erased flash)."""
        return not self.data.strip(b"\0") or not self.data.strip(b"\xff")
