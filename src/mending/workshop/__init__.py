"""Makes sample PCs and their faults on the spot: for the demo, the tests and the benchmarks.

All of it is the ticket offices of the Skerrivane Ferries, a line that does not exist.
"""

from mending.workshop.disks import BIOS_FAULTS, MARKER, UEFI_FAULTS, bios_disk, uefi_disk
from mending.workshop.image import ImageDraft
from mending.workshop.linux import LINUX_FAULTS, linux_disk
from mending.workshop.samples import Sample, make_sample, samples

__all__ = [
    "BIOS_FAULTS",
    "LINUX_FAULTS",
    "MARKER",
    "UEFI_FAULTS",
    "ImageDraft",
    "Sample",
    "bios_disk",
    "linux_disk",
    "make_sample",
    "samples",
    "uefi_disk",
]
