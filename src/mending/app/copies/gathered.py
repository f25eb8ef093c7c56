"""What a disk answered when a bundle was made of it, for questions that need more than it holds."""

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import msgspec

from mending.boot.chain import Trace
from mending.crash.results import CrashesResult
from mending.model import InputError, NotGatheredError, decode_json
from mending.source.archive import Bundle, is_bundle

TRACE, CRASHES = "trace.json", "crashes.json"
"""Members of a bundle."""
_TOLD = "{} (as its disk answered)"
Answer = TypeVar("Answer", Trace, CrashesResult)


def traced_or_told(path: str, ask: Callable[[], Trace]) -> Trace:
    """A trace; of a bundle that does not hold all of it, the one of its disk.

    Raises:
        NotGatheredError: neither.
    """
    try:
        if not _is_crossed_out(path):
            return ask()
    except NotGatheredError:
        pass  # the answer was kept for that
    return named(_told(path, TRACE, Trace), _TOLD.format(path))


def crashes_or_told(path: str, ask: Callable[[], CrashesResult]) -> CrashesResult:
    """What records tell, in the same way."""
    try:
        if not _is_crossed_out(path):
            return ask()
    except NotGatheredError:
        pass  # the answer was kept for that
    told = _told(path, CRASHES, CrashesResult)
    return msgspec.structs.replace(told, target=_TOLD.format(path))


def _is_crossed_out(path: str) -> bool:
    """Whether a bundle says that its bytes do not give its disk's answers."""
    if not is_bundle(Path(path)):
        return False
    bundle = Bundle(Path(path))
    try:
        return bundle.index.crossed_out
    finally:
        bundle.close()


def _told(path: str, name: str, kind: type[Answer]) -> Answer:
    if not is_bundle(Path(path)):
        raise InputError(f"{path} is no bundle any more.")
    bundle = Bundle(Path(path))
    try:
        return decode_json(bundle.document(name), kind)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(f"{path}: {name} is damaged.") from error
    finally:
        bundle.close()


def named(trace: Trace, name: str) -> Trace:
    """A trace of a target that is called otherwise."""
    return msgspec.structs.replace(trace, target=msgspec.structs.replace(trace.target, path=name))
