"""What follows from a case: causes, the next question, the plan."""

from collections.abc import Callable, Mapping, Sequence

import msgspec

from mending.case.events import (
    AnyEvent,
    Heard,
    Learned,
    Mended,
    PutBack,
    Read,
    Saw,
    Started,
    TakenBack,
    Traced,
    Tried,
)
from mending.case.folder import Case
from mending.case.state import CaseState, fold, still_counting
from mending.knowledge import (
    RELEASE,
    HowTo,
    Pack,
    ReportKind,
    Sign,
    Step,
    WhyNotRun,
    answers_of,
    how_to,
)
from mending.model import FindingId, Phase, Place, Risk
from mending.plan import (
    BACKUP,
    NO_QUESTION,
    Care,
    Named,
    Option,
    PlanResult,
    QuestionResult,
    Situation,
    VisitCost,
    VisitResult,
    WhyResult,
    best_question,
    dearer_steps,
    direct_fixes,
    make_plan,
    options_from,
    quick_cost,
    resorts_of,
    visit_costs,
    why_there,
)
from mending.reason import (
    AFTER_LOGO,
    CausesResult,
    Evidence,
    VolumesResult,
    beliefs_of,
    believe,
    judge_volumes,
    last_phase,
    read_listing,
    telling,
)

RECOVERY = "recovery-opens"
"""The sign whether recovery opens without a stick."""
_KEY = "recovery-key"
_SOON = 4
"""What one of the first visits needs is begun beside the first of all."""
_GAINED = {ReportKind.NOTHING_WRONG, ReportKind.MENDED, ReportKind.DONE}
"""Reports after which what a step gives is there."""


def causes_of(state: CaseState, pack: Pack) -> CausesResult:
    """Ranked causes."""
    return believe(pack, evidence_of(state, pack))


def evidence_of(state: CaseState, pack: Pack) -> Evidence:
    """What bears on the causes, with the facts that follow from what was seen and done."""
    return msgspec.structs.replace(state.as_evidence(), facts=facts_of(state, pack))


def open_questions(state: CaseState, pack: Pack) -> list[Sign]:
    """The signs that are still worth asking, the most telling for each minute first."""
    return telling(pack, evidence_of(state, pack), state.passed)


def question_of(state: CaseState, pack: Pack) -> QuestionResult:
    """The question whose answer saves most minutes of the plan for each minute of asking."""
    if state.works:
        return NO_QUESTION
    cost = cost_of_plans(pack, situation_of(state, pack), _care(pack, "files"))
    return best_question(pack, evidence_of(state, pack), cost, state.passed)


def cost_of_plans(pack: Pack, now: Situation, price: Care) -> Callable[[Evidence], float]:
    """What the best plan costs by what is known besides; what does not decide which steps can be
    done is worked out once.
    """
    decisive = _decisive(pack)
    prepared: dict[frozenset[tuple[str, str]], _Prepared] = {}

    def cost(evidence: Evidence) -> float:
        known = {**facts_in(pack, evidence.facts, evidence.seen), **evidence.seen}
        situation = msgspec.structs.replace(now, facts=known)
        key = frozenset((name, known[name]) for name in decisive & set(known))
        if key not in prepared:
            prepared[key] = _prepared(pack, situation, price)
        options, visits, named = prepared[key]
        return quick_cost(beliefs_of(pack, evidence), options, visits, price, named)

    return cost


_Prepared = tuple[list[Option], dict[Place, VisitCost], Named]
"""What a plan needs beside beliefs."""


def _prepared(pack: Pack, situation: Situation, price: Care) -> _Prepared:
    options, visits = options_from(pack, situation), visit_costs(pack, situation)
    return options, visits, direct_fixes(options, visits, price)


def _decisive(pack: Pack) -> set[str]:
    """The facts and signs that decide which steps can be done."""
    steps = {name for step in pack.steps.values() for name in step.needs}
    visits = pack.visits.values()
    ways = [way.when for visit in visits for way in visit.ways]
    cautions = [row.when for row in pack.precautions.values()]
    return steps.union(*(visit.needs for visit in visits), *ways, *cautions, {BACKUP})


