"""Whether what a driver or kernel wants of libraries is offered by those that are there."""

from collections.abc import Collection

from mending.boot.nt.start import NtStart, Program, read_program
from mending.formats.executable import pe_tables
from mending.knowledge.families import nt_names


class Libraries:
    """The libraries of one system, each read once.

    Args:
        judged: names of those that were judged already: only what they offer counts.
    """

    def __init__(self, start: NtStart, judged: Collection[str] = ()) -> None:
        self._start, self._judged = start, judged
        self._found: dict[str, Program | None] = {}
        self._offered: dict[str, frozenset[str]] = {}

    def lacking(self, program: Program) -> str:
        """What a program wants and does not get; empty where it gets all that can be told."""
        virtual = nt_names().kernel.virtual_libraries
        if program.image is None:
            return ""
        for wanted in pe_tables.imports(program.data):
            name = wanted.library.lower()
            if name.startswith(virtual):
                continue
            library = self._library(name)
            if name in self._judged and (library is None or library.why):
                continue
            if library is None:
                return f"it needs {wanted.library}, which is not there"
            if library.why:
                return f"it needs {library.path}, which is damaged: {library.why}"
            missing = set(wanted.names) - self._offers(name, library)
            if missing and library.image is not None:
                return f"it needs {min(missing)} of {library.path}, which does not offer that"
        return ""

    def _library(self, name: str) -> Program | None:
        if name not in self._found:
            folders = nt_names().kernel.library_folders
            paths = (self._start.path(f"{folder}/{name}") for folder in folders)
            programs = (read_program(self._start, path) for path in paths)
            self._found[name] = next((each for each in programs if each is not None), None)
        return self._found[name]

    def _offers(self, name: str, library: Program) -> frozenset[str]:
        if name not in self._offered:
            self._offered[name] = pe_tables.exports(library.data)
        return self._offered[name]
