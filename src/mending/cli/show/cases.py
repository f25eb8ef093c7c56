"""Cases as a person reads them."""

from collections.abc import Iterable, Mapping, Sequence

import msgspec
from rich.console import Group, RenderableType

from mending.case import CaseResult, CasesResult
from mending.case.guide import NOTES, Prompt, PromptKind, StepCard
from mending.cli.show.tables import indented, minute, plain_id, rows, text, title
from mending.knowledge import CASE, Answer, HowTo
from mending.knowledge.steps import Need
from mending.model import Phase, Risk
from mending.reason import ROLES, Statement, VolumesResult, size_words

_MOST_WORDS, _MOST_LEFT = 240, 6
"""Characters of what somebody said that are shown again, and pieces that were not understood."""


def show_case(case: CaseResult) -> RenderableType:
    """One case as it stands."""
    cells: list[tuple[object, ...]] = [("opened", case.opened), ("disk", case.disk or "none yet")]
    cells += [(name, words) for name, words in case.shop.items()]
    cells += [("disk stops at", plain_id(case.failing_phase))] if case.failing_phase else []
    cells += [(name, answer) for name, answer in case.facts.items()]
    cells += [(name, f'"{words}"') for name, words in case.notes.items()]
    cells += [(f"saw {name}", answer) for name, answer in case.seen.items()]
    cells += [("saw code", code) for code in case.codes]
    left = [words for said in case.said for words in said.left][-_MOST_LEFT:]
    cells += [("not understood", f'"{_short(words)}"') for words in left]
    cells += [
        (f"tried {attempt.step}", " ".join([attempt.report, *attempt.codes, attempt.note]).strip())
        for attempt in case.tried
    ]
    cells += [("test start", start.says) for start in case.starts]
    cells += [
        (f"note on {each.about}" if each.about else "note", f'"{_short(each.text)}"')
        for each in case.remarks
    ]
    cells += _watch(case)
    if case.handed_over is not None:
        cells += [
            ("handed over to", case.handed_over.to),
            ("held to be wrong", case.handed_over.cause),
        ]
    if case.closed is not None:
        cells += [
            ("closed", case.closed.at),
            ("cause", case.closed.cause),
            ("fix", case.closed.fix),
        ]
        minutes = case.closed.minutes
        cells += [("minutes of work", f"{minutes:g}")] if minutes is not None else []
        cells += [(f"put back {step}", said) for step, said in case.closed.put_back.items()]
    parts: list[RenderableType] = [text(case.warning, "warning")] if case.warning else []
    parts += _contradictions(case)
    return Group(title(f"case {case.name}"), *parts, indented(rows(cells)), *_next(case))


def show_recorded(case: CaseResult, what: Sequence[tuple[str, str]]) -> RenderableType:
    """What was recorded just now, and what makes sense next; the whole case is shown by `cases`."""
    warning = [text(case.warning, "warning")] if case.warning else []
    cells = [(name, f"{says}, recorded") for name, says in what]
    return Group(*warning, *_contradictions(case), rows(cells), *_next(case))


def _next(case: CaseResult) -> list[RenderableType]:
    return [text(f"next: mending {case.next}", "bold")] if case.next else []


def _contradictions(case: CaseResult) -> list[RenderableType]:
    parts: list[RenderableType] = []
    for pair in case.contradictions:
        says = f"These cannot both be right: {pair.evidence} / {pair.other}."
        parts += [text(says, "warning"), text("  Take one back with NAME=unknown.")]
    return parts


def _watch(case: CaseResult) -> list[tuple[str, str]]:
    watched = case.watched
    if watched is None:
        return []
    guess = "" if watched.told else " (as is usual; nobody told)"
    says = (
        f"runs for {watched.hours:g} hours now; it used to fail after {watched.usual_hours:.3g}"
        f"{guess}: mended by what was done with a chance of {watched.mended:.0%}"
    )
    return [("under watch", says)]


def show_statement(statement: Statement) -> RenderableType:
    """What was understood of somebody's words, and what was not."""
    numbered = [
        (f"{number}{'' if each.sure else '?'}", each)
        for number, each in enumerate(statement.readings, 1)
    ]
    sure = [f"{number} {each.says}" for number, each in numbered if each.sure]
    unsure = [f"{number} {each.says}" for number, each in numbered if not each.sure]
    unsure += [f"{name}={'|'.join(answers)}" for name, answers in statement.unclear.items()]
    codes = [f"{code.words}" for code in statement.codes]
    cells = [("understood", ", ".join(sure) or "nothing that has a question here")]
    if statement.before:
        first = ", ".join(answer.answer for answer in statement.before)
        cells += [("before that", f"the screen showed {first}; both are kept")]
    cells += [("codes", "; ".join(codes))] if codes else []
    cells += [("not sure, not taken", ", ".join(unsure))] if unsure else []
    if statement.left:
        left = "; ".join(f'"{_short(words)}"' for words in statement.left[:_MOST_LEFT])
        cells += [("not understood", left)]
    return Group(text(f'"{_short(statement.text)}"'), indented(rows(cells)))