def plan_of(state: CaseState, pack: Pack, care: str = "files", prove: bool = False) -> PlanResult:
    """What to do, in order. Empty once the PC works.

    Args:
        care: a key of the pack's prices.
        prove: work out how far from the best order it is at most, where it is not known to be the
            best.

    For a PC under watch it is what to do should it fail again.
    """
    state = state.failed_again() if state.under_watch else state
    causes = causes_of(state, pack)
    situation = situation_of(state, pack, causes)
    options = [] if state.works else options_from(pack, situation)
    costs = visit_costs(pack, situation)
    plan = make_plan(causes.beliefs, options, costs, _care(pack, care), prove)
    if state.works:
        return plan
    plan = msgspec.structs.replace(plan, visits=_made_ready(plan.visits, pack))
    prices = _care(pack, care).prices
    dearer = dearer_steps(causes.beliefs, plan.visits, options, costs, prices)
    resorts = resorts_of(pack, options, plan.visits, dearer, situation.tried)
    return msgspec.structs.replace(plan, dearer=dearer, resorts=resorts)


def _made_ready(visits: tuple[VisitResult, ...], pack: Pack) -> tuple[VisitResult, ...]:
    """With what has to be at hand, and what is begun beside the first of them."""
    ready = [msgspec.structs.replace(visit, at_hand=_at_hand(visit, pack)) for visit in visits]
    later = [
        step.does for visit in visits[1:_SOON] for step in visit.steps if pack.steps[step.id].beside
    ]
    if later:
        ready[0] = msgspec.structs.replace(ready[0], beside=tuple(later))
    return tuple(ready)


def _at_hand(visit: VisitResult, pack: Pack) -> tuple[str, ...]:
    """The things that a place and the steps in it ask for."""
    needs = [pack.visits[visit.place].needs, *(pack.steps[step.id].needs for step in visit.steps)]
    facts = [pack.facts[name] for row in needs for name in row if name in pack.facts]
    return tuple(dict.fromkeys(fact.thing for fact in facts if fact.thing))


def cards_of(state: CaseState, pack: Pack, visits: Sequence[VisitResult]) -> tuple[HowTo, ...]:
    """How the steps of visits are done, each once, in their order."""
    known, filled = card_facts(state, pack), filled_of(state)
    steps = {step.id: visit.place for visit in reversed(visits) for step in reversed(visit.steps)}
    order = dict.fromkeys(step.id for visit in visits for step in visit.steps)
    return tuple(how_to(pack, pack.steps[name], known, filled, steps[name]) for name in order)


def why_of(state: CaseState, pack: Pack, step: str, care: str = "files") -> WhyResult:
    """Why a step of the plan stands where it does.

    Raises:
        UsageError: a step that is not in it.
    """
    causes = causes_of(state, pack)
    situation = situation_of(state, pack, causes)
    options, costs = options_from(pack, situation), visit_costs(pack, situation)
    prices = _care(pack, care)
    return why_there(plan_of(state, pack, care), step, causes.beliefs, options, costs, prices)


def situation_of(state: CaseState, pack: Pack, causes: CausesResult | None = None) -> Situation:
    """What decides which steps can be done."""
    causes = causes or causes_of(state, pack)
    findings = state.trace.findings if state.trace else ()
    fatal = state.trace.fatal if state.trace else ()
    barred = state.trace.barred if state.trace else ()
    return Situation(
        facts={**_unreached(state, pack), **state.seen, **facts_of(state, pack)},
        tried=_tried(state, pack),
        failed=_failed(state, pack),
        drive_bytes=_drive_bytes(state),
        on_bench=state.disk is not None,
        traced=state.trace is not None,
        repairs=frozenset(repair for finding in findings for repair in finding.repairs)
        | {each.repair for each in barred if each.option},
        urgent=frozenset(repair for finding in fatal for repair in finding.repairs),
        chances={cause.id: cause.chance for cause in causes.causes},
    )


def _unreached(state: CaseState, pack: Pack) -> dict[str, str]:
    """Interrupted starts lead to recovery only where the start gets as far as the boot manager."""
    last = last_phase(pack, state.seen)
    if state.trace is not None and state.trace.fatal:
        last = min(last, *(finding.phase for finding in state.trace.fatal), key=_rank)
    return {RECOVERY: "no"} if last.rank < Phase.BOOT_MANAGER.rank else {}


def _rank(phase: Phase) -> int:
    return phase.rank


def card_facts(state: CaseState, pack: Pack) -> dict[str, str]:
    """The facts by which a card fits: also the release, as the disk's system names itself."""
    titles = [system.title for system in state.trace.systems if system.title] if state.trace else []
    return {**facts_of(state, pack), **({RELEASE: " ".join(titles)} if titles else {})}


