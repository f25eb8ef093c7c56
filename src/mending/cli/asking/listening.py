"""What somebody said, shown as it was understood, and asked whether that is right."""

from mending.app.listening import assured, corrected
from mending.cli.echo import confirmed as is_confirmed
from mending.cli.show.case.cases import show_statement
from mending.cli.show.console import say
from mending.knowledge import Pack
from mending.reason import Statement


def confirmed(statement: Statement, pack: Pack) -> Statement:
    """A statement with what the person at the keyboard says of it."""
    say(show_statement(statement))
    answers = (*statement.signs, *statement.facts)
    sure = [answer for answer in answers if answer.sure]
    doubtful = [answer for answer in answers if not answer.sure]
    if sure and not is_confirmed("Is that right?", default=True):
        doubtful = [*sure, *doubtful]
    wrong = []
    for answer in doubtful:
        question = pack.question(answer.question)
        says = question.answers[answer.answer].says if question is not None else answer.answer
        asks = question.asks if question is not None else answer.question
        if not is_confirmed(f"{asks} {says}: is that meant?", default=True):
            wrong.append(answer.question)
    return assured(corrected(statement, wrong))
