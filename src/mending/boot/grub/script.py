"""GRUB's menu file run on paper: which entries it makes, and what the one that starts would load.

Only what decides about starting is carried out: variables, searches, conditions, other menu files,
and what is loaded. Everything else is taken to work. A run takes a bounded number of steps, and
menu files may call each other to a bounded depth.

Source: the GNU GRUB manual 2.12, sections "The list of commands" and "Special environment
variables".
"""

import re
from collections.abc import Callable, Mapping
from itertools import pairwise

from mending.boot.chain import BootEnvironment, OutOfReachError
from mending.boot.grub.entries import FOLDERS, Loaded, MenuEntry, MenuState, commands_of, entries_in
from mending.disk.volume import Volume
from mending.formats import grub
from mending.formats.grub import Command, CommandTree, Conditional

# The commands of GRUB's menu file that decide what is started.
#
# Source: the GNU GRUB manual 2.12, section "The list of commands". A command takes the state, its
# words and its line, and says whether it succeeded, as the conditions behind it want to know.


CommandRule = Callable[[MenuState, list[str], int], bool]
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


def _short_search(kind: str) -> CommandRule:
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


COMMANDS: Mapping[str, CommandRule] = {
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


# Conditions of GRUB's menu file, as its command `test` judges them.
#
# Source: the GNU GRUB manual 2.12, section "test".


def holds(words: list[str], is_there: Callable[[str], bool]) -> bool:
    """Whether a condition holds. Args: words: without the brackets; is_there: whether a file
    exists.
    """
    for joint, either in (("-o", True), ("-a", False)):
        if joint in words:
            at = words.index(joint)
            left, right = holds(words[:at], is_there), holds(words[at + 1 :], is_there)
            return left or right if either else left and right
    if words[:1] == ["!"]:
        return not holds(words[1:], is_there)
    if len(words) == 3:
        return _compare(*words)
    if len(words) == 2 and words[0] in {"-s", "-e", "-f", "-d"}:
        return is_there(words[1])
    if words[:1] == ["-z"]:
        return len(words) < 2 or not words[1]
    return bool(words and words[-1] and words[-1] not in {"-n"})


def _compare(text: str, operator: str, other: str) -> bool:
    if operator in {"=", "=="}:
        return text == other
    if operator == "!=":
        return text != other
    if operator in _NUMBERS and text.lstrip("-").isdigit() and other.lstrip("-").isdigit():
        return _NUMBERS[operator](int(text), int(other))
    return False


_NUMBERS = {
    "-eq": int.__eq__,
    "-ne": int.__ne__,
    "-lt": int.__lt__,
    "-le": int.__le__,
    "-gt": int.__gt__,
    "-ge": int.__ge__,
}


# Where GRUB takes its commands from: modules inside the image, or files in a folder of the prefix.
#
# GRUB loads the module of a command at its first use, from `<prefix>/<platform>/<module>.mod` as
# the prefix stands at that moment, and keeps it. A menu that moves the prefix to a folder without
# modules therefore loses every command that it has not used before and that the image does not
# carry.
#
# Source: the GNU GRUB manual 2.12, section "GRUB image files" and the variable `prefix`; tried with
# the real program under OVMF.


MODULE_OF = {
    "configfile": "configfile",
    "search": "search",
    "linux": "linux",
    "linux16": "linux16",
    "initrd": "linux",
    "initrd16": "linux16",
    "chainloader": "chain",
}
"""The module of each command that decides about starting."""


class Modules:
    """The modules of one image.

    Args:
        built_in: names of those that the image carries.
        platform: folder of the others below the prefix, `i386-pc` or `x86_64-efi`.
    """

    def __init__(self, built_in: frozenset[str], platform: str) -> None:
        self._loaded, self._platform = set(built_in), platform

    def lacking(self, command: str, state: MenuState) -> str:
        """The path of the module that a command needs and that is nowhere; empty where the command
        can run, also where that cannot be told.
        """
        name = MODULE_OF.get(command, "")
        if not name or name in self._loaded:
            return ""
        path = f"{state.value('prefix')}/{self._platform}/{name}.mod"
        reference = state.reference(path, 0)
        try:
            volume = state.environment.device(reference.device)
            if volume is not None and state.environment.find(volume, reference.path) is None:
                return path
        except OutOfReachError:
            return ""
        self._loaded.add(name)
        return ""


_MOST_STEPS = 20_000
_MOST_FILES = 6
"""Menu files that call each other."""
_FALSE = {"false", "loadfont", "keystatus", "sleep"}
_INCLUDES = {"source", "."}
_OPENS_A_MENU = {"configfile", "normal"}


class Script:
    """One run. `state` is what came of it; `modules` are those of the image that runs it.

    Attributes:
        opened: whether a menu file was opened as a menu of its own: it is shown, and nothing behind
            the command runs once it has entries.
    """

    def __init__(
        self, environment: BootEnvironment, variables: Mapping[str, str], modules: Modules
    ) -> None:
        self.state, self._modules = MenuState(environment, variables), modules
        self.opened = False
        self.damaged: tuple[str, int] | None = None
        self._functions: dict[str, CommandTree] = {}
        self._steps = 0
        self._ended = False

    def run_file(self, volume: Volume, device: str, path: str) -> None:
        """Run a menu file.

        Raises:
            OutOfReachError: it cannot be read.
        """
        menu = grub.read_menu(self.state.environment.read(volume, path))
        if menu.damaged_line is not None and self.damaged is None:
            self.damaged = (path, menu.damaged_line)
        self._run_as(f"({device}){path}" if device else path, menu.tree)

    def run_text(self, text: str, name: str) -> None:
        """Run commands that are built into an image."""
        self._run_as(name, grub.read_menu(text.encode()).tree)

    def open(self, entry: MenuEntry) -> Loaded:
        """What an entry would load."""
        inner = Script(self.state.environment, entry.variables, self._modules)
        inner._functions = self._functions
        inner._run_as(entry.menu, entry.tree)
        return inner.state.loaded

    def default(self) -> MenuEntry | None:
        """The entry that starts by itself: by number, title or identifier; the first where none
        fits.
        """
        entries, found = self.state.entries, None
        for name in self.state.variables.get("default", "0").split(">"):
            found = _named(entries, name.strip()) or (entries[0] if entries else None)
            entries = list(found.inside) if found is not None else []
        while found is not None and found.inside:
            found = found.inside[0]
        return found

    def _run_as(self, name: str, tree: CommandTree) -> None:
        self.state.menus.append(name)
        self._run(tree)
        self.state.menus.pop()

    def _run(self, tree: CommandTree) -> bool:
        status = True
        for command in tree:
            self._steps += 1
            if self._steps > _MOST_STEPS or self._ended:
                return False
            if isinstance(command, Conditional):
                status = self._choose(command)
            else:
                status = self._command(command)
        return status

    def _choose(self, choice: Conditional) -> bool:
        for condition, body in choice.branches:
            if not condition or self._run(condition):
                return self._run(body)
        return True

    def _command(self, command: Command) -> bool:
        said = [word.text(self.state.value) for word in command.words]
        words = [word for number, word in enumerate(said) if word or number]
        name = words[0] if words else ""
        if name in {"menuentry", "submenu", "function"}:
            return self._block(command, words)
        if name in self._functions:
            return self._run(self._functions[name])
        if name in {"[", "test", "[["}:
            inside = [word for word in words[1:] if word not in {"]", "]]"}]
            return holds(inside, lambda path: self.state.file(path) is not None)
        lacking = self._modules.lacking(name, self.state)
        if lacking:
            self.state.loaded.lacking = self.state.loaded.lacking or lacking
            return False
        if name in _INCLUDES:
            return self._include(words[1:], command.line)
        if name in _OPENS_A_MENU:
            return self._open_menu(name, words[1:], command.line)
        known = COMMANDS.get(name)
        if known is not None:
            return known(self.state, words[1:], command.line)
        if ASSIGNMENT.fullmatch(name):
            assign(self.state, name)
        return name not in _FALSE

    def _block(self, command: Command, words: list[str]) -> bool:
        if words[0] == "function":
            self._functions[words[1] if len(words) > 1 else ""] = command.block
            return True
        title, given = (words[1] if len(words) > 1 else ""), words[2:]
        pairs = pairwise(given)
        identifier = next((after for option, after in pairs if option == "--id"), "")
        inside: tuple[MenuEntry, ...] = ()
        if words[0] == "submenu":
            below = Script(self.state.environment, self.state.variables, self._modules)
            below._functions = self._functions
            below._run_as(self.state.menu, command.block)
            inside = tuple(below.state.entries)
        entry = MenuEntry(
            title,
            identifier,
            command.line,
            self.state.menu,
            command.block,
            dict(self.state.variables),
            inside,
        )
        self.state.entries.append(entry)
        return True

    def _include(self, words: list[str], line: int) -> bool:
        """Another menu file: its entries and variables count here."""
        if not words or len(self.state.menus) >= _MOST_FILES:
            return False
        found = self.state.file(words[0])
        if found is None:
            missing = self.state.reference(words[0], line)
            self.state.loaded.missing = (*self.state.loaded.missing, missing)
            return False
        volume, file = found
        self.run_file(volume, self.state.reference(words[0], 0).device, file.path)
        return True

    def _open_menu(self, name: str, words: list[str], line: int) -> bool:
        """Another menu file in the place of this one. `normal` without a file opens the usual one,
        which is what happens anyway.
        """
        if not words:
            return True
        self.opened = True
        entries_before = len(self.state.entries)
        succeeded = self._include(words, line)
        if len(self.state.entries) > entries_before:
            del self.state.entries[:entries_before]  # the menu that is shown is the new one
            self._ended = True
        if name == "normal" or self.state.loaded.starts_something:
            self._ended = True
        return succeeded


def _named(entries: list[MenuEntry], name: str) -> MenuEntry | None:
    if name.isdigit():
        return entries[int(name)] if int(name) < len(entries) else None
    return next((entry for entry in entries if name and name in {entry.title, entry.id}), None)
