"""What every chain shares: the boot environment, checks and their results, the walk from one check
to the next."""

from mending.boot.chain.checks import (
    NOWHERE,
    CheckResult,
    Link,
    OutOfReachError,
    at_sector,
    doubtful,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
    place,
    run_chain,
    shifted,
)
from mending.boot.chain.disk_environment import DiskEnvironment
from mending.boot.chain.environment import BootEnvironment
from mending.boot.chain.results import (
    BarredRepair,
    ChangedPart,
    PhaseResult,
    SystemResult,
    TargetResult,
    Trace,
    TraceCheck,
    UnreadResult,
    VolumeResult,
)
from mending.boot.chain.tree_environment import TreeEnvironment
from mending.boot.chain.version_order import falling

__all__ = [
    "NOWHERE",
    "BarredRepair",
    "BootEnvironment",
    "ChangedPart",
    "CheckResult",
    "DiskEnvironment",
    "Link",
    "OutOfReachError",
    "PhaseResult",
    "SystemResult",
    "TargetResult",
    "Trace",
    "TraceCheck",
    "TreeEnvironment",
    "UnreadResult",
    "VolumeResult",
    "at_sector",
    "doubtful",
    "failed",
    "falling",
    "finding",
    "not_checked",
    "not_followed",
    "passed",
    "place",
    "run_chain",
    "shifted",
]
