"""The checks of rEFInd: what it finds to start, and what that is."""

from mending.boot.refind.checks import RefindChecks

__all__ = ["RefindChecks"]
