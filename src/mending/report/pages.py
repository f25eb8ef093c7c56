"""The report for the next technician: everything, as found and as it is now."""

import re
from collections.abc import Sequence
from datetime import tzinfo
from itertools import groupby

import msgspec

from mending.boot.chain import Trace
from mending.boot.rehearse import MEANINGS
from mending.case import CaseResult
from mending.case.events import Rehearsed
from mending.case.folder import GONE
from mending.case.reasoning import Turn
from mending.crash.results import CrashesResult, CrashResult
from mending.knowledge import HowTo, Pack, ReportKind, Step
from mending.model import Finding, Place, Risk, Where
from mending.plan import PlanResult
from mending.reason import CausesResult
from mending.repair.journal import PointsResult
from mending.report.document import (
    Block,
    HandOver,
    Ladder,
    Pairs,
    Paragraph,
    Picture,
    Rungs,
    Screen,
    Section,
    Table,
    mapped,
    written,
    zone_name,
)

# What a report is made of, and the few words that its parts share.


class Pictures(msgspec.Struct, frozen=True, kw_only=True):
    """Drawings, SVG; empty where there is none."""

    disk: str = ""
    timeline: str = ""
    causes: str = ""
    plan: str = ""


class Material(msgspec.Struct, frozen=True, kw_only=True):
    """Everything a report is made of.

    Attributes:
        found: the trace as the disk was found. trace: as it is now.
        rehearsals: runs of the disk's own boot code, with words for the time of each.
        put_back: by step what has to be put back.
        cards: how the steps of the plan are done.
        made: RFC 3339. zone: of all times; None: this machine's.
    """

    case: CaseResult
    pack: Pack
    found: Trace | None
    trace: Trace | None
    rehearsals: Sequence[tuple[str, Rehearsed]] = ()
    crashes: CrashesResult | None = None
    causes: CausesResult
    turns: Sequence[Turn] = ()
    plan: PlanResult
    points: PointsResult
    put_back: dict[str, str]
    cards: Sequence[HowTo] = ()
    pictures: Pictures = Pictures()
    made: str
    zone: tzinfo | None = None


def mended_findings(given: Material) -> list[Finding]:
    """What kept the disk from starting when it was found, and does not any more after repairs of
    ours.
    """
    found, now = given.found, given.trace
    if found is None or now is None or not given.case.undo_points:
        return []
    left = {(finding.id, finding.where) for finding in now.fatal}
    return [finding for finding in found.fatal if (finding.id, finding.where) not in left]


def section(title: str, *blocks: Block) -> Section:
    """A part of a report."""
    return Section(title, tuple(blocks))


def at_place(says: str, where: Where) -> str:
    """A sentence with where it was read."""
    place = place_of(where)
    return f"{says} [{place}]" if place else says


def place_of(where: Where) -> str:
    """Where something was read, in words."""
    parts = [where.path or "", f"offset {where.offset}" if where.offset is not None else ""]
    parts += [f"line {where.line}" if where.line else ""]
    parts += [f"{where.length} bytes" if where.length else "", where.hex or ""]
    return ", ".join(part for part in parts if part)


def words_of(name: str) -> str:
    """An id as words."""
    return str(name).replace("-", " ")


# Crashes in a report: by kind, not one row each.


_SUSPECTS_SHOWN = 5


def crash_blocks(given: Material, *, for_maker: bool = False) -> list[Block]:
    """What the crash records tell. Args: for_maker: without what is judged from them."""
    crashes = given.crashes
    if crashes is None:
        return []
    told = f"{len(crashes.crashes)} written down in {len(crashes.files)} files"
    if crashes.starts:
        told += f"; {len(crashes.starts)} starts in {crashes.hours:.0f} hours of running"
    says = [f"{told}."]
    if crashes.onset is not None:
        first, last = crashes.onset.from_, crashes.onset.to
        span = f"between {written(first, given.zone)} and {written(last, given.zone)}"
        says.append(f"Failing began {span}: {crashes.onset.says}.")
    says += [f"From {written(each.at, given.zone)}: {each.says}." for each in crashes.loops]
    says += [f"{words_of(each.id)}: {each.says}." for each in crashes.patterns]
    blocks: list[Block] = [Paragraph(" ".join(says))]
    if given.pictures.timeline:
        drawn = "Starts, failures, changes and restore points by day."
        blocks.append(Picture(given.pictures.timeline, drawn))
    if crashes.crashes:
        heads = ("crash", "means", "in", "times", "first", "last")
        blocks.append(Table(heads, _by_kind(crashes.crashes, given.zone), (3,)))
    if crashes.suspects and not for_maker:
        blocks.append(_suspects(crashes, given.zone))
    if crashes.restore_point is not None and not for_maker:
        point = crashes.restore_point
        when = written(point.at, given.zone)
        blocks.append(Paragraph(f"Go back to: {point.id or 'none'} {when}: {point.why}."))
    blocks += [
        Paragraph(f"{attempt.says} {'; '.join(attempt.found)}")
        for attempt in crashes.repair_attempts
    ]
    return blocks


