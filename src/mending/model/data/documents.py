"""JSON documents, also of names that are no UTF-8.

A file's name is bytes; Python shows what of it is no UTF-8 as lone surrogates (PEP 383). UTF-8 has
no way to write these, and JSON has one: `\\udcff`, in ASCII. So a document with such a name is
written in ASCII, and read back by the standard library's parser, which keeps them; all others go
the quick way.
"""

import json
from typing import Any, TypeVar

import msgspec

T = TypeVar("T")


def encode_json(value: Any) -> bytes:
    """A value as one JSON document."""
    try:
        return msgspec.json.encode(value)
    except UnicodeEncodeError:
        plain = msgspec.to_builtins(value)
        return json.dumps(plain, ensure_ascii=True, separators=(",", ":")).encode("ascii")


def format_json(value: Any) -> bytes:
    """A value as a JSON document that people can read: indented."""
    try:
        return msgspec.json.format(msgspec.json.encode(value))
    except UnicodeEncodeError:
        return json.dumps(msgspec.to_builtins(value), ensure_ascii=True, indent=2).encode("ascii")


def decode_json(data: bytes, kind: type[T]) -> T:
    """A value of a kind out of a JSON document.

    Raises:
        msgspec.DecodeError: it is no JSON, or of another shape.
    """
    try:
        return msgspec.json.decode(data, type=kind)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        if b"\\ud" not in data:
            raise msgspec.DecodeError(str(error)) from error
    except RecursionError as error:
        raise msgspec.DecodeError("it is nested too deep") from error
    return msgspec.convert(parse_json(data), kind)


def parse_json(data: bytes) -> Any:
    """A JSON document as plain values, lone surrogates kept.

    Raises:
        msgspec.DecodeError: it is none, or nested deeper than anything is.
    """
    try:
        return json.loads(data)
    except (ValueError, RecursionError) as error:
        raise msgspec.DecodeError(f"JSON is malformed: {type(error).__name__}") from error
