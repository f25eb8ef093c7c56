"""The chain of a UEFI machine: GPT, EFI system partition, boot options, loader files."""

from mending.boot.uefi.boot_options import BootOptions, read_boot_options
from mending.boot.uefi.chain import UefiChain
from mending.boot.uefi.loader_files import efi_volumes, loaders_on
from mending.boot.uefi.loaders import behind_loader, chained, spare_second_loader
from mending.boot.uefi.spare_loader import fallback_name, spare_loader

__all__ = [
    "BootOptions",
    "UefiChain",
    "behind_loader",
    "chained",
    "efi_volumes",
    "fallback_name",
    "loaders_on",
    "read_boot_options",
    "spare_loader",
    "spare_second_loader",
]
