"""A report without what is private: names, serial numbers, paths of users, names of machines, and
whatever somebody said or wrote in words of their own.

What is known to be private is taken out wherever it stands; what looks like it, by its form.
"""

import re
from collections.abc import Iterable

from mending.report.document import HandOver, mapped

GONE = "[taken out]"
_SHORTEST = 3
"""Shorter strings stand in too many words to be replaced."""
_FORMS = (
    re.compile(r"(?i)((?:/|\\)(?:home|users)(?:/|\\))[^/\\\s,;:\"'”]+"),
    re.compile(r"[\w.+-]+@[\w-]+\.[\w.-]+"),
    re.compile(r"\\\\[\w.-]+(?=\\)"),
    re.compile(r"(?i)(\b(?:host|hostname|computer|user|account|owner)[ =:]+)[\w.\\-]+"),
    re.compile(r"\b(?:[0-9a-fA-F]{2}[:-]){5}[0-9a-fA-F]{2}\b"),
    re.compile(r"\bS-1-5-21(?:-\d+)+"),
    re.compile(r"“[^”]*”"),
)
"""Folders of users, addresses, names of machines and accounts, network cards, account numbers, and
everything in quotation marks, which somebody said.
"""


def redacted(report: HandOver, private: Iterable[str]) -> HandOver:
    """The report without what is private.

    Args:
        private: strings that are; longer ones are taken out first.
    """
    known = sorted({each for each in private if len(each) >= _SHORTEST}, key=len, reverse=True)
    exact = re.compile("|".join(re.escape(each) for each in known)) if known else None

    def change(text: str) -> str:
        text = exact.sub(GONE, text) if exact is not None else text
        for form in _FORMS:
            text = form.sub(lambda found: (found.group(1) if found.re.groups else "") + GONE, text)
        return text

    return mapped(report, change)
