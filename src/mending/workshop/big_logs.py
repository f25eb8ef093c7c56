"""A text log of any length, of a desk that sells tickets and is sound but for what is asked for."""

from pathlib import Path

_ROWS = 40_000


def write_log(path: Path, size: int, last: str = "") -> None:
    """Write a log of at least `size` bytes. Raises OSError.

    Args:
        last: lines to end it with: the only ones that tell of anything.
    """
    rows = (
        f"Nov 23 10:{row % 60:02d}:{row * 7 % 60:02d} desk till[{row % 9999}]: ticket {row} sold,"
        " no error\n"
        for row in range(_ROWS)
    )
    block = "".join(rows).encode()
    with path.open("wb") as file:
        for _ in range(size // len(block) + 1):
            file.write(block)
        file.write(last.encode())
