"""Makes sample PCs and their faults on the spot: for the demo, the tests and the benchmarks.

All of it is the ticket offices of the Skerrivane Ferries, a line that does not exist.
"""

from mending.workshop.disks import (
    BIOS_FAULTS,
    LINUX_FAULTS,
    MARKER,
    UEFI_FAULTS,
    ImageDraft,
    bios_disk,
    linux_disk,
    uefi_disk,
)
from mending.workshop.histories import (
    KINDS,
    DumpDraft,
    Entry,
    History,
    as_journal,
    as_text,
    as_xml,
    history,
    slip_desk_records,
    write_log,
)
from mending.workshop.samples import Sample, leave_records, make_sample, samples

__all__ = [
    "BIOS_FAULTS",
    "KINDS",
    "LINUX_FAULTS",
    "MARKER",
    "UEFI_FAULTS",
    "DumpDraft",
    "Entry",
    "History",
    "ImageDraft",
    "Sample",
    "as_journal",
    "as_text",
    "as_xml",
    "bios_disk",
    "history",
    "leave_records",
    "linux_disk",
    "make_sample",
    "samples",
    "slip_desk_records",
    "uefi_disk",
    "write_log",
]
