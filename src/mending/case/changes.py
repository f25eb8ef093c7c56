"""What new answers did to older ones, in sentences: nothing is replaced in silence."""

from collections.abc import Iterator, Sequence

from mending.case.pending import next_step
from mending.case.state import CaseState
from mending.knowledge import Pack
from mending.reason import AFTER_LOGO, tool_report


def changes(
    before: CaseState, after: CaseState, pack: Pack, said: Sequence[str] = ()
) -> Iterator[str]:
    """One sentence for each answer that is another now, for a screen that is kept beside a later
    one, and for words that are rather the report of the step under way.
    """
    for name, answer in after.seen.items():
        was = before.seen.get(name)
        if was is None or was == answer:
            continue
        if name == AFTER_LOGO and was in after.screens:
            yield f"{name}: {was} came first and is kept, now {answer}; {name}=unknown drops both."
        else:
            yield f"{name}: it was {was}, now {answer}."
    for name, answer in after.facts.items():
        if before.facts.get(name, answer) != answer:
            yield f"{name}: it was {before.facts[name]}, now {answer}."
    yield from _apart(before, after, pack)
    under_way = next_step(after, pack)
    for text in said:
        if under_way is not None and tool_report(pack, text) is not None:
            yield f"If {under_way} said so, it is its report: mending tried CASE {under_way} ..."


def _apart(before: CaseState, after: CaseState, pack: Pack) -> Iterator[str]:
    """Answers of which one implies that the other is otherwise, where one of them is new."""
    new = {name for name, answer in after.seen.items() if before.seen.get(name) != answer}
    for name, answer in after.seen.items():
        row = pack.signs[name].answers.get(answer) if name in pack.signs else None
        for other, implied in (row.implies if row is not None else {}).items():
            told = after.seen.get(other, implied)
            if other in pack.signs and told != implied and {name, other} & new:
                yield f"{name}={answer} and {other}={told} do not go together: one is mistaken."
