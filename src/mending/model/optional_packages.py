"""Heavy packages, loaded when first needed: most commands never need them, and they are slow to
load.
"""

import sys
from functools import cache
from importlib import import_module
from importlib.util import find_spec
from types import ModuleType

from mending.model.errors import UsageError


def load_extra(package: str, extra: str) -> ModuleType:
    """A package that an extra brings.

    Raises:
        UsageError: the extra is not installed.
    """
    try:
        return import_module(package)
    except ImportError as error:
        raise UsageError(
            f"This needs the package {package}.", f"Install mending with its extra `{extra}`."
        ) from error


@cache
def load_numpy() -> ModuleType:
    """NumPy, which every install has, but few commands need."""
    return import_module("numpy")


@cache
def load_scipy(part: str) -> ModuleType:
    """A part of SciPy, which every install has, but few commands need."""
    return import_module(f"scipy.{part}")


@cache
def load_unpacker(name: str) -> ModuleType:
    """`zstandard` or `lz4.block`, which every install has, but only packed files need."""
    return import_module(name)


@cache
def load_rapidfuzz() -> ModuleType:
    """RapidFuzz, which every install has, but only what was mistyped needs."""
    return import_module("rapidfuzz")


def has_extra(package: str) -> bool:
    """Whether a package is installed, without loading it."""
    if package in sys.modules:
        return sys.modules[package] is not None
    return find_spec(package) is not None
