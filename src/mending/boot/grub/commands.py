"""The commands of GRUB's menu file that decide what is started.

Source: the GNU GRUB manual 2.12, section "The list of commands". A command takes the state, its
words and its line, and says whether it succeeded, as the conditions behind it want to know.
"""

import re
from collections.abc import Callable, Mapping

from mending.boot.chain import OutOfReachError
from mending.boot.grub.entries import MenuEntry
from mending.boot.grub.entry_files import FOLDERS, commands_of, entries_in
from mending.boot.grub.state import MenuState

Command = Callable[[MenuState, list[str], int], bool]
ASSIGNMENT = re.compile(r"([A-Za-z_]\w*)=(.*)", re.DOTALL)


def assign(state: MenuState, word: str) -> None:
    """`name=value`, alone or behind `set`."""
    match = ASSIGNMENT.fullmatch(word)
    if match:
        state.variables[match.group(1)] = match.group(2)


def _set(state: MenuState, words: list[str], _line: int) -> bool:
    if words:
        assign(state, words[0])
    return True


def _unset(state: MenuState, words: list[str], _line: int) -> bool:
    for word in words:
        state.variables.pop(word, None)
    return True


def _load_environment(state: MenuState, words: list[str], _line: int) -> bool:
    at = words.index("-f") + 1 if "-f" in words else 0
    path = words[at] if at and at < len(words) else f"{state.value('prefix')}/grubenv"
    found = state.file(path)
    if found is None:
        return False
    volume, file = found
    for row in state.environment.read_text(volume, file.path).splitlines():
        name, equals, value = row.partition("=")
        if equals and not row.startswith("#"):
            state.variables[name] = value
    return True


def _search(state: MenuState, words: list[str], line: int) -> bool:
    plain = [word for word in words if not word.startswith("-")]
    kind = "uuid"
    if {"-l", "--label"} & set(words):
        kind = "label"
    elif {"-f", "--file"} & set(words):
        kind = "file"
    name = "root" if "--set" in words else ""
    for word in words:
        if word.startswith("--set="):
            name = word[len("--set=") :]
    # `--set NAME VALUE`: the name may be left out, so it counts only where two words follow
    if "--set" in words and len(plain) > 1 and words.index("--set") < words.index(plain[-1]):
        name = plain.pop(0)
    return _found(state, kind, plain[0] if plain else "", name, line)


def _short_search(kind: str) -> Command:
    """`search.fs_uuid VALUE [VARIABLE] [hints]`, the form that is built into images."""

    def command(state: MenuState, words: list[str], line: int) -> bool:
        if not words:
            return False
        return _found(state, kind, words[0], words[1] if len(words) > 1 else "root", line)

    return command


def _found(state: MenuState, kind: str, value: str, name: str, line: int) -> bool:
    volumes = state.holding(value) if kind == "file" else state.environment.named(kind, value)
    if not volumes:
        reference = state.reference(f"(){value}", line)
        state.loaded.failed = (*state.loaded.failed, reference)
        return False
    if name:
        state.variables[name] = state.environment.device_of(volumes[0])
    return True


def _linux(state: MenuState, words: list[str], line: int) -> bool:
    if words:
        state.loaded.kernel = state.reference(words[0], line)
        state.loaded.command_line = " ".join(words[1:])
    return True


def _initrd(state: MenuState, words: list[str], line: int) -> bool:
    files = [word for word in words if not word.startswith("--")]
    state.loaded.initrds = tuple(state.reference(word, line) for word in files)
    return True


def _chain(state: MenuState, words: list[str], line: int) -> bool:
    plain = [word for word in words if not word.startswith("--")]
    state.loaded.chained = state.reference(plain[0], line) if plain else None
    return True


def _entry_files(state: MenuState, _words: list[str], line: int) -> bool:
    """Entries in files of their own (`blscfg`)."""
    for folder in (state.value("blsdir"), *FOLDERS):
        reference = state.reference(folder, 0)
        try:
            volume = state.environment.device(reference.device) if folder else None
            found = entries_in(state.environment, volume, reference.path) if volume else []
        except OutOfReachError as error:
            state.loaded.unknown = state.loaded.unknown or str(error)
            continue
        for entry in found:
            stem = entry.id.removesuffix(".conf")
            title, tree = entry.title or stem, commands_of(entry)
            made = MenuEntry(title, stem, line, state.menu, tree, dict(state.variables))
            state.entries.append(made)
    return True


COMMANDS: Mapping[str, Command] = {
    "set": _set,
    "unset": _unset,
    "load_env": _load_environment,
    "search": _search,
    "search.fs_uuid": _short_search("uuid"),
    "search.fs_label": _short_search("label"),
    "search.file": _short_search("file"),
    "linux": _linux,
    "linux16": _linux,
    "linuxefi": _linux,
    "initrd": _initrd,
    "initrd16": _initrd,
    "initrdefi": _initrd,
    "chainloader": _chain,
    "blscfg": _entry_files,
}
