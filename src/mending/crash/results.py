"""What is said of crashes: the records that commands show and print."""

import msgspec

SHADOW = "shadow copy"
"""How the words of a restore point begin that a volume itself keeps."""


class ModuleResult(msgspec.Struct, frozen=True, kw_only=True):
    """A module of a dump that addresses point into.

    Attributes:
        why: which addresses.
        system: whether it is the kernel itself or the layer under it.
        built: date; empty where the dump has none.
    """

    name: str
    why: str
    system: bool
    built: str


class CrashResult(msgspec.Struct, frozen=True, kw_only=True):
    """One crash, with what it means.

    Attributes:
        file: what tells of it; `line` counts from 1, 0 where there are no lines.
        at: RFC 3339; None where the evidence has no clock.
        phase: where the start failed that showed so; empty for a crash of a running system.
        code: a stop code as the screen shows it, and its name; empty for other kinds.
        marks: what is said of the state of the kernel or of the dump, one sentence each.
        modules: of a small dump, the likeliest to be at fault first; `module` is the one that is
            named outright.
        suspects: classes of what is behind it, the usual one first.
        also: where else it is written down.
    """

    file: str
    line: int
    kind: str
    headline: str
    at: str | None = None
    seconds: float | None = None
    uptime_seconds: float | None = None
    code: str = ""
    name: str = ""
    parameters: tuple[str, ...] = ()
    reason: str = ""
    symbol: str = ""
    module: str = ""
    modules: tuple[ModuleResult, ...] = ()
    program: str = ""
    version: str = ""
    taint: str = ""
    marks: tuple[str, ...] = ()
    trace: tuple[str, ...] = ()
    says: str = ""
    phase: str = ""
    suspects: tuple[str, ...] = ()
    also: tuple[str, ...] = ()


class StartResult(msgspec.Struct, frozen=True, kw_only=True):
    """One start. `ended` is `clean unclean by-hand crash running unknown`; `minutes` until the last
    sign of life.
    """

    at: str
    ended: str
    minutes: float
    signed_in: bool
    code: str = ""


class SilentEndResult(msgspec.Struct, frozen=True, kw_only=True):
    """An end without a shutdown and without a crash.

    Attributes:
        last: the last words in the records, and who wrote them; empty where that is not at hand.
        silent_seconds: from them to the next start.
        signs: what was told in the ten minutes before, such as `heat`.
        reset: why the processor began anew, in the words of the next kernel; `watchdog`: whether
            that was a watchdog.
        by_hand: whether somebody held the power key: empty for no, `answered` where the PC still
            did, `hung` where it was silent before, `unknown` where that is not told.
    """

    at: str
    last: str
    silent_seconds: float
    signs: tuple[str, ...]
    reset: str
    watchdog: bool
    by_hand: str
    says: str


class LoopResult(msgspec.Struct, frozen=True, kw_only=True):
    """Starts one after the other of which none came to the sign-in and none ended cleanly.

    Attributes:
        gap_seconds: the middle one of the times between starts.
        spread: of these times, standard deviation divided by mean; `regular` where it is small.
    """

    starts: int
    at: str
    until: str
    gap_seconds: float
    spread: float
    regular: bool
    says: str


class OnsetResult(msgspec.Struct, frozen=True, kw_only=True):
    """When the failing began, between two times. `sure`: how much better a beginning fits the
    records than none.
    """

    from_: str = msgspec.field(name="from")
    to: str
    first_failure: str
    sure: float
    says: str


class SuspectResult(msgspec.Struct, frozen=True, kw_only=True):
    """A change, or a thing that is plugged in, set against the crashes.

    Attributes:
        before_per_hour, after_per_hour: failures for an hour of running before and after the
            change; of a thing that is plugged in, otherwise and within seconds of it.
        ratio: after to before; None where there was no failure before.
        p: chance of so many failures after it if it did nothing, corrected for the number of
            changes looked at.
        near: chance that a failing which began at any time began so soon after one of the changes.
        plugged: whether it is a thing that is plugged in while the PC runs.
        named_by: how many ends name what it brought; `named_of` how many name anything.
        blamed: whether both are small enough to say that it is this one; that a dump names it
            stands for `near`.
    """

    change: str
    what: str
    at: str
    before_per_hour: float
    after_per_hour: float
    ratio: float | None
    p: float
    near: float
    share: float
    blamed: bool
    says: str
    plugged: bool = False
    named_by: int = 0
    named_of: int = 0


class PatternResult(msgspec.Struct, frozen=True, kw_only=True):
    """Something that the crashes have in common, as a number with what it suggests. `p` is None
    where none is told.
    """

    id: str
    says: str
    value: float
    p: float | None
    suspects: tuple[str, ...]


class PointResult(msgspec.Struct, frozen=True, kw_only=True):
    """A restore point set against the onset. `fit` is `before`, `in-doubt` or `after`."""

    id: str
    at: str
    says: str
    fit: str


class RestoreResult(msgspec.Struct, frozen=True, kw_only=True):
    """The point to go back to; `id` is empty where there is none. `undoes` are changes that would
    go with it, and, where a disk keeps the moment itself, what the hives of both tell.
    """

    id: str
    at: str
    why: str
    undoes: tuple[str, ...]


class RepairAttempt(msgspec.Struct, frozen=True, kw_only=True):
    """An automatic repair of the PC's own system, by its log."""

    file: str
    tested: int
    complained: tuple[str, ...]
    found: tuple[str, ...]
    tried: tuple[str, ...]
    says: str


class ErrorsResult(msgspec.Struct, frozen=True, kw_only=True):
    """Errors of one kind that logs tell of."""

    kind: str
    count: int
    first: str
    last: str
    example: str


class CrashesResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="crashes/1"
):
    """What the records of a target tell. `files` were read, `bytes` in all; `notes` say what could
    not be read. `written` is how often the crashes are written down in all files together.
    """

    target: str
    files: tuple[str, ...]
    bytes: int
    crashes: tuple[CrashResult, ...]
    hours: float = 0.0
    starts: tuple[StartResult, ...] = ()
    silent_ends: tuple[SilentEndResult, ...] = ()
    loops: tuple[LoopResult, ...] = ()
    onset: OnsetResult | None = None
    suspects: tuple[SuspectResult, ...] = ()
    patterns: tuple[PatternResult, ...] = ()
    errors: tuple[ErrorsResult, ...] = ()
    restore_points: tuple[PointResult, ...] = ()
    restore_point: RestoreResult | None = None
    repair_attempts: tuple[RepairAttempt, ...] = ()
    notes: tuple[str, ...] = ()
    written: int = 0
