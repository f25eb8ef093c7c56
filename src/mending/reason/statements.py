"""What a caller says, as answers to the questions of a pack.

Beside each answer the pack has phrases. A phrase is found in a clause where each of its words
stands, in any order, at most a few words apart. It is denied where a word of denial stands shortly
before it, with no joint between them, and is not itself a word of the phrase; then the answer that
the pack names for a denial holds, or none. Words that come after a denial in a phrase must do so in
the clause. Of the phrases found for one question the one with most and rarest words wins; where two
different answers are left, it is not clear which was meant.
"""

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import combinations, pairwise
from math import log
from pathlib import Path
from typing import Any

import msgspec

from mending.crash.screens import SeenCode, codes_in
from mending.knowledge import BASE_FOLDER, Codes, Pack, ReportKind, Sign, Step
from mending.model import PHASES
from mending.reason.likelihood import report_of, tool_report
from mending.reason.reach import AFTER_LOGO, possible_phases
from mending.reason.speech import JOINT, NOT, Clause, Listener, Phrase, is_denied, phrase_places

# A second opinion on what was understood: which answers go with which words, learned from labelled
# sentences.
#
# A linear model: one logistic regression for each answer over the words of a clause and their
# pairs, weighted by how rare they are (inverse document frequency) and brought to length 1. Phrases
# find an answer; where the clause has further words and the model holds the answer for unlikely, it
# is not taken without asking. The model is made by `make teach` with scikit-learn and applied with
# NumPy.


_LEAST = (0.4, 0.2, 0.05)
"""The chance below which an answer is asked about whose phrase has one, two, or more words: a wrong
reading counts five times a missed one, and what is asked is not lost.
"""
_WIDE, _SURE = 0.5, 0.6
"""Share of that which counts for the words between commas, which may tell of other things, too; and
the chance by the words between joints from which those are not asked.
"""


def is_doubtful(chances: Sequence[float], words: int) -> bool:
    """Whether an answer is to be asked about.

    Args:
        chances: by the words between the same joints, and by those between the same commas; none
            where there is nothing beside the phrase.
        words: of the phrase that it was found by.
    """
    least = _LEAST[min(words, len(_LEAST)) - 1]
    if not chances or chances[0] >= _SURE:
        return False
    return chances[0] < least or chances[-1] < least * _WIDE


def base_model() -> Path:
    """The model that Mending comes with."""
    return BASE_FOLDER / "second_opinion.npz"


def features_of(words: Sequence[str]) -> Iterator[str]:
    """The words of a clause, and each with the one behind it."""
    yield from words
    for first, second in pairwise(words):
        yield f"{first} {second}"


class SecondOpinion:
    """What the model says. Args: file: as `make teach` writes it."""

    def __init__(self, file: Path) -> None:
        self._file = file

    def chance(self, words: Sequence[str], answer: str) -> float:
        """How likely a clause of these words says `question=answer`; 1 where the model does not
        know the answer or none of the words.
        """
        model = self._model
        row = model["places"].get(answer)
        if row is None:
            return 1.0
        import numpy as np  # noqa: PLC0415 - lazy: only what is said needs it

        weighed = np.zeros(len(model["rarity"]))
        for feature in set(features_of(words)):
            at = model["features"].get(feature)
            if at is not None:
                weighed[at] = model["rarity"][at]
        length = float(np.sqrt(weighed @ weighed))
        if length == 0.0:
            return 1.0
        span = slice(model["begins"][row], model["begins"][row + 1])
        score = float(model["weights"][span] @ weighed[model["columns"][span]]) / length
        return float(1 / (1 + np.exp(-(score + model["offsets"][row]))))

    @cached_property
    def _model(self) -> dict[str, Any]:
        import numpy as np  # noqa: PLC0415 - lazy: only what is said needs it

        with np.load(self._file, allow_pickle=False) as kept:
            model: dict[str, Any] = {name: kept[name] for name in kept.files}
        model["places"] = {str(answer): at for at, answer in enumerate(model["answers"])}
        model["features"] = {str(feature): at for at, feature in enumerate(model["features"])}
        for name in ("weights", "rarity", "offsets"):
            model[name] = model[name].astype(float)
        return model


