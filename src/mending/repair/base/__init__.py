"""What every repair is given, what it hands over, and the guards that all share."""

from mending.repair.base.guards import check_awake, check_common, check_mirrors
from mending.repair.base.proposal import MendSettings, Proposal, Request, WholeDiskError

__all__ = [
    "MendSettings",
    "Proposal",
    "Request",
    "WholeDiskError",
    "check_awake",
    "check_common",
    "check_mirrors",
]
