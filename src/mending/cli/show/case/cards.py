"""Cards of steps as a person reads them."""

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, rows, text, title
from mending.knowledge import CASE, HowTo
from mending.reason import ROLES, VolumesResult, size_words


def show_how_to(card: HowTo, named: str = CASE) -> RenderableType:
    """How one step is done, under its name. Args: named: the case, as the person named it."""
    span = f"the end comes after {card.earliest:g} to {card.latest:g} min"
    return Group(
        title(f"{card.step}  ({span})"),
        indented(rows([("what", card.does), ("how", card.how), ("where", card.stands)], wide=1)),
        show_parts(card, named),
    )


def show_parts(card: HowTo, named: str = CASE) -> RenderableType:
    """The parts of a step and what goes with them, without its name and what it is."""
    blocks: list[RenderableType] = []
    if card.command:
        says = "Mending does it, with the disk on the bench or from a stick: "
        blocks.append(indented(text(says + card.command.replace(CASE, named), "bold")))
    for own in card.own:
        about = f" ({own.about})" if own.about else ""
        blocks.append(indented(text(f"In the shop's own words{about}:", "bold")))
        lines = [text(line.replace(CASE, named)) for line in own.lines]
        blocks.append(indented(indented(*lines)))
    parts = [(str(number), part.replace(CASE, named)) for number, part in enumerate(card.do, 1)]
    blocks += [text(""), indented(rows(parts, wide=1, right=(0,))), text("")]
    letters = ", ".join(f"{ROLES[role]} {letter}" for role, letter in card.letters.items())
    cells = [("letters here", letters)] if letters else []
    cells += [("asked", each) for each in card.asks]
    cells += [("normal", card.normal)] if card.normal else []
    cells += [("careful", card.keep)] if card.keep else []
    cells += [("if refused", card.refused)] if card.refused else []
    cells.append(("it worked if", card.tells))
    cells += [(f"then, {report}", says) for report, says in card.then.items()]
    cells += [("to undo it", card.undone)] if card.undone else []
    cells += [("put back later", card.put_back)] if card.put_back else []
    told = [(name, says.replace(CASE, named)) for name, says in cells]
    return Group(*blocks, indented(rows(told, wide=1)))


def show_own_card(step: str, words: str, file: str) -> RenderableType:
    """The shop's own words about a step."""
    if not words.strip():
        return text(f"No words of your own about {step}: mending card {step} --line TEXT")
    lines = [indented(text(line)) for line in words.splitlines()]
    return Group(title(f"{step}, in the shop's own words"), *lines, text(f"kept in {file}", "soft"))


def show_volumes(result: VolumesResult, named: str = CASE) -> RenderableType:
    """Which volume is which, why, and what has to be asked."""
    cells = [
        (
            each.volume.name or "(no letter)",
            size_words(each.volume.bytes) if each.volume.bytes else "",
            each.volume.form,
            ROLES.get(each.role, "?"),
            " ".join(part for part in (each.why, each.doubt) if part),
        )
        for each in result.volumes
    ]
    parts: list[RenderableType] = [indented(rows(cells, wide=4, right=(1,), drop=(2,)))]
    for role, names in result.questions.items():
        which = f": {' or '.join(names)}?" if names else "?"
        parts.append(text(f"Which one is {ROLES[role]}{which} Look at its folders.", "warning"))
        parts.append(text(f"  then: mending saw {named} --letter {role}=NAME", "soft"))
    return Group(*parts)
