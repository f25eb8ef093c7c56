"""The report for the next technician: everything, as found and as it is now."""

from mending.boot.chain import Trace
from mending.boot.rehearse import MEANINGS
from mending.model import Finding
from mending.report.cards import how_it_is_done
from mending.report.crash_blocks import crash_blocks
from mending.report.document import (
    Block,
    Ladder,
    Pairs,
    Paragraph,
    Picture,
    Rungs,
    Screen,
    Section,
    Table,
)
from mending.report.material import Material, at_place, place_of, section, words_of
from mending.report.times import written

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
        section("Tried, and what it reported", _tried(given)),
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


def _tried(given: Material) -> Block:
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
