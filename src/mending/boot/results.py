"""The document that a trace gives, as `docs/json.md` describes it."""

import msgspec

from mending.model import Finding, Phase, PhaseState, Verdict, Where


class TargetResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was looked at. `sector` is bytes per sector; `bytes_read` is what the trace cost."""

    path: str
    kind: str
    bytes: int
    sector: int
    bytes_read: int


class RungResult(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that was checked, in the order of starting."""

    phase: Phase
    state: PhaseState
    says: str
    where: Where


class PhaseResult(msgspec.Struct, frozen=True, kw_only=True):
    """One phase and the ids of its findings."""

    id: Phase
    state: PhaseState
    findings: tuple[str, ...]


class VolumeResult(msgspec.Struct, frozen=True, kw_only=True):
    """One volume. `start` is in sectors, `bytes` is its length."""

    number: int
    start: int
    bytes: int
    type: str
    filesystem: str
    label: str
    role: str
    encrypted: bool
    active: bool


class SystemResult(msgspec.Struct, frozen=True, kw_only=True):
    """An installed system; `starts` is None where the trace is unsure."""

    family: str
    volume: int
    title: str
    starts: bool | None


class Trace(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="trace/1"):
    """Which phase of starting fails on this disk, and why."""

    target: TargetResult
    firmware: str
    scheme: str
    verdict: Verdict
    failing_phase: Phase | None
    phases: tuple[PhaseResult, ...]
    rungs: tuple[RungResult, ...]
    findings: tuple[Finding, ...]
    volumes: tuple[VolumeResult, ...]
    systems: tuple[SystemResult, ...]

    @property
    def fatal(self) -> tuple[Finding, ...]:
        """The findings that stop the start, in chain order."""
        return tuple(finding for finding in self.findings if finding.severity == "fatal")