# Steps that somebody says were done already, and what came of them.
#
# "We swapped the memory, no difference" is a report of a step: neither a change before the trouble
# nor a state of the PC. The words that name the step are taken by it, unless an answer holds words
# of its outcome, too ("another screen shows the same").


_SHORT = 4
"""Words of a clause that tells what came of the one before it."""


class TriedBefore(msgspec.Struct, frozen=True, kw_only=True):
    """A step that was done before.

    Attributes:
        report: what it reported. failed: the trouble was still there afterwards.
        words: what was said.
        sure: whether it may be taken without asking.
    """

    step: str
    report: ReportKind
    failed: bool
    words: str
    sure: bool = True


class StepWords(msgspec.Struct, frozen=True):
    """Where a clause names a step (`places`) and its outcome (`outcome`), by places of words."""

    clause: Clause
    places: frozenset[int]
    outcome: frozenset[int]

    def holds(self, clause: Clause, places: Sequence[int]) -> bool:
        """Whether words belong to the step, and not to what came of it."""
        taken = set(places)
        return clause is self.clause and bool(taken & self.places) and not taken & self.outcome


def steps_tried(
    pack: Pack,
    clauses: Sequence[Clause],
    names: Mapping[str, Sequence[Phrase]],
    failing: Callable[[Clause], frozenset[int] | None],
) -> Iterator[tuple[TriedBefore, tuple[StepWords, ...]]]:
    """The steps that were done without success, or whose own test was passed or not.

    Args:
        names: by step, how people say that it was done.
        failing: the words with which a clause says that something did not help, if it does.
    """
    for number, clause in enumerate(clauses):
        named = _named(clause, names)
        if named is None:
            continue
        step, places = named
        after = [each for each in clauses[number + 1 : number + 2] if _is_short(each)]
        found = [(each, at) for each in (clause, *after) if (at := failing(each)) is not None]
        row = tool_report(pack, clause.text)
        tested = report_of(pack.steps[step], row) if row is not None else None
        if pack.steps[step].fixes:
            tested = None
        if tested is None and not found:
            continue
        outcome = frozenset(at for each, where in found if each is clause for at in where)
        behind = [StepWords(each, frozenset(), at) for each, at in found if each is not clause]
        report = tested or _outcome(pack.steps[step])
        yield (
            TriedBefore(step=step, report=report, failed=bool(found), words=clause.text),
            (StepWords(clause, places, outcome), *behind),
        )


def _is_short(clause: Clause) -> bool:
    """Whether it says hardly more than an outcome: "no change", not "still under warranty"."""
    return len(clause.text.split()) <= _SHORT


def _named(
    clause: Clause, names: Mapping[str, Sequence[Phrase]]
) -> tuple[str, frozenset[int]] | None:
    """The step that a clause names with most words, the closest together of these."""
    found = [
        (len(places), min(places) - max(places), step, frozenset(places))
        for step, phrases in names.items()
        for phrase in phrases
        if (places := phrase_places(clause.words, phrase))
    ]
    if not found:
        return None
    _, _, step, taken = max(found, key=lambda row: row[:2])
    return step, taken


def _outcome(step: Step) -> ReportKind:
    """What a step reported of which only is known that it did not help."""
    return ReportKind.DONE if step.fixes else ReportKind.NOTHING_WRONG


_ACROSS = 0.65
"""What a phrase counts that is found across a joint, where words may belong to different things."""
_MANY = 3
"""What holds one word alone for itself has so many words at least."""
_CUT = " . "
"""What stands where words were taken out: a clause ends there."""
_TELLING = ("stop", "message", "status")
"""Kinds of codes, those first that say more of what stands on the screen."""
_ALSO, _ALSO_REPAIR = 0.6, 0.2
"""A screen is told of in its own right from this part of the best phrase's weight; what a repair
says is known for one that is told of.
"""


class UnderstoodAnswer(msgspec.Struct, frozen=True, kw_only=True):
    """An answer that was heard.

    Attributes:
        question: the sign or fact.
        words: what was said that means it.
        sure: whether it may be taken without asking.
    """

    question: str
    answer: str
    words: str
    sure: bool


