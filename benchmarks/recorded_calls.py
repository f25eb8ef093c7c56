"""Calls of readers as they happen, as seeds for the guided fuzzer.

Some tests that read real things are run in this process while every call of a reader is watched
(`sys.setprofile`). Each call becomes the input with which `guided_calls.attempt` makes the same
one.
"""

import enum
import inspect
import io
import sys
import types
import unittest
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cache
from random import Random
from types import CodeType, FrameType
from typing import Any, BinaryIO, Union, get_args, get_origin, get_type_hints

import msgspec

from benchmarks.guided_calls import EXACT, EXACT_BYTES, HEAD, SMALL
from mending.model import Window

TESTS = (
    "tests.test_binary_journals.Journals.test_a_tree_and_what_lies_before_damage",
    "tests.test_binary_journals.Journals.test_entries_that_no_array_lists_any_more_are_walked_to",
    "tests.test_boot_entries.Cores.test_two_faults_at_once_are_both_found_and_both_mended",
    "tests.test_boot_files.Writer.test_any_names_are_read_back_by_our_own_reader",
    "tests.test_boot_options.Chosen.test_entries_that_lead_nowhere",
    "tests.test_btrfs.Packed",
    "tests.test_btrfs.WrittenByKernels",
    "tests.test_btrfs.WrittenByTheRealProgram.test_it_reads_as_it_was_written",
    "tests.test_darwin.Containers.test_volumes_of_real_containers_are_told",
    "tests.test_encrypted_nt.Samples.test_heads_that_ask_for_anything",
    "tests.test_encrypted_nt.Samples.test_maps_of_chunks",
    "tests.test_evidence.Dumps.test_damage_is_said",
    "tests.test_evidence.Dumps.test_headers_of_both_widths",
    "tests.test_evidence.Logs",
    "tests.test_ext.Damaged.test_a_damaged_inode_hides_only_its_own_file_and_is_no_empty_one",
    "tests.test_ext.WrittenByRealPrograms.test_every_kind_reads_as_it_was_written",
    "tests.test_ext.WrittenByRealPrograms.test_an_independent_reader_sees_the_same",
    "tests.test_ext.WrittenByRealPrograms.test_extents_lead_to_the_bytes_and_holes_have_none",
    "tests.test_folders.WriteBuffer.test_lists_of_packages",
    "tests.test_histories_of_packages.Lines",
    "tests.test_hive_history.Disks.test_a_section_that_failed_or_took_something_out",
    "tests.test_hives.Real.test_a_write_that_was_cut_off_is_finished_from_either_kind_of_log",
    "tests.test_hives.Real.test_keys_are_found_by_their_mark_whatever_else_is_lost",
    "tests.test_hostile_trees.Packages",
    "tests.test_linux_chain.Readers",
    "tests.test_loaders.Entries.test_a_kernel_that_firmware_would_not_load",
    "tests.test_locked.Volumes.test_the_second_copy_of_a_head",
    "tests.test_many_records.Packages",
    "tests.test_many_records.SignIns",
    "tests.test_nt_chain.Elsewhere.test_a_system_on_another_disk",
    "tests.test_nt_mended.Faults.test_bios_store_cut",
    "tests.test_nt_mended.Faults.test_uefi_library_of_another_version",
    "tests.test_nt_mended.RecoveryKept.test_it_is_found_beside_the_store_too",
    "tests.test_ntfs.Damaged.test_a_torn_record_hides_only_its_own_file",
    "tests.test_package_files",
    "tests.test_programs.Tables",
    "tests.test_repair_rules.CopiesOfPrograms",
    "tests.test_samples.Samples",
    "tests.test_shadow_copies.Moments.test_a_chain_that_comes_back_to_itself_ends",
    "tests.test_shadow_copies.Moments.test_files_of_a_moment",
    "tests.test_signatures.Listed",
    "tests.test_signatures.MadeOnes",
    "tests.test_silent_ends.Ends.test_an_event_log_that_knows_of_the_key",
    "tests.test_trace_real_disks.Sound.test_grub_ignores_the_active_flag_and_names_a_block",
    "tests.test_volumes.Accounts.test_every_kind_is_told_as_the_system_tells_it",
    "tests.test_volumes.FileTable.test_damage_of_the_table_and_of_its_mirror_is_told_apart",
    "tests.test_workshop.Disks.test_every_fault_changes_the_disk_and_a_trace_says_something_of_nearly_all",
    "tests.test_xfs.Shipped",
    "tests.test_xfs.TreesOfExtents",
    "tests.test_xfs.WrittenByTheRealProgram",
)
MOST_CALLS, MOST_BYTES = 12, 1 << 18
"""Calls of a reader that are kept of each test, and bytes of evidence of one."""
CUTS, FLIPPED = (0.01, 0.3, 0.9), (0, 1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 80, 100, 128, 512)
"""Shares of evidence that are left, and bytes of it that are wrong."""
_MOST_PARTS = 4


class _UnmadeError(Exception):
    """No input makes this value."""


def recorded(readers: Mapping[CodeType, Callable[..., object]]) -> dict[CodeType, list[bytes]]:
    """Inputs of the calls that the tests make, by the code of the reader."""
    inputs: dict[CodeType, set[bytes]] = defaultdict(set)
    for test in _each(unittest.defaultTestLoader.loadTestsFromNames(TESTS)):
        for code, found in _of_test(test, readers).items():
            inputs[code] |= found
    return {code: sorted(found) for code, found in inputs.items()}


