"""A finding: one fact read from evidence, and where it was read."""

from enum import StrEnum

import msgspec

from mending.model.phases import Phase


class Severity(StrEnum):
    """What a finding does to starting."""

    FATAL = "fatal"
    """The start really stops here."""
    WARNING = "warning"
    """Damage that firmware or boot code gets past."""
    NOTE = "note"
    """Worth knowing; nothing is wrong."""


class Where(msgspec.Struct, frozen=True, kw_only=True):
    """The place in the evidence.

    Attributes:
        offset: bytes from the start of the source, or of the file named by `path`.
        length: bytes.
        path: a file inside the target, as a person would write it.
        line: line in that file, from 1.
        hex: the first bytes found there, as a person reads them.
    """

    offset: int | None = None
    length: int | None = None
    path: str | None = None
    line: int | None = None
    hex: str | None = None


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """One fact, its phase, what it does to starting, and the repairs that would answer it.

    Attributes:
        id: kebab-case name of the kind of fact; knowledge packs refer to it.
        says: one sentence.
        repairs: ids of repairs, most fitting first.
        asked_by: the line of a menu or entry that names what is not sound.
    """

    id: str
    phase: Phase
    severity: Severity
    says: str
    where: Where = Where()
    repairs: tuple[str, ...] = ()
    asked_by: Where | None = None
