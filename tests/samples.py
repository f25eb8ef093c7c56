"""Real volumes that packages of the registry ship in their source archives, made by the systems
that own the formats.

`python -m tests.samples` fetches them; the tests that use them skip where they are not there.
Nothing of them is committed.
"""

import contextlib
import fnmatch
import gzip
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
import unittest
import zipfile
from pathlib import Path

FOLDER = Path(os.environ.get("MENDING_SAMPLES", Path(__file__).parents[1] / "build" / "samples"))
PACKAGES = {
    "dfvfs": "20160510",
    "dfwinreg": "20190122",
    "dissect.apfs": "1.1",
    "dissect.btrfs": "1.10",
    "dissect.eventlog": "3.11",
    "dissect.fat": "3.13",
    "dissect.fve": "4.6",
    "dissect.ntfs": "3.16",
    "dissect.regf": "3.14",
    "dissect.volume": "3.18",
    "dissect.xfs": "3.13",
    "winevtrc": "20170513",
}
SOURCES = {
    "dfwinreg-source": ("trixie", "dfwinreg", "dfwinreg_20240316.orig.tar.gz"),
    "dfvfs-source": ("trixie", "dfvfs", "dfvfs_20240505.orig.tar.gz"),
    "util-linux-source": ("bookworm", "util-linux", "util-linux_2.38.1.orig.tar.xz"),
    "e2fsprogs-source": ("bookworm", "e2fsprogs", "e2fsprogs_1.47.0.orig.tar.gz"),
    "btrfs-progs-source": ("bookworm", "btrfs-progs", "btrfs-progs_6.2.orig.tar.xz"),
}
"""Source archives of packages of the system: its release, the package, the file."""
PROGRAMS_FROM = "libwine"
PROGRAMS = FOLDER / "programs"
"""Programs, libraries and drivers in the form of the nt family, from a package of the system."""
REFIND_FROM = "refind"
REFIND = FOLDER / "refind"
"""A boot manager that looks for kernels by itself, with its drivers, from a package."""
SIGNED_FROM = "shim-signed"
SIGNED = FOLDER / "shimx64.efi.signed"
"""A program of firmware that was signed for real, from a package of the system."""
LISTED = FOLDER / "listed"
"""What an updater of device drivers carries within: programs and drivers of the nt family and the
catalogues that list them, as their maker published them; and signed libraries and a signed driver
that packages bring. A folder each.
"""
LISTED_FROM = {"capablerobot-usbregister": "1.3.1.2", "shiboken6": "6.12.0", "pydivert": "4.0.1"}
_CABINET = b"MSCF\0\0\0\0"
_WANTED = "ntoskrnl.exe hal.dll ntdll.dll fltmgr.sys scsiport.sys mountmgr.sys"
_LIBRARIES = "advapi32 kernel32 kernelbase msvcrt ucrtbase rpcrt4 sechost"
CHECKER_FROM = ("axe-core-python", "0.1.0")
CHECKER = FOLDER / "axe.min.js"
"""A checker of pages for people who cannot see, hear or point well, from a package."""
LARGEST = 130 << 20
"""Bytes; larger samples tell nothing more and cost seconds."""


