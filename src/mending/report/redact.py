"""What is private in free text of evidence, taken out by its form: folders of users, addresses,
names of machines and accounts.

The fields of a case that are private are taken out before a report is made of it
(`case/private.py`). What is left are sentences that logs and screens show, in which a name stands
where its form says so; nothing else is changed.
"""

import re

from mending.case.private import GONE
from mending.report.document import HandOver, mapped

_FORMS = (
    re.compile(r"(?i)((?:/|\\)(?:home|users)(?:/|\\))[^/\\\s,;:\"'”]+"),
    re.compile(r"[\w.+-]+@[\w-]+\.[\w.-]+"),
    re.compile(r"\\\\[\w.-]+(?=\\)"),
    re.compile(
        r"(?i)(\b(?:host|hostname|computer|user|account|owner)(?:[=:]+ ?| name | named )\"?)"
        r"[\w.\\-]+"
    ),
    re.compile(r"(?i)(\bsession \w+ for user |\baccount |\blogin name )[\w.\\-]+"),
    re.compile(r"\b(?:[0-9a-fA-F]{2}[:-]){5}[0-9a-fA-F]{2}\b"),
    re.compile(r"\bS-1-5-21(?:-\d+)+"),
)
"""Folders of users, addresses, names of machines and accounts, network cards, account numbers."""


def redacted(report: HandOver) -> HandOver:
    """The report without what has the form of something private."""

    def change(text: str) -> str:
        for form in _FORMS:
            text = form.sub(lambda found: (found.group(1) if found.re.groups else "") + GONE, text)
        return text

    return mapped(report, change)
