"""GRUB's menu file as a tree of commands: words with their quoting undone, blocks, conditions, each
with its line.

Source: the GNU GRUB manual 2.12, section "Writing full configuration files directly" (shell-like
scripting).
"""

from collections.abc import Callable

import msgspec

_MOST_BYTES = 1024 * 1024
_MOST_DEPTH = 24
_SEPARATORS = {";", "\n"}


class Word(msgspec.Struct, frozen=True):
    """One word: pieces of text and of variables. `$x` is the piece `(True, "x")`."""

    pieces: tuple[tuple[bool, str], ...]
    line: int

    def text(self, value: Callable[[str], str]) -> str:
        """The word with its variables filled in. Args: value: gives a variable's value, empty where
        it has none.
        """
        return "".join(value(piece) if variable else piece for variable, piece in self.pieces)

    @property
    def plain(self) -> str:
        """The word as it stands, if no variable is in it; else empty."""
        return (
            ""
            if any(variable for variable, _ in self.pieces)
            else "".join(piece for _, piece in self.pieces)
        )


class Command(msgspec.Struct, frozen=True):
    """A command with its words, and for `menuentry`, `submenu` and `function` the block behind
    it.
    """

    words: tuple[Word, ...]
    block: "tuple[Command | Conditional, ...]" = ()

    @property
    def name(self) -> str:
        """The first word."""
        return self.words[0].plain

    @property
    def line(self) -> int:
        """Line of the first word, from 1."""
        return self.words[0].line


class Conditional(msgspec.Struct, frozen=True):
    """`if` with its branches in order: conditions and what is done; an empty condition always
    holds.
    """

    branches: (
        "tuple[tuple[tuple[Command | Conditional, ...], tuple[Command | Conditional, ...]], ...]"
    )


CommandTree = tuple[Command | Conditional, ...]


class Menu(msgspec.Struct, frozen=True):
    """What was read. `damaged_line` is where a block or a quote does not end as it should; None for
    a sound file.
    """

    tree: CommandTree
    damaged_line: int | None = None


def read(data: bytes) -> Menu:
    """Read a menu file. Any bytes give a tree; whatever stands behind damage is left out."""
    text = data[:_MOST_BYTES].decode("utf-8", errors="replace")
    words, open_quote = _words(text)
    parser = _Parser(words)
    tree = parser.tree(frozenset(), 0)
    return Menu(tree, parser.damaged or open_quote)


def _words(text: str) -> tuple[list[Word | str], int | None]:
    """Words and separators (`;`, newline, `{`, `}` as they stand), and the line of a quote that
    does not end.
    """
    lexer = _Lexer(text)
    lexer.run()
    return lexer.found, lexer.opened if lexer.quoted else None


class _Lexer:
    """Takes a text apart sign by sign. `quoted` is the open quote at the end, `opened` its line."""

    def __init__(self, text: str) -> None:
        self.found: list[Word | str] = []
        self.quoted, self.opened = "", 1
        self._text, self._at, self._line = text, 0, 1
        self._pieces: list[tuple[bool, str]] = []
        self._started = False

    def run(self) -> None:
        """Take all of it."""
        while self._at < len(self._text):
            char = self._text[self._at]
            self._at += 1
            if char == "\\" and self.quoted != "'" and self._at < len(self._text):
                self._escaped()
            elif char == "$" and self.quoted != "'":
                name, self._at = _variable(self._text, self._at)
                self._add(bool(name), name or "$")
            elif self.quoted:
                self._inside(char)
            elif char in "'\"":
                self.quoted, self._started, self.opened = char, True, self._line
            else:
                self._plain(char)
        self._end()

    def _add(self, variable: bool, piece: str) -> None:
        self._pieces.append((variable, piece))
        self._started = True

    def _escaped(self) -> None:
        if self._text[self._at] == "\n":
            self._line += 1
        else:
            self._add(False, self._text[self._at])
        self._at += 1

    def _inside(self, char: str) -> None:
        if char == self.quoted:
            self.quoted = ""
        else:
            self._add(False, char)
        self._line += char == "\n"

    def _plain(self, char: str) -> None:
        if char == "#" and not self._started:
            end = self._text.find("\n", self._at)
            self._at = end if end >= 0 else len(self._text)
        elif not char.isspace() and (char not in ";{}" or (char in "{}" and self._started)):
            self._add(False, char)  # inside a word a brace is a letter
        else:
            self._end()
            if char in ";{}\n":
                self.found.append(char)
            self._line += char == "\n"

    def _end(self) -> None:
        if self._started:
            self.found.append(Word(tuple(self._pieces), self._line))
        self._pieces, self._started = [], False


def _variable(text: str, at: int) -> tuple[str, int]:
    """The name behind a dollar sign and where it ends; an empty name for a dollar that stands
    alone.
    """
    if text[at : at + 1] == "{":
        end = text.find("}", at)
        return (text[at + 1 : end], end + 1) if 0 <= end - at < 80 else ("", at)
    end = at
    while end < len(text) and (text[end].isalnum() or text[end] in "_?"):
        end += 1
    return text[at:end], end


class _Parser:
    """Turns words into a tree. `damaged` is the first line where something does not end."""

    def __init__(self, words: list[Word | str]) -> None:
        self._words, self._at = words, 0
        self.damaged: int | None = None

    def tree(self, until: frozenset[str], depth: int) -> CommandTree:
        """Commands up to one of these words, which is left standing."""
        found: list[Command | Conditional] = []
        while self._at < len(self._words):
            word = self._words[self._at]
            name = word if isinstance(word, str) else word.plain
            if name in until:
                return tuple(found)
            self._at += 1
            if name in {*_SEPARATORS, "{", "}"} and isinstance(word, str):
                continue
            assert isinstance(word, Word)
            if depth > _MOST_DEPTH:
                self._break(word)
                continue
            found.append(self._choice(word, depth) if name == "if" else self._command(word, depth))
        if until:
            self._break(self._words[-1] if self._words else "")
        return tuple(found)

    def _command(self, first: Word, depth: int) -> Command:
        words = [first]
        while self._at < len(self._words) and isinstance(word := self._words[self._at], Word):
            words.append(word)
            self._at += 1
        block: CommandTree = ()
        if self._at < len(self._words) and self._words[self._at] == "{":
            self._at += 1
            block = self.tree(frozenset("}"), depth + 1)
            self._at += 1
        return Command(tuple(words), block)

    def _choice(self, first: Word, depth: int) -> Conditional:
        branches: list[tuple[CommandTree, CommandTree]] = []
        keyword = "if"
        while keyword in {"if", "elif", "else"}:
            condition = self._until("then", depth) if keyword != "else" else ()
            body = self.tree(frozenset(("elif", "else", "fi")), depth + 1)
            branches.append((condition, body))
            word = self._words[self._at] if self._at < len(self._words) else first
            keyword = word.plain if isinstance(word, Word) and word is not first else "fi"
            self._at += 1
        return Conditional(tuple(branches))

    def _until(self, name: str, depth: int) -> CommandTree:
        tree = self.tree(frozenset((name,)), depth + 1)
        self._at += 1
        return tree

    def _break(self, near: Word | str) -> None:
        line = (
            near.line
            if isinstance(near, Word)
            else next(
                (word.line for word in reversed(self._words[: self._at]) if isinstance(word, Word)),
                1,
            )
        )
        self.damaged = self.damaged or line