def _by_kind(crashes: Sequence[CrashResult], zone: tzinfo | None) -> tuple[tuple[str, ...], ...]:
    """One row for crashes of one kind, the most frequent first."""

    def kind(crash: CrashResult) -> tuple[str, str, str]:
        return (crash.kind, crash.code or crash.headline, crash.name)

    rows = []
    for (sort, headline, name), group in groupby(sorted(crashes, key=kind), kind):
        same = list(group)
        times = sorted(crash.at for crash in same if crash.at)
        named = dict.fromkeys(crash.module or crash.symbol for crash in same)
        label = "stop code" if sort == "stop-code" else words_of(sort)
        first, last = (times[0], times[-1]) if times else ("", "")
        where = ", ".join(each for each in named if each)
        row = (f"{label} {headline} {name}".strip(), same[0].says, where, str(len(same)))
        rows.append((*row, written(first, zone), written(last, zone)))
    return tuple(sorted(rows, key=lambda row: -int(row[3])))


def _suspects(crashes: CrashesResult, zone: tzinfo | None) -> Table:
    rows = tuple(
        (
            suspect.change,
            written(suspect.at, zone),
            f"{suspect.before_per_hour:.3g}",
            f"{suspect.after_per_hour:.3g}",
            f"{suspect.p:.2g}",
            "can be blamed" if suspect.blamed else "",
        )
        for suspect in crashes.suspects[:_SUSPECTS_SHOWN]
    )
    heads = ("change", "when", "before, per hour", "after, per hour", "by chance", "judged")
    return Table(heads, rows, (2, 3, 4))


# The reports for those who do not work on it: the user in plain words, and the maker's support
# with what it asks for.


_WORKED = {ReportKind.MENDED, ReportKind.DONE}
_MACHINE = ("maker", "model", "serial")


def for_user(given: Material) -> list[Section]:
    """What was wrong, what was done, what they should know: a paragraph each."""
    return [
        section("What was wrong", Paragraph(_wrong(given))),
        section("What was done", Paragraph(_done(given))),
        section("What you should know now", Paragraph(" ".join(_to_know(given)))),
    ]


def _wrong(given: Material) -> str:
    case, causes = given.case, given.pack.causes
    told = case.closed.cause if case.closed is not None else ""
    if case.handed_over is not None:
        told = case.handed_over.cause
    likely = given.causes.causes[0] if given.causes.causes else None
    if told in causes:
        words = causes[told]
        return words.was or words.says if case.closed is not None else f"Most likely: {words.says}"
    if told:
        return f"{told.rstrip('.')}."
    if (likely is None or likely.chance < 0.5) and mended_findings(given):
        return f"On the disk: {mended_findings(given)[0].says}"
    if likely is None or likely.chance < 0.5:
        return "That is not settled yet."
    if case.works:
        return f"Most likely: {causes[likely.id].was or likely.says}"
    return f"Most likely: {likely.says}"


def _done(given: Material) -> str:
    steps = [
        given.pack.steps[attempt.step].done or given.pack.steps[attempt.step].does
        for attempt in given.case.tried
        if attempt.report in _WORKED and attempt.step in given.pack.steps
    ]
    if not steps:
        return "Nothing was changed on the PC."
    return " ".join(dict.fromkeys(steps))


