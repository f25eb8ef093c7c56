"""Where GRUB takes its commands from: modules inside the image, or files in a folder of the prefix.

GRUB loads the module of a command at its first use, from `<prefix>/<platform>/<module>.mod` as the
prefix stands at that moment, and keeps it. A menu that moves the prefix to a folder without modules
therefore loses every command that it has not used before and that the image does not carry.

Source: the GNU GRUB manual 2.12, section "GRUB image files" and the variable `prefix`; tried with
the real program under OVMF.
"""

from mending.boot.chain import OutOfReachError
from mending.boot.grub.state import MenuState

MODULE_OF = {
    "configfile": "configfile",
    "search": "search",
    "linux": "linux",
    "linux16": "linux16",
    "initrd": "linux",
    "initrd16": "linux16",
    "chainloader": "chain",
}
"""The module of each command that decides about starting."""


class Modules:
    """The modules of one image.

    Args:
        built_in: names of those that the image carries.
        platform: folder of the others below the prefix, `i386-pc` or `x86_64-efi`.
    """

    def __init__(self, built_in: frozenset[str], platform: str) -> None:
        self._loaded, self._platform = set(built_in), platform

    def lacking(self, command: str, state: MenuState) -> str:
        """The path of the module that a command needs and that is nowhere; empty where the command
        can run, also where that cannot be told.
        """
        name = MODULE_OF.get(command, "")
        if not name or name in self._loaded:
            return ""
        path = f"{state.value('prefix')}/{self._platform}/{name}.mod"
        reference = state.reference(path, 0)
        try:
            volume = state.environment.device(reference.device)
            if volume is not None and state.environment.find(volume, reference.path) is None:
                return path
        except OutOfReachError:
            return ""
        self._loaded.add(name)
        return ""
