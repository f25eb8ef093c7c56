"""The texts of rEFInd: its settings with the entries written by hand, and the command lines that
lie beside kernels.

Source: rEFInd 0.13.2, `refind.conf-sample` and `refind/config.c` (`ReadConfig`,
`ScanUserConfigured`, `ReadLinuxOptionsFile`).
"""

import re

import msgspec

MARK = "rEFInd Boot Manager".encode("utf-16-le")
"""In the loader file of the manager itself."""
_WORD = re.compile(r'"((?:[^"]|"")*)"|([^\s,="]+)')
_LISTS = {"scanfor", "also_scan_dirs", "dont_scan_dirs", "dont_scan_files", "scan_driver_dirs"}
_FALSE = {"false", "off", "0"}


class Stanza(msgspec.Struct, frozen=True):
    """An entry written by hand. `line` is that of its head, from 1."""

    title: str
    volume: str
    loader: str
    initrds: tuple[str, ...]
    options: str
    line: int


class Settings(msgspec.Struct, frozen=True):
    """What the settings say.

    Attributes:
        lists: of the keys that take several words.
        default: texts of which one is in the name of the entry that starts; empty where the entry
            that was started last does.
        kernels: whether kernels without the ending of a loader are found.
    """

    lists: dict[str, tuple[str, ...]]
    default: tuple[str, ...]
    stanzas: tuple[Stanza, ...]
    included: tuple[str, ...]
    kernels: bool = True

    def named(self, key: str) -> tuple[str, ...]:
        """The words of a key; none where it is not set."""
        return self.lists.get(key, ())


def words_of(row: str) -> list[str]:
    """The words of a line: blanks, commas and equals signs part them, quotes hold them together."""
    return [
        (found[1] or "").replace('""', '"') if found[1] is not None else found[2]
        for found in _WORD.finditer(row.split("#")[0] if '"' not in row else row)
    ]


def read_settings(text: str) -> Settings:
    """Read a file of settings; keys that are not known are passed over, as the manager does."""
    lists: dict[str, tuple[str, ...]] = {}
    default: tuple[str, ...] = ()
    stanzas, included = list[Stanza](), list[str]()
    kernels, entry, depth = True, dict[str, list[str]](), 0
    for number, row in enumerate(text.splitlines(), 1):
        if row.lstrip().startswith("#"):
            continue
        words = words_of(row)
        key = words[0].lower() if words else ""
        if key == "menuentry":
            entry, depth = {"title": words[1:2], "line": [str(number)]}, 1
        elif key == "submenuentry" and depth:
            depth = 2
        elif key == "}":
            if depth == 1 and "disabled" not in entry:
                stanzas.append(_stanza(entry))
            depth = max(depth - 1, 0)
        elif depth == 1 and key:
            entry[key] = words[1:]
        elif depth == 0 and key in _LISTS:
            lists[key] = tuple(words[1:])
        elif depth == 0 and key == "default_selection":
            default = tuple(part for word in words[1:] for part in word.split(",") if part != "+")
        elif depth == 0 and key == "include":
            included += words[1:2]
        elif depth == 0 and key == "scan_all_linux_kernels":
            kernels = not (len(words) > 1 and words[1].lower() in _FALSE)
    return Settings(lists, default, tuple(stanzas), tuple(included), kernels)


def _stanza(entry: dict[str, list[str]]) -> Stanza:
    def first(key: str) -> str:
        return next(iter(entry.get(key, ())), "")

    return Stanza(
        first("title"),
        first("volume"),
        first("loader").replace("\\", "/"),
        tuple(name.replace("\\", "/") for name in entry.get("initrd", ())),
        first("options"),
        int(first("line")),
    )


def read_options(text: str) -> tuple[str, int] | None:
    """The command line of the first entry in a file beside a kernel, and its line; None where there
    is none.
    """
    for number, row in enumerate(text.splitlines(), 1):
        if row.lstrip().startswith("#"):
            continue
        found = re.findall(r'"((?:[^"]|"")*)"', row)
        if len(found) > 1:
            return found[1].replace('""', '"'), number
    return None
