"""What a file system or container says of itself, in terms that all kinds share."""

from enum import StrEnum

import msgspec

from mending.model.problems import Problem


class VolumeState(StrEnum):
    """How a volume was left.

    `dirty`: not closed properly, or with a journal or log that is not replayed; `hibernated`: a
    sleeping system owns it; `unknown`: the format does not tell, or it was not read.
    """

    CLEAN = "clean"
    DIRTY = "dirty"
    HIBERNATED = "hibernated"
    UNKNOWN = "unknown"


class Moment(msgspec.Struct, frozen=True):
    """An earlier state of a volume that a shadow copy keeps: its number there, RFC 3339."""

    number: int
    at: str


class VolumeInfo(msgspec.Struct, frozen=True, kw_only=True):
    """One volume's own account of itself.

    Attributes:
        bytes: the length it believes to have; 0 where it does not tell.
        identifier: UUID or serial number in the usual way of writing; empty where there is none.
        group: the volume group that it is part of.
        physical: identifiers of the physical volumes of that group.
        logical: names, as below `/dev/mapper`, of the volumes inside that group.
        contained: volumes inside a container, each with its role where it has one.
        locks: ways into a locked volume, as its head tells them.
        moments: those that its shadow copies keep, the oldest first.
        darwin: name of the one that holds a system of the darwin family; empty where none does.
        used: bytes in use; None where that is not cheap to know.
        problems: what is wrong behind the first sector.
        unchecked: what could not be checked and why, one sentence each.
    """

    bytes: int = 0
    label: str = ""
    identifier: str = ""
    group: str = ""
    physical: tuple[str, ...] = ()
    logical: tuple[str, ...] = ()
    contained: tuple[str, ...] = ()
    locks: tuple[str, ...] = ()
    moments: tuple[Moment, ...] = ()
    darwin: str = ""
    used: int | None = None
    state: VolumeState = VolumeState.UNKNOWN
    problems: tuple[Problem, ...] = ()
    unchecked: tuple[str, ...] = ()