def _to_know(given: Material) -> list[str]:
    case, told = given.case, list[str]()
    done = [given.pack.steps[each.step] for each in case.tried if each.step in given.pack.steps]
    if case.closed is None and not case.works:
        told.append("The PC does not work yet; please leave it as it is.")
    mended = [
        given.pack.steps[each.step]
        for each in case.tried
        if each.report in _WORKED and each.step in given.pack.steps
    ]
    own = {Place.OWN_STICK} if case.facts.get("own-stick") == "yes" else set()
    if any({Place.RESCUE_STICK, *own} & {step.place, *step.also} for step in done):
        told.append("Take the stick out before you switch it on, or it starts from the stick.")
    changed = any(step.repair is not None or step.stakes is not Risk.NOTHING for step in mended)
    if changed and (case.works or case.closed is not None):
        told.append("The first start may be slow; please do not cut the power.")
    back = case.closed.put_back if case.closed is not None else {}
    for step, words in given.put_back.items():
        says = back.get(step, "")
        if says and says != "done":
            told.append(f"This stays changed on purpose: {words} ({says}).")
        elif not says:
            told.append(f"Still to be put back: {words}.")
    if back and all(says == "done" for says in back.values()):
        told.append("Everything that was changed for a time is put back.")
    if case.facts.get("encrypted") == "yes":
        told.append("Keep the recovery key of the drive at hand: it may be asked for once.")
    if case.facts.get("backup") == "no":
        told.append("There is no recent copy of your files; please make one.")
    return told or ["Nothing special."]


def for_maker(given: Material) -> list[Section]:
    """Machine, codes, tests, what was tried, crashes."""
    return [
        section("Machine", _machine(given)),
        section("Codes, word for word", *_codes(given)),
        section("Tests and their results", *_tests(given)),
        section("What was tried", *_tried(given)),
        section("Crashes", *crash_blocks(given, for_maker=True)),
    ]


def _machine(given: Material) -> Pairs:
    case = given.case
    rows = [(name, case.shop[name]) for name in _MACHINE if name in case.shop]
    asked = ("form", "family", "firmware", "age")
    rows += [(name, words_of(case.facts[name])) for name in asked if name in case.facts]
    if given.trace is not None:
        rows.append(("disk", f"{given.trace.target.bytes} bytes, {given.trace.table}"))
        rows += [("system", system.title) for system in given.trace.systems if system.title]
    rows += [(f"seen: {words_of(name)}", words_of(answer)) for name, answer in case.seen.items()]
    return Pairs(tuple(rows))


def _codes(given: Material) -> list[Block]:
    rows = [("seen on the screen", code) for code in given.case.codes]
    for attempt in given.case.tried:
        rows += [(attempt.step, code) for code in attempt.codes]
    return [Table(("from", "code"), tuple(rows))] if rows else []


def _tests(given: Material) -> list[Block]:
    rows = []
    for attempt in given.case.tried:
        step = given.pack.steps.get(attempt.step)
        if step is not None and _is_test(step):
            when = written(attempt.at, given.zone)
            codes = " ".join(attempt.codes)
            rows.append((when, step.does, words_of(attempt.report), codes))
    return [Table(("when", "test", "result", "codes"), tuple(rows))] if rows else []


def _tried(given: Material) -> list[Block]:
    """Everything but tests that was tried, with what it reported; then the test starts."""
    rows = []
    for attempt in given.case.tried:
        step = given.pack.steps.get(attempt.step)
        if step is not None and not _is_test(step):
            rows.append((attempt.at, step.does, words_of(attempt.report)))
    for start in given.case.starts:
        result = "it starts" if start.works else "it does not start"
        rows.append((start.at, "Test start", result))
    shown = tuple((written(at, given.zone), step, told) for at, step, told in sorted(rows))
    return [Table(("when", "step", "result"), shown)] if rows else []


def _is_test(step: Step) -> bool:
    return bool(step.finds) or step.place is Place.MAKER_TESTS


# How the steps of a plan are done, as parts of a report: one section for each step.


def how_it_is_done(given: Material) -> list[Section]:
    """A section for each step of the plan, none once the PC works."""
    if given.case.works or given.case.closed is not None:
        return []
    return [section(f"How: {card.step}", *_card(card)) for card in given.cards]


