"""Causes, plans and questions as a person reads them."""

from rich.console import Group, RenderableType

from mending.cli.show.cases import show_how_to
from mending.cli.show.tables import indented, plain_id, rows, text, title
from mending.cli.show.traces import stakes
from mending.model import quoted
from mending.plan import (
    PlanResult,
    QuestionResult,
    ResortResult,
    ResortStep,
    StepResult,
    VisitResult,
    WhyResult,
)
from mending.reason import CauseResult, CausesResult

_SHOWN = 6
_LEAST = 0.01
_BAR = 12
_FULL_VISITS = 1
_REASONS = 3
_LATER_VISITS = 5
_LED = 3
_DEARER = 5


def show_causes(result: CausesResult, everything: bool = False) -> RenderableType:
    """The likeliest causes with what speaks for (+) and against (-) each; weights are natural
    logarithms.
    """
    listed = [cause for cause in result.causes if everything or cause.chance >= _LEAST][
        : None if everything else _SHOWN
    ]
    parts: list[RenderableType] = []
    for cause in listed:
        parts += [
            rows(
                [
                    (
                        _bar(cause.chance),
                        f"{cause.chance:>4.0%}",
                        text(cause.id, "bold"),
                        _kind(cause),
                    )
                ]
            )
        ]
        parts += [indented(text(cause.says), rows(_weights(cause)))]
    if result.together:
        parts += [
            text(
                f"Findings prove all of them: {', '.join(result.together)}. Each has to be put"
                " right.",
                "bold",
            )
        ]
    if result.contradictions:
        ratio = max(each.ratio for each in result.contradictions)
        pairs = "both of these" if len(result.contradictions) == 1 else "both of each pair"
        parts += [
            text(
                f"No one cause explains {pairs} (two would, up to {ratio:g} times better): look"
                " again",
                "bold",
            )
        ]
    parts += [indented(text(each.evidence), text(each.other)) for each in result.contradictions]
    rest = sum(cause.chance for cause in result.causes if cause not in listed)
    parts += [text("")] if parts else []
    parts += [
        text(
            f"{rest:.0%} other causes of the pack, {result.something_else:.0%} something else",
            "soft",
        )
    ]
    return Group(*parts)


def _kind(cause: CauseResult) -> str:
    return f"({plain_id(cause.phase)}{', proven' if cause.proven else ''})"


def _bar(chance: float) -> str:
    full = round(chance * _BAR)
    return "#" * full + "." * (_BAR - full)


def _weights(cause: CauseResult) -> list[tuple[object, ...]]:
    listed = [*cause.for_[:4], *cause.against[:3]]
    return [(f"{weight.weight:+.1f}", text(weight.evidence, "soft")) for weight in listed]


def show_plan(plan: PlanResult, named: str, everything: bool = False) -> RenderableType:
    """The next visits in full, the later ones a line each; then what cannot be done and why."""
    if plan.cards:
        return Group(
            *(part for card in plan.cards for part in (show_how_to(card, named), text("")))
        )
    parts: list[RenderableType] = []
    full = plan.visits if everything else plan.visits[:_FULL_VISITS]
    for number, visit in enumerate(full, 1):
        parts += [
            title(
                f"{number}. {plain_id(visit.place)}, {_minutes(visit):g} min with the way there and"
                " the test start"
            )
        ]
        ready = [text(f"have at hand: {', '.join(visit.at_hand)}")] if visit.at_hand else []
        ready += [text(f"begin meanwhile, for later: {does}") for does in visit.beside]
        steps = [_step(step) for step in visit.steps]
        parts += [indented(text(visit.how, "soft"), *ready, *steps)]
    later = list(enumerate(plan.visits, 1))[len(full) :]
    if later:
        cells = [
            (f"{number}.", plain_id(visit.place), f"{_minutes(visit):g} min", _names(visit))
            for number, visit in later
        ]
        more = (
            [text(f"and {len(cells) - _LATER_VISITS} more visits: --all", "soft")]
            if len(cells) > _LATER_VISITS
            else []
        )
        parts += [
            title("if that did not help"),
            indented(rows(cells[:_LATER_VISITS], wide=3, drop=(2,)), *more),
        ]
    if not plan.visits and plan.dearer:
        parts += [text("Everything that is left costs more than handing over; it can be chosen.")]
    if plan.visits:
        by = ", ".join(
            f"{chance:.0%} by {minutes} min" for minutes, chance in plan.chance_by.items()
        )
        parts += [
            text(""),
            text(f"chance that it works: {by}; expected: {plan.expected_minutes:.0f} minutes"),
        ]
        if plan.exact or plan.gap is not None:
            parts += [text(f"order: {_proof(plan)}", "soft")]
    parts += _beyond(plan, everything)
    if plan.blocked:
        parts += [text(""), title("cannot be done now"), *_reasons(plan, everything)]
    if plan.first:
        step = plan.first
        case = quoted(named)
        then = f"mend {case} {step.repair}" if step.repair else f"tried {case} {step.id} REPORT"
        parts += [text(""), text(f"next: mending {then}", "bold")]
    return Group(*parts)


