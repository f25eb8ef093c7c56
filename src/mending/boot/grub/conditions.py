"""Conditions of GRUB's menu file, as its command `test` judges them.

Source: the GNU GRUB manual 2.12, section "test".
"""

from collections.abc import Callable


def holds(words: list[str], is_there: Callable[[str], bool]) -> bool:
    """Whether a condition holds. Args: words: without the brackets; is_there: whether a file
    exists.
    """
    for joint, either in (("-o", True), ("-a", False)):
        if joint in words:
            at = words.index(joint)
            left, right = holds(words[:at], is_there), holds(words[at + 1 :], is_there)
            return left or right if either else left and right
    if words[:1] == ["!"]:
        return not holds(words[1:], is_there)
    if len(words) == 3:
        return _compare(*words)
    if len(words) == 2 and words[0] in {"-s", "-e", "-f", "-d"}:
        return is_there(words[1])
    if words[:1] == ["-z"]:
        return len(words) < 2 or not words[1]
    return bool(words and words[-1] and words[-1] not in {"-n"})


def _compare(text: str, operator: str, other: str) -> bool:
    if operator in {"=", "=="}:
        return text == other
    if operator == "!=":
        return text != other
    if operator in _NUMBERS and text.lstrip("-").isdigit() and other.lstrip("-").isdigit():
        return _NUMBERS[operator](int(text), int(other))
    return False


_NUMBERS = {
    "-eq": int.__eq__,
    "-ne": int.__ne__,
    "-lt": int.__lt__,
    "-le": int.__le__,
    "-gt": int.__gt__,
    "-ge": int.__ge__,
}
