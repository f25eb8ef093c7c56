"""What a person says, as words that can be compared: clauses of stems, other ways of saying the
same made one, typing mistakes put right.

A text is cut into clauses at its punctuation, commas apart. Each word is brought to its stem
(Porter's stemmer for English in its second form, snowballstemmer). Then whatever the pack counts as
one way of saying the same, of one word or of several that may have a word between them ("turn it
on"), becomes one word. A word that no phrase knows and that is nearly one that some phrase knows is
taken for it. A doubt is one of the piece between commas in which it stands; a piece that is nothing
but a doubt ("it is the fan, I think") speaks of the whole clause.
"""

import re
from collections.abc import Iterable, Sequence
from functools import cache
from itertools import groupby, product
from math import prod
from typing import Any

import msgspec

from mending.knowledge import Speech
from mending.model import load_rapidfuzz

NOT, JOINT = "not", ","
"""What every word of denial becomes; where the reach of a denial ends inside a clause."""
_WORD = re.compile(r"[a-z0-9]+")
_MARKS = re.compile(r"[.;:!?]+(?=\s|$)|[()\"\n]+| - |\u2013|\u2014")
_CONTRACTED = (
    (re.compile(r"\b(?:wo|sha)n['\u2019]?t\b"), "not"),
    (re.compile(r"\bca(?:nno|n['\u2019]?)t\b"), "not"),
    (re.compile(r"\b(do|does|did|is|was|are|were|has|have|had|would|could)n['\u2019]?t\b"), "not"),
    (re.compile(r"['\u2019](?:s|re|ve|ll|d|m)\b"), " "),
)
_BETWEEN = 2
"""So many words may stand inside a way of saying that has several."""
_SHORT, _LEAST_LENGTH, _LONG = 4, 5, 8
"""A word is only taken for a known one that is longer than the first; words shorter than the
second are never taken for mistyped ones; from the third length on two mistakes are forgiven.
"""
_MOST_WORDS = 400


class Clause(msgspec.Struct, frozen=True):
    """A piece of what was said.

    Attributes:
        text: as it was said.
        words: the same as comparable words.
        pieces: the parts between its commas, each with the places of its words.
        guessed: words that were taken for one that is nearly the same.
        unsure: the words with which the person said not to be sure, those that say nothing apart,
            and the places that it is said of.
        advised: the place from which on it says only what a screen proposes.
    """

    text: str
    words: tuple[str, ...]
    pieces: tuple[tuple[str, range], ...]
    guessed: frozenset[str] = frozenset()
    unsure: tuple[tuple[frozenset[str], range], ...] = ()
    advised: int = 0


