"""Keys that sort versions as people do: numbers by value, letters by the alphabet."""

import re

_PARTS = re.compile(r"(\d+)")
Key = tuple[tuple[int, object], ...]


def falling(text: str) -> Key:
    """A key that puts higher versions first."""
    parts = (part for part in _PARTS.split(text) if part)
    return tuple(
        (0, -int(part[:18])) if part.isdecimal() else (1, tuple(-ord(letter) for letter in part))
        for part in parts
    )
