"""The things a person does with a case, one function each. Each checks its words and records one
event.
"""

import hashlib
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from mending.boot.chain import Trace, TreeEnvironment
from mending.case.events import (
    Added,
    AnyEvent,
    Checked,
    Closed,
    HandedOver,
    Heard,
    Home,
    Learned,
    Listed,
    Mended,
    PutBack,
    Read,
    Reopened,
    Saw,
    Started,
    TakenBack,
    Traced,
    Tried,
    attach_outside,
    home_of,
)
from mending.case.folder import Case, record
from mending.case.reasoning import causes_of
from mending.case.state import still_counting
from mending.crash.results import CrashesResult
from mending.crash.screens import SeenCode
from mending.disk.content_kind import HEAD_BYTES, content_kind_of
from mending.knowledge import UNKNOWN, Pack, ReportKind, Sign, Step, WhyNotRun
from mending.model import (
    Hand,
    InputError,
    RefusedError,
    UsageError,
    clean_text,
    load_rapidfuzz,
    quoted,
)
from mending.model.limits import EVIDENCE_BYTES
from mending.reason import ROLES, Statement, read_listing
from mending.source import (
    Identity,
    make_folder,
    open_folder_source,
    open_source,
    read_file,
    write_durably,
)

DISK, FURTHER_DISK, VARIABLES = "disk", "further-disk", "variables"
"""Kinds of evidence that have a meaning of their own."""
_RECORDS = {"records", "text"}
_MOST_HOURS = 1e5
_LISTED = 400
"""Characters of a line of a listing."""
_NEAR = 70.0
"""Similarity (of 100) from which a mistyped word is worth proposing."""


def learn(
    case: Case,
    pack: Pack,
    hand: Hand,
    facts: Mapping[str, str],
    notes: Mapping[str, str],
    shop: Mapping[str, str] = {},
) -> Case:
    """Record facts about the PC, and the fields that a workshop keeps.

    Raises:
        UsageError: an unknown fact or answer.
    """
    return record(case, hand, learned(pack, facts, notes, hand.since, shop))


def learned(
    pack: Pack,
    facts: Mapping[str, str],
    notes: Mapping[str, str],
    at: str,
    shop: Mapping[str, str] = {},
) -> Learned:
    """The event for facts and notes, checked."""
    check_answers(pack.facts, facts, "fact")
    return Learned(
        at=at,
        facts=dict(facts),
        notes={name: clean_text(text) for name, text in notes.items()},
        shop={name: clean_text(text) for name, text in shop.items()},
    )


def saw(
    case: Case,
    pack: Pack,
    hand: Hand,
    signs: Mapping[str, str],
    codes: Sequence[SeenCode] = (),
    facts: Mapping[str, str] = {},
) -> Case:
    """Record signs, codes that a screen showed, and facts that came to light, all or none.

    Raises:
        UsageError: an unknown sign, fact or answer.
    """
    check_answers(pack.signs, signs, "sign")
    events: list[AnyEvent] = []
    if signs or codes:
        events.append(Saw(at=hand.since, signs=dict(signs), codes=tuple(codes)))
    if facts:
        events.append(learned(pack, facts, {}, hand.since))
    return record(case, hand, *events)


def heard(statement: Statement, at: str, about: str = "") -> Heard:
    """The event for what somebody said, with the answers that are sure."""
    sure = statement.sure
    return Heard(
        at=at,
        text=clean_text(statement.text),
        signs={answer.question: answer.answer for answer in sure.signs},
        facts={answer.question: answer.answer for answer in sure.facts},
        codes=statement.codes,
        left=tuple(clean_text(text) for text in statement.left),
        about=about,
        before=tuple(answer.answer for answer in sure.before),
        tried={each.step: each.report for each in sure.tried},
        failed=tuple(each.step for each in sure.tried if each.failed),
    )


def listened(case: Case, hand: Hand, statements: Sequence[Statement]) -> Case:
    """Record what somebody said."""
    return record(case, hand, *(heard(statement, hand.since) for statement in statements))