class Reading(msgspec.Struct, frozen=True):
    """One thing that was understood, as it is shown; whether it is taken without asking."""

    says: str
    sure: bool


class Statement(msgspec.Struct, frozen=True, kw_only=True):
    """What was understood of a text.

    Attributes:
        text: what was said.
        signs: and `facts`: at most one answer to a question, in the order of the pack.
        codes: codes and messages in it.
        unclear: questions to which two different answers were heard, with these.
        left: pieces in which nothing was understood.
        before: screens that were seen before the one that `signs` tells of, in their order.
        tried: steps that were done before.
    """

    text: str
    signs: tuple[UnderstoodAnswer, ...] = ()
    facts: tuple[UnderstoodAnswer, ...] = ()
    codes: tuple[SeenCode, ...] = ()
    unclear: Mapping[str, tuple[str, ...]] = {}
    left: tuple[str, ...] = ()
    before: tuple[UnderstoodAnswer, ...] = ()
    tried: tuple[TriedBefore, ...] = ()

    @property
    def readings(self) -> tuple[Reading, ...]:
        """What was understood, one by one, in the order of their numbers: answers, then steps that
        were done before.
        """
        answers = [
            Reading(f"{each.question}={each.answer}", each.sure)
            for each in (*self.signs, *self.facts)
        ]
        steps = [
            Reading(f"{each.step}: {each.report}" + ", did not help" * each.failed, each.sure)
            for each in self.tried
        ]
        return (*answers, *steps)

    @property
    def sure(self) -> "Statement":
        """The same without what has to be asked."""
        return msgspec.structs.replace(
            self,
            signs=tuple(answer for answer in self.signs if answer.sure),
            facts=tuple(answer for answer in self.facts if answer.sure),
            before=tuple(answer for answer in self.before if answer.sure),
            tried=tuple(each for each in self.tried if each.sure),
        )


class _Heard(msgspec.Struct, frozen=True):
    """A phrase of an answer that was found in a clause."""

    answer: str
    clause: Clause
    places: tuple[int, ...]
    weight: float
    sure: bool

    def has_all_of(self, other: "_Heard") -> bool:
        """Whether it says all that another one says, and more."""
        return self.clause is other.clause and set(other.places) < set(self.places)

    def spans(self) -> tuple[range, range]:
        """The places of the words that stand between the same joints as the phrase, and of those
        between the same commas.
        """
        words, first, last = self.clause.words, min(self.places), max(self.places)
        joints = [at for at, word in enumerate(words) if word == JOINT]
        begin = max((at + 1 for at in joints if at < first), default=0)
        end = min((at for at in joints if at > last), default=len(words))
        near = [at for _, at in self.clause.pieces if at.stop > first and at.start <= last]
        return range(begin, end), range(near[0].start, near[-1].stop)


