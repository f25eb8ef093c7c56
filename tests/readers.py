"""Finds every reader of a package of formats by itself, and the input to try it with.

A reader is a public function whose first parameter is raw evidence: bytes, a window, a text, a
stream, a function that reads, or numbered lines. Its other parameters are made from their types.
Nothing lists readers by hand, so that a new one is tried from its first day.
"""

import enum
import importlib
import inspect
import io
import pkgutil
import types
import typing
from collections.abc import Callable, Iterable, Iterator

import msgspec
from hypothesis import strategies as st

from mending.model import Window

MOST_BYTES, MOST_RESULTS = 5000, 200
PLACES = (0, 1, 3, 4, 32, 54, 82, 257, 510, 512, 1024, 1080, 4086, 4096)
"""Where magic numbers of disk structures stand."""
WRITES = ("encode", "new_", "placed_", "with_")


def modules_of(package):
    """All modules below a package."""
    for found in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
        module = importlib.import_module(found.name)
        if not hasattr(module, "__path__"):
            yield module


def readers_of(package):
    """Every reader below a package, with its module."""
    for module in modules_of(package):
        for name, function in vars(module).items():
            if name.startswith("_") or not inspect.isfunction(function):
                continue
            if function.__module__ == module.__name__ and _is_reader(name, function):
                yield module, function


def calls_of(module, function):
    """Arguments to try a reader with: bytes of all kinds, the magic numbers of its module put
    where such numbers stand.
    """
    hints = typing.get_type_hints(function)
    magic = magic_of(module)
    parameters = list(inspect.signature(function).parameters.values())
    needed = [each for each in parameters if each.kind is not inspect.Parameter.VAR_KEYWORD]
    return st.tuples(*(_made(hints[each.name], magic) for each in needed)).map(
        lambda values: dict(zip((each.name for each in needed), values, strict=True))
    )


def drained(result):
    """What a reader gave; a stream is read."""
    if isinstance(result, Iterator):
        return [value for value, _ in zip(result, range(MOST_RESULTS), strict=False)]
    return result


def _is_reader(name, function):
    parameters = list(inspect.signature(function).parameters)
    hints = typing.get_type_hints(function)
    chosen = any(inspect.isclass(hint) and issubclass(hint, enum.Enum) for hint in hints.values())
    if not parameters or chosen or name.startswith(WRITES):
        return False  # a writer, or a reader that takes a caller's word for what it reads
    return _raw_kind(hints[parameters[0]]) is not None


def _raw_kind(hint):
    if hint in {bytes, Window, str, typing.BinaryIO}:
        return hint
    origin, arguments = typing.get_origin(hint), typing.get_args(hint)
    if origin is Callable and arguments[-1] is bytes:
        return "reader"
    if origin is Iterable and arguments[0] == tuple[int, bytes]:
        return "lines"
    return None


def magic_of(module):
    """The magic numbers that a module knows, as constants."""
    values = [value for value in vars(module).values() if isinstance(value, bytes | tuple)]
    values += [
        value.to_bytes(2 if value <= 0xFFFF else 4, "little")
        for name, value in vars(module).items()
        if "MAGIC" in name and isinstance(value, int)
    ]
    flat = [part for value in values for part in (value if isinstance(value, tuple) else [value])]
    return sorted({part for part in flat if isinstance(part, bytes) and 1 < len(part) <= 64})


@st.composite
def _evidence(draw, magic):
    data = bytearray(draw(st.binary(max_size=300)))
    data = data * draw(st.sampled_from((1, 1, 2, 16)))
    length = draw(st.sampled_from((0, 64, 512, 1024, 4096)))
    data = data.ljust(length, bytes([draw(st.sampled_from((0, 0xFF, 0x20)))]))
    for part in draw(st.lists(st.sampled_from(magic), max_size=3)) if magic else ():
        at = draw(st.sampled_from(PLACES))
        data[at : at + len(part)] = part
    return bytes(data[:MOST_BYTES])


def _made(hint, magic):
    evidence = _evidence(magic)
    kind = _raw_kind(hint)
    if kind is bytes:
        return evidence
    if kind is Window:
        return st.builds(Window, evidence, st.integers(0, 1 << 45))
    if kind is str:
        return st.one_of(evidence.map(lambda data: data.decode("utf-8", "replace")), st.text())
    if kind is typing.BinaryIO:
        return evidence.map(io.BytesIO)
    if kind == "reader":
        return evidence.map(lambda data: lambda offset, length: data[offset : offset + length])
    if kind == "lines":
        return evidence.map(lambda data: list(enumerate(data.split(b"\n"), 1)))
    return _plain(hint, magic)


def _plain(hint, magic):
    origin, arguments = typing.get_origin(hint), typing.get_args(hint)
    if origin in {types.UnionType, typing.Union}:
        return st.one_of(*(_made(part, magic) for part in arguments))
    if hint is int or getattr(hint, "__supertype__", None) is int:
        return st.one_of(st.integers(0, 70_000), st.sampled_from((0, 1, 512, 4096, 2**32, 2**63)))
    if origin is tuple and arguments[-1:] == (Ellipsis,):
        return st.lists(_made(arguments[0], magic), max_size=4).map(tuple)
    if inspect.isclass(hint) and issubclass(hint, msgspec.Struct):
        fields = typing.get_type_hints(hint)
        return st.builds(hint, **{name: _made(kind, magic) for name, kind in fields.items()})
    return st.from_type(hint)
