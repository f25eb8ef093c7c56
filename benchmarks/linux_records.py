"""Histories of Linux PCs as their own logs would tell them, with known truth.

One event stands in several files (`syslog` has everything, `kern.log` the kernel's lines,
`dpkg.log` the packages in a form of its own); many packages are upgraded, most of them innocent;
panics name a module, in a third of the histories an innocent one now and then; a package may be
called otherwise than its module, which then only the list of its files tells; other faults came
before; in a fifth of the histories the board's battery is empty, and a clock that began anew is set
right by the network. Nothing here knows how they are read.
"""

import math
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import NamedTuple

HOUR, DAY = 3600.0, 86_400.0
_HOST = "slip-desk"
_FIRST = 1_788_000_000.0
_ANEW = 1_767_225_600.0
_FLAT, _FORGETS = 0.2, 0.3
_MODULES = ("slipprint", "quaynet", "gatelamp", "tillscan", "pierhorn", "berthcam")
_PACKAGES = (
    *("libssl3", "tzdata", "bash", "vim-common", "openssh-client", "python3.11", "cups", "curl"),
    *("libc6", "perl-base", "fonts-ferry", "chart-viewer", "timetable", "xserver-core", "dbus"),
    *("pipewire", "mesa-common", "network-tools", "sudo", "less", "grep", "tar", "gzip", "zlib1g"),
)
_KERNEL_PACKAGES = (
    *("linux-image-6.1.0-ferry", "cpu-microcode", "firmware-quay", "till-camera-dkms"),
    *("bluez", "xserver-video-quay", "harbour-drivers"),
)
"""Innocent, too, and of the kernel or near it."""
_OF_KERNEL = 0.15
"""Upgrades with such a package among them."""


class Records(NamedTuple):
    """What is found on a PC, and the truth.

    Attributes:
        files: content of logs by name.
        lists: the list of files of each package, and what some of these files hold.
        onset: Unix seconds; None where it never began to fail.
        guilty: package that is behind it; empty where none is.
        crashes: how many panics there were, of the new kind and of others.
        starts: how often it was started.
        names: whether the crashes name the guilty module.
    """

    files: dict[str, bytes]
    lists: dict[str, str]
    onset: float | None
    guilty: str
    crashes: int
    starts: int
    names: bool


class _Line(NamedTuple):
    """A line; `lies` is what its stamp is wrong by, in seconds."""

    at: float
    by: str
    text: str
    lies: float = 0.0


class _Play:
    """One history as it goes on."""

    def __init__(self, random: Random) -> None:
        self.random = random
        self.lines: list[_Line] = []
        self.packages: list[tuple[float, str]] = []
        self.crashes = self.starts = 0
        self.lies, self.until = 0.0, 0.0
        self.flat = random.random() < _FLAT

    def say(self, at: float, by: str, text: str) -> None:
        self.lines.append(_Line(at, by, text, self.lies if at < self.until else 0.0))

    def kernel(self, at: float, boot: float, text: str) -> None:
        self.say(at, "kernel", f"[{at - boot:12.6f}] {text}")

    def clock(self, at: float) -> None:
        """The clock of a start: that of a board with an empty battery begins anew."""
        self.until = 0.0
        if self.flat and self.random.random() < _FORGETS:
            self.lies, self.until = _ANEW - at, at + 45
            self.say(at + 46, "systemd-timesyncd[300]", "Initial clock synchronization to now.")

    def start(self, at: float, modules: tuple[str, ...]) -> None:
        self.starts += 1
        self.clock(at)
        self.kernel(at, at, "Linux version 6.1.0-ferry (build@skerrivane) #1 SMP")
        for number, module in enumerate(modules):
            self.kernel(at + 2 + number * 0.1, at, f"{module}: loading out-of-tree module")
        self.say(at + 20, "systemd-logind[411]", "New session 2 of user clerk.")

    def panic(self, at: float, boot: float, module: str, version: str, program: str) -> None:
        """A panic whose backtrace is in a module; empty for one in the kernel itself."""
        self.crashes += 1
        place = f"{module}_xmit+0x1f/0x80 [{module}]" if module else "kmem_cache_alloc+0x4f/0x200"
        for text in (
            "BUG: unable to handle page fault for address: ffffb4c2003fd000",
            f"CPU: 1 PID: 411 Comm: {program} Tainted: G           OE      {version} #1",
            f"RIP: 0010:{place}",
            "Call Trace:",
            f" {place}",
            " dev_hard_start_xmit+0x8f/0x1e0",
            "Kernel panic - not syncing: Fatal exception in interrupt",
        ):
            self.kernel(at, boot, text)


