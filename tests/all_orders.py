"""Every order and grouping of steps there is, costed as `docs/planning.md` writes it down, in plain
Python.
"""

from itertools import combinations
from random import Random

GRADES = (0.05, 0.2, 0.5, 0.8, 0.98)


def problem(random, steps, places):
    """A made-up problem as plain lists: chances, rows of steps, ways and test starts, minutes of
    handing over, causes that are there together with their chance.
    """
    causes = range(random.randint(2, 8))
    weights = [random.random() ** 2 for _ in causes]
    rows = []
    for step in range(steps):
        touched = random.sample(causes, min(len(causes), random.randint(1, 4)))
        fixes = {cause: random.choice(GRADES) for cause in touched if random.random() < 0.8}
        finds = {cause: random.choice(GRADES) for cause in touched if cause not in fixes}
        first = {other for other in range(step) if random.random() < 0.1}
        rows.append((random.uniform(1, 60), random.randrange(places), fixes, finds, first))
    together = []
    if len(causes) > 2 and random.random() < 0.4:
        together = [(tuple(random.sample(causes, random.randint(2, 3))), random.uniform(0.1, 0.6))]
    alone = 1 - sum(chance for _, chance in together)
    chances = [alone * weight / (1.1 * sum(weights)) for weight in weights]
    ways = [(random.uniform(2, 15), random.uniform(1, 5)) for _ in range(places)]
    return chances, rows, ways, random.choice((120.0, 480.0)), together


def large(seed, steps=40, causes=60, places=6):
    """A made-up problem of a size at which nothing can be tried through: few likely causes, many
    unlikely ones.
    """
    random = Random(seed)
    weights = [random.lognormvariate(0, 1.5) for _ in range(causes)]
    rows = []
    for step in range(steps):
        touched = random.sample(range(causes), random.choice((1, 1, 2, 2, 3, 4, 6, 10)))
        fixes = {cause: random.choice(GRADES) for cause in touched if random.random() < 0.8}
        finds = {cause: random.choice(GRADES) for cause in touched if cause not in fixes}
        first = {other for other in range(step) if random.random() < 0.02}
        rows.append((2 * 30 ** random.random(), random.randrange(places), fixes, finds, first))
    ways = [(random.uniform(2, 15), random.uniform(1, 5)) for _ in range(places)]
    return [weight / (1.1 * sum(weights)) for weight in weights], rows, ways, 480.0, ()


def visit_minutes(rows, ways, visit):
    """The way, the steps, and a test start if a step can mend anything."""
    enter, test = ways[rows[visit[0]][1]]
    return (
        enter + test * any(rows[step][2] for step in visit) + sum(rows[step][0] for step in visit)
    )


def straight(chances, rows, ways, hand_over, here):
    """What it costs to go straight for each cause from a place, with all that has to come first."""
    costs = [hand_over] * len(chances)
    for step, row in enumerate(rows):
        group = {step}
        for _ in rows:
            group |= set().union(*(rows[one][4] for one in group))
        places = {rows[one][1] for one in group}
        fixed = sum(
            visit_minutes(rows, ways, [one for one in group if rows[one][1] == place])
            for place in places
        ) - (ways[here][0] if here in places else 0)
        for cause, chance in row[2].items():
            costs[cause] = min(costs[cause], fixed + (1 - chance) * hand_over)
    return costs


def still_there(together, rows, done):
    """Chance that some of the causes that are there together is not mended, by plain
    multiplication.
    """
    left = 0.0
    for parts, chance in together:
        mended = 1.0
        for part in parts:
            unmended = 1.0
            for step in done:
                unmended *= 1 - rows[step][2].get(part, 0)
            mended *= 1 - unmended
        left += chance * (1 - mended)
    return left


def cheapest(chances, rows, ways, hand_over, together):
    """The least cost over all plans; parts that already cost more than a whole plan are not gone on
    with.
    """
    known = [straight(chances, rows, ways, hand_over, place) for place in range(len(ways))]
    rest = 1 - sum(chances) - sum(chance for _, chance in together)
    best = hand_over

    def go(done, left, paid):
        nonlocal best
        whole = sum(left) + rest + still_there(together, rows, done)
        best = min(best, paid + whole * hand_over)
        if paid >= best:
            return
        for place in range(len(ways)):
            here = [
                step for step in range(len(rows)) if rows[step][1] == place and step not in done
            ]
            for count in range(1, len(here) + 1):
                for visit in combinations(here, count):
                    if all(rows[step][4] <= done | set(visit) for step in visit):
                        cost = paid + whole * visit_minutes(rows, ways, visit)
                        go(done | set(visit), *_visited(rows, visit, left, known[place], cost))

    go(frozenset(), chances, 0.0)
    return best


def _visited(rows, visit, left, known, paid):
    """What is left behind a visit, and what has been paid then."""
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
