"""Every benchmark in turn. A figure is a ratio of two medians taken alternately in this run, or a
count.
"""

from benchmarks import (
    conversations,
    copies,
    false_alarms,
    histories,
    journal_speed,
    large_disk,
    locked_speed,
    log_speed,
    many_programs,
    many_records,
    plan,
    planning,
    replays,
    search_speed,
    startup,
    understanding,
    wrong_answers,
)


def main() -> None:
    """Run them all."""
    startup.run()
    large_disk.run()
    search_speed.run()
    log_speed.run()
    journal_speed.run()
    copies.run()
    locked_speed.run()
    many_programs.run()
    histories.run()
    many_records.run()
    planning.run()
    false_alarms.run()
    plan.run()
    wrong_answers.run()
    wrong_answers.run_yardstick()
    conversations.run()
    understanding.run()
    replays.run()


main()
