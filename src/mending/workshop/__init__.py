"""Makes sample PCs and their faults on the spot: for the demo, the tests and the benchmarks.

All of it is the ticket offices of the Skerrivane Ferries, a line that does not exist.
"""

from mending.workshop.big_logs import write_log
from mending.workshop.disks import BIOS_FAULTS, MARKER, UEFI_FAULTS, bios_disk, uefi_disk
from mending.workshop.dumps import DumpDraft
from mending.workshop.histories import KINDS, Entry, History, history
from mending.workshop.history_files import as_journal, as_text, as_xml, slip_desk_records
from mending.workshop.image import ImageDraft
from mending.workshop.linux import LINUX_FAULTS, linux_disk
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
