"""Which files a person means by a folder, a suffix or a kind, from `files.toml`."""

from functools import cache
from pathlib import Path

import msgspec

from mending.model import UsageError


class FileWishes(msgspec.Struct, frozen=True):
    """Files by where they are and how their names end, in small letters.

    Attributes:
        folders: beginnings of paths.
        suffixes: ends of names, with their dot.
    """

    folders: tuple[str, ...]
    suffixes: tuple[str, ...] = ()

    def wants(self, path: str) -> bool:
        """Whether a file is among them."""
        name = path.lower()
        return name.startswith(self.folders) or (
            bool(self.suffixes) and name.endswith(self.suffixes)
        )


class _Personal(msgspec.Struct, frozen=True):
    folders: tuple[str, ...]


class _FileNames(msgspec.Struct, frozen=True):
    personal: _Personal
    kinds: dict[str, tuple[str, ...]]


@cache
def _names() -> _FileNames:
    data = (Path(__file__).parent / "files.toml").read_bytes()
    return msgspec.toml.decode(data, type=_FileNames)


def wishes_of(words: tuple[str, ...]) -> FileWishes:
    """What comes first: folders start with a slash, suffixes with a dot, kinds are words.

    Raises:
        UsageError: no such kind.
    """
    names = _names()
    if not words:
        return FileWishes(names.personal.folders)
    folders, suffixes = list[str](), list[str]()
    for word in words:
        lower = word.lower()
        if lower.startswith("/"):
            folders.append(lower)
        elif lower.startswith("."):
            suffixes.append(lower)
        elif lower in names.kinds:
            suffixes += names.kinds[lower]
        else:
            kinds = ", ".join(names.kinds)
            raise UsageError(
                f"{word!r} is no folder (/home/purser), suffix (.odt) or kind of files.",
                f"Kinds: {kinds}.",
            )
    return FileWishes(tuple(folders), tuple(suffixes))
