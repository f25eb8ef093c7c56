"""Journals of systemd as they lie on a disk: entry by entry, and searched as a whole."""

from mending.formats.evidence.binary_journal.journal import (
    HEAD_BYTES,
    Entry,
    Journal,
    JournalHeader,
    is_journal,
    read_header,
    record,
)
from mending.formats.evidence.binary_journal.search import EntryTable, search

__all__ = [
    "HEAD_BYTES",
    "Entry",
    "EntryTable",
    "Journal",
    "JournalHeader",
    "is_journal",
    "read_header",
    "record",
    "search",
]