def _card(card: HowTo) -> list[Block]:
    blocks: list[Block] = [Paragraph(f"{card.does} {card.how}"), Paragraph(card.stands)]
    if card.command:
        blocks.append(Paragraph(f"Mending does it, with the disk on the bench: {card.command}"))
    blocks += [
        Screen(own.lines, f"In the shop's own words{f' ({own.about})' if own.about else ''}")
        for own in card.own
    ]
    parts = tuple((str(number), part) for number, part in enumerate(card.do, 1))
    blocks.append(Table(("", "part"), parts, (0,)))
    rows = [("asked", each) for each in card.asks]
    rows += [("normal", card.normal)] if card.normal else []
    rows.append(("minutes", f"the end comes after {card.earliest:g} to {card.latest:g}"))
    rows += [("careful", card.keep)] if card.keep else []
    rows += [("if refused", card.refused)] if card.refused else []
    rows.append(("it worked if", card.tells))
    rows += [(f"then, {report}", says) for report, says in card.then.items()]
    rows += [("to undo it", card.undone)] if card.undone else []
    return [*blocks, Pairs(tuple(rows))]


AS_FOUND, AS_IT_IS = "As found", "As it is now"
_CAUSES_SHOWN, VISITS_SHOWN = 6, 4


def for_technician(given: Material) -> list[Section]:
    """All parts, in the order of the work."""
    return [
        section("Taken in", _taken_in(given)),
        section("The phases of starting", *_ladders(given)),
        section("Boot code, rehearsed", *_rehearsed(given)),
        section("Findings", *_findings(given)),
        section("Disk", *_disk(given)),
        section("Crashes", *crash_blocks(given)),
        section("Causes", *_causes(given)),
        section("Tried, and what it reported", _for_technician_tried(given)),
        section("Put back", *_put_back(given)),
        section("Next steps", *_plan(given)),
        *how_it_is_done(given),
        section("Closed", *_closed(given)),
        section("Undo points", _points(given)),
    ]


def _taken_in(given: Material) -> Pairs:
    case = given.case
    rows = [("opened", written(case.opened, given.zone))]
    rows += list(case.shop.items())
    rows += [(words_of(name), words_of(answer)) for name, answer in case.facts.items()]
    rows += [(f"seen: {words_of(name)}", words_of(answer)) for name, answer in case.seen.items()]
    told = {said.text for said in case.said}
    rows += [(name, f"“{words}”") for name, words in case.notes.items() if words not in told]
    rows += [("seen: code", code) for code in case.codes]
    for said in case.said:
        understood = ", ".join(
            f"{words_of(name)} = {words_of(answer)}" for name, answer in said.understood.items()
        )
        left = f" (not understood: {'; '.join(said.left)})" if said.left else ""
        rows.append(("said", f"“{said.text}” understood: {understood or 'nothing'}{left}"))
    rows += [
        ("note", f"{note.text}{f' ({note.about})' if note.about else ''}") for note in case.remarks
    ]
    if given.trace is not None:
        target = given.trace.target
        name = target.path.rsplit("/", 1)[-1]
        rows.append(
            (
                "disk",
                f"{name}, {target.bytes} bytes, {target.sector} a sector, {given.trace.scheme}"
                f" table, {given.trace.firmware} firmware",
            )
        )
    return Pairs(tuple(rows))


def _ladders(given: Material) -> list[Block]:
    looks = []
    if given.found is not None and given.found != given.trace:
        looks.append((given.found, AS_FOUND))
    if given.trace is not None:
        looks.append((given.trace, AS_IT_IS if looks else AS_FOUND))
    if not looks:
        return []
    states = [{phase.id: words_of(phase.state) for phase in trace.phases} for trace, _ in looks]
    rows = tuple(
        (words_of(phase), tuple(each.get(phase, "") for each in states)) for phase in states[0]
    )
    rungs = Rungs(tuple(title for _, title in looks), rows)
    return [rungs, *(_ladder(trace, title) for trace, title in looks)]


def _rehearsed(given: Material) -> list[Block]:
    return [
        Screen(
            run.screen or ("(nothing)",),
            f"{when}: {MEANINGS.get(run.stopped, run.stopped)};"
            f" {'a boot sector' if run.started_volume else 'no boot sector'} was started",
        )
        for when, run in given.rehearsals
    ]


def _ladder(trace: Trace, title: str) -> Ladder:
    rows = []
    for phase in trace.phases:
        checks = [check for check in trace.checks if check.phase is phase.id]
        says = tuple(at_place(check.says, check.where) for check in checks)
        rows.append((words_of(phase.id), words_of(phase.state), says))
    return Ladder(title, tuple(rows))


