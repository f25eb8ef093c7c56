"""The settings of a person: one TOML file in the user's folder for such things.

Nothing has to be in it. A fault in it is one sentence with the line and the key, and stops only
what needs the setting.
"""

import os
import re
import sys
from collections.abc import Mapping
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from mending import knowledge
from mending.app.host import Host
from mending.cli.output import confirmed, note
from mending.model import InputError
from mending.source import open_plain

SHOP_FIELDS = {
    "ticket": "The ticket's number.",
    "user": "Whose PC it is.",
    "maker": "The PC's maker.",
    "model": "The PC's model.",
    "serial": "The PC's serial number.",
    "technician": "Who works on it.",
}
"""The fields that a workshop may keep, and what they are."""
COLOURS = ("both", "dark", "light", "none")
CARES = ("files", "programs", "speed")
_MOST_BYTES = 1 << 20
_LOCAL, _UTC = "local", "UTC"
_EXAMPLE = """\
# Everything here may be left out.
care = "files"          # what a plan spares most: files, programs, speed
colours = "both"        # the ground of your terminal: both, dark, light; none: no colours
zone = "local"          # of times: local, UTC, or a name such as Atlantic/Faroe
one_key = false         # true: at a terminal a digit alone chooses, without Enter
packs = []              # folders with rows of knowledge of your own

[shop]                  # put into every new case
technician = "A. Person"
"""