class Listener:
    """Cuts texts into clauses, in the words of a pack.

    Args:
        speech: the pack's table of how people speak.
        phrases: everything that may be said, for the words in it; alternatives are divided by `|`.
    """

    def __init__(self, speech: Speech, phrases: Iterable[str]) -> None:
        self._stems: dict[str, str] = {}
        self._fillers = {self._stem(word) for word in speech.fillers}
        self._denials = {self._stem(word) for word in speech.denials}
        self._joints = {self._stem(word) for word in speech.joints} | {JOINT}
        self._unsure = [self._stemmed(text) for text in speech.unsure]
        ways = [
            (tuple(self._role(stem) for stem in self._stemmed(way)), meant)
            for meant, others in speech.same.items()
            for way in (meant, *others)
        ]
        self._alone = {way[0]: meant for way, meant in ways if len(way) == 1}
        self._ways: dict[str, list[tuple[tuple[str, ...], str]]] = {}
        for way, meant in sorted(ways, key=lambda way: -len(way[0])):
            if len(way) > 1:
                self._ways.setdefault(way[0], []).append((way, meant))
        words = {word for text in phrases for word in re.split(r"[ |]+", text)}
        ways_words = {word for way, _ in ways for word in way}
        self._known = {self._stem(word) for word in words} | ways_words | self._denials
        self._known |= (
            self._fillers | self._joints | {word for part in self._unsure for word in part}
        )

    def clauses(self, text: str) -> list[Clause]:
        """The clauses of a text that say anything."""
        plain = text.lower()
        for mark, instead in _CONTRACTED:
            plain = mark.sub(instead, plain)
        found = (self._clause(" ".join(part.split())) for part in _MARKS.split(plain))
        return [clause for clause in found if set(clause.words) - {JOINT}]

    def count_before(self, clause: Clause, offset: int) -> int:
        """How many of a clause's words stand before a place in its text."""
        clauses = self.clauses(clause.text[:offset])
        return len(clauses[0].words) if clauses else 0

    def phrase(self, text: str) -> tuple[frozenset[str], ...]:
        """A phrase of the pack: for each of its words those that may stand for it."""
        idle = {JOINT, "", *self._fillers}
        parts: list[frozenset[str]] = []
        for chosen, words in groupby(text.split(), lambda word: "|" in word):
            if chosen:
                sets = (
                    {self._one(self._stemmed(one)) for one in word.split("|")} for word in words
                )
                parts += [frozenset(found - idle) for found in sets if found - idle]
            else:
                parts += [frozenset({word}) for word in self._plain(self._stemmed(" ".join(words)))]
        return tuple(parts)

    def _one(self, stems: Sequence[str]) -> str:
        return next(iter(self._same([self._role(stem) for stem in stems])), "")

    def _clause(self, text: str) -> Clause:
        words: list[str] = []
        pieces = []
        guessed: set[str] = set()
        doubts: list[tuple[frozenset[str], range | None]] = []
        for part in text.split(","):
            stems = self._heard_stems(part, guessed)
            begin = len(words)
            words += self._plain(stems)
            places = range(begin, len(words))
            pieces.append((part.strip(), places))
            for phrase in self._unsure:
                if _holds(stems, phrase):
                    alone = set(stems) <= {*phrase, *self._fillers}
                    of = None if alone else self._doubted(stems, phrase, begin)
                    doubts.append((frozenset(self._plain(phrase)), of))
            words.append(JOINT)
        whole = range(len(words))
        unsure = tuple((doubt, whole if of is None else of) for doubt, of in doubts)
        return Clause(text, tuple(words[:-1]), tuple(pieces), frozenset(guessed), unsure)

    def _doubted(self, stems: list[str], doubt: Sequence[str], begin: int) -> range:
        """The places, from `begin`, of what stands between the same joints as a doubt."""
        at = next(at for at in range(len(stems)) if stems[at : at + len(doubt)] == list(doubt))
        ends = [place for place, stem in enumerate(stems) if self._role(stem) == JOINT]
        first = max((end for end in ends if end < at), default=0)
        last = min((end for end in ends if end >= at + len(doubt)), default=len(stems))
        return range(
            begin + len(self._plain(stems[:first])), begin + len(self._plain(stems[:last]))
        )

    def _heard_stems(self, text: str, guessed: set[str]) -> list[str]:
        """The stems of what was said; a word that is nearly a known one becomes that and is added
        to `guessed`.
        """
        stems = []
        for word in _WORD.findall(text)[:_MOST_WORDS]:
            stem = self._stem(word)
            if stem not in self._known and (meant := self._nearest(word, stem)):
                stem = meant
                guessed.add(meant)
            stems.append(stem)
        return stems

    def _plain(self, stems: Iterable[str]) -> list[str]:
        """Stems with other ways of saying made one, and without words that say nothing."""
        same = self._same([self._role(stem) for stem in stems])
        return [word for word in same if word not in self._fillers]

    def _role(self, stem: str) -> str:
        if stem in self._denials:
            return NOT
        return JOINT if stem in self._joints else stem

    def _same(self, stems: Sequence[str]) -> list[str]:
        """With every way of saying replaced by the one word that it counts as."""
        words = list(stems)
        at = 0
        while at < len(words):
            found = self._longest_way(words, at)
            if found is None:
                words[at] = self._alone.get(words[at], words[at])
            else:
                places, words[at] = found
                for place in reversed(places[1:]):
                    del words[place]
            at += 1
        return words

    def _longest_way(self, words: Sequence[str], at: int) -> tuple[list[int], str] | None:
        """The way of saying with most words that begins there, the closest together of those."""
        found = [
            (places, meant)
            for way, meant in self._ways.get(words[at], ())
            if (places := _places(words, way, at))
        ]
        return max(found, key=lambda row: (len(row[0]), -row[0][-1]), default=None)

    def _nearest(self, word: str, stem: str) -> str:
        """The known stem that this one is nearly, or nothing."""
        if len(word) < _LEAST_LENGTH or not word.isalpha():
            return ""
        rapidfuzz = load_rapidfuzz()
        mistakes = 2 if len(stem) >= _LONG else 1
        alike = [known for known in self._known if known[:1] == stem[:1] and len(known) > _SHORT]
        near = rapidfuzz.process.extractOne(
            stem,
            sorted(alike),
            scorer=rapidfuzz.distance.OSA.distance,
            score_cutoff=mistakes,
        )
        return str(near[0]) if near else ""

    def _stemmed(self, text: str) -> list[str]:
        return [self._stem(word) for word in _WORD.findall(text.lower())]

    def _stem(self, word: str) -> str:
        if word not in self._stems:
            self._stems[word] = str(_stemmer().stemWord(word))
        return self._stems[word]


