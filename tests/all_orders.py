"""Every order and grouping of steps there is, costed as `docs/planning.md` writes it down, in plain Python."""

from itertools import combinations


def problem(random, steps, places):
    """A made-up problem as plain lists: chances, rows of steps, minutes of the ways, minutes of handing over."""
    causes = range(random.randint(2, 8))
    weights = [random.random() ** 2 for _ in causes]
    grade = lambda: random.choice((0.05, 0.2, 0.5, 0.8, 0.98))  # noqa: E731
    rows = []
    for step in range(steps):
        touched = random.sample(causes, min(len(causes), random.randint(1, 4)))
        fixes = {cause: grade() for cause in touched if random.random() < 0.8}
        finds = {cause: grade() for cause in touched if cause not in fixes}
        first = {other for other in range(step) if random.random() < 0.1}
        rows.append((random.uniform(1, 60), random.randrange(places), fixes, finds, first))
    chances = [weight / (1.1 * sum(weights)) for weight in weights]
    return chances, rows, [random.uniform(2, 20) for _ in range(places)], random.choice((120.0, 480.0))


def straight(chances, rows, ways, hand_over):
    """What it costs to go straight for each cause, with all that has to come first."""
    costs = [hand_over] * len(chances)
    for step, row in enumerate(rows):
        group = {step}
        for _ in rows:
            group |= set().union(*(rows[one][4] for one in group))
        fixed = sum(rows[one][0] for one in group) + sum(ways[place] for place in {rows[one][1] for one in group})
        for cause, chance in row[2].items():
            costs[cause] = min(costs[cause], fixed + (1 - chance) * hand_over)
    return costs


def cheapest(chances, rows, ways, hand_over):
    """The least cost over all plans; parts that already cost more than a whole plan are not gone on with."""
    known, rest = straight(chances, rows, ways, hand_over), 1 - sum(chances)
    best = hand_over

    def go(done, left, paid):
        nonlocal best
        best = min(best, paid + (sum(left) + rest) * hand_over)
        if paid >= best:
            return
        for place in range(len(ways)):
            here = [step for step in range(len(rows)) if rows[step][1] == place and step not in done]
            for count in range(1, len(here) + 1):
                for visit in combinations(here, count):
                    if all(rows[step][4] <= done | set(visit) for step in visit):
                        go(done | set(visit), *_visited(rows, ways[place], visit, left, rest, known, paid))

    go(frozenset(), chances, 0.0)
    return best


def _visited(rows, way, visit, left, rest, known, paid):
    """What is left behind a visit, and what has been paid then."""
    paid += (sum(left) + rest) * (way + sum(rows[step][0] for step in visit))
    behind = []
    for cause, mass in enumerate(left):
        for step in visit:
            mass *= 1 - rows[step][2].get(cause, 0)
        silent = mass
        for step in visit:
            silent *= 1 - rows[step][3].get(cause, 0)
        paid += (mass - silent) * known[cause]
        behind.append(silent)
    return behind, paid