class Config(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What may be set.

    Attributes:
        care: what a plan spares most.
        colours: the ground that colours are to be legible on: one of `COLOURS`.
        zone: in which times are shown: `local`, `UTC`, or the name of a zone.
        one_key: at a terminal a digit alone chooses an answer. Not by itself so: who types a digit
            and Enter would answer two questions.
        packs: folders with rows of knowledge that are added to what Mending comes with.
        shop: fields that every new case gets.
    """

    care: str = CARES[0]
    colours: str = COLOURS[0]
    zone: str = _LOCAL
    one_key: bool = False
    packs: tuple[str, ...] = ()
    shop: Mapping[str, str] = {}


class ConfigResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="config/1"):
    """The settings as they hold.

    Attributes:
        exists: whether there is a file.
        example: a file with everything that can be set.
    """

    file: str
    exists: bool
    config: Config
    example: str


def config_file() -> Path:
    """Where the settings are."""
    return platformdirs.user_config_path("mending", appauthor=False) / "config.toml"


def load_config() -> Config:
    """The settings; those of the program where there is no file.

    Raises:
        InputError: the file cannot be read or holds something wrong; says line and key.
    """
    path = config_file()
    try:
        with open_plain(path) as file:
            text = file.read(_MOST_BYTES).decode("utf-8")
    except FileNotFoundError:
        return Config()
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{path} cannot be read: {error}.") from error
    import tomllib  # noqa: PLC0415 - lazy: few have such a file

    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"{path} is not TOML: {error}.") from error
    except RecursionError as error:
        raise InputError(f"{path} is nested too deep.") from error
    config, faults = _converted(raw, text)
    faults += _faults(config, text)
    if faults:
        raise InputError(f"{path}: {'; '.join(faults)}.")
    return config


def _converted(raw: dict[str, Any], text: str) -> tuple[Config, list[str]]:
    """What of the file fits, and what is wrong with the rest, each key for itself."""
    config, faults = Config(), list[str]()
    for key, value in raw.items():
        try:
            part = msgspec.convert({key: value}, Config)
        except msgspec.ValidationError as error:
            faults.append(_place(text, str(error)))
            continue
        config = msgspec.structs.replace(config, **{key: getattr(part, key)})
    return config, faults


def config_result() -> ConfigResult:
    """The settings and where they are. Raises as `load_config`."""
    path = config_file()
    return ConfigResult(
        file=str(path), exists=path.exists(), config=load_config(), example=_EXAMPLE
    )


def zone_of(config: Config) -> tzinfo | None:
    """The zone in which times are shown; None: this machine's."""
    if config.zone == _LOCAL:
        return None
    if config.zone == _UTC:
        return UTC
    from zoneinfo import ZoneInfo  # noqa: PLC0415 - lazy: few name a zone

    return ZoneInfo(config.zone)


def _faults(config: Config, text: str) -> list[str]:
    """What is wrong with values that have the right form."""
    faults = list[str]()
    for key, value, known in (("care", config.care, CARES), ("colours", config.colours, COLOURS)):
        if value not in known:
            faults.append(_fault(text, key, f"{value!r} is none of {', '.join(known)}"))
    try:
        zone_of(config)
    except (KeyError, ValueError, OSError):  # no such zone is a kind of KeyError
        faults.append(_fault(text, "zone", f"no zone is called {config.zone!r}"))
    for name in config.shop:
        if name not in SHOP_FIELDS:
            known_fields = ", ".join(SHOP_FIELDS)
            says = f"no field is called {name!r}; there are {known_fields}"
            faults.append(_fault(text, name, says))
    for folder in config.packs:
        if not Path(folder).expanduser().is_dir():
            faults.append(_fault(text, "packs", f"there is no folder {folder}"))
    return faults


def _fault(text: str, key: str, says: str) -> str:
    return f"{_line(text, key)}key {key}: {says}"


def _place(text: str, message: str) -> str:
    """A message of the converter with the line of the key that it names."""
    named = re.search(r"`\$\.?([\w.\[\]]*)`", message) or re.search(r"field `(\w+)`", message)
    key = named.group(1).split(".")[-1].split("[")[0] if named else ""
    unknown = re.search(r"unknown field `(\w+)`", message)
    key = unknown.group(1) if unknown else key
    says = message.partition(" - at ")[0].replace("`", "")
    says = says.replace("Expected bool", "true or false is expected")
    return f"{_line(text, key)}key {key}: {says}" if key else says


def _line(text: str, key: str) -> str:
    for number, line in enumerate(text.splitlines(), 1):
        if re.match(rf"\s*\[?\s*{re.escape(key)}\b", line):
            return f"line {number}, "
    return ""


# The knowledge, with its parsed copies in the user's folder for such things.


def base_pack() -> knowledge.Pack:
    """The pack that Mending comes with, and the rows of one's own that the settings name.

    Raises:
        InputError: a row of one's own, or the settings, are wrong.
    """
    return knowledge.base_pack(_copies(), own_packs())


def own_packs() -> list[Path]:
    """The folders with rows of one's own, in the order in which they come on top: those that the
    settings name, then the one with the shop's own words.

    Raises:
        InputError: the settings are wrong.
    """
    named = [Path(folder).expanduser() for folder in load_config().packs]
    own = own_words()
    file = own / "cards.toml"
    return [*named, own] if file.exists() or file.is_symlink() else named


def own_words() -> Path:
    """Where the shop's own words about steps are kept."""
    return platformdirs.user_config_path("mending", appauthor=False) / "own"


def base_codes() -> knowledge.Codes:
    """The tables of codes and messages that Mending comes with."""
    return knowledge.base_codes(_copies())


def _copies() -> Path:
    return platformdirs.user_cache_path("mending", appauthor=False)


# What this machine and this moment are like: asked here, handed down as a value.


def this_host() -> Host:
    """This process, its clock, and where undo points of bare targets live."""
    words = " ".join([Path(sys.argv[0]).name, *sys.argv[1:2]])
    data = Path(platformdirs.user_data_dir("mending", appauthor=False))
    return Host(
        who=f"process {os.getpid()} ({words})",
        clock=_now,
        undo_folder=data / "undo",
        key=data / "key",
        ask=_asked if interactive() else None,
        told=_told,
    )


def interactive() -> bool:
    """Whether a person can be asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def _asked(question: str) -> bool:
    return confirmed(question)


def _told(sentence: str) -> None:
    note(sentence, err=True)


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")
