"""GRUB for BIOS machines: its stage one in the MBR, and the first sector of its core.

Source: GNU GRUB 2.12, `grub-core/boot/i386/pc/boot.S`, `diskboot.S` and
`include/grub/i386/pc/boot.h` (the offsets are named there GRUB_BOOT_MACHINE_*).
"""

import lzma
import struct
from collections.abc import Callable

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    Layout,
    Lba,
    Problem,
    Reading,
    SectorCount,
    Window,
    plain_bytes,
)

SIZE = 512
_LOAD_ADDRESS = 0x8000
_CORE_SEGMENT = 0x0820
_NAME = b"GRUB \0"
_CORE_TEXT = b"loading"
_BLOCK_LIST_END = 0x200
_BLOCK_SIZE = 12
_MOST_BLOCKS = 20
KEEP_PARAMETERS = (0x03, 0x5A)
"""Range of the MBR that stage one leaves to disk parameters; an installer copies what was there."""
DRIVE_FROM_FIRMWARE = 0xFF
TRUST_HARD_DISK = b"\x90\x90"
"""Put over the jump at `drive_check` so that firmware which hands over a floppy's number is
corrected.
"""


class StageOne(msgspec.Struct, frozen=True):
    """The fields of a stage one that differ from disk to disk."""

    jump: bytes
    load_address: int
    core_lba: int
    drive: int
    drive_check: bytes


STAGE_ONE = Layout(
    StageOne,
    SIZE,
    [
        Field("jump", 0, 3, "bytes", "", "eb 63 90"),
        Field("load_address", 0x5A, 2, "u", "bytes", "where the core is put in memory"),
        Field("core_lba", 0x5C, 8, "u", "sectors", "first sector of the core"),
        Field("drive", 0x64, 1, "u", "", "ff: the drive that firmware started from"),
        Field("drive_check", 0x66, 2, "bytes", "", "jump, or two no-operations"),
    ],
)


class BlockRun(msgspec.Struct, frozen=True):
    """One run of the core on the disk: where it starts and how long it is."""

    first_lba: Lba
    sectors: SectorCount
    segment: int


class CoreHead(msgspec.Struct, frozen=True):
    """First sector of a GRUB core and the runs of the rest of it."""

    offset: ByteOffset
    runs: tuple[BlockRun, ...]


_RUN = Layout(
    BlockRun,
    _BLOCK_SIZE,
    [
        Field("first_lba", 0, 8, "u", "sectors", "first sector"),
        Field("sectors", 8, 2, "u", "sectors", "length; 0 ends the list"),
        Field("segment", 10, 2, "u", "", "memory segment it is read to"),
    ],
)


def is_stage_one(window: Window) -> bool:
    """Whether the sector is a GRUB stage one: its jump, its load address and its name string."""
    if len(window) < SIZE:
        return False
    stage = STAGE_ONE.read(window)
    return (
        stage.jump[:1] == b"\xeb"
        and stage.load_address == _LOAD_ADDRESS
        and _NAME in window.take(0x100, 0xB8)
    )


def read_stage_one(window: Window) -> Reading[StageOne]:
    """Read a stage one.

    Raises:
        InputError: below 512 bytes.
    """
    stage = STAGE_ONE.read(window)
    zero = STAGE_ONE.wrong(
        "core_lba", window.offset, "core-lba-zero", "sector 0", "where the core starts"
    )
    return Reading(stage, (zero,) if stage.core_lba == 0 else ())


def is_core_head(window: Window) -> bool:
    """Whether the sector is the first of a GRUB core: its text, and a block list that loads right
    behind it.
    """
    if len(window) < SIZE or _CORE_TEXT not in window.take(0x100, 0xF0):
        return False
    run = _RUN.read(window, _BLOCK_LIST_END - _BLOCK_SIZE)
    return run.segment == _CORE_SEGMENT and run.sectors > 0