def _short(words: str) -> str:
    return words if len(words) <= _MOST_WORDS else f"{words[:_MOST_WORDS]} ..."


def show_cases(result: CasesResult) -> RenderableType:
    """One line a case."""
    if not result.cases:
        return text("No cases here.")
    order = ("open", "waiting", "closed")
    listed = sorted(result.cases, key=lambda case: order.index(case.stands))
    cells = [
        (case.name, case.stands, _stand(case), len(case.tried), minute(case.opened))
        for case in listed
    ]
    heads = ("case", "stands", "", "steps tried", "opened")
    torn = [
        text(f"{case.name}: {case.warning}", "warning") for case in result.cases if case.warning
    ]
    return Group(rows(cells, heads, wide=2, right=(3,), drop=(4, 3)), *torn)


def _stand(case: CaseResult) -> str:
    if case.closed is not None:
        return case.closed.cause
    if case.handed_over is not None:
        return f"for {case.handed_over.to}"
    if case.works:
        return "works again, to be closed"
    if case.starts and case.starts[-1].watch:
        return "starts, under watch"
    if case.stands == "waiting":
        return "for a test start"
    return f"disk stops at {plain_id(case.failing_phase)}" if case.failing_phase else ""


# Cards of steps as a person reads them.


def show_how_to(card: HowTo, named: str = CASE) -> RenderableType:
    """How one step is done, under its name. Args: named: the case, as the person named it."""
    span = f"the end comes after {card.earliest:g} to {card.latest:g} min"
    return Group(
        title(f"{card.step}  ({span})"),
        indented(rows([("what", card.does), ("how", card.how), ("where", card.stands)], wide=1)),
        show_parts(card, named),
    )


def show_parts(card: HowTo, named: str = CASE) -> RenderableType:
    """The parts of a step and what goes with them, without its name and what it is."""
    blocks: list[RenderableType] = []
    if card.command:
        says = "Mending does it, with the disk on the bench or from a stick: "
        blocks.append(indented(text(says + card.command.replace(CASE, named), "bold")))
    for own in card.own:
        about = f" ({own.about})" if own.about else ""
        blocks.append(indented(text(f"In the shop's own words{about}:", "bold")))
        lines = [text(line.replace(CASE, named)) for line in own.lines]
        blocks.append(indented(indented(*lines)))
    parts = [(str(number), part.replace(CASE, named)) for number, part in enumerate(card.do, 1)]
    blocks += [text(""), indented(rows(parts, wide=1, right=(0,))), text("")]
    letters = ", ".join(f"{ROLES[role]} {letter}" for role, letter in card.letters.items())
    cells = [("letters here", letters)] if letters else []
    cells += [("asked", each) for each in card.asks]
    cells += [("normal", card.normal)] if card.normal else []
    cells += [("careful", card.keep)] if card.keep else []
    cells += [("if refused", card.refused)] if card.refused else []
    cells.append(("it worked if", card.tells))
    cells += [(f"then, {report}", says) for report, says in card.then.items()]
    cells += [("to undo it", card.undone)] if card.undone else []
    cells += [("put back later", card.put_back)] if card.put_back else []
    told = [(name, says.replace(CASE, named)) for name, says in cells]
    return Group(*blocks, indented(rows(told, wide=1)))


def show_own_card(step: str, words: str, file: str) -> RenderableType:
    """The shop's own words about a step."""
    if not words.strip():
        return text(f"No words of your own about {step}: mending card {step} --line TEXT")
    lines = [indented(text(line)) for line in words.splitlines()]
    return Group(title(f"{step}, in the shop's own words"), *lines, text(f"kept in {file}", "soft"))


def show_volumes(result: VolumesResult, named: str = CASE) -> RenderableType:
    """Which volume is which, why, and what has to be asked."""
    cells = [
        (
            each.volume.name or "(no letter)",
            size_words(each.volume.bytes) if each.volume.bytes else "",
            each.volume.form,
            ROLES.get(each.role, "?"),
            " ".join(part for part in (each.why, each.doubt) if part),
        )
        for each in result.volumes
    ]
    parts: list[RenderableType] = [indented(rows(cells, wide=4, right=(1,), drop=(2,)))]
    for role, names in result.questions.items():
        which = f": {' or '.join(names)}?" if names else "?"
        parts.append(text(f"Which one is {ROLES[role]}{which} Look at its folders.", "warning"))
        parts.append(text(f"  then: mending saw {named} --letter {role}=NAME", "soft"))
    return Group(*parts)


