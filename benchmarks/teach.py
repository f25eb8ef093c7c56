"""Make the model that gives a second opinion on what was understood, from labelled sentences and
the phrases of the pack; and one that has not seen the other half of the sentences, by which the
benchmark measures. Needs scikit-learn; prints what it wrote.
"""

import re
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from sklearn.feature_extraction.text import TfidfVectorizer
from sklearn.linear_model import LogisticRegression

from benchmarks.understanding import HALF, Labelled, halves, read
from mending.knowledge import Pack, base_codes, base_pack
from mending.reason import Understanding
from mending.reason.statements import base_model, features_of

_LEAST_EXAMPLES = 4
_LEAST_WEIGHT = 0.05
_SOFTNESS = 40.0
"""The inverse of the penalty on large weights; of 10, 20, 40 the best on sentences held back."""


def _examples(pack: Pack, sentences: Sequence[Labelled]) -> list[Labelled]:
    """Sentences to learn from, and every phrase of the pack as if somebody said it."""
    phrases = [
        Labelled(re.sub(r"\|\S+", "", text), frozenset({f"{name}={answer}"}), frozenset())
        for name, sign in {**pack.signs, **pack.facts}.items()
        for answer, row in sign.answers.items()
        for text in row.words
    ]
    return [*sentences, *read("sentences_more.txt"), *phrases]


def run() -> None:
    """Write both models."""
    sentences = read("sentences.txt")
    _teach(sentences, base_model())
    _teach(halves(sentences)[0], HALF)


def _teach(sentences: Sequence[Labelled], where: Path) -> None:
    pack = base_pack()
    examples = _examples(pack, sentences)
    understanding = Understanding(pack, base_codes())
    vectorizer = TfidfVectorizer(
        analyzer=lambda text: list(features_of(understanding.words_of(text))),
        sublinear_tf=True,
        min_df=2,
    )
    table = vectorizer.fit_transform([row.said for row in examples])
    names = sorted({name for row in examples for name in row.must})
    answers, offsets, begins, columns, weights = [], [], [0], [], []
    for name in names:
        is_there = np.array([name in row.must for row in examples])
        if is_there.sum() < _LEAST_EXAMPLES:
            continue
        counts = np.array([name in row.must or name not in row.may for row in examples])
        fitted = LogisticRegression(C=_SOFTNESS, solver="liblinear", max_iter=300)
        fitted.fit(table[counts], is_there[counts])
        row = fitted.coef_[0]
        kept = np.flatnonzero(np.abs(row) >= _LEAST_WEIGHT)
        answers.append(name)
        offsets.append(fitted.intercept_[0])
        columns.append(kept)
        weights.append(row[kept])
        begins.append(begins[-1] + len(kept))
    np.savez_compressed(
        where,
        answers=np.array(answers),
        features=vectorizer.get_feature_names_out().astype(str),
        rarity=vectorizer.idf_.astype(np.float32),
        offsets=np.array(offsets, np.float32),
        begins=np.array(begins, np.int32),
        columns=np.concatenate(columns).astype(np.int32),
        weights=np.concatenate(weights).astype(np.float16),
    )
    print(
        f"{where.name}: {len(answers)} answers, {len(vectorizer.idf_)} features,"
        f" {where.stat().st_size:,} bytes"
    )


if __name__ == "__main__":
    run()