@cache
def _stemmer() -> Any:
    import snowballstemmer  # noqa: PLC0415 - lazy: only what is said needs it

    return snowballstemmer.stemmer("english")


def _holds(words: Sequence[str], part: Sequence[str]) -> bool:
    return any(list(words[at : at + len(part)]) == list(part) for at in range(len(words)))


def _places(words: Sequence[str], way: Sequence[str], first: int) -> list[int]:
    """Where the words of a way of saying stand that begins there; nothing if it does not."""
    places = [first]
    for word in way[1:]:
        reach = range(places[-1] + 1, min(places[-1] + 1 + _BETWEEN, len(words)))
        place = next((at for at in reach if words[at] == word), None)
        if place is None:
            return []
        places.append(place)
    return places


# Where a phrase of the pack stands in what was said, and whether it is denied there.
#
# A phrase is found in a clause where each of its words stands, in any order, at most a few words
# apart. It is denied where a word of denial stands shortly before it, with no joint between them,
# and is not itself a word of the phrase, or where one stands between it and a verb of being there.


_APART = 4
"""So many other words may stand among those of a phrase."""
_REACH = 3
"""A word of denial speaks of what begins at most so many words behind it."""
_NEXT = 2
"""In a phrase with a denial its next word comes at most so many places behind it."""
_MOST_PLACINGS = 64

Phrase = tuple[frozenset[str], ...]
"""For each word of a phrase those that may stand for it."""


def phrase_places(words: tuple[str, ...], phrase: Phrase) -> tuple[int, ...] | None:
    """Where the words of a phrase stand closest together; None where they are too far apart."""
    where = [[at for at, word in enumerate(words) if word in part] for part in phrase]
    if prod(len(places) for places in where) > _MOST_PLACINGS:
        where = [places[:2] for places in where]
    placings = [placing for placing in product(*where) if _fits(words, placing)]
    if not placings:
        return None
    best = min(placings, key=lambda placing: max(placing) - min(placing))
    near = max(best) - min(best) < len(phrase) + _APART
    return best if near else None


def _fits(words: tuple[str, ...], placing: tuple[int, ...]) -> bool:
    """Each word in a place of its own, and no joint in between where a denial belongs to them."""
    if len(set(placing)) < len(placing):
        return False
    denial = next((at for at in placing if words[at] == NOT), None)
    if denial is None:
        return True
    behind = placing[placing.index(denial) + 1 :]
    if JOINT in words[min(placing) : max(placing)] or any(at < denial for at in behind):
        return False
    return not behind or min(behind) - denial <= _NEXT


def is_denied(
    words: tuple[str, ...], places: tuple[int, ...], absences: frozenset[str] = frozenset()
) -> bool:
    """Whether a word of denial, which is none of the phrase, speaks of it.

    Args:
        absences: verbs that deny what stands before them where a word of denial stands between.
    """
    first, last = min(places), max(places)
    if JOINT in words[first:last]:
        return (
            False  # what is denied is a part of it at most: "not the monitor, I swapped that, same"
        )
    if words[last + 1 : last + 2] == (NOT,) and set(words[last + 2 : last + 4]) & absences:
        return True
    for at in range(max(places), max(first - _REACH, 0) - 1, -1):
        if at < first and words[at] == JOINT:
            return False
        if words[at] == NOT and at not in places:
            return True
    return False
