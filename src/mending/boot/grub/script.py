"""GRUB's menu file run on paper: which entries it makes, and what the one that starts would load.

Only what decides about starting is carried out: variables, searches, conditions, other menu files, and what is loaded.
Everything else is taken to work. Source: the GNU GRUB manual 2.12, sections "The list of commands" and "Special
environment variables".
"""

import re
from collections.abc import Mapping
from itertools import pairwise

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.grub.conditions import holds
from mending.boot.grub.described import FOLDERS, commands_of, entries_in
from mending.boot.grub.entries import Entry, Loaded, Place
from mending.disk import FileFound, Volume
from mending.formats import grub_menu
from mending.formats.grub_menu import Choice, Command, Tree

_MOST_STEPS = 20_000
_MOST_FILES = 6
"""Menu files that call each other."""
_FALSE = {"false", "loadfont", "keystatus", "sleep"}
_FEATURES = (
    "feature_menuentry_id", "feature_platform_search_hint", "feature_default_font_path", "feature_all_video_module",
    "feature_menuentry_options", "feature_timeout_style", "feature_ntldr", "feature_chainloader_bpb",
)  # fmt: skip
_LINUX, _INITRD = {"linux", "linux16", "linuxefi"}, {"initrd", "initrd16", "initrdefi"}
_SET = re.compile(r"([A-Za-z_]\w*)=(.*)", re.DOTALL)