def listed(
    case: Case, hand: Hand, text: str, chosen: Mapping[str, str] = {}, more: bool = False
) -> Case:
    """Record a listing of volumes, and which of them somebody named for a role.

    Args:
        more: it goes on with the listing before; a volume that is told again is told anew.

    Raises:
        UsageError: it is no listing, or a role or volume is not there; nothing is recorded.
    """
    given = (line for line in text.splitlines() if line.strip())
    lines = tuple(clean_text(line.expandtabs(), _LISTED) for line in given)
    if more:
        told = {volume.name for volume in read_listing("\n".join(lines))}
        known = read_listing("\n".join(case.state.listed)) if case.state.listed else ()
        gone = {volume.line for volume in known if volume.name in told}
        lines = (*(line for line in case.state.listed if line.strip() not in gone), *lines)
    names = {volume.name.upper() for volume in read_listing("\n".join(lines or case.state.listed))}
    for role, name in chosen.items():
        if role not in ROLES:
            raise UsageError(f"There is no role {role!r}.", f"Roles: {', '.join(ROLES)}.")
        if name.upper() not in names:
            raise UsageError(f"{name!r} is no volume of the listing.")
    return record(case, hand, Listed(at=hand.since, lines=lines, more=more, chosen=dict(chosen)))


def named_disk(
    path: str, size: int, at: str, home: Home, key: bytes, disk: "DiskKnown", sort: str = DISK
) -> Added:
    """The event for a disk that a case is opened with. Arguments as of `add_evidence`; home: by
    what the case is known.
    """
    kept = str(Path(path).resolve())
    outside = attach_outside(home, kept, key, disk.identity, disk.lasting)
    return Added(at=at, path=kept, sort=sort, bytes=size, outside=outside)


class DiskKnown(msgspec.Struct, frozen=True):
    """By what a disk that is attached will be known again.

    Attributes:
        lasting: the name that goes with the drive; empty without one.
        same: it is the disk that the case has already.
    """

    identity: Identity
    lasting: str
    same: bool


def evidence_sort(path: str, as_disk: bool = False) -> tuple[str, int]:
    """What a file, device or folder is, by its content, and its bytes.

    A folder holds what UEFI firmware remembers, a file for each variable, or is a mounted system.

    Raises:
        InputError: it cannot be read.
    """
    if Path(path).is_dir():
        return _sort_of_folder(Path(path)), 0
    with open_source(path) as source:
        size, head = source.size, source.read(0, HEAD_BYTES).data
        sort = DISK if as_disk or source.kind == "device" else content_kind_of(head)
    return sort, size


def add_evidence(
    case: Case,
    hand: Hand,
    path: str,
    sort: str,
    size: int,
    key: bytes,
    disk: DiskKnown | None = None,
) -> Case:
    """Attach a file, device or folder. Disks and folders stay where they are, smaller evidence is
    copied. What stays outside of the case is sealed.

    Args:
        sort: and `size`: as `evidence_sort` gives them.
        key: of this machine.
        disk: by what a disk is known again.

    Raises:
        InputError: it cannot be read, or is too large to be kept and no disk.
    """
    if (
        sort in {DISK, FURTHER_DISK}
        or Path(path).is_dir()
        or (size > EVIDENCE_BYTES and sort in _RECORDS)
    ):
        kept = str(Path(path).resolve())
        known = (disk.identity, disk.lasting) if disk is not None else (None, "")
        added = Added(
            at=hand.since,
            path=kept,
            sort=sort,
            bytes=size,
            outside=attach_outside(home_of(case.folder), kept, key, *known),
            same=disk is not None and disk.same,
        )
        return record(case, hand, added)
    if size > EVIDENCE_BYTES:
        raise InputError(
            f"{path} is no disk and has {size} bytes; at most {EVIDENCE_BYTES} are kept in a case."
        )
    data = read_file(Path(path), EVIDENCE_BYTES)
    name = f"{hashlib.sha256(data).hexdigest()[:12]}-{Path(path).name}"
    make_folder(case.folder / "evidence")
    write_durably(case.folder / "evidence" / name, data)
    return record(case, hand, Added(at=hand.since, path=path, sort=sort, bytes=size, copy=name))


def _sort_of_folder(folder: Path) -> str:
    """`variables`, or `disk` for a mounted system.

    Raises:
        InputError: a folder that is neither.
    """
    try:
        from mending.boot.uefi import read_boot_options  # noqa: PLC0415 - lazy: seldom added

        read_boot_options(folder)
    except InputError:
        TreeEnvironment(open_folder_source(str(folder)))
        return DISK
    return VARIABLES


def traced(case: Case, hand: Hand, trace: Trace) -> Case:
    """Record a trace of the case's disk."""
    return record(case, hand, Traced(at=hand.since, trace=trace))


def records_read(
    case: Case, hand: Hand, result: CrashesResult, codes: Sequence[SeenCode] = ()
) -> Case:
    """Record what the crash records of the case show. Args: codes: those that stand for causes."""
    from mending.crash.judge import clues_in  # noqa: PLC0415 - lazy: only after reading records

    return record(
        case,
        hand,
        Read(at=hand.since, files=result.files, clues=clues_in(result), codes=tuple(codes)),
    )


