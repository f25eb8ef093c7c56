"""Crash records of a target or of a case: read, put together, and remembered by the case."""

import click

from mending.case import Case, crash_files, records_read
from mending.cli import world
from mending.crash import CrashesResult, FileRead, LogFile, Reader, analyse, opened_log
from mending.knowledge import base_codes, base_events
from mending.model import UsageError


def read_all(target: str, files: list[LogFile]) -> CrashesResult:
    """Read every file and put together what they tell. Raises InputError, UsageError."""
    codes = base_codes()
    reader, reads, count = Reader(codes, base_events()), list[FileRead](), 0
    for one in files:
        with opened_log(one) as source:
            reads += reader.read(one.name, source, one.modified)
            count += source.bytes_read
    return analyse(target, reads, count, codes)


def read_case(case: Case, result: CrashesResult | None = None) -> Case:
    """Let a case remember what its crash records show."""
    return records_read(case, world.hand(), result or read_all(str(case.folder), crash_files(case)))


def read_case_if_possible(case: Case) -> Case:
    """The same behind an addition, which counts even where an extra is missing: then what it would take is said."""
    try:
        return read_case(case)
    except UsageError as error:
        click.echo(f"Attached, but not read yet. {error} {error.hint}", err=True)
        return case