def _each(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            yield from _each(test)
        else:
            yield test


def _of_test(
    test: unittest.TestCase, readers: Mapping[CodeType, Callable[..., object]]
) -> dict[CodeType, set[bytes]]:
    """Inputs of the calls that a test makes: of each reader a fair choice by reservoir sampling
    (Vitter, ACM Transactions on Mathematical Software 11, 1985).
    """
    inputs: dict[CodeType, dict[int, bytes]] = defaultdict(dict)
    seen = Counter[CodeType]()
    draw = Random(test.id())

    def watch(frame: FrameType, event: str, _value: object) -> None:
        reader = readers.get(frame.f_code)
        if reader is None or event != "call":
            return
        number = seen[frame.f_code]
        seen[frame.f_code] += 1
        place = number if number < MOST_CALLS else draw.randrange(number + 1)
        if place < MOST_CALLS:
            sys.setprofile(None)
            made = input_of(reader, frame.f_locals)
            if made is not None:
                inputs[frame.f_code][place] = made
            sys.setprofile(watch)

    shown = io.StringIO()
    sys.setprofile(watch)
    try:
        result = unittest.TextTestRunner(shown).run(unittest.TestSuite([test]))
    finally:
        sys.setprofile(None)
    if not result.wasSuccessful():
        raise RuntimeError(f"{test.id()} fails:\n{shown.getvalue()}")
    return {code: set(found.values()) for code, found in inputs.items()}


def damaged(made: bytes) -> Iterator[bytes]:
    """An input with its evidence cut in several places, and with one byte wrong in several."""
    evidence = len(made) - HEAD
    for share in CUTS:
        yield made[: HEAD + int(share * evidence)]
    for at in sorted({*FLIPPED, evidence // 2, evidence - 1}):
        if 0 <= at < evidence:
            place = HEAD + at
            yield made[:place] + bytes([made[place] ^ 0xFF]) + made[place + 1 :]


def input_of(function: Callable[..., object], arguments: Mapping[str, Any]) -> bytes | None:
    """The input with which `attempt` makes this call of a reader, of long evidence with its
    beginning; None where none does: its head is too short, or two parameters were given different
    evidence.
    """
    hints = get_type_hints(function)
    head, evidence = bytearray(), set[bytes]()
    needed: list[inspect.Parameter] = []
    others: list[inspect.Parameter] = []
    for each in inspect.signature(function).parameters.values():
        if each.kind is not inspect.Parameter.VAR_KEYWORD:
            (needed if each.default is inspect.Parameter.empty else others).append(each)
    try:
        for each in needed:
            _put(hints[each.name], arguments[each.name], head, evidence)
        for each in others:
            is_usual = arguments[each.name] == each.default
            head.append(not is_usual)
            if not is_usual:
                _put(hints[each.name], arguments[each.name], head, evidence)
    except (_UnmadeError, KeyError):
        return None
    if len(head) > HEAD or len(evidence) > 1:
        return None
    return bytes(head).ljust(HEAD, b"\0") + b"".join(evidence)


def _put(hint: Any, value: Any, head: bytearray, evidence: set[bytes]) -> None:
    """What `guided_calls` makes a value of: bytes of the head, and evidence."""
    origin, choices = get_origin(hint), get_args(hint)
    if origin in {types.UnionType, Union}:
        chosen = next((number for number, each in enumerate(choices) if _is_of(each, value)), None)
        if chosen is None:
            raise _UnmadeError
        head.append(chosen)
        _put(choices[chosen], value, head, evidence)
    elif origin is tuple:
        if len(value) >= _MOST_PARTS:
            raise _UnmadeError
        head.append(len(value))
        for part in value:
            _put(choices[0], part, head, evidence)
    elif origin is Callable:
        evidence.add(value(0, MOST_BYTES))
    elif origin is not None or origin is Iterable:
        raise _UnmadeError
    elif hint is not type(None):
        _put_plain(getattr(hint, "__supertype__", hint), value, head, evidence)


def _put_plain(kind: Any, value: Any, head: bytearray, evidence: set[bytes]) -> None:
    if kind is bytes:
        evidence.add(bytes(value[:MOST_BYTES]))
    elif kind is str:
        evidence.add(value[:MOST_BYTES].encode("utf-8", "surrogateescape"))
    elif kind is Window:
        evidence.add(value.data[:MOST_BYTES])
    elif kind is BinaryIO:
        at = value.tell()
        evidence.add(value.read(MOST_BYTES))
        value.seek(at)
    elif kind is bool:
        head.append(value)
    elif kind is int:
        _put_number(value, head)
    elif isinstance(kind, type) and issubclass(kind, enum.Enum):
        head.append(list(kind).index(value))
    elif isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        for name, hint in _fields(kind).items():
            _put(hint, getattr(value, name), head, evidence)
    else:
        raise _UnmadeError


def _put_number(value: int, head: bytearray) -> None:
    if 0 <= value <= 0xFF:
        head += bytes((SMALL, value))
    elif 0 <= value < 1 << 8 * EXACT_BYTES:
        head.append(EXACT)
        head += value.to_bytes(EXACT_BYTES, "little")
    else:
        raise _UnmadeError


@cache
def _fields(kind: type) -> dict[str, Any]:
    return get_type_hints(kind)


def _is_of(hint: Any, value: object) -> bool:
    kind = getattr(hint, "__supertype__", get_origin(hint) or hint)
    return isinstance(value, kind) if isinstance(kind, type) else callable(value)