def tried(
    case: Case,
    pack: Pack,
    hand: Hand,
    step: str,
    report: ReportKind,
    codes: Sequence[str] = (),
    note: str = "",
    why: WhyNotRun | None = None,
) -> Case:
    """Record what a step reported.

    Args:
        why: it could not be run.

    Raises:
        UsageError: an unknown step, or a report that does not fit it.
    """
    if step not in pack.steps:
        raise UsageError(
            f"There is no step called {step!r}.{_meant(step, list(pack.steps))}",
            "See: mending plan CASE",
        )
    _check_report(pack.steps[step], report, why)
    kept = tuple(clean_text(code) for code in codes)
    return record(
        case,
        hand,
        Tried(at=hand.since, step=step, report=report, codes=kept, note=clean_text(note), why=why),
    )


def _check_report(step: Step, report: ReportKind, why: WhyNotRun | None) -> None:
    if why is not None and report is not ReportKind.NOT_RUN:
        raise UsageError("Only what could not be run has a reason for that.")
    no_test = report is ReportKind.FOUND and not step.finds
    no_change = report in {ReportKind.MENDED, ReportKind.DONE} and not step.fixes and step.finds
    if no_test or no_change:
        fitting = ", ".join(step.fitting)
        raise UsageError(f"{step.id} does not report {report}.", f"It may report: {fitting}.")


def taken_back(case: Case, hand: Hand, step: str | None = None) -> Case:
    """Record that the newest report of a step was wrong; without a step, the newest test start.

    Raises:
        UsageError: there is none.
        RefusedError: it was one of our repairs, which is undone.
    """
    if step is None and not case.state.starts:
        raise UsageError("No test start is recorded in this case.")
    if step is not None and all(attempt.step != step for attempt in case.state.tried):
        known = [attempt.step for attempt in case.state.tried]
        raise UsageError(f"{step} was not tried in this case.{_meant(step, known)}")
    counting = still_counting(case.events)
    entry = next(
        number for number in reversed(counting) if _is_start_or_step(case.events[number], step)
    )
    return entry_taken_back(case, hand, entry)


def _is_start_or_step(event: AnyEvent, step: str | None) -> bool:
    if step is None:
        return isinstance(event, Started)
    return isinstance(event, Tried) and event.step == step


def entry_taken_back(case: Case, hand: Hand, entry: int) -> Case:
    """Record that one event of the record was wrong.

    Raises:
        RefusedError: it was one of our repairs, which is undone.
    """
    event = case.events[entry]
    if isinstance(event, Tried) and event.undo_point is not None:
        raise RefusedError(
            f"{event.step} was written to the disk; it is not taken back here.",
            f"Undo it: mending undo {quoted(case.folder)}",
        )
    return record(case, hand, TakenBack(at=hand.since, entry=entry))


def started(
    case: Case,
    hand: Hand,
    works: bool,
    note: str = "",
    watch: bool = False,
    hours: float | None = None,
) -> Case:
    """Record a test start.

    Args:
        watch: it starts and is under watch; `works` is false then.
        hours: how long it ran before it failed, or has run so far under watch.

    Raises:
        UsageError: hours that are not above 0, or of a PC that works.
    """
    if hours is not None and (works or not 0 < hours < _MOST_HOURS):
        raise UsageError("Hours, above 0, go with `no` and with `watch`.")
    event = Started(at=hand.since, works=works, note=clean_text(note), watch=watch, hours=hours)
    return record(case, hand, event)


def mended(
    case: Case,
    pack: Pack,
    hand: Hand,
    repair: str,
    undo_point: str,
    trace: Trace,
    identity: Identity | None = None,
) -> Case:
    """Record one of our repairs, the step it stands for, and the trace after it, in one go.

    Args:
        identity: what the disk is known by since.
    """
    step = next((step.id for step in pack.steps.values() if step.repair == repair), None)
    done = (
        [Tried(at=hand.since, step=step, report=ReportKind.MENDED, undo_point=undo_point)]
        if step
        else []
    )
    event = Mended(at=hand.since, repair=repair, undo_point=undo_point, identity=identity)
    return record(case, hand, event, *done, Traced(at=hand.since, trace=trace))


def put_back(
    case: Case, hand: Hand, undo_point: str, trace: Trace, identity: Identity | None = None
) -> Case:
    """Record that a repair was undone, and the trace after it. Arguments as of `mended`."""
    return record(
        case,
        hand,
        PutBack(at=hand.since, undo_point=undo_point, identity=identity),
        Traced(at=hand.since, trace=trace),
    )


