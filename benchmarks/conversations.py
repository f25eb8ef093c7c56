"""Whole conversations: `work` led by a caller who answers from a hidden fault, to the close or to
the hand-over.

One caller for all PCs: it knows the PC (its facts, what can be seen, what each step does to it),
answers by the kind of prompt, and is wrong in a tenth of what it says it sees. It never names the
cause by itself: it takes the first that is proposed, and only notices whether the right one was in
the list.
"""

import sys
import tempfile
from collections import Counter
from pathlib import Path

from benchmarks.made_up import MadeUp
from mending.app.conversation import WRITE, Guide
from mending.app.host import Host
from mending.case import Case, open_case, saw
from mending.case.guide import Prompt, PromptKind, parse
from mending.knowledge import SOMETHING_ELSE, Pack, ReportKind, base_codes, base_pack
from mending.model import Hand, MendingError

PCS, WRONG = 40, 0.1
_MOST_PROMPTS = 250
HAND = Hand(who="a caller", since="2026-03-02T09:00:00+00:00")


class Caller:
    """Somebody at a PC with a hidden fault.

    Args:
        cause: another than the made-up one: what is seen is drawn anew from it.
    """

    def __init__(
        self, pack: Pack, seed: int, wrong: float = WRONG, cause: str | None = None
    ) -> None:
        self.pack = pack
        self.pc = MadeUp(pack, seed, wrong)
        if cause is not None:
            self.pc = self._with(seed, wrong, cause)
        self.facts = dict(self.pc.facts)
        self.mended = False
        self.prompts = 0
        self.listed = False

    def _with(self, seed: int, wrong: float, cause: str) -> MadeUp:
        """A made-up PC that has this cause."""
        number = seed
        families = self.pack.causes[cause].families
        pc = self.pc
        while families and pc.facts["family"] not in families:
            number += 10_000
            pc = MadeUp(self.pack, number, wrong)
        pc.cause = cause
        pc.signs = {name: pc._answer(sign) for name, sign in self.pack.signs.items()}
        return pc

    def says(self, prompt: Prompt) -> str:
        """The line that this person types."""
        self.prompts += 1
        match prompt.kind:
            case PromptKind.FACT:
                return self.facts[prompt.about]
            case PromptKind.SIGN:
                return self.pc.told(prompt.about)
            case PromptKind.STEP:
                return self._does(prompt)
            case PromptKind.REPAIR:
                return WRITE
            case PromptKind.CAUSE | PromptKind.FIX:
                self.listed = self.listed or self.pc.cause in prompt.answers
                return first_of(prompt)
            case PromptKind.HAND_OVER:
                named = self.pack.causes.get(self.pc.cause)
                self.listed = named is not None and named.says in " ".join(prompt.explains)
                return "maker"
            case PromptKind.START | PromptKind.WATCH:
                return "yes" if self.mended else "no"
        return _ENDING.get(prompt.kind, "")

    def _does(self, prompt: Prompt) -> str:
        step = self.pack.steps[prompt.about]
        if self.pc.lacking(step, self.facts) is not None:
            return ReportKind.NOT_RUN
        fixes, kind = self.pc.done(step)
        self.mended = self.mended or fixes
        if kind is not ReportKind.NOT_MENDED:
            self.facts.update(step.gives)
        if kind in step.fitting:
            return kind
        return {ReportKind.MENDED: ReportKind.DONE, ReportKind.NOT_MENDED: ReportKind.FOUND}[kind]


_ENDING = {
    PromptKind.COLD: "yes",
    PromptKind.PUT_BACK: "done",
    PromptKind.MINUTES: "30",
    PromptKind.TAKE_UP: "no",
}


def first_of(prompt: Prompt) -> str:
    """What is proposed, or the first in the list, or words where there is no list."""
    return prompt.usual or next(iter(prompt.answers), "it went by itself")


def led(guide: Guide, caller: Caller, most: int = _MOST_PROMPTS) -> Prompt | None:
    """Answer until nothing is asked any more; returns the prompt that was open after `most`."""
    for _ in range(most):
        prompt = guide.next()
        if prompt is None or prompt.kind is PromptKind.TAKE_UP:
            return None
        answer(guide, caller, prompt)
    return guide.next()


def answer(guide: Guide, caller: Caller, prompt: Prompt) -> None:
    """One answer of the caller. A repair that cannot be done is told so, as it would be."""
    line = caller.says(prompt)
    if line != WRITE:
        guide.take(prompt, parse(prompt, line))
        return
    try:
        guide.mend(prompt, guide.preview(prompt))
        trace = guide.case.state.trace
        caller.mended = caller.mended or (trace is not None and not trace.fatal)
    except MendingError:
        guide.take(prompt, parse(prompt, ReportKind.NOT_RUN))


def right(case: Case, cause: str) -> bool:
    """Whether a case ended with the cause that was hidden. What no row of the pack explains may
    only be handed over, or mended by chance.
    """
    state = case.state
    told = state.closed.cause if state.closed is not None else ""
    if state.handed_over is not None:
        told = state.handed_over.cause
    return told == cause or cause == SOMETHING_ELSE


def host_in(folder: Path) -> Host:
    """A host whose clock stands still."""
    return Host(
        who=HAND.who, clock=lambda: HAND.since, undo_folder=folder / "undo", key=folder / "key"
    )


def by_phone(pack: Pack, folder: Path, seed: int, wrong: float = WRONG) -> tuple[Case, Caller]:
    """A case of which only the first things are known, and who calls: nobody takes the PC apart, or
    traces its disk.
    """
    caller = Caller(pack, seed, wrong)
    caller.facts |= {"bench": "no", "own-stick": "no"}
    case = open_case(folder, lambda _: [], HAND.since)
    known = {name: caller.pc.told(name) for name in ("fans-lights", "after-logo")}
    return saw(case, pack, HAND, known), caller


def run(count: int = PCS) -> None:
    """Print how many ended, how, and with which cause."""
    pack, codes = base_pack(), base_codes()
    ends: Counter[str] = Counter()
    prompts, listed = 0, 0
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(count):
            case, caller = by_phone(pack, Path(folder) / f"pc-{seed}", seed)
            guide = Guide(case, pack, codes, host_in(Path(folder)))
            led(guide, caller)
            state = guide.case.state
            end = "closed" if state.closed else "handed over" if state.handed_over else "open"
            is_right = "right" if right(guide.case, caller.pc.cause) else "wrong"
            ends[f"{end}, {is_right} cause"] += 1
            prompts += caller.prompts
            listed += caller.listed or right(guide.case, caller.pc.cause)
    print(f"{count} calls led to the end, {prompts / count:.0f} prompts each")
    for end, number in sorted(ends.items()):
        print(f"{end:<28}{number / count:>6.0%}")
    print(f"{'right cause in the list':<28}{listed / count:>6.0%}")


if __name__ == "__main__":
    run(int(sys.argv[1]) if len(sys.argv) > 1 else PCS)
