"""What crash records say of causes: findings with their phase and where they were read, for whoever ranks causes."""

from collections import Counter
from collections.abc import Iterator

from mending.crash.results import CrashesResult, CrashResult
from mending.model import Finding, Phase, Severity, Where

_ENDINGS = {"root-missing": Phase.LOADER, "init-missing": Phase.KERNEL, "emergency": Phase.SESSION}
_KERNELS = {"stop-code", "panic", "oops", "lockup", "machine-check"}
_ERRORS = {
    "disk-error": "disk-errors", "file-system-error": "file-system-errors", "hardware-error": "hardware-errors",
    "too-hot": "too-hot",
}  # fmt: skip


def clues_in(result: CrashesResult) -> tuple[Finding, ...]:
    """The findings; none where the records are silent. Their ids are the clues of the knowledge pack."""
    found = [
        *_codes(result), *_endings(result), *_began(result), *_patterns(result), *_loops(result), *_errors(result),
        *_repairs(result),
    ]  # fmt: skip
    return tuple({one.id: one for one in reversed(found)}.values())[::-1]


def _codes(result: CrashesResult) -> Iterator[Finding]:
    crashes = [one for one in result.crashes if one.kind in _KERNELS and one.suspects and one.says]
    if crashes:
        (first, _), count = Counter((one.suspects[0], one.code) for one in crashes).most_common(1)[0]
        example = next(one for one in crashes if one.suspects[0] == first)
        words = example.name or example.code or example.headline
        yield _finding(f"code-suggests-{first}", _phase(example), f"{count} x {words}: {example.says}", _where(example))
    for one in result.crashes:
        if one.module and not any(module.system and module.name == one.module for module in one.modules):
            yield _finding("module-named", _phase(one), f"a crash points into {one.module}", _where(one))
            return


def _endings(result: CrashesResult) -> Iterator[Finding]:
    for one in result.crashes:
        if one.kind in _ENDINGS:
            name = "emergency-mode" if one.kind == "emergency" else one.kind
            yield _finding(name, _ENDINGS[one.kind], one.headline, _where(one))


def _began(result: CrashesResult) -> Iterator[Finding]:
    for one in result.suspects:
        if one.blamed:
            name = "fails-when-plugged-in" if one.change.startswith("plugged in") else f"began-with-{one.what}"
            yield _finding(name, Phase.KERNEL, f"{one.change}: {one.says}")


def _patterns(result: CrashesResult) -> Iterator[Finding]:
    for one in result.patterns:
        yield _finding(one.id, Phase.POWER if "power-or-heat" in one.suspects else Phase.KERNEL, one.says)


def _loops(result: CrashesResult) -> Iterator[Finding]:
    for one in result.loops[-1:]:
        yield _finding("loop-regular" if one.regular else "loop-irregular", Phase.KERNEL, one.says)


def _errors(result: CrashesResult) -> Iterator[Finding]:
    for one in result.errors:
        if one.kind in _ERRORS:
            yield _finding(_ERRORS[one.kind], Phase.POWER, f"{one.count} x {one.example}")


def _repairs(result: CrashesResult) -> Iterator[Finding]:
    for one in result.repair_attempts[-1:]:
        clean = not one.found and not one.complained
        where = Where(path=one.file)
        yield _finding("repair-found-nothing" if clean else "repair-did-not-help", Phase.LOADER, one.says, where)


def _phase(crash: CrashResult) -> Phase:
    return Phase(crash.phase) if crash.phase else Phase.KERNEL


def _where(crash: CrashResult) -> Where:
    return Where(path=crash.file, line=crash.line or None)


def _finding(name: str, phase: Phase, says: str, where: Where | None = None) -> Finding:
    return Finding(id=name, phase=phase, severity=Severity.WARNING, says=says, where=where or Where())