def check_answers(known: Mapping[str, Sign], given: Mapping[str, str], what: str) -> None:
    """Raise UsageError for a name or an answer that is not known, with the nearest one that is."""
    for name, answer in given.items():
        if name not in known:
            raise UsageError(
                f"There is no {what} called {name!r}.{_meant(name, list(known))}",
                "See: mending signs",
            )
        answers = [*known[name].answers, UNKNOWN]
        if answer not in answers:
            says = f"{answer!r} is no answer to {name}.{_meant(answer, answers)}"
            raise UsageError(says, f"Answers: {', '.join(answers)}.")


def _meant(word: str, known: Sequence[str]) -> str:
    match = load_rapidfuzz().process.extractOne(word, known, score_cutoff=_NEAR)
    return f" Did you mean {match[0]}?" if match else ""


# The end of a case: what was wrong, what mended it, and that nothing temporary was left behind.


DONE = "done"
"""Said of a temporary setting that was put back."""
COLD, CAUSE, FIX, MINUTES = "cold", "cause", "fix", "minutes"
"""What is settled on the way to closing, beside what has to be put back."""


def put_back_key(step: str) -> str:
    """Under which name it is settled what a step changed for a time."""
    return f"put-back {step}"


def to_put_back(case: Case, pack: Pack) -> dict[str, str]:
    """By step what has to be put back, of all that was really done."""
    done = [
        pack.steps[attempt.step]
        for attempt in case.state.tried
        if attempt.step in pack.steps and attempt.report is not ReportKind.NOT_RUN
    ]
    return {step.id: step.put_back for step in done if step.put_back}


def closed(
    case: Case,
    pack: Pack,
    hand: Hand,
    cause: str,
    fix: str,
    put_back: Mapping[str, str],
    minutes: float | None = None,
    elsewhere: bool = False,
) -> Case:
    """Record the end of a case.

    Args:
        cause: the id of a cause, or somebody's own words.
        fix: the id of a step, or somebody's own words.
        put_back: for every step with something to put back `done`, or why it stays.
        minutes: of work, all in all.
        elsewhere: the fix was done by somebody else, or is not recorded.

    Raises:
        RefusedError: the newest test start did not say that the PC works, or the fix was never
            tried.
        UsageError: something that is to be put back was not spoken of.
    """
    if not case.state.works:
        raise RefusedError(
            "The newest test start does not say that it works.",
            "Start it from cold, sign in, try what failed:"
            f" mending started {quoted(case.folder)} yes",
        )
    open_ones = [step for step in to_put_back(case, pack) if not put_back.get(step)]
    if open_ones:
        raise UsageError(
            f"To be put back first: {', '.join(open_ones)}.",
            "Say STEP=done, or why it stays: --put-back STEP=WHY",
        )
    for name, text in (("cause", cause), ("fix", fix)):
        if not text.strip():
            raise UsageError(f"What was the {name}?", f"Name it: --{name}")
    done = {
        each.step
        for each in case.state.tried
        if each.report is not ReportKind.NOT_RUN and not each.told
    }
    if fix in pack.steps and fix not in done and not elsewhere:
        raise RefusedError(
            f"{fix} was not tried in this case.",
            "Name what was, or say that it was done elsewhere: --elsewhere",
        )
    said = {step: clean_text(text) for step, text in put_back.items()}
    event = Closed(
        at=hand.since,
        cause=clean_text(cause),
        fix=clean_text(fix),
        put_back=said,
        minutes=minutes,
    )
    return record(case, hand, event)


def checked(case: Case, hand: Hand, said: Mapping[str, str]) -> Case:
    """Record what is settled already on the way to closing, by subject."""
    events = [
        Checked(at=hand.since, about=about, says=clean_text(words)) for about, words in said.items()
    ]
    return record(case, hand, *events)


def handed_over(case: Case, pack: Pack, hand: Hand, to: str, cause: str | None = None) -> Case:
    """Record that somebody else goes on.

    Args:
        cause: what is held to be wrong; None: the likeliest.

    Raises:
        UsageError: nobody was named.
    """
    if not to.strip():
        raise UsageError("To whom is it handed over?", "Name them: --handed-over TO")
    ranked = causes_of(case.state, pack).causes
    held = cause or (ranked[0].id if ranked else "")
    event = HandedOver(at=hand.since, to=clean_text(to), cause=clean_text(held))
    return record(case, hand, event)


def reopened(case: Case, hand: Hand) -> Case:
    """Record that work goes on.

    Raises:
        RefusedError: the case is neither closed nor handed over.
    """
    if case.state.closed is None and case.state.handed_over is None:
        raise RefusedError("The case is open.")
    return record(case, hand, Reopened(at=hand.since))
