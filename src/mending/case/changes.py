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
    under_way = next_step(after, pack)
    for text in said:
        if under_way is not None and tool_report(pack, text) is not None:
            yield f"If {under_way} said so, it is its report: mending tried CASE {under_way} ..."
