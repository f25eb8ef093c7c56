"""What the results of a chain come to: the state of each phase, the verdict, and what was not read.

Rules:

* The first phase with a failed check is where the start stops; what lies behind it is not reached.
* Without a failed check, no fault was found only if every phase of which a disk can tell was read
  to its end. Else the verdict is `unsure`, and the first phase that was not read is named.
* Damage that may hide the very system that is to start leaves the verdict open, too, and so does a
  folder of a system that cannot be read whole.
"""

from collections.abc import Sequence

import msgspec

from mending.boot.chain import CheckResult, PhaseResult, UnreadResult
from mending.boot.volumes import BLINDING
from mending.model import (
    PHASES,
    PHASES_ON_DISK,
    Finding,
    FindingId,
    Phase,
    PhaseState,
    Severity,
    Verdict,
)

_WORST_FIRST = (PhaseState.FAILED, PhaseState.DOUBTFUL, PhaseState.NOT_CHECKED)


class Judgement(msgspec.Struct, frozen=True, kw_only=True):
    """What a chain comes to. `unread` is None where the start fails, or all was read."""

    verdict: Verdict
    failing_phase: Phase | None
    phases: tuple[PhaseResult, ...]
    unread: UnreadResult | None


def judge_chain(
    results: Sequence[CheckResult], findings: Sequence[Finding], *, may_be_blind: bool
) -> Judgement:
    """Draw the verdict.

    Args:
        findings: all of the trace, in the order of phases.
        may_be_blind: whether no system was found, so that damage may hide the one that is meant.
    """
    phases = tuple(_phases(results, findings))
    failing = next((phase.id for phase in phases if phase.state is PhaseState.FAILED), None)
    if failing is not None:
        return Judgement(verdict=Verdict.FAILS, failing_phase=failing, phases=phases, unread=None)
    unread = _first_unread(results, phases)
    if unread is None:
        unread = _hidden_by_damage(findings, may_be_blind=may_be_blind)
    verdict = Verdict.NO_FAULT_FOUND if unread is None else Verdict.UNSURE
    return Judgement(verdict=verdict, failing_phase=None, phases=phases, unread=unread)


def _phases(results: Sequence[CheckResult], findings: Sequence[Finding]) -> list[PhaseResult]:
    rows: list[PhaseResult] = []
    stopped = False
    for phase in PHASES:
        state = _state_of(phase, [result.state for result in results if result.phase is phase])
        if stopped and state is not PhaseState.FAILED:
            state = PhaseState.NOT_REACHED
        stopped = stopped or state is PhaseState.FAILED
        ids = tuple(finding.id for finding in findings if finding.phase is phase)
        rows.append(PhaseResult(id=phase, state=state, findings=ids))
    return rows


def _state_of(phase: Phase, states: list[PhaseState]) -> PhaseState:
    """The worst state of a phase's checks; of a desktop a disk tells only that it cannot come."""
    if phase not in PHASES_ON_DISK and PhaseState.FAILED not in states:
        return PhaseState.NOT_ON_DISK
    for state in _WORST_FIRST:
        if state in states:
            return state
    return PhaseState.PASSED if states else PhaseState.NOT_CHECKED


def _first_unread(
    results: Sequence[CheckResult], phases: Sequence[PhaseResult]
) -> UnreadResult | None:
    """The first phase that was not read to its end, and the check that says why."""
    for phase in phases:
        if phase.id not in PHASES_ON_DISK or phase.state is PhaseState.PASSED:
            continue
        for result in results:
            if result.phase is phase.id and result.state is not PhaseState.PASSED:
                return UnreadResult(phase=phase.id, says=result.says)
        last = results[-1].says if results else "Nothing was read."
        return UnreadResult(phase=phase.id, says=f"The chain was followed no farther than: {last}")
    return None


def _hidden_by_damage(findings: Sequence[Finding], *, may_be_blind: bool) -> UnreadResult | None:
    for finding in findings:
        of_system = finding.id == FindingId.FOLDER_DAMAGED and finding.severity != Severity.NOTE
        if of_system or (may_be_blind and finding.id in BLINDING):
            return UnreadResult(phase=finding.phase, says=finding.says)
    return None