class Understanding:
    """Understands what people say in the words of one pack.

    Args:
        model: the one that gives a second opinion; the one that Mending comes with.
    """

    def __init__(self, pack: Pack, codes: Codes, model: Path | None = None) -> None:
        self._pack, self._codes = pack, codes
        self._opinion = SecondOpinion(model or base_model())

    def words_of(self, text: str) -> list[str]:
        """The comparable words of a text, clause by clause."""
        return [word for clause in self._listener.clauses(text) for word in clause.words]

    def of(self, text: str) -> Statement:
        """What a text says. Words of a code or message that is known, and notices that say nothing
        of this PC, are taken out before the rest is understood.
        """
        codes = codes_in(text, self._codes) if _may_hold_code(text) else ()
        clauses = [
            self._with_advice(clause)
            for clause in self._listener.clauses(self._without_notices(_without_codes(text, codes)))
        ]
        done = list(steps_tried(self._pack, clauses, self._step_names, self._came_to_nothing))
        taken = [words for _, several in done for words in several]
        heard = {
            name: found
            for name, phrases in self._phrases.items()
            if (found := list(self._heard(name, phrases, clauses, taken)))
        }
        answers, unclear = {}, {}
        in_turn = {
            name: self._screens_in_turn(name, clauses, heard.get(name, []))
            for name in {screen.answers[0] for screen in self._pack.screens.values()}
            if self._turns.search(text)
        }
        screens = in_turn.get(AFTER_LOGO, ())
        for name, found in heard.items():
            if len(in_turn.get(name, ())) > 1:
                answers[name] = in_turn[name][-1]
                continue
            left = [each for each in found if not any(more.has_all_of(each) for more in found)]
            best = max(each.weight for each in left)
            first = next(each for each in left if each.weight == best)
            rivals = dict.fromkeys(each.answer for each in left if each.weight == best)
            if len(rivals) > 1:
                unclear[name] = tuple(rivals)
            else:
                answers[name] = UnderstoodAnswer(
                    question=name, answer=first.answer, words=first.clause.text, sure=first.sure
                )
        settled = {name for name, told in in_turn.items() if len(told) > 1}
        self._drop_borrowed(answers, heard, settled)
        self._drop_impossible(answers, heard)
        self._doubt(answers, heard)
        for answer in _implied(codes):
            answers[answer.question] = answer
            unclear.pop(answer.question, None)
        return Statement(
            text=text,
            codes=codes,
            signs=tuple(answers[name] for name in self._pack.signs if name in answers),
            facts=tuple(answers[name] for name in self._pack.facts if name in answers),
            unclear=unclear,
            before=screens[:-1] if AFTER_LOGO in answers else (),
            tried=tuple(row for row, _ in done),
            left=() if codes else tuple(_left(clauses, heard, taken)),
        )

    def _screens_in_turn(
        self, name: str, clauses: list[Clause], found: list[_Heard]
    ) -> tuple[UnderstoodAnswer, ...]:
        """What the screen showed first, then and in the end, where somebody tells of several: each
        piece between joints and commas has one, the phrase with most and rarest words.
        """
        best: dict[tuple[int, int], _Heard] = {}
        for each in found:
            at = next(number for number, clause in enumerate(clauses) if clause is each.clause)
            places = range(min(each.places), max(each.places))
            if JOINT in [each.clause.words[place] for place in places]:
                continue
            piece = at, each.clause.words[: min(each.places)].count(JOINT)
            if piece not in best or each.weight > best[piece].weight:
                best[piece] = each
        most = max((each.weight for each in best.values()), default=0.0)
        if len(best) > 1:  # that it restarts then is no screen of its own
            telling = {at: each for at, each in best.items() if self._tells(name, each.answer)}
            best = telling or best
        told = [
            UnderstoodAnswer(
                question=name, answer=each.answer, words=each.clause.text, sure=each.sure
            )
            for _, each in sorted(best.items())
            if each.weight >= (_ALSO if name == AFTER_LOGO else _ALSO_REPAIR) * most
        ]
        last = {self._whole(name, each.answer): each for each in told}
        kinds = list(dict.fromkeys(self._whole(name, each.answer) for each in told))
        if len(kinds) < 2:
            return ()
        return tuple(last[kind] for kind in kinds)

    def _tells(self, name: str, answer: str) -> bool:
        return self._pack.screens[f"{name}={answer}"].passed is not PHASES[0]

    def _whole(self, name: str, answer: str) -> str:
        """The answer that another one is a part of."""
        return self._pack.signs[name].answers[answer].part_of or answer

    @cached_property
    def _turns(self) -> "re.Pattern[str]":
        words = "|".join(re.escape(word) for word in self._pack.speech.turns)
        return re.compile(rf"\b(?:{words})\b" if words else r"(?!)", re.I)

    def _drop_borrowed(
        self,
        answers: dict[str, UnderstoodAnswer],
        heard: Mapping[str, list[_Heard]],
        settled: set[str],
    ) -> None:
        """Of several words each speaks of one thing: an answer goes where an answer to another
        question holds all its words and more. "The lock light does not change" is not about what
        changed. One word alone may well tell two things, unless many hold it: "sometimes" in
        "setup sees the drive sometimes" is not about when it fails. Args: settled: these stay.
        """
        best = {
            name: max(
                (each for each in heard[name] if each.answer == answer.answer),
                key=lambda each: each.weight,
            )
            for name, answer in answers.items()
        }
        for name, mine in best.items():
            if name in settled:
                continue
            holding = max(
                (
                    len(theirs.places)
                    for theirs in best.values()
                    if mine.clause is theirs.clause and set(mine.places) < set(theirs.places)
                ),
                default=0,
            )
            is_denial = NOT in {mine.clause.words[at] for at in mine.places}
            alone = len(mine.places) == 1 and not is_denial
            if holding >= (_MANY if alone else 2):
                del answers[name]

    def _drop_impossible(
        self, answers: dict[str, UnderstoodAnswer], heard: Mapping[str, list[_Heard]]
    ) -> None:
        """Of two answers that no start shows together the one with commoner words goes."""
        weights = {
            name: max(each.weight for each in heard[name] if each.answer == answer.answer)
            for name, answer in answers.items()
        }
        for name, other in combinations(list(answers), 2):
            rows = {each: self._pack.signs.get(each) for each in (name, other)}
            if name not in answers or other not in answers or None in rows.values():
                continue
            phases = [
                set(possible_phases(sign.answers[answers[each].answer]))
                for each, sign in rows.items()
                if sign is not None
            ]
            if not phases[0] & phases[1]:
                del answers[min(name, other, key=lambda each: weights[each])]

    def _doubt(
        self, answers: dict[str, UnderstoodAnswer], heard: Mapping[str, list[_Heard]]
    ) -> None:
        """What hardly goes with the other words that stand between the same joints, or
        commas, is not sure.
        """
        for name, answer in answers.items():
            best = max(
                (each for each in heard[name] if each.answer == answer.answer),
                key=lambda each: each.weight,
            )
            told = f"{name}={answer.answer}"
            chances = [
                self._opinion.chance(words, told)
                for span in best.spans()
                if set(words := best.clause.words[span.start : span.stop]) - {JOINT, NOT}
                > {best.clause.words[at] for at in best.places} - {JOINT, NOT}
            ]
            if is_doubtful(chances, len(best.places)):
                answers[name] = msgspec.structs.replace(answer, sure=False)

    def _without_notices(self, text: str) -> str:
        return _CUT.join(self._notices.split(text)) if self._pack.speech.notices else text

    @cached_property
    def _notices(self) -> "re.Pattern[str]":
        return _any_of(self._pack.speech.notices)

    @cached_property
    def _questions(self) -> dict[str, Sign]:
        return {**self._pack.signs, **self._pack.facts}

    @cached_property
    def _listener(self) -> Listener:
        said = [
            text
            for sign in self._questions.values()
            for answer in sign.answers.values()
            for text in answer.words
        ]
        said += [text for step in self._pack.steps.values() for text in step.said]
        said += self._pack.speech.absences
        return Listener(self._pack.speech, said)

    @cached_property
    def _phrases(self) -> dict[str, list[tuple[str, Phrase]]]:
        """By question: answers and phrases that mean them."""
        return {
            name: [
                (answer, self._listener.phrase(text))
                for answer, row in sign.answers.items()
                for text in row.words
            ]
            for name, sign in self._questions.items()
        }

    @cached_property
    def _step_names(self) -> dict[str, list[Phrase]]:
        """By step, how people say that it was done."""
        return {
            step.id: self._phrases_of(step.said) for step in self._pack.steps.values() if step.said
        }

    def _phrases_of(self, texts: Iterable[str]) -> list[Phrase]:
        return [phrase for text in texts if (phrase := self._listener.phrase(text))]

    def _came_to_nothing(self, clause: Clause) -> frozenset[int] | None:
        """The words of a clause from which on it says that something did not help, to the end of
        the piece between commas; None where it does not.
        """
        found = self._futile.search(clause.text)
        if found is None:
            return None
        first = self._listener.count_before(clause, found.start())
        ends = [places.stop for _, places in clause.pieces if places.stop > first]
        return frozenset(range(first, min(ends, default=len(clause.words))))

    @cached_property
    def _futile(self) -> "re.Pattern[str]":
        return _any_of(self._pack.speech.futile)

    @cached_property
    def _advice(self) -> "re.Pattern[str]":
        return _any_of(self._pack.speech.advice)

    @cached_property
    def _absences(self) -> frozenset[str]:
        phrases = [self._listener.phrase(text) for text in self._pack.speech.absences]
        return frozenset(word for phrase in phrases for part in phrase for word in part)

    @cached_property
    def _rarity(self) -> dict[str, float]:
        """The logarithm of how seldom a word is in phrases: rare ones tell more (Sparck Jones,
        Journal of Documentation 28, 1972).
        """
        phrases = [phrase for rows in self._phrases.values() for _, phrase in rows]
        counts = Counter(word for phrase in phrases for part in phrase for word in part)
        return {word: log(len(phrases) / count) for word, count in counts.items()}

    def _heard(
        self,
        name: str,
        phrases: list[tuple[str, Phrase]],
        clauses: list[Clause],
        taken: list[StepWords],
    ) -> Iterator[_Heard]:
        """Where phrases of a question stand; not in words of steps that were done before."""
        is_shown = any(row.startswith(f"{name}=") for row in self._pack.screens)
        for clause in clauses:
            words = set(clause.words)
            advised = len(clause.words) if is_shown else clause.advised
            for answer, phrase in phrases:
                if any(not part & words for part in phrase):
                    continue
                places = phrase_places(clause.words, phrase)
                if places is None or min(places) >= advised:
                    continue
                if is_denied(clause.words, places, self._absences):
                    meant = self._questions[name].answers[answer].denied
                else:
                    meant = answer
                if not meant:
                    continue
                weight = sum(self._rarity[clause.words[at]] for at in places)
                if JOINT in clause.words[min(places) : max(places)]:
                    weight *= _ACROSS
                if any(each.holds(clause, places) for each in taken):
                    continue
                said = {clause.words[at] for at in places}
                in_doubt = any(
                    not doubt <= said and any(at in doubted for at in places)
                    for doubt, doubted in clause.unsure
                )
                sure = not in_doubt and len(said & clause.guessed) < len(places)
                yield _Heard(meant, clause, places, weight, sure)

    def _with_advice(self, clause: Clause) -> Clause:
        found = self._advice.search(clause.text)
        at = self._listener.count_before(clause, found.start()) if found else len(clause.words)
        return msgspec.structs.replace(clause, advised=at)