def filled_of(state: CaseState) -> dict[str, str]:
    """What stands for the places in cards: the letters of volumes, by their roles."""
    volumes = volumes_of(state)
    letters = volumes.letters if volumes is not None else {}
    return {f"{role}-letter": letter for role, letter in letters.items()}


def volumes_of(state: CaseState) -> VolumesResult | None:
    """Which volume of the newest listing is which; None without one."""
    if not state.listed:
        return None
    return judge_volumes(read_listing("\n".join(state.listed)), state.chosen)


def facts_of(state: CaseState, pack: Pack) -> dict[str, str]:
    """Facts that were told, and those that follow from the trace, from what was seen, from codes
    and messages that only one family has, and from steps that gave them.
    """
    families = {code.family for code in (*state.codes, *state.recorded) if code.family}
    told = {"family": families.pop()} if len(families) == 1 else {}
    found = {**told, **facts_in(pack, state.facts, state.seen)}
    if state.trace is not None:
        found = {**_traced(state), **found}
    for attempt in state.tried:
        step = pack.steps.get(attempt.step)
        if (
            step is not None and attempt.report in _GAINED
        ):  # a copy with files that could not be read is none
            found |= step.gives
    return found


def facts_in(pack: Pack, facts: Mapping[str, str], seen: Mapping[str, str]) -> dict[str, str]:
    """Facts that were told, and those that follow from signs. What the screen shows in the end
    counts more than what was on it before, and what was told of other things more than both: a
    desktop opens that another account reaches.
    """
    screens = {screen.answers[0] for screen in pack.screens.values()}

    def rank(row: tuple[str, str]) -> int:
        return 1 if row[0] == AFTER_LOGO else 2 * (row[0] not in screens)

    found: dict[str, str] = {}
    for name, answer in sorted(seen.items(), key=rank):
        row = pack.signs[name].answers.get(answer) if name in pack.signs else None
        found |= row.implies if row is not None else {}
    return {**found, **facts}


def _traced(state: CaseState) -> dict[str, str]:
    """What the trace tells: the firmware kind, and the family where there is one."""
    trace = state.trace
    if trace is None:
        return {}
    families = {str(system.family) for system in trace.systems}
    family = {"family": families.pop()} if len(families) == 1 else {}
    told = any(system.title and system.family != "nt" for system in trace.systems)
    release = (
        {"release-known": "yes"} if told else {}
    )  # one of the nt family is named by its folder
    ids = {finding.id for finding in trace.findings}
    copies = {}
    if {FindingId.HIVE_COPIES_WHOLE, FindingId.HIVE_COPIES_UNFIT} & ids:
        copies = {"hive-copies": "yes" if FindingId.HIVE_COPIES_WHOLE in ids else "no"}
    return {
        **copies,
        **release,
        **({"firmware": str(trace.firmware)} if str(trace.firmware) in {"bios", "uefi"} else {}),
        **family,
    }


def _care(pack: Pack, care: str) -> Care:
    return Care(pack.grades.prices[care], pack.grades.hand_over)


def _tried(state: CaseState, pack: Pack) -> Mapping[str, bool]:
    """Steps that were tried; true where one could be run. For what there was no time there may be
    some now, and a key that was missing may have been found.
    """
    facts = facts_of(state, pack)
    settled = {WhyNotRun.NO_TIME}
    if facts.get(_KEY) == "yes":
        settled.add(WhyNotRun.NO_KEY)
    by_itself = {} if _changed(state, pack) else dict.fromkeys(_by_itself(state, pack), True)
    return by_itself | {
        attempt.step: attempt.report is not ReportKind.NOT_RUN
        for attempt in state.tried
        if attempt.why not in settled
    }


def _by_itself(state: CaseState, pack: Pack) -> list[str]:
    """Steps that the PC has just done by itself, as its screen shows."""
    screens = pack.screens.values()
    rows = [row for row in screens if state.seen.get(row.answers[0]) == row.answers[1]]
    return [step for row in rows for step in row.reports]


def _changed(state: CaseState, pack: Pack) -> bool:
    """Whether anything was changed since."""
    return any(
        attempt.report in {ReportKind.MENDED, ReportKind.DONE}
        for attempt in state.tried
        if attempt.step in pack.steps and pack.steps[attempt.step].fixes
    )


def _failed(state: CaseState, pack: Pack) -> frozenset[str]:
    """Steps that did not do what they are for, by their newest report: what builds on them waits.
    What a test or a repair found and could not mend is an answer, not a failure.
    """
    newest = {attempt.step: attempt.report for attempt in state.tried}
    return frozenset(
        step
        for step, report in newest.items()
        if report is ReportKind.NOT_MENDED and step in pack.steps and not pack.steps[step].finds
    )


