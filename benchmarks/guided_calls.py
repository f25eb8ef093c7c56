"""Calls of readers made out of bytes, for a fuzzer that knows nothing but bytes.

An input is a head of 64 bytes and evidence. The evidence is what every raw parameter gets (bytes, a
window, a text, a stream, a function that reads, numbered lines); numbers, names and choices are
drawn from the head. With a head of zeros the plainest call is made, so that a piece of a real disk
behind it is a good seed.
"""

import enum
import inspect
import io
import types
from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from functools import cache
from typing import Any, BinaryIO, Union, get_args, get_origin, get_type_hints

import msgspec
from tests.readers import drained

from mending.model import MendingError, Window

HEAD = 64
_MOST_PARTS, _DEEPEST = 16, 4
_NUMBERS = (512, 0, 1, 4096, 1 << 20, 1 << 32, 1 << 63)
SMALL, EXACT, EXACT_BYTES = 0x80, 0xFF, 8
"""Kinds of numbers: the next byte as it is, and one of so many bytes."""


def attempt(function: Callable[..., object]) -> Callable[[bytes], object]:
    """A function that calls a reader with what an input says.

    Returns:
        what the reader gave, with streams read; None where the reader said that it cannot.
    """
    hints = get_type_hints(function)
    needed: list[str] = []
    others: list[str] = []
    for each in inspect.signature(function).parameters.values():
        if each.kind is not inspect.Parameter.VAR_KEYWORD:
            (needed if each.default is inspect.Parameter.empty else others).append(each.name)

    def call(data: bytes) -> object:
        head, evidence = iter(data[:HEAD].ljust(HEAD, b"\0")), data[HEAD:]
        arguments = {name: _made(hints[name], head, evidence) for name in needed}
        for name in others:
            if next(head, 0):  # else as it is when nothing is said
                arguments[name] = _made(hints[name], head, evidence)
        try:
            result = drained(function(**arguments))
            for record in result if isinstance(result, list) else [result]:
                _look_at(record)
        except MendingError:
            return None
        return result

    return call


def _look_at(record: object, depth: int = 0) -> None:
    """Ask a record, and the records in it, for everything that they work out."""
    if isinstance(record, tuple):
        for part in record[:_MOST_PARTS]:
            _look_at(part, depth + 1)
    elif isinstance(record, msgspec.Struct) and depth < _DEEPEST:
        for name in record.__struct_fields__:
            _look_at(getattr(record, name), depth + 1)
        for name in _properties(type(record)):
            getattr(record, name)


@cache
def _properties(kind: type) -> tuple[str, ...]:
    members = inspect.getmembers_static(kind)
    return tuple(name for name, value in members if isinstance(value, property))


def _made(hint: Any, head: Iterator[int], evidence: bytes) -> object:
    origin, arguments = get_origin(hint), get_args(hint)
    if origin in {types.UnionType, Union}:
        return _made(arguments[next(head, 0) % len(arguments)], head, evidence)
    if origin is Callable:
        return lambda offset, length: evidence[offset : offset + length]
    if origin is Iterable:
        return list(enumerate(evidence.split(b"\n"), 1))
    if origin is tuple:
        return tuple(_made(arguments[0], head, evidence) for _ in range(next(head, 0) % 4))
    if origin in {set, Container, Mapping}:
        words = evidence[:64].decode("latin-1").split()
        return dict.fromkeys(words, "") if origin is Mapping else set(words)
    if hint is type(None):
        return None
    return _plain(hint, head, evidence)


def _plain(hint: Any, head: Iterator[int], evidence: bytes) -> object:
    kind = getattr(hint, "__supertype__", hint)
    raw: dict[object, Callable[[], object]] = {
        bytes: lambda: evidence,
        str: lambda: evidence.decode("utf-8", "replace"),
        Window: lambda: Window(evidence),
        BinaryIO: lambda: io.BytesIO(evidence),
        bool: lambda: bool(next(head, 0) & 1),
        int: lambda: _number(head, len(evidence)),
    }
    if kind in raw:
        return raw[kind]()
    if issubclass(kind, enum.Enum):
        members = list(kind)
        return members[next(head, 0) % len(members)]
    if issubclass(kind, msgspec.Struct):
        fields = get_type_hints(kind)
        return kind(**{name: _made(each, head, evidence) for name, each in fields.items()})
    raise TypeError(f"how to make {hint} out of bytes is not known")


def _number(head: Iterator[int], length: int) -> int:
    """The length of the evidence, a number of the table, a small one or any."""
    kind = next(head, 0)
    if kind == EXACT:
        return int.from_bytes(bytes(next(head, 0) for _ in range(EXACT_BYTES)), "little")
    value = next(head, 0)
    if kind == 0:
        return length
    if kind < SMALL:
        return _NUMBERS[kind % len(_NUMBERS)] + value
    return value
