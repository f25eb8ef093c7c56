"""The document that a trace gives, as `docs/json.md` describes it."""

import msgspec

from mending.disk.layout import Scheme
from mending.disk.scan import DiskMap
from mending.disk.system import Contents
from mending.disk.volume import Volume
from mending.model import (
    Finding,
    Moment,
    Phase,
    PhaseState,
    Verdict,
    VolumeInfo,
    VolumeState,
    Where,
)


class TargetResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was looked at. `sector` is bytes per sector; `bytes_read` is what the trace cost."""

    path: str
    kind: str
    bytes: int
    sector: int
    bytes_read: int


class TraceCheck(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that was checked, in the order of starting.
    `ran_to` is the file that boot code, run in the emulator, got to.
    """

    phase: Phase
    state: PhaseState
    says: str
    where: Where
    ran_to: str = ""


class PhaseResult(msgspec.Struct, frozen=True, kw_only=True):
    """One phase and the ids of its findings."""

    id: Phase
    state: PhaseState
    findings: tuple[str, ...]


class VolumeResult(msgspec.Struct, frozen=True, kw_only=True):
    """One volume. `start` is in sectors, `bytes` and `used` are bytes; `used` is None where it is
    not cheap to know.

    `believes` is the length that the file system gives itself, 0 where it does not tell;
    `partition` is the identifier of the table entry, `identifier` that of the file system;
    `earlier` lists folders of moved-aside installations, `contained` the volumes of a container,
    `locks` the ways into a locked volume; `moments` those that its
    shadow copies keep.
    What has a default was added later: records of older cases lack it.
    """

    number: int
    start: int
    bytes: int
    type: str
    filesystem: str
    label: str
    role: str
    encrypted: bool
    active: bool
    identifier: str = ""
    partition: str = ""
    believes: int = 0
    used: int | None = None
    state: str = VolumeState.UNKNOWN
    earlier: tuple[str, ...] = ()
    contained: tuple[str, ...] = ()
    locks: tuple[str, ...] = ()
    moments: tuple[Moment, ...] = ()

    @classmethod
    def of(cls, volume: Volume, inside: Contents | None, *, runs_code: bool) -> "VolumeResult":
        """What the table says, and what the volume says of itself.

        Args:
            inside: None for an extended entry, which holds nothing itself.
            runs_code: whether its boot code is a link of the chain, which makes plain data a system
                partition.
        """
        info = inside.info if inside is not None else VolumeInfo()
        role = inside.role if inside is not None else "unknown"
        return cls(
            number=volume.number,
            start=volume.start,
            bytes=volume.bytes,
            type=volume.type,
            filesystem=volume.filesystem,
            label=info.label or volume.label,
            role="system-partition" if runs_code and role in {"data", "unknown"} else role,
            encrypted=volume.encrypted,
            active=volume.active,
            identifier=info.identifier,
            partition=volume.partuuid,
            believes=info.bytes,
            used=info.used,
            state=info.state,
            earlier=inside.earlier if inside is not None else (),
            contained=info.contained,
            locks=info.locks,
            moments=info.moments,
        )


class SystemResult(msgspec.Struct, frozen=True, kw_only=True):
    """An installed system; `starts` is None where the trace is unsure."""

    family: str
    volume: int
    title: str
    starts: bool | None


class UnreadResult(msgspec.Struct, frozen=True, kw_only=True):
    """The first phase that was not read to its end, and why: what keeps a trace without a fault
    from calling the disk sound.
    """

    phase: Phase
    says: str


class ChangedPart(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that a healthy copy has otherwise than the disk.

    `kind` is `range` or `file`, `number` its place in the copy; `state` is `differs missing
    unreadable volume-missing`; `offset` is of a range, `path` of a file.
    """

    kind: str
    number: int
    phase: Phase
    what: str
    state: str
    path: str | None = None
    offset: int | None = None


class BarredRepair(msgspec.Struct, frozen=True, kw_only=True):
    """A repair that a finding calls for and that cannot be done as things are.

    Attributes:
        says: what is in the way. hint: what a person can do about it.
        option: what, added to `mending mend TARGET REPAIR`, would settle it; empty where nothing
            would.
        fatal: whether what keeps the PC from starting calls for it.
    """

    repair: str
    says: str
    hint: str = ""
    option: str = ""
    fatal: bool = False


class Trace(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="trace/1"):
    """Which phase of starting fails on this disk, and why. Records of older cases have no map
    and do not say what was not read. `against` is what a healthy copy has otherwise, where the
    trace was made against one. `barred` are repairs that findings call for and that cannot be done;
    whether those in `unsearched` can, only a search of the whole disk tells.
    """

    target: TargetResult
    firmware: str
    scheme: str
    verdict: Verdict
    failing_phase: Phase | None
    phases: tuple[PhaseResult, ...]
    checks: tuple[TraceCheck, ...] = msgspec.field(name="rungs")
    findings: tuple[Finding, ...]
    volumes: tuple[VolumeResult, ...]
    systems: tuple[SystemResult, ...]
    map: DiskMap | None = None
    unread: UnreadResult | None = None
    against: tuple[ChangedPart, ...] | None = None
    barred: tuple[BarredRepair, ...] = ()
    unsearched: tuple[str, ...] = ()

    @property
    def table(self) -> str:
        """The kind of partition table in words."""
        return f"{'no' if self.scheme == Scheme.NONE else self.scheme} table"

    @property
    def fatal(self) -> tuple[Finding, ...]:
        """The findings that stop the start, in chain order."""
        return tuple(finding for finding in self.findings if finding.severity == "fatal")
