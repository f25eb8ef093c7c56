"""What a processor says of an error of the hardware: the state of a bank of its machine-check
registers.

Source: the x86 architecture's software developer's manual, volume 3, chapter "Machine-Check
Architecture": bits of the state of a bank, simple and compound error codes.
"""

_VALID, _MORE, _UNCORRECTED, _LOST = 63, 62, 61, 57
_SIMPLE = {
    0x0001: "an error that it does not name",
    0x0002: "wrong parity in its own microcode",
    0x0003: "an error that another part reported",
    0x0005: "wrong parity inside the processor",
    0x0400: "a timer inside it ran out",
    0x0E0B: "an error of input or output",
}
_LEVELS = ("level 0", "level 1", "level 2", "some level")
_KINDS = ("instructions", "data", "any kind", "any kind")
_MEMORY = ("any request", "reading", "writing", "an address or command", "cleaning", "", "", "")


def state_says(state: int) -> str:
    """One sentence on the state of a bank: 64 bits. Empty where the bank holds no error."""
    if not state >> _VALID & 1:
        return ""
    parts = ["not put right" if state >> _UNCORRECTED & 1 else "put right"]
    parts += ["the processor's state was lost"] if state >> _LOST & 1 else []
    parts += ["more errors came before it could be read"] if state >> _MORE & 1 else []
    return f"{code_says(state & 0xFFFF)}; {', '.join(parts)}"


def code_says(code: int) -> str:
    """What the 16 bits of an error code name."""
    plain = code & ~0x1000  # a flag on corrected errors, not a part of the code
    if plain in _SIMPLE:
        return _SIMPLE[plain]
    level, kind = _LEVELS[plain & 3], _KINDS[plain >> 2 & 3]
    if plain & 0xF800 == 0x0800:
        return "a bus or the connection between processors and memory"
    if plain & 0xFF00 == 0x0100:
        return f"a cache of {level} for {kind}"
    if plain & 0xFF80 == 0x0080:
        channel = "" if plain & 15 == 15 else f", channel {plain & 15}"
        request = _MEMORY[plain >> 4 & 7]
        return f"memory{channel}" + (f", at {request}" if request else "")
    if plain & 0xFFF0 == 0x0010:
        return f"the address translation of {level} for {kind}"
    if plain & 0xFFFC == 0x000C:
        return f"a cache of {level}"
    return f"an error of its own kind, code {code:#06x}"