def placed_core(image: bytes, first: Lba) -> bytes:
    """A core image as a file keeps it, made to load itself from one run of sectors.

    Args:
        image: whole, its first sector one that `is_core_head` knows.
        first: sector that its first sector goes to.
    """
    whole = image.ljust(-(-len(image) // SIZE) * SIZE, b"\0")
    at = _BLOCK_LIST_END - _BLOCK_SIZE
    run = _RUN.encode(BlockRun(Lba(first + 1), SectorCount(len(whole) // SIZE - 1), _CORE_SEGMENT))
    return whole[: at - _BLOCK_SIZE] + bytes(_BLOCK_SIZE) + run + whole[_BLOCK_LIST_END:]


def read_core_head(window: Window) -> Reading[CoreHead]:
    """Read the block list, which grows downwards from the end of the sector.

    Raises:
        InputError: below 512 bytes.
    """
    runs, problems = [], []
    for number in range(_MOST_BLOCKS):
        at = _BLOCK_LIST_END - (number + 1) * _BLOCK_SIZE
        run = _RUN.read(window, at)
        if run.sectors == 0:
            break
        runs.append(run)
        if run.first_lba == 0:
            problems.append(
                Problem("run-at-zero", window.offset + at, 8, "sector 0", "behind the MBR")
            )
    return Reading(CoreHead(ByteOffset(window.offset), tuple(runs)), tuple(problems))


# What is inside a GRUB image: the core unpacked, its modules, its prefix and the configuration
# built into it.
#
# Source: GNU GRUB 2.12, `include/grub/offsets.h` (GRUB_DECOMPRESSOR_I386_PC_*),
# `grub-core/boot/i386/pc/startup_raw.S`, `util/mkimage.c` (LZMA with lc 3, lp 0, pb 2 and a
# dictionary of 64 KiB) and `include/grub/kernel.h` (`struct grub_module_info32`,
# `grub_module_info64`, `struct grub_module_header`).


_HEADER = struct.Struct("<8xIII")
_MAGIC = b"mimg"
_WIDE_OFFSET, _NARROW_OFFSET = 24, 12
_MODULE, _MEMDISK, _CONFIG, _PREFIX = range(4)
_KINDS = range(10)
_MOST = 16 * 1024 * 1024
_STARTS = range(1024, 8192)
"""Where the packed part may begin: behind the unpacking code, whose length differs from version to
version.
"""
_NAME_BYTES = 64


class GrubImage(msgspec.Struct, frozen=True):
    """The objects that an image carries.

    Attributes:
        prefix: where it looks for its files, for instance `(hd0,msdos1)/boot/grub`; may lack the
            device.
        config: commands that it runs first; empty where there are none.
        modules: names of the modules inside.
        memory_disk: a file system of its own, an archive or a small volume; empty where it has
            none.
    """

    prefix: str
    config: str
    modules: frozenset[str]
    memory_disk: bytes


class PackedCore(msgspec.Struct, frozen=True):
    """The numbers in front of a packed core for BIOS machines.

    Attributes:
        redundancy: bytes by which damage is mended while starting; 0 where there are none.
    """

    packed: int
    unpacked: int
    redundancy: int


def packed_core(body: bytes) -> PackedCore | None:
    """The numbers, from the sectors behind the first of a core; None where they make no sense."""
    if len(body) < _HEADER.size:
        return None
    found = PackedCore(*_HEADER.unpack_from(body))
    sensible = 0 < found.packed <= len(body) and found.packed <= found.unpacked <= _MOST
    return found if sensible and found.redundancy <= len(body) else None


def unpack_core(body: bytes) -> bytes | None:
    """The core unpacked; None where no stream in it gives the length that it names, so that it is
    damaged.
    """
    core = packed_core(body)
    if core is None:
        return None
    for start in _STARTS:
        if (
            start + core.packed > len(body) + 512 or body[start : start + 1] != b"\0"
        ):  # every stream begins with 00
            continue
        data = _unpacked(body[start : start + core.packed], core.unpacked)
        if data is not None and read_image(data) is not None:
            return data
    return None


def read_image(data: bytes) -> GrubImage | None:
    """The objects of an unpacked core or of an EFI image; None where no list of them is inside."""
    at = data.find(_MAGIC)
    while at >= 0:
        objects = _objects(data, at)
        if objects:
            return _image(objects)
        at = data.find(_MAGIC, at + 1)
    return None


def _unpacked(data: bytes, length: int) -> bytes | None:
    filters = [{"id": lzma.FILTER_LZMA1, "lc": 3, "lp": 0, "pb": 2, "dict_size": 1 << 16}]
    try:
        out = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters).decompress(data, length)
    except lzma.LZMAError:
        return None
    return out if len(out) == length else None


def _objects(data: bytes, at: int) -> list[tuple[int, bytes]]:
    """Kind and content of the objects in a list whose header is at `at`; empty where that is no
    header.
    """
    for form, wanted in (("<4xIQQ", _WIDE_OFFSET), ("<4xII", _NARROW_OFFSET)):
        if at + struct.calcsize(form) > len(data):
            continue
        offset, size = struct.unpack_from(form, data, at)[-2:]
        if offset != wanted or not offset < size <= len(data) - at:
            continue
        found, place, end = [], at + offset, at + size
        while place + 8 <= end:
            kind, length = struct.unpack_from("<II", data, place)
            if kind not in _KINDS or not 8 <= length <= end - place:
                return []
            found.append((kind, data[place + 8 : place + length]))
            place += length
        return found if place == end else []
    return []


def _image(objects: list[tuple[int, bytes]]) -> GrubImage:
    texts = {
        kind: content.split(b"\0", 1)[0].decode("utf-8", errors="replace")
        for kind, content in objects
        if kind in (_CONFIG, _PREFIX)
    }
    modules = frozenset(
        name for kind, content in objects if kind == _MODULE and (name := _module_name(content))
    )
    return GrubImage(
        texts.get(_PREFIX, ""),
        texts.get(_CONFIG, ""),
        modules,
        next((content for kind, content in objects if kind == _MEMDISK), b""),
    )


def _module_name(content: bytes) -> str:
    """The text of the section `.modname` of a small ELF object; empty where there is none."""
    if content[:4] != b"\x7fELF" or len(content) < 64:
        return ""
    wide = content[4] == 2
    table, size, count, names = (
        struct.unpack_from("<40xQ10xHHH", content)
        if wide
        else struct.unpack_from("<32xI10xHHH", content)
    )
    rows = [_section(content, table + number * size, wide) for number in range(min(count, 64))]
    if names >= len(rows) or rows[names] is None:
        return ""
    _, strings, length = rows[names] or (0, 0, 0)
    texts = content[strings : strings + length]
    for row in rows:
        if row is not None and plain_bytes(texts[row[0] : row[0] + _NAME_BYTES]) == ".modname":
            return plain_bytes(content[row[1] : row[1] + min(row[2], _NAME_BYTES)])
    return ""


def _section(content: bytes, at: int, wide: bool) -> tuple[int, int, int] | None:
    """Name, offset and length of a section by its header."""
    form = "<I20xQQ" if wide else "<I12xII"
    if at < 0 or at + struct.calcsize(form) > len(content):
        return None
    name, offset, length = struct.unpack_from(form, content, at)
    return name, offset, length


# GRUB's menu file as a tree of commands: words with their quoting undone, blocks, conditions, each
# with its line.
#
# Source: the GNU GRUB manual 2.12, section "Writing full configuration files directly" (shell-like
# scripting).


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


def read_menu(data: bytes) -> Menu:
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
