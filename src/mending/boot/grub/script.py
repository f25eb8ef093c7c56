"""GRUB's menu file run on paper: which entries it makes, and what the one that starts would load.

Only what decides about starting is carried out: variables, searches, conditions, other menu files,
and what is loaded. Everything else is taken to work. A run takes a bounded number of steps, and
menu files may call each other to a bounded depth.

Source: the GNU GRUB manual 2.12, sections "The list of commands" and "Special environment
variables".
"""

from collections.abc import Mapping
from itertools import pairwise

from mending.boot.chain import BootEnvironment
from mending.boot.grub.commands import ASSIGNMENT, COMMANDS, assign
from mending.boot.grub.conditions import holds
from mending.boot.grub.entries import Loaded, MenuEntry
from mending.boot.grub.modules import Modules
from mending.boot.grub.state import MenuState
from mending.disk.volume import Volume
from mending.formats.bootloader import grub_menu
from mending.formats.bootloader.grub_menu import Command, CommandTree, Conditional

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
        menu = grub_menu.read(self.state.environment.read(volume, path))
        if menu.damaged_line is not None and self.damaged is None:
            self.damaged = (path, menu.damaged_line)
        self._run_as(f"({device}){path}" if device else path, menu.tree)

    def run_text(self, text: str, name: str) -> None:
        """Run commands that are built into an image."""
        self._run_as(name, grub_menu.read(text.encode()).tree)

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