def _any_of(patterns: Sequence[str]) -> "re.Pattern[str]":
    """What finds any of the patterns; without any, nothing."""
    return re.compile("|".join(f"(?:{row})" for row in patterns) or r"(?!)", re.I)


def _implied(codes: Iterable[SeenCode]) -> Iterator[UnderstoodAnswer]:
    """What follows from codes and messages; of two answers to a question the more telling one."""
    implied: dict[str, str] = {}
    for code in sorted(codes, key=lambda code: _TELLING.index(code.kind)):
        for name, answer in code.implies.items():
            if implied.setdefault(name, answer) == answer:
                yield UnderstoodAnswer(question=name, answer=answer, words=code.words, sure=True)


def _without_codes(text: str, codes: tuple[SeenCode, ...]) -> str:
    """A text without the words that codes and messages were read from."""
    for code in codes:
        if code.found:
            text = text.replace(code.found, " " if code.code else _CUT, 1)
    return text


def _may_hold_code(text: str) -> bool:
    """One plain word is no code: "a", "be" and "dead" are hexadecimal numbers, too."""
    return len(text.split()) > 1 or text.lower().startswith("0x") or "_" in text


def _left(
    clauses: list[Clause], heard: Mapping[str, list[_Heard]], taken: list[StepWords]
) -> Iterator[str]:
    """The pieces of what was said that neither a phrase nor a step that was done touches."""
    every = [each for found in heard.values() for each in found]
    for clause in clauses:
        told = {at for each in every if each.clause is clause for at in each.places}
        told |= {at for each in taken if each.clause is clause for at in each.places | each.outcome}
        for text, places in clause.pieces:
            if {clause.words[at] for at in places} - {JOINT, NOT} and not told & set(places):
                yield text