def _beyond(plan: PlanResult, everything: bool) -> list[RenderableType]:
    """What can still help beyond the plan, then the last resorts in their order."""
    parts: list[RenderableType] = []
    shown = plan.dearer if everything or not plan.visits else ()
    if shown:
        cells = [
            (row.id, f"{row.chance:.1%}", f"{row.minutes:.0f} min", stakes(row.stakes))
            for row in shown[: None if everything else _DEARER]
        ]
        note = "after all of the above did not help; minutes with the ways, and what comes first"
        parts += [text(""), title("dearer than handing over")]
        parts += [indented(rows(cells, right=(1, 2)), text(note, "soft"))]
    if plan.resorts:
        parts += [text(""), title("last resorts, in this order")]
        parts += [indented(*(_resort(row, everything) for row in plan.resorts))]
    return parts


def _resort(row: ResortResult, everything: bool) -> RenderableType:
    steps = ", ".join(f"{step.id} ({_at(step)})" for step in row.steps)
    if not everything:
        return rows([(row.id, text(steps, "soft"))])
    blocked = [text(f"{step.id}: {step.says}", "soft") for step in row.steps if step.says]
    parts = [text(steps), *blocked] if steps else blocked
    return Group(rows([(text(row.id, "bold"), row.says)]), indented(*parts))


def _at(step: ResortStep) -> str:
    """What a step of a last resort is at."""
    if step.state in {"planned", "dearer"}:
        chance = f", {step.chance:.0%}" if step.chance >= _LEAST else ""
        return f"{step.state}{chance}, {step.minutes:.0f} min"
    return step.state


def _reasons(plan: PlanResult, everything: bool) -> list[RenderableType]:
    """What cannot be done, by the reason, those that would help most first."""
    by_reason: dict[str, list[str]] = {}
    for step in plan.blocked:
        by_reason.setdefault(step.says, []).append(f"{step.id} {step.chance:.0%}")
    shown: list[RenderableType] = []
    for says, names in list(by_reason.items())[: None if everything else _REASONS]:
        shown.append(indented(text(", ".join(names)), indented(text(says, "soft"))))
    return shown


def _proof(plan: PlanResult) -> str:
    """What is known about the order."""
    if plan.exact:
        return "no order of these steps costs less"
    gap = plan.gap or 0.0
    return (
        f"no order can cost less than {1 - gap:.0%} of this one ({plan.cost:.0f} min, stakes"
        " and handing over in)"
    )


def _minutes(visit: VisitResult) -> float:
    return visit.minutes + sum(step.minutes for step in visit.steps)


def _chance(step: StepResult) -> str:
    """The chance to fix; a step that has none is there to find out, or because others need it."""
    if step.chance >= _LEAST:
        return f"{step.chance:.0%}"
    if step.tests:
        return "to find out"
    return f"under {_LEAST:.0%}" if step.chance > 0 else "needed first"


def _names(visit: VisitResult) -> str:
    return ", ".join(f"{step.id} {_chance(step)}" for step in visit.steps)


def _step(step: StepResult) -> RenderableType:
    facts = f"{step.minutes:g} min, {_chance(step)}, {stakes(step.stakes)}"
    asked = ", ".join(f"{name}=?" for name in step.needs)
    unknown = f"; find out first, then `mending saw`: {asked}" if step.needs else ""
    head = rows([(text(step.id, "bold"), facts + unknown)])
    leads = [
        text(f"if it names {cause}: {then}", "soft")
        for cause, then in list(step.leads_to.items())[:_LED]
    ]
    return Group(head, indented(text(step.does), text(f"because it {step.why}", "soft"), *leads))


def show_why(result: WhyResult) -> RenderableType:
    """What the plan costs with the step where it is, and elsewhere; costs count stakes and handing
    over, too.
    """
    cells = [("as planned", f"{result.planned:.0f} min", "")]
    for words, cost in (
        ("first", result.first),
        ("last", result.last),
        ("left out", result.without),
    ):
        cells.append((words, f"{cost:.0f} min", f"{cost - result.planned:+.1f}"))
    note = (
        "Expected minutes, with what is at stake and with handing over; what it needs, or what"
        " needs it, moves along."
    )
    return Group(title(result.step), indented(rows(cells, right=(1, 2))), text(note, "soft"))


def question_pays(question: QuestionResult) -> str:
    """What asking costs, and what it saves."""
    return f"takes {question.minutes:g} min, saves about {question.saves:.0f} min of the plan"


def show_question(question: QuestionResult, named: str) -> RenderableType:
    """The question, its answers, and how to record one."""
    if question.sign is None:
        return text("No question would save more than its own minutes now; go on with the plan.")
    cells = [(f"{question.sign}={name}", says) for name, says in question.answers.items()]
    cells.append((f"{question.sign}=unknown", "cannot tell"))
    takes = question_pays(question)
    option = "--fact " if question.fact else ""
    how = f"record it: mending saw {quoted(named)} {option}{question.sign}=ANSWER"
    return Group(title(question.asks), indented(rows(cells)), text(takes, "soft"), text(how))
