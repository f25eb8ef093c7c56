"""The chain of a UEFI machine: GPT, EFI system partition, boot options, loader files."""

from mending.boot.uefi.chain import BootOptions, UefiChain, read_boot_options
from mending.boot.uefi.loaders import (
    behind_loader,
    chained,
    efi_volumes,
    fallback_name,
    loaders_on,
    spare_loader,
    spare_second_loader,
)

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