def _findings(given: Material) -> list[Block]:
    if given.found is None or given.trace is None:
        return []
    now = set(given.trace.findings)
    rows = [_finding(each, "" if each in now else "gone") for each in given.found.findings]
    rows += [
        _finding(each, "new") for each in given.trace.findings if each not in given.found.findings
    ]
    if not rows:
        return [Paragraph("Nothing was found.")]
    return [Table(("severity", "phase", "what was found", "where", "repair", "now"), tuple(rows))]


def _finding(found: Finding, now: str) -> tuple[str, ...]:
    repairs = ", ".join(found.repairs)
    place = place_of(found.where)
    return (found.severity, words_of(found.phase), found.says, place, repairs, now or "still there")


def _disk(given: Material) -> list[Block]:
    if given.trace is None:
        return []
    blocks: list[Block] = []
    if given.pictures.disk:
        says = "The disk to scale: partition table, volumes and free space."
        blocks.append(Picture(given.pictures.disk, says))
    rows = tuple(
        (
            f"{volume.number}{' (active)' if volume.active else ''}",
            str(volume.start),
            str(volume.bytes),
            volume.type,
            volume.filesystem,
            volume.label,
            words_of(volume.role),
        )
        for volume in given.trace.volumes
    )
    heads = ("number", "first sector", "bytes", "type", "file system", "label", "role")
    return [*blocks, Table(heads, rows, (0, 1, 2))] if rows else blocks


def _causes(given: Material) -> list[Block]:
    shown = [cause for cause in given.causes.causes if cause.chance >= 0.01][:_CAUSES_SHOWN]
    rows = tuple(
        (
            f"{cause.chance:.0%}",
            f"{cause.id}: {cause.says}",
            "; ".join(f"{each.weight:+.1f} {each.evidence}" for each in cause.for_[:4]),
            "; ".join(f"{each.weight:+.1f} {each.evidence}" for each in cause.against[:3]),
        )
        for cause in shown
    )
    blocks: list[Block] = [Table(("chance", "cause", "for it", "against it"), rows, (0,))]
    if given.pictures.causes:
        says = "The causes by their chance, and what was believed after each piece of evidence."
        blocks.append(Picture(given.pictures.causes, says))
    turned = tuple(
        (
            written(turn.at, given.zone),
            turn.what,
            ", ".join(f"{cause} {chance:.0%}" for cause, chance in turn.causes),
        )
        for turn in given.turns
    )
    if turned:
        blocks.append(Table(("when", "evidence", "likeliest after it"), turned))
    rest = f"{given.causes.something_else:.0%} something that the knowledge does not explain."
    return [*blocks, Paragraph(rest)] if rows else []


def _for_technician_tried(given: Material) -> Block:
    case = given.case
    events = [
        (each.at, each.step, words_of(each.report), " ".join([*each.codes, each.note]).strip())
        for each in case.tried
    ]
    events += [(start.at, "test start", start.says, "") for start in case.starts]
    if not events:
        return Paragraph("Nothing yet.")
    rows = tuple((written(at, given.zone), *rest) for at, *rest in sorted(events))
    return Table(("when", "step", "report", "codes and notes"), rows)


def _put_back(given: Material) -> list[Block]:
    said = given.case.closed.put_back if given.case.closed is not None else {}
    rows = tuple((step, words, said.get(step, "open")) for step, words in given.put_back.items())
    return [Table(("step", "what is to be put back", "stands"), rows)] if rows else []


def _plan(given: Material) -> list[Block]:
    if given.case.works or given.case.closed is not None:
        return []
    visits = given.plan.visits[:VISITS_SHOWN]
    if not visits:
        return [Paragraph("Nothing is planned: hand over.")]
    rows = tuple(
        (
            words_of(visit.place),
            f"{step.id}: {step.does}",
            f"{step.minutes:g}",
            f"{step.chance:.0%}",
            step.stakes.value,
            step.why,
        )
        for visit in visits
        for step in visit.steps
    )
    heads = ("place", "step", "minutes", "chance", "at stake", "why")
    blocks: list[Block] = [Table(heads, rows, (2, 3))]
    if given.pictures.plan:
        blocks.append(Picture(given.pictures.plan, "The chance of a working PC against minutes."))
    later = len(given.plan.visits) - len(visits)
    chances = ", ".join(
        f"{chance:.0%} by {minutes} min" for minutes, chance in given.plan.chance_by.items()
    )
    more = f"{later} more visits follow. " if later else ""
    return [*blocks, Paragraph(f"{more}Chance that it works: {chances}.")]


