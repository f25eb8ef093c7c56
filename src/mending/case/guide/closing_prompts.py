"""The last prompts of a case: from cold, put back, cause, fix, minutes."""

from mending.case import closing
from mending.case.folder import Case
from mending.case.guide.prompts import Prompt, PromptKind
from mending.case.thinking import causes_of
from mending.knowledge import Pack, ReportKind

_MOST_CAUSES = 9
_SHOWN = 0.005
"""From this chance on a cause is in the list; the likeliest always is."""
_SURE = 0.5
"""From this chance on a cause is proposed as the answer."""


def closing_prompt(case: Case, pack: Pack) -> Prompt | None:
    """The next one that is open; None where everything was said."""
    said = case.state.checked
    if closing.COLD not in said:
        return _COLD
    for step, words in closing.to_put_back(case, pack).items():
        if closing.put_back_key(step) not in said:
            return _put_back(step, words)
    if closing.CAUSE not in said:
        return _cause(case, pack)
    if closing.FIX not in said:
        return _fix(case)
    return _MINUTES if closing.MINUTES not in said else None


_COLD = Prompt(
    kind=PromptKind.COLD,
    asks="It works. Once more from cold: switch off, wait, switch on, sign in, try what failed."
    " Does it hold?",
    answers={"yes": "all of it works", "no": "it failed again"},
    explains=(
        "A restart is no start from cold: memory, devices and settings of the firmware are only"
        " then set up from nothing. Take the stick out first.",
    ),
)
_MINUTES = Prompt(
    kind=PromptKind.MINUTES,
    asks="Minutes of work, all in all?",
    explains=("A number; an empty line leaves it open.",),
)


def _put_back(step: str, words: str) -> Prompt:
    return Prompt(
        kind=PromptKind.PUT_BACK,
        about=step,
        asks=f"To be put back: {words} Is that done?",
        answers={"done": "it is put back"},
        explains=("If it stays on purpose, type why in your own words.",),
    )


def _cause(case: Case, pack: Pack) -> Prompt:
    ranked = causes_of(case.state, pack).causes[:_MOST_CAUSES]
    shown = [each for each in ranked if each.chance >= _SHOWN or each is ranked[0]]
    return Prompt(
        kind=PromptKind.CAUSE,
        asks="What was wrong?",
        answers={each.id: f"{each.says} ({each.chance:.0%})" for each in shown},
        usual=shown[0].id if shown and shown[0].chance >= _SURE else "",
        explains=(
            "The likeliest first, by everything that was seen, found, done and helped."
            " Your own words are an answer, too.",
        ),
    )


def _fix(case: Case) -> Prompt:
    done = [
        attempt
        for attempt in case.state.tried
        if attempt.report is not ReportKind.NOT_RUN and not attempt.told
    ]
    last = {report.step for report in case.state.worked}
    done.reverse()
    ordered = sorted(done, key=lambda attempt: attempt.step not in last)
    changed = [
        attempt.step
        for attempt in ordered
        if attempt.step in last and attempt.report in {ReportKind.MENDED, ReportKind.DONE}
    ]
    return Prompt(
        kind=PromptKind.FIX,
        asks="What mended it?",
        answers={attempt.step: attempt.report.value for attempt in ordered},
        usual=changed[0] if len(changed) == 1 else "",
        explains=(
            "What was done before the start that worked comes first."
            " Your own words are an answer, too.",
        ),
    )
