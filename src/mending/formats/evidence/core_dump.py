"""The memory of a Linux kernel that crashed, as its crash tools keep it. Only known by how it
begins, so that nobody takes it for a log.

Source: makedumpfile(8) and its IMPLEMENTATION document (both formats of its own and the flattened
one); ELF gABI 4.1, "ELF Header" (`e_type` of a core file).
"""

_SIGNS = (b"KDUMP   ", b"DISKDUMP", b"makedumpfile\0")
_ELF, _CORE = b"\x7fELF", 4


def is_core(head: bytes) -> bool:
    """Whether a file begins as such a memory image does."""
    return head.startswith(_SIGNS) or (
        head.startswith(_ELF) and int.from_bytes(head[16:18], "little") == _CORE
    )
