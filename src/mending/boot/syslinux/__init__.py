"""The checks of boot managers of the SYSLINUX family on a volume."""

from mending.boot.syslinux.checks import SyslinuxChecks, starts_here

__all__ = ["SyslinuxChecks", "starts_here"]
