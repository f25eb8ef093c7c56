"""Keeping a healthy copy of a PC that starts."""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from mending.app.opening import opened_target
from mending.app.targets import NamedTarget
from mending.app.tracing import keep_no_memory
from mending.boot.chain import Trace
from mending.boot.trace import open_environment, trace_environment
from mending.disk.healthy import HealthyIndex, identifiers_of, load_copy, save_copy
from mending.disk.locked import GivenKey, key_ring
from mending.disk.system import private_files
from mending.model import RefusedError, Verdict
from mending.repair.healthy import changed_parts, collect
from mending.source import Output

_SECRET_HIVES = ("sam", "security", "software", "system")
"""Hives that hold what accounts and services keep secret."""


class KeepResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="keep/1"):
    """What was kept, and where. `files` are those whose content is in the copy; `sums` those of
    which only the sum is; `left_out` says what is in it neither way, or only by its sum. `private`
    are the files in it that hold secrets: it needs them, and is not for sending.
    """

    copy: str
    target: str
    verdict: str
    ranges: int
    files: int
    sums: int
    bytes: int
    copy_bytes: int
    left_out: tuple[str, ...]
    private: tuple[str, ...] = ()


def keep(
    target: NamedTarget,
    out: Output,
    at: str,
    *,
    anyway: bool = False,
    sector: int | None = None,
    secret: GivenKey | None = None,
) -> KeepResult:
    """Save what starts a PC.

    Args:
        anyway: also where its start ends somewhere.
        secret: what opens locked volumes; it is kept nowhere.

    Raises:
        RefusedError: a folder, or a PC that does not start.
        InputError: the copy cannot be written.
    """
    if secret is not None:
        keep_no_memory()
    with opened_target(target.path, sector) as source:
        environment = open_environment(source, key_ring(secret))
        trace = trace_environment(source, environment, target.firmware, target.boot_options)
        if trace.verdict is Verdict.FAILS and not anyway:
            raise RefusedError(
                f"This PC is not healthy: its start ends at {trace.failing_phase}.",
                "Mend it first; --anyway keeps it as it is.",
            )
        disk, left_out = environment.disk, list[str]()
        if disk is None:
            raise RefusedError(
                "A healthy copy is made of a disk and not of a folder.",
                "Name the image or the device.",
            )
        ranges, files = collect(environment, left_out)
        index = HealthyIndex(
            made=at,
            path=target.path,
            bytes=disk.source.size,
            sector=disk.source.bytes_per_sector,
            serial=disk.source.serial,
            firmware=trace.firmware,
            verdict=trace.verdict,
            identifiers=identifiers_of(disk),
            ranges=(),
            files=(),
        )
        whole = save_copy(out, index, ranges, files, left_out)
    return _kept(whole, out, left_out)


def _kept(whole: HealthyIndex, out: Output, left_out: Sequence[str]) -> KeepResult:
    """What a copy holds."""
    kept = [file for file in whole.files if file.kept]
    return KeepResult(
        copy=str(out.path),
        target=whole.path,
        verdict=whole.verdict,
        ranges=len(whole.ranges),
        files=len(kept),
        sums=len(whole.files) - len(kept),
        bytes=sum(kept.length for kept in whole.ranges) + sum(file.bytes for file in kept),
        copy_bytes=out.path.stat().st_size,
        left_out=tuple(left_out),
        private=tuple(file.path for file in kept if _is_private(file.path)),
    )


def _is_private(path: str) -> bool:
    """Whether a file of a system may hold secrets."""
    name = path.casefold().lstrip("/")
    return name in private_files() or name.endswith(tuple(f"/{hive}" for hive in _SECRET_HIVES))


def trace_against(trace: Trace, target: NamedTarget, copy: Path, sector: int | None) -> Trace:
    """A trace with what a healthy copy has otherwise.

    Raises:
        InputError: it is none.
    """
    opened = load_copy(copy)
    with opened_target(target.path, sector) as source:
        changed = tuple(changed_parts(opened.index, open_environment(source)))
    return msgspec.structs.replace(trace, against=changed)