# Signs and their answers as a person reads them.


class SignResult(msgspec.Struct, frozen=True, kw_only=True):
    """Something that a person can see, try or know, under the names of this document.

    Attributes:
        take_in: whether `open` asks it.
        first: its place among the questions that a call begins with; 0: none.
        pointless: it is not asked once one of these signs or facts has one of these answers.
    """

    id: str
    asks: str
    answers: Mapping[str, Answer]
    about: str
    minutes: float
    take_in: bool
    first: int
    explains: str
    thing: str
    group: str
    supply: str
    pointless: Mapping[str, Need]
    until: Phase | None


def show_signs(signs: Iterable[SignResult], by_heading: bool = False) -> RenderableType:
    """Every sign with its answers; under what they are about, where that is wanted."""
    parts: list[RenderableType] = []
    heading = ""
    for sign in signs:
        if by_heading and sign.about != heading:
            heading = sign.about
            parts += (
                [text(""), text(heading.upper(), "bold")]
                if parts
                else [text(heading.upper(), "bold")]
            )
        cells = [(f"{sign.id}={name}", answer.says) for name, answer in sign.answers.items()]
        parts += [title(sign.asks), indented(rows(cells))]
    return Group(*parts, text("Answer `unknown` where nobody can tell.", "soft"))


# The conversation of `work` as a person reads it.


_STAKES = {
    Risk.NOTHING: "nothing",
    Risk.SETTINGS: "settings",
    Risk.PROGRAMS: "programs and settings; not personal files",
    Risk.FILES: "personal files: copy them first",
}
_CASE = "CASE"
"""In the knowledge's texts: the case at hand."""


def show_prompt(prompt: Prompt) -> RenderableType:
    """What is asked, and the answers."""
    parts: list[RenderableType] = [text(""), title(prompt.asks)]
    if prompt.answers:
        cells = [
            (str(number), name, says)
            for number, (name, says) in enumerate(prompt.answers.items(), 1)
        ]
        parts.append(indented(rows(cells, wide=2, right=(0,))))
    if prompt.usual:
        parts.append(text(f"  an empty line: {prompt.usual}", "soft"))
    if prompt.kind in {PromptKind.CAUSE, PromptKind.FIX, PromptKind.HAND_OVER}:
        parts.append(text("  or your own words", "soft"))
    return Group(*parts)


def show_card(card: StepCard, named: str) -> RenderableType:
    """All that has to be known to do a step. Args: named: the case, as the person named it."""
    parts: list[RenderableType] = [text("")]
    if card.way:
        parts += [title(f"Visit: {plain_id(card.place)}"), indented(text(card.way)), text("")]
    number = f"step {card.number} of {card.of}, " if card.of > 1 else ""
    helps = f", helps with a chance of {card.chance:.0%}" if card.chance >= 0.005 else ""
    parts.append(title(f"{card.step}  ({number}about {_span(card)}{helps})"))
    cells = [("what", card.does), ("how", card.how)]
    cells += [("why now", f"it {card.why}")] if card.why else []
    cells += [("at hand", "; ".join(card.at_hand))] if card.at_hand else []
    cells += [("at stake", _STAKES[card.stakes])]
    cells = [(name, says.replace(_CASE, named)) for name, says in cells]
    return Group(*parts, indented(rows(cells, wide=1)), show_parts(card.how_to, named))


def _span(card: StepCard) -> str:
    waits = f", {card.waits:g} of them by itself" if card.waits else ""
    return f"{card.minutes:g} min{waits}"


def show_explained(prompt: Prompt) -> RenderableType:
    """What `?` shows: how to answer, and what is understood everywhere."""
    cells = [(name, says) for name, says in NOTES.items()]
    told = [text(words) for words in prompt.explains]
    also = [text(f"Also: {', '.join(f'{name} ({says})' for name, says in prompt.also.items())}.")]
    return Group(
        indented(*told) if told else text("  Nothing more is known about this one."),
        *([indented(*also)] if prompt.also else []),
        text("At every prompt:", "soft"),
        indented(rows(cells, wide=1)),
    )


def clock_words(card: StepCard, minutes: float) -> str:
    """How long a step has run, against what is usual."""
    usual = f"about {card.minutes:g} min are usual"
    if card.normal:
        usual += f"; normal: {card.normal}"
    over = " (longer than usual; that alone is no failure)" if minutes > 2 * card.minutes else ""
    return f"{int(minutes)}:{int(minutes * 60) % 60:02d} so far, {usual}{over}"