def fetch():
    """Put the source archives into the folder."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    for name, version in PACKAGES.items():
        if archive_of(name).exists():
            continue
        wanted = [f"{name}=={version}", "--dest", str(FOLDER)]
        subprocess.run(
            [
                sys.executable,
                "-m",
                "pip",
                "download",
                "--quiet",
                "--no-deps",
                "--no-binary",
                ":all:",
                *wanted,
            ],
            check=True,
        )
    _fetch_programs()
    _fetch_signed()
    _fetch_refind()
    _fetch_checker()
    _fetch_listed()
    for release, package, file in SOURCES.values():
        if not (FOLDER / file).exists():
            _fetch_source(release, package)


def _fetch_checker():
    if CHECKER.exists():
        return
    with tempfile.TemporaryDirectory() as folder:
        name, version = CHECKER_FROM
        words = ["download", "--quiet", "--no-deps", f"{name}=={version}", "--dest", folder]
        subprocess.run([sys.executable, "-m", "pip", *words], check=True)
        with zipfile.ZipFile(next(Path(folder).glob("*.whl"))) as wheel:
            data = wheel.read(f"{name.replace('-', '_')}/axe.min.js")
    CHECKER.write_bytes(data)


def _fetch_listed():
    """Programs and catalogues, out of the wheels and out of the cabinets inside a program there."""
    if LISTED.exists():
        return
    with tempfile.TemporaryDirectory() as folder:
        home, made = Path(folder), Path(folder) / "made"
        words = ["download", "--quiet", "--no-deps", "--platform", "win_amd64", "--dest", folder]
        words += ["--only-binary", ":all:", "--python-version", "3.11"]
        wanted = [f"{name}=={version}" for name, version in LISTED_FROM.items()]
        subprocess.run([sys.executable, "-m", "pip", *words, *wanted], check=True)
        for number, path in enumerate(sorted(home.glob("*.whl"))):
            with zipfile.ZipFile(path) as wheel:
                for name in wheel.namelist():
                    if name.endswith((".exe", ".dll", ".sys")):
                        _keep(wheel.read(name), Path(name).name, made / str(number))
        made.rename(LISTED)


def _keep(data, name, place):
    """Keep a program or catalogue; of one that carries cabinets what these hold, to any depth."""
    carried, at = 0, data.find(_CABINET)
    while at >= 0:
        with tempfile.TemporaryDirectory() as folder:
            cabinet, out = Path(folder) / "cabinet", Path(folder) / "out"
            cabinet.write_bytes(data[at : at + int.from_bytes(data[at + 8 : at + 12], "little")])
            done = subprocess.run(["cabextract", "-q", "-d", out, cabinet], capture_output=True)
            held = sorted(path for path in out.rglob("*") if path.is_file())
            for path in held:
                inside = place / name / str(carried) / path.parent.relative_to(out)
                _keep(path.read_bytes(), path.name, inside)
            carried += bool(held) and not done.returncode
        at = data.find(_CABINET, at + 1)
    if not carried and (data[:2] == b"MZ" or name.endswith(".cat")):
        place.mkdir(parents=True, exist_ok=True)
        (place / name).write_bytes(data)


def needs_listed(test):
    """Skip a test unless they were fetched; where nothing may skip, fail."""
    return _needing(test, LISTED, "listed programs")


def _fetch_source(release, package):
    """A source archive from where this machine has its packages, by lists of its own."""
    words = ["apt-get", "indextargets", "--format", "$(REPO_URI) $(ORIGIN)", "Created-By: Packages"]
    listed = subprocess.run(words, check=True, capture_output=True, text=True).stdout.splitlines()
    place = next(row.split()[0] for row in listed if row.endswith(" Debian"))
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        (home / "lists/partial").mkdir(parents=True)
        (home / "cache").mkdir()
        (home / "sources.list").write_text(f"deb-src [trusted=yes] {place} {release} main\n")
        options = {
            "Dir::Etc::sourcelist": home / "sources.list",
            "Dir::Etc::sourceparts": "-",
            "Dir::State::lists": home / "lists",
            "Dir::Cache": home / "cache",
            "Debug::NoLocking": 1,
        }
        apt = ["apt-get", "-qq", *(f"-o{name}={value}" for name, value in options.items())]
        subprocess.run([*apt, "update"], check=True)
        get = [*apt, "source", "--download-only", "--tar-only", package]
        subprocess.run(get, check=True, cwd=home)
        for archive in home.glob("*.orig.tar.*"):
            shutil.move(archive, FOLDER / archive.name)


def _fetch_signed():
    with _unpacked(SIGNED, SIGNED_FROM) as out:
        if out is not None:
            (found,) = out.glob(f"**/{SIGNED.name}")
            shutil.move(found, SIGNED)


def _fetch_refind():
    with _unpacked(REFIND, REFIND_FROM) as out:
        if out is not None:
            shutil.move(out / "usr/share/refind/refind", REFIND)


@contextlib.contextmanager
def _unpacked(target, package):
    """The files of a package, for a while; None where the target is there."""
    if target.exists():
        yield None
        return
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        subprocess.run(["apt-get", "-qq", "download", package], check=True, cwd=home)
        (archive,) = home.glob("*.deb")
        subprocess.run(["dpkg-deb", "-x", archive, home / "out"], check=True)
        yield home / "out"


def needs_refind(test):
    """Skip a test unless it was fetched; where nothing may skip, fail."""
    return _needing(test, REFIND, "rEFInd")


def needs_signed(test):
    """Skip a test unless they were fetched; where nothing may skip, fail."""
    return _needing(test, SIGNED, "a signed program")


def _fetch_programs():
    if PROGRAMS.exists():
        return
    names = [*_WANTED.split(), *(f"{name}.dll" for name in _LIBRARIES.split())]
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        subprocess.run(["apt-get", "-qq", "download", PROGRAMS_FROM], check=True, cwd=home)
        (package,) = home.glob("*.deb")
        ways = [f"*/x86_64-windows/{name}" for name in names]
        words = ["tar", "-x", "-C", folder, "--wildcards", "--transform", "s|.*/||", *ways]
        with subprocess.Popen(
            ["dpkg-deb", "--fsys-tarfile", package], stdout=subprocess.PIPE
        ) as unpacked:
            subprocess.run(words, check=True, stdin=unpacked.stdout)
        made = home / "programs"
        made.mkdir()
        for name in names:
            (home / name).rename(made / name)
        shutil.move(made, PROGRAMS)


def needs_programs(test):
    """Skip a test unless they were fetched; where nothing may skip, fail."""
    return _needing(test, PROGRAMS, "programs")


def archive_of(name):
    """Where the source archive of a package is."""
    if name in SOURCES:
        return FOLDER / SOURCES[name][2]
    return FOLDER / f"{name.replace('.', '_')}-{PACKAGES[name]}.tar.gz"


def _needing(test, place, what):
    if place.exists():
        return test
    if os.environ.get("MENDING_NOTHING_SKIPS"):
        raise AssertionError(f"{what} should have been fetched: python -m tests.samples")
    return unittest.skip(f"not fetched (python -m tests.samples): {what}")(test)


def needs_samples(*names):
    """Skip a test unless these packages were fetched; where nothing may skip, fail."""
    missing = [name for name in names if not archive_of(name).exists()]
    if missing and os.environ.get("MENDING_NOTHING_SKIPS"):
        raise AssertionError(
            f"{', '.join(missing)} should have been fetched: python -m tests.samples"
        )
    return unittest.skipIf(missing, f"not fetched (python -m tests.samples): {', '.join(missing)}")


def read_samples(name, pattern):
    """Name and bytes of the samples of a package whose path matches; whole sectors, at most
    `LARGEST`.
    """
    with tarfile.open(archive_of(name)) as archive:
        for member in archive:
            wanted = (f"*/tests/{pattern}", f"*/test_data/{pattern}")
            if not member.isfile() or not any(fnmatch.fnmatch(member.name, way) for way in wanted):
                continue
            with archive.extractfile(member) as packed, _opened(packed, member.name) as file:
                data = file.read(LARGEST + 1)
            if len(data) <= LARGEST:
                yield Path(member.name).name, data[: len(data) // 512 * 512]


@contextlib.contextmanager
def sample_stream(name, pattern):
    """One sample of any size, to be read from its beginning on."""
    with tarfile.open(archive_of(name)) as archive:
        member = next(each for each in archive if fnmatch.fnmatch(each.name, f"*/tests/{pattern}"))
        with archive.extractfile(member) as packed, _opened(packed, member.name) as file:
            yield file


def _opened(packed, name):
    return gzip.GzipFile(fileobj=packed) if name.endswith(".gz") else packed


if __name__ == "__main__":
    fetch()