def _closed(given: Material) -> list[Block]:
    closed, handed = given.case.closed, given.case.handed_over
    if handed is not None:
        when = written(handed.at, given.zone)
        return [Paragraph(f"Handed over to {handed.to}, {when}. Held to be wrong: {handed.cause}.")]
    if closed is None:
        return []
    minutes = f" {closed.minutes:g} minutes of work." if closed.minutes is not None else ""
    when = written(closed.at, given.zone)
    return [Paragraph(f"{when}: {closed.cause}, put right by {closed.fix}.{minutes}")]


def _points(given: Material) -> Block:
    points = given.points.points
    if not points:
        return Paragraph("None: nothing has been written to the disk.")
    rows = tuple(
        (point.id, point.repair, str(point.bytes), point.state, written(point.made, given.zone))
        for point in points
    )
    return Table(("undo point", "repair", "bytes kept", "state", "made"), rows, (2,))


# What each reader of a report has to know: the user, the next technician, the maker's support.


READERS = ("technician", "user", "maker")
"""Whom a report is for."""
STEPS = "steps"
"""A report of nothing but how the steps of the plan are done."""
_PARTS = {
    "technician": for_technician,
    "user": for_user,
    "maker": for_maker,
    STEPS: how_it_is_done,
}


def hand_over(given: Material, reader: str) -> HandOver:
    """The report for one of the `READERS`, or `STEPS`."""
    return HandOver(
        reader=reader,
        case=given.case.name,
        verdict=_verdict(given),
        made=written(given.made, given.zone),
        zone=zone_name(given.made, given.zone),
        sections=tuple(section for section in _PARTS[reader](given) if section.blocks),
    )


def _verdict(given: Material) -> str:
    case, mended = given.case, _mended(given)
    if case.closed is not None:
        return f"The PC works again; the case is closed.{mended}"
    if case.handed_over is not None:
        return f"Not started yet; {case.handed_over.to} goes on with it."
    if case.works:
        return f"The PC starts again.{mended}"
    if case.watched is not None:
        return f"The PC starts, under watch: {case.watched.hours:g} hours so far."
    if given.trace is None:
        return "Not started yet; no disk has been looked at."
    if given.trace.failing_phase is not None:
        stops = f"The disk stops at: {words_of(given.trace.failing_phase)}."
        return f"{stops}{mended}"
    if mended:
        return f"Not started yet; nothing that was read stops the disk any more.{mended}"
    return f"On the disk: {words_of(given.trace.verdict)}."


def _mended(given: Material) -> str:
    """What stopped the disk when it was found, where our repairs took that away; else empty."""
    gone = mended_findings(given)
    if not gone or given.found is None or given.found.failing_phase is None:
        return ""
    phase = words_of(given.found.failing_phase)
    return f" It stopped at {phase}: {gone[0].says} That was mended."


# What is private in free text of evidence, taken out by its form: folders of users, addresses,
# names of machines and accounts.
#
# The fields of a case that are private are taken out before a report is made of it
# (`case/private.py`). What is left are sentences that logs and screens show, in which a name stands
# where its form says so; nothing else is changed.


_FORMS = (
    re.compile(r"(?i)((?:/|\\)(?:home|users)(?:/|\\))[^/\\\s,;:\"'”]+"),
    re.compile(r"[\w.+-]+@[\w-]+\.[\w.-]+"),
    re.compile(r"\\\\[\w.-]+(?=\\)"),
    re.compile(
        r"(?i)(\b(?:host|hostname|computer|user|account|owner)(?:[=:]+ ?| name | named )\"?)"
        r"[\w.\\-]+"
    ),
    re.compile(r"(?i)(\bsession \w+ for user |\baccount |\blogin name )[\w.\\-]+"),
    re.compile(r"\b(?:[0-9a-fA-F]{2}[:-]){5}[0-9a-fA-F]{2}\b"),
    re.compile(r"\bS-1-5-21(?:-\d+)+"),
)
"""Folders of users, addresses, names of machines and accounts, network cards, account numbers."""


def redacted(report: HandOver) -> HandOver:
    """The report without what has the form of something private."""

    def change(text: str) -> str:
        for form in _FORMS:
            text = form.sub(lambda found: (found.group(1) if found.re.groups else "") + GONE, text)
        return text

    return mapped(report, change)