def _drive_bytes(state: CaseState) -> int:
    return state.attached.bytes if state.attached is not None else 0


# What was believed after each piece of evidence: how a case came to its cause.


_MOST, _TOP, _LEAST = 60, 3, 0.01
"""Turns that are worked out, the newest ones; causes of each, and how likely they are at least."""


class Turn(msgspec.Struct, frozen=True, kw_only=True):
    """One piece of evidence, and what was believed after it.

    Attributes:
        causes: the likeliest causes with their chances.
        chances: of every cause that was known then.
    """

    at: str
    what: str
    causes: tuple[tuple[str, float], ...]
    chances: Mapping[str, float] = {}


def turns(case: Case, pack: Pack) -> tuple[Turn, ...]:
    """The turns of a case, in the order in which they happened."""
    left = [case.events[number] for number in still_counting(case.events)]
    counting = [event for event in left if not isinstance(event, TakenBack)]  # its number is gone
    told = [number for number, event in enumerate(counting) if _words(event)][-_MOST:]
    found: list[Turn] = []
    for number in told:
        causes = causes_of(fold(counting[: number + 1]), pack).causes
        ranked = tuple(
            (cause.id, round(cause.chance, 3)) for cause in causes[:_TOP] if cause.chance >= _LEAST
        )
        chances = {cause.id: cause.chance for cause in causes}
        event = counting[number]
        what = _words(event)
        if not found or (found[-1].what, found[-1].causes) != (what, ranked):
            found.append(Turn(at=event.at, what=what, causes=ranked, chances=chances))
    return tuple(found)


def _words(event: AnyEvent) -> str:
    """What the evidence is; empty for what tells nothing of the cause."""
    match event:
        case Saw():
            said = [f"{name}: {answer}" for name, answer in event.signs.items()]
            return ", ".join([*said, *(code.words for code in event.codes)])
        case Heard():
            understood = {**event.signs, **event.facts, **event.tried}
            return ", ".join(f"{name}: {answer}" for name, answer in understood.items())
        case Learned():
            return ", ".join(f"{name}: {answer}" for name, answer in event.facts.items())
        case Traced():
            phase = event.trace.failing_phase
            return f"trace: stops at {phase}" if phase else f"trace: {event.trace.verdict}"
        case Read():
            return "crash records" if event.clues else ""
        case Tried():
            return f"{event.step}: {event.report}"
        case Started():
            return "it starts" if event.works or event.watch else "it does not start"
        case Mended() | PutBack():
            return ""
    return ""


# What makes one ask back before a step is recorded or done: it does not go with what is known of
# this PC, what it builds on was not done, or personal files are at stake without what has to come
# first.


def doubts_of(state: CaseState, pack: Pack, name: str) -> tuple[str, ...]:
    """One sentence for each; none for a step that goes with all that is known."""
    step = pack.steps[name]
    done = {each.step for each in state.tried if each.report is not ReportKind.NOT_RUN}
    known = {**state.seen, **facts_of(state, pack)}
    return (*_against(pack, step, known), *_not_done(step, done), *_at_stake(step, done, known))


def _against(pack: Pack, step: Step, known: Mapping[str, str]) -> list[str]:
    """What it needs is known to be otherwise."""
    found = []
    for need, answers in step.needs.items():
        if pack.question(need) is None or known.get(need) in {None, *answers_of(answers)}:
            continue
        wanted = " or ".join(answers_of(answers))
        found.append(f"{step.id} is for {need} = {wanted}; by what is known it is {known[need]}.")
    return found


def _not_done(step: Step, done: set[str]) -> list[str]:
    """Without the step before, it may have been done to something else."""
    return [
        f"{other} was not done before it: it may have been done to another volume or system."
        for other in step.after
        if other not in done
    ]


def _at_stake(step: Step, done: set[str], known: Mapping[str, str]) -> list[str]:
    """What erases wants a copy, and tests that speak against a dying drive."""
    if step.stakes is not Risk.FILES:
        return []
    found = []
    if known.get(BACKUP) != "yes":
        found.append("Personal files are lost with it, and nobody told of a copy of them.")
    missing = [other for other in step.after_if_possible if other not in done]
    if missing:
        found.append(f"{' and '.join(missing)} should speak against dying hardware before it.")
    return found
