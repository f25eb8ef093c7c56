"""What crash records say of causes: findings with their phase and where they were read, for whoever
ranks causes.
"""

from collections import Counter
from collections.abc import Iterator

from mending.crash.results import CrashesResult, CrashResult
from mending.crash.screens import SeenCode, codes_in
from mending.knowledge import Codes
from mending.model import Finding, Phase, Severity, Where

_MOST_CODES = 3
_ENDINGS = {"root-missing": Phase.LOADER, "init-missing": Phase.KERNEL, "emergency": Phase.SESSION}
_KERNELS = {"stop-code", "panic", "oops", "lockup", "machine-check"}
_ERRORS = {
    "disk-error": "disk-errors",
    "file-system-error": "file-system-errors",
    "hardware-error": "hardware-errors",
    "too-hot": "too-hot",
}


def clues_in(result: CrashesResult) -> tuple[Finding, ...]:
    """The findings; none where the records are silent. Their ids are the clues of the knowledge
    pack.
    """
    found = [
        *_codes(result),
        *_endings(result),
        *_began(result),
        *_patterns(result),
        *_loops(result),
        *_errors(result),
        *_repairs(result),
    ]
    return tuple({finding.id: finding for finding in reversed(found)}.values())[::-1]


def codes_in_records(result: CrashesResult, codes: Codes) -> tuple[SeenCode, ...]:
    """What the kernel stopped with most often, the code or the words, where the tables know what it
    stands for; several where they come equally often.
    """
    told = Counter(
        crash.name or crash.code or crash.headline
        for crash in result.crashes
        if crash.kind in _KERNELS
    )
    most = max(told.values(), default=0)
    found = [
        code
        for words, count in told.items()
        if count == most
        for code in codes_in(words, codes)
        if code.causes
    ]
    return tuple({code.words: code for code in found}.values())[:_MOST_CODES]


def _codes(result: CrashesResult) -> Iterator[Finding]:
    crashes = [
        crash
        for crash in result.crashes
        if crash.kind in _KERNELS and crash.suspects and crash.says
    ]
    if crashes:
        (first, _), count = Counter(
            (crash.suspects[0], crash.code) for crash in crashes
        ).most_common(1)[0]
        example = next(crash for crash in crashes if crash.suspects[0] == first)
        words = example.name or example.code or example.headline
        yield _finding(
            f"code-suggests-{first}",
            _phase(example),
            f"{count} x {words}: {example.says}",
            _where(example),
        )
    for crash in result.crashes:
        if crash.module and not any(
            module.system and module.name == crash.module for module in crash.modules
        ):
            yield _finding(
                "module-named", _phase(crash), f"a crash points into {crash.module}", _where(crash)
            )
            return


def _endings(result: CrashesResult) -> Iterator[Finding]:
    for crash in result.crashes:
        if crash.kind in _ENDINGS:
            name = "emergency-mode" if crash.kind == "emergency" else crash.kind
            yield _finding(name, _ENDINGS[crash.kind], crash.headline, _where(crash))


def _began(result: CrashesResult) -> Iterator[Finding]:
    for suspect in result.suspects:
        if suspect.blamed:
            what = "update" if suspect.what == "firmware" else suspect.what
            name = "fails-when-plugged-in" if suspect.plugged else f"began-with-{what}"
            yield _finding(name, Phase.KERNEL, f"{suspect.change}: {suspect.says}")


def _patterns(result: CrashesResult) -> Iterator[Finding]:
    for pattern in result.patterns:
        yield _finding(
            pattern.id,
            Phase.POWER if "power-or-heat" in pattern.suspects else Phase.KERNEL,
            pattern.says,
        )


def _loops(result: CrashesResult) -> Iterator[Finding]:
    for loop in result.loops[-1:]:
        yield _finding(
            "loop-regular" if loop.regular else "loop-irregular", Phase.KERNEL, loop.says
        )


def _errors(result: CrashesResult) -> Iterator[Finding]:
    for errors in result.errors:
        if errors.kind in _ERRORS:
            yield _finding(_ERRORS[errors.kind], Phase.POWER, f"{errors.count} x {errors.example}")


def _repairs(result: CrashesResult) -> Iterator[Finding]:
    for attempt in result.repair_attempts[-1:]:
        clean = not attempt.found and not attempt.complained
        where = Where(path=attempt.file)
        yield _finding(
            "repair-found-nothing" if clean else "repair-did-not-help",
            Phase.LOADER,
            attempt.says,
            where,
        )


def _phase(crash: CrashResult) -> Phase:
    return Phase(crash.phase) if crash.phase else Phase.KERNEL


def _where(crash: CrashResult) -> Where:
    return Where(path=crash.file, line=crash.line or None)


def _finding(name: str, phase: Phase, says: str, where: Where | None = None) -> Finding:
    return Finding(
        id=name, phase=phase, severity=Severity.WARNING, says=says, where=where or Where()
    )
