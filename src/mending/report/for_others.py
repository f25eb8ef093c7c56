"""The reports for those who do not work on it: the user in plain words, and the maker's support
with what it asks for.
"""

from mending.knowledge import ReportKind, Step
from mending.model import Place, Risk
from mending.report.crash_blocks import crash_blocks
from mending.report.document import Block, Pairs, Paragraph, Section, Table
from mending.report.material import Material, mended_findings, section, words_of
from mending.report.times import written

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