OTHERWISE = ("program", "silent", "device")
"""Histories whose crashes point at what is guilty otherwise than by its module: by the program that
ran, by who spoke last before a silent end, by a device whose driver they name.
"""
_DEVICE = "idVendor=1209, idProduct=0a11"


def records(seed: int, kind: str = "") -> Records:
    """The history of a seed, of one of `OTHERWISE` where that is asked for."""
    random = Random(f"records {seed}")
    play = _Play(random)
    kind = (
        kind
        or ("named", "unnamed", "victims", "none")[
            seed % 4 if seed % 8 < 4 else random.randrange(3)
        ]
    )
    module = random.choice(_MODULES)
    days = random.randint(25, 60)
    sessions = list(_sessions(random, days))
    guilty, onset = "", math.inf
    if kind != "none":
        index = int(len(sessions) * random.uniform(0.3, 0.8))
        onset = random.uniform(sessions[index][0] + 400, sessions[index][1] - 60)
        like = f"{module}-dkms" if random.random() < 0.8 else f"{module[:-1]}-drivers"
        guilty = like if random.random() < 0.85 else "skerrivane-port-tools"
        if kind == "unnamed":
            guilty = random.choice((guilty, "graphics-stack"))
        if kind == "program":
            guilty = "skerrivane-port-tools"
        if kind == "device":
            guilty = _DEVICE
        else:
            play.packages.append((onset, guilty))
    for _ in range(random.randint(8, 40)):
        start, end = random.choice(sessions)
        at = random.uniform(start + 200, end)
        names = random.sample(_PACKAGES, random.randint(1, 5))
        names += [random.choice(_KERNEL_PACKAGES)] if random.random() < _OF_KERNEL else []
        for name in names:
            play.packages.append((at + random.uniform(0, 30), name))
    calm, rough = 1 / random.uniform(150, 400), 1 / random.uniform(1.5, 7)
    others = tuple(name for name in _MODULES if name != module)
    for start, end in sessions:
        _session(play, start, end, (onset, calm, rough), kind, module, others)
        if kind == "device" and start <= onset <= end:
            play.say(onset, "kernel", f"usb 1-3: New USB device found, {_DEVICE}, bcdDevice= 1.00")
    files = _files(play)
    named = kind in {"named", "victims"}
    truth = None if kind == "none" else onset
    return Records(
        files, _lists(guilty, module, kind), truth, guilty, play.crashes, play.starts, named
    )


def _sessions(random: Random, days: int) -> Iterator[tuple[float, float]]:
    for day in range(days):
        start = _FIRST + day * DAY + 7 * HOUR + random.uniform(0, HOUR)
        yield start, start + random.uniform(3, 9) * HOUR