class Script:
    """One run. `entries` and `loaded` are what came of it."""

    def __init__(self, grounds: Grounds, variables: Mapping[str, str]) -> None:
        self._grounds = grounds
        self.variables = {**dict.fromkeys(_FEATURES, "y"), **variables}
        self.entries: list[Entry] = []
        self.loaded = Loaded()
        self._functions: dict[str, Tree] = {}
        self._steps = 0
        self._menus: list[str] = []

    def run_file(self, volume: Volume, device: str, path: str) -> grub_menu.Menu:
        """Run a menu file. Raises ElsewhereError where it cannot be read."""
        menu = grub_menu.read(self._grounds.read(volume, path))
        self._menus.append(f"({device}){path}" if device else path)
        self._run(menu.tree)
        self._menus.pop()
        return menu

    def run_text(self, text: str, name: str) -> None:
        """Run commands that are built into an image."""
        self._menus.append(name)
        self._run(grub_menu.read(text.encode()).tree)
        self._menus.pop()

    def open(self, entry: Entry) -> Loaded:
        """What an entry would load."""
        inner = Script(self._grounds, entry.variables)
        inner._functions = self._functions
        inner._menus.append(entry.menu)
        inner._run(entry.tree)
        return inner.loaded

    def default(self) -> Entry | None:
        """The entry that starts by itself: by number, title or identifier; the first where none fits."""
        entries, found = self.entries, None
        for name in self.variables.get("default", "0").split(">"):
            found = _named(entries, name.strip()) or (entries[0] if entries else None)
            entries = list(found.inside) if found is not None else []
        while found is not None and found.inside:
            found = found.inside[0]
        return found

    def _run(self, tree: Tree) -> bool:
        status = True
        for one in tree:
            self._steps += 1
            if self._steps > _MOST_STEPS:
                return False
            status = self._choose(one) if isinstance(one, Choice) else self._command(one)
        return status

    def _choose(self, choice: Choice) -> bool:
        for condition, body in choice.branches:
            if not condition or self._run(condition):
                return self._run(body)
        return True

    def _value(self, name: str) -> str:
        return self.variables.get(name, "")

    def _command(self, command: Command) -> bool:
        words = [word.text(self._value) for word in command.words]
        words = [word for number, word in enumerate(words) if word or number]
        name = words[0] if words else ""
        if name in {"menuentry", "submenu", "function"}:
            return self._block(command, words)
        if name in self._functions:
            return self._run(self._functions[name])
        if name in {"[", "test", "[["}:
            return self._holds([word for word in words[1:] if word not in {"]", "]]"}])
        handler = getattr(self, f"_do_{_HANDLERS.get(name, '')}", None)
        if handler is not None:
            return bool(handler(words[1:], command.line))
        assigned = _SET.fullmatch(name)
        if assigned:
            self.variables[assigned.group(1)] = assigned.group(2)
        return name not in _FALSE

    def _block(self, command: Command, words: list[str]) -> bool:
        if words[0] == "function":
            self._functions[words[1] if len(words) > 1 else ""] = command.block
            return True
        title, given = (words[1] if len(words) > 1 else ""), words[2:]
        identifier = next((after for option, after in pairwise(given) if option == "--id"), "")
        inside: tuple[Entry, ...] = ()
        if words[0] == "submenu":
            below = Script(self._grounds, self.variables)
            below._functions, below._menus = self._functions, self._menus
            below._run(command.block)
            inside = tuple(below.entries)
        menu = self._menus[-1] if self._menus else ""
        self.entries.append(Entry(title, identifier, command.line, menu, command.block, dict(self.variables), inside))
        return True

    def _do_set(self, words: list[str], _line: int) -> bool:
        match = _SET.fullmatch(words[0]) if words else None
        if match:
            self.variables[match.group(1)] = match.group(2)
        return True

    def _do_unset(self, words: list[str], _line: int) -> bool:
        for word in words:
            self.variables.pop(word, None)
        return True

    def _do_load_env(self, words: list[str], _line: int) -> bool:
        at = words.index("-f") + 1 if "-f" in words else 0
        path = words[at] if at and at < len(words) else f"{self._value('prefix')}/grubenv"
        found = self._file(path)
        if found is None:
            return False
        text = self._grounds.read(found[0], found[1].path).decode("utf-8", errors="replace")
        for row in text.splitlines():
            name, equals, value = row.partition("=")
            if equals and not row.startswith("#"):
                self.variables[name] = value
        return True

    def _do_search(self, words: list[str], line: int) -> bool:
        plain = [word for word in words if not word.startswith("-")]
        kind = "label" if {"-l", "--label"} & set(words) else "file" if {"-f", "--file"} & set(words) else "uuid"
        name = next((word[6:] for word in words if word.startswith("--set=")), "root" if "--set" in words else "")
        if "--set" in words and len(plain) > 1:
            name = plain.pop(0) if words.index("--set") < words.index(plain[-1]) else name
        value = plain[0] if plain else ""
        volumes = self._holding(value) if kind == "file" else self._grounds.named(kind, value)
        if not volumes:
            where = Place("", value, self._menus[-1] if self._menus else "", line)
            self.loaded.failed = (*self.loaded.failed, where)
            return False
        if name:
            self.variables[name] = self._grounds.device_of(volumes[0])
        return True

    def _do_search_uuid(self, words: list[str], line: int) -> bool:
        return self._short_search("--fs-uuid", words, line)

    def _do_search_file(self, words: list[str], line: int) -> bool:
        return self._short_search("--file", words, line)

    def _do_search_label(self, words: list[str], line: int) -> bool:
        return self._short_search("--label", words, line)

    def _short_search(self, option: str, words: list[str], line: int) -> bool:
        """`search.fs_uuid VALUE [VARIABLE] [hints]`, the form that is built into images."""
        name = words[1] if len(words) > 1 else "root"
        return bool(words) and self._do_search([option, f"--set={name}", words[0]], line)

    def _do_linux(self, words: list[str], line: int) -> bool:
        if words:
            self.loaded.kernel, self.loaded.words = self._place(words[0], line), " ".join(words[1:])
        return True

    def _do_initrd(self, words: list[str], line: int) -> bool:
        self.loaded.initrds = tuple(self._place(word, line) for word in words if not word.startswith("--"))
        return True

    def _do_chain(self, words: list[str], line: int) -> bool:
        plain = [word for word in words if not word.startswith("--")]
        self.loaded.chained = self._place(plain[0], line) if plain else None
        return True

    def _do_file(self, words: list[str], _line: int) -> bool:
        """Another menu file: its entries and variables count here, as far as this decides what starts."""
        found = self._file(words[0]) if words and len(self._menus) < _MOST_FILES else None
        if found is None:
            return False
        self.run_file(found[0], self._place(words[0], 0).device, found[1].path)
        return True

    def _do_described(self, _words: list[str], line: int) -> bool:
        """Entries in files of their own."""
        menu = self._menus[-1] if self._menus else ""
        for folder in (self._value("blsdir"), *FOLDERS):
            place = self._place(folder, 0)
            try:
                volume = self._grounds.device(place.device) if folder else None
                found = entries_in(self._grounds, volume, place.path) if volume is not None else []
            except ElsewhereError as error:
                self.loaded.unknown = self.loaded.unknown or str(error)
                continue
            for one in found:
                stem = one.id.removesuffix(".conf")
                self.entries.append(Entry(one.title or stem, stem, line, menu, commands_of(one), dict(self.variables)))
        return True

    def _place(self, word: str, line: int) -> Place:
        device, _, path = word[1:].partition(")") if word.startswith("(") else (self._value("root"), "", word)
        return Place(device, path, self._menus[-1] if self._menus else "", line)

    def _file(self, word: str) -> tuple[Volume, FileFound] | None:
        place = self._place(word, 0)
        try:
            volume = self._grounds.device(place.device)
            found = self._grounds.find(volume, place.path) if volume is not None else None
        except ElsewhereError as error:
            self.loaded.unknown = self.loaded.unknown or str(error)
            return None
        return (volume, found) if volume is not None and found is not None else None

    def _holding(self, path: str) -> list[Volume]:
        found = []
        for volume in self._grounds.volumes:
            try:
                found += [volume] if self._grounds.find(volume, path) is not None else []
            except ElsewhereError:
                continue  # what cannot be read here may not be found there either
        return found

    def _holds(self, words: list[str]) -> bool:
        return holds(words, lambda path: self._file(path) is not None)


_HANDLERS = {
    "set": "set", "unset": "unset", "load_env": "load_env", "search": "search", "chainloader": "chain",
    "search.fs_uuid": "search_uuid", "search.file": "search_file", "search.fs_label": "search_label",
    "blscfg": "described", "configfile": "file", "source": "file", ".": "file",
    **dict.fromkeys(_LINUX, "linux"), **dict.fromkeys(_INITRD, "initrd"),
}  # fmt: skip


def _named(entries: list[Entry], name: str) -> Entry | None:
    if name.isdigit():
        return entries[int(name)] if int(name) < len(entries) else None
    return next((one for one in entries if name and name in {one.title, one.id}), None)
