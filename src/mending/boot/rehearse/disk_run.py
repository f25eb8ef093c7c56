"""A whole disk, from sector 0 on."""

from mending.boot.rehearse.machine import Stop, rehearse_code, screen_lines
from mending.boot.rehearse.results import RehearsalResult
from mending.formats.partition import mbr
from mending.model import InputError, RefusedError
from mending.source import Source


def rehearse_disk(source: Source) -> RehearsalResult:
    """Run the code of sector 0 until it comes to rest.

    Raises:
        RefusedError: a GPT disk without boot code.
        InputError: sector 0 cannot be read, or firmware would not start it for want of 55 aa.
        UsageError: the extra `rehearse` is not installed.
    """
    sector = source.read(0, mbr.SIZE)
    if mbr.read(sector).has("signature-missing"):
        raise InputError(
            f"Sector 0 of {source.path} does not end in 55 aa.", "BIOS firmware would not run it."
        )
    record = mbr.read(sector).record
    if record.protective and record.code_blank:
        raise RefusedError(
            f"{source.path} holds no boot code: UEFI firmware starts it by a loader file."
        )
    ran = rehearse_code(source, sector.data)
    return RehearsalResult(
        path=source.path,
        stopped=ran.stop if ran.instructions else Stop.FAULT,
        at=ran.at,
        instructions=ran.instructions,
        screen=screen_lines(ran.screen),
        reads=ran.reads,
        started_volume=ran.volume_at is not None,
    )
