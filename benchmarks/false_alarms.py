"""How many faults are found in their phase, and how many alarms sound disks raise: the catalogue of
the tests.
"""

import shutil

from tests.faults import NEEDED, every_case
from tests.support import SYSTEM_PATH

SOUND_VOLUMES = 14
"""Two on each of the sample PCs, ten on the disk with every kind."""


def run() -> None:
    """Print the counts; every row that is wrong is named."""
    missing = [name for name in NEEDED if shutil.which(name, path=SYSTEM_PATH) is None]
    if missing:
        print(
            f"faults and false alarms: not measured, {', '.join(missing)} are not on this machine"
        )
        return
    rows = every_case()
    sound = [row for row in rows if row[0].endswith("sound")]
    right = [row for row in rows if row not in sound and not row[1]]
    alarms = [one for row in sound for one in row[2]]
    print(f"faults: {len(right)} of {len(rows) - len(sound)} found in their phase")
    print(f"false alarms: {len(alarms)} on {len(sound)} sound disks with {SOUND_VOLUMES} volumes")
    for name, wrong, seen in rows:
        if wrong or seen:
            print(f"  {name}: {wrong or seen}")
