"""Tracing a target, and letting its case remember it."""

from mending.app.host import Host
from mending.app.targets import NamedTarget, opened_target
from mending.boot.chain import Trace
from mending.boot.trace import trace_target


def trace(
    target: NamedTarget, host: Host, sector: int | None = None, firmware: str | None = None
) -> Trace:
    """Which phase of starting fails.

    Raises:
        InputError
    """
    with opened_target(target.path, sector) as source:
        found = trace_target(source, firmware or target.firmware, target.boot_options)
    if target.case is not None and target.case.state.closed is None:
        from mending.case import traced  # noqa: PLC0415 - lazy: a bare disk has no case

        target.case = traced(target.case, host.hand, found)
    return found
