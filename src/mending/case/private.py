"""A case without what is private, field by field: what a workshop keeps of a person, what somebody
said or wrote in words of their own, names of files, volumes, machines and of the case itself.

Which fields those are stands here, once. Ids, answers, codes, times and numbers stay.
"""

from collections.abc import Callable, Mapping

import msgspec

from mending.boot.chain import Trace
from mending.case.events import (
    Added,
    AnyEvent,
    Checked,
    Closed,
    HandedOver,
    Heard,
    Learned,
    Listed,
    Noted,
    Started,
    Traced,
    Tried,
)
from mending.case.folder import Case
from mending.case.state import fold
from mending.disk.scan import DiskMap
from mending.knowledge import Pack

GONE = "[taken out]"


def without_private(case: Case, pack: Pack, allowed: frozenset[str]) -> Case:
    """The case with its private fields taken out.

    Args:
        allowed: words that stay where a person may also write their own: ids and fixed answers.
    """
    known = allowed | set(pack.causes) | set(pack.steps)
    events = tuple(_public(event, known) for event in case.events)
    file = msgspec.structs.replace(case.file, name=GONE)
    return msgspec.structs.replace(
        case, file=file, folder=case.folder.with_name(GONE), events=events, state=fold(events)
    )


def trace_without_private(trace: Trace) -> Trace:
    """A trace without names that people gave: of the target, of volumes, of a system's machine."""
    return msgspec.structs.replace(
        trace,
        target=msgspec.structs.replace(trace.target, path=GONE),
        volumes=tuple(
            msgspec.structs.replace(
                volume, label=_taken(volume.label), contained=tuple(map(_taken, volume.contained))
            )
            for volume in trace.volumes
        ),
        map=None if trace.map is None else _map_without_labels(trace.map),
        systems=tuple(
            msgspec.structs.replace(system, title=_taken(system.title))
            if system.family == "linux"
            else system
            for system in trace.systems
        ),
    )


def _map_without_labels(drawn: DiskMap) -> DiskMap:
    stretches = tuple(
        msgspec.structs.replace(stretch, label=_taken(stretch.label)) for stretch in drawn.stretches
    )
    return msgspec.structs.replace(drawn, stretches=stretches)


def _public(event: AnyEvent, known: frozenset[str] | set[str]) -> AnyEvent:
    """An event with its private fields taken out."""
    change: Mapping[str, object]
    match event:
        case Learned():
            change = {"notes": _values(event.notes), "shop": _values(event.shop)}
        case Heard():
            change = {"text": _taken(event.text), "left": tuple(map(_taken, event.left))}
        case Added():
            change = {"path": _taken(event.path), "outside": None}
        case Traced():
            change = {"trace": trace_without_private(event.trace)}
        case Tried() | Started():
            change = {"note": _taken(event.note)}
        case Listed():
            change = {"lines": (), "chosen": {}}  # labels are names that people gave
        case Noted():
            change = {"text": _taken(event.text)}
        case Checked():
            change = {"says": _own(event.says, known)}
        case HandedOver():
            change = {"to": _taken(event.to), "cause": _own(event.cause, known)}
        case Closed():
            own: Callable[[str], str] = lambda words: _own(words, known)  # noqa: E731
            put_back = {name: own(words) for name, words in event.put_back.items()}
            change = {"cause": own(event.cause), "fix": own(event.fix), "put_back": put_back}
        case _:
            return event
    return msgspec.structs.replace(event, **change)


def _own(words: str, known: frozenset[str] | set[str]) -> str:
    return words if words in known else _taken(words)


def _taken(words: str) -> str:
    return GONE if words else ""


def _values(fields: Mapping[str, str]) -> dict[str, str]:
    return {name: _taken(words) for name, words in fields.items()}
