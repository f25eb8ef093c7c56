"""A disk image as a size and the pieces that are not zero."""

from pathlib import Path

SECTOR = 512


class ImageDraft:
    """Pieces of bytes at offsets, written as a sparse file.

    Args:
        size: bytes of the whole disk.
    """

    def __init__(self, size: int) -> None:
        self.size = size
        self._pieces: list[tuple[int, bytes]] = []

    def put(self, offset: int, data: bytes) -> None:
        """Lay `data` at `offset`; later pieces go over earlier ones."""
        if offset < 0 or offset + len(data) > self.size:
            raise ValueError(f"{len(data)} bytes at {offset} leave an image of {self.size}")
        self._pieces.append((offset, data))

    def save(self, path: Path) -> None:
        """Write the image.

        Raises:
            OSError
        """
        with path.open("wb") as file:
            file.truncate(self.size)
            for offset, data in self._pieces:
                file.seek(offset)
                file.write(data)