def _session(
    play: _Play,
    start: float,
    end: float,
    rates: tuple[float, float, float],
    kind: str,
    module: str,
    others: tuple[str, ...],
) -> None:
    """A day: a start, failures with a start behind each, a clean end."""
    random, (onset, calm, rough) = play.random, rates
    boot = start
    while True:
        play.start(boot, (module, *others[:2]))
        if kind == "device":
            hub = "idVendor=1d6b, idProduct=0002"
            play.kernel(boot + 1, boot, f"usb usb1: New USB device found, {hub}, bcdDevice= 6.01")
            if boot > onset:
                text = f"usb 1-3: New USB device found, {_DEVICE}, bcdDevice= 1.00"
                play.kernel(boot + 1.5, boot, text)
        rate = rough if boot >= onset else calm
        fails = boot + 60 + random.expovariate(rate) * HOUR
        if boot < onset < fails:
            fails = onset + random.expovariate(rough) * HOUR
        for at in _signs(random, boot + 30, min(fails, end)):
            play.say(at, "till[412]", "ticket sold, no error")
        if fails >= end:
            play.say(end, "systemd[1]", "Reached target Power-Off.")
            return
        new = fails >= onset
        named = module if new and kind in {"named", "victims", "device"} else ""
        other = (kind == "victims" and random.random() < 1 / 3) if new else random.random() < 0.5
        named = random.choice(others) if other else named
        ran = f"{module}d" if new and kind == "program" and random.random() < 0.6 else "till"
        if new and kind == "silent":
            if random.random() < 0.7:
                play.kernel(fails, boot, f"{module} 1-3:1.0: transfer timed out")
        else:
            play.panic(fails, boot, named, "6.1.0-ferry", ran)
        boot = fails + random.uniform(50, 200)
        if boot > end - 700:
            return


def _signs(random: Random, start: float, end: float) -> Iterator[float]:
    at = start
    while (at := at + random.expovariate(1 / 900)) < end:
        yield at


def _files(play: _Play) -> dict[str, bytes]:
    """The logs: each line in `syslog`, those of the kernel in `kern.log` as well."""
    lines = sorted(play.lines, key=lambda line: line.at)
    syslog = [_written(line) for line in lines]
    kernel = [_written(line) for line in lines if line.by == "kernel"]
    packages = []
    for at, name in sorted(play.packages):
        time = datetime.fromtimestamp(at, UTC)
        packages.append(f"{time:%Y-%m-%d %H:%M:%S} upgrade {name}:amd64 1.0-1 1.0-2\n")
        packages.append(f"{time:%Y-%m-%d %H:%M:%S} status installed {name}:amd64 1.0-2\n")
    return {
        "syslog": "".join(syslog).encode(),
        "kern.log": "".join(kernel).encode(),
        "dpkg.log": "".join(packages).encode(),
    }


def _lists(guilty: str, module: str, kind: str) -> dict[str, str]:
    """A package database: what each package brings, by paths from the top."""
    lists = {name: f"/usr/share/doc/{name}/changelog.gz\n" for name in _PACKAGES}
    for name in _KERNEL_PACKAGES[:4]:
        lists[name] = f"/usr/lib/modules/6.1.0-ferry/kernel/{name.partition('-')[0]}s.ko.xz\n"
    extra = {}
    if guilty.endswith("-dkms"):
        home = f"/usr/src/{module}-1.0"
        lists[guilty] = f"{home}\n{home}/dkms.conf\n{home}/main.c\n"
        extra[f"{home}/dkms.conf"] = (
            f'PACKAGE_NAME="{guilty}"\nBUILT_MODULE_NAME[0]="{module}"\nAUTOINSTALL="yes"\n'
        )
    elif guilty == "graphics-stack":
        lists[guilty] = "/usr/lib/graphics/driver.so\n"
    elif kind == "program":
        lists[guilty] = f"/usr/sbin/{module}d\n/usr/lib/port/quay.conf\n"
    elif kind == "device":
        table = f"# Aliases\nalias usb:v1209p0A11d*dc*dsc*dp*ic*isc*ip*in* {module}\n"
        extra["/usr/lib/modules/6.1.0-ferry/modules.alias"] = table
    elif guilty:
        lists[guilty] = f"/usr/lib/modules/6.1.0-ferry/extra/{module}.ko\n"
    homes = {f"/var/lib/dpkg/info/{name}.list": text for name, text in lists.items()}
    return {**homes, **extra}


def laid_out(story: Records, folder: Path) -> None:
    """Write a history as a system would keep it."""
    logs = {f"/var/log/{name}": data for name, data in story.files.items()}
    for name, data in (logs | {name: text.encode() for name, text in story.lists.items()}).items():
        place = folder / name.lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(data)


def _written(line: _Line) -> str:
    time = datetime.fromtimestamp(line.at + line.lies, UTC)
    return f"{time:%b} {time.day:2d} {time:%H:%M:%S} {_HOST} {line.by}: {line.text}\n"
