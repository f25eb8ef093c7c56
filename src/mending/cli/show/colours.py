"""What the styles of the output look like, by the ground they stand on.

Styles are called by what they mean. Unless somebody says what the ground is, colours are taken
whose contrast is more than 4 to 1 with white and with black (relative luminance near 0.18, as the
Web Content Accessibility Guidelines 2.2 define it); nothing is told by colour alone.
"""

from rich.theme import Theme

from mending.cli.config import load_config
from mending.model import InputError

BOTH, NONE = "both", "none"
_FEW = "standard"
"""What the console calls sixteen colours, which every terminal paints in its own way."""
STYLES = {
    BOTH: {
        "good": "color(28)",
        "bad": "bold color(161)",
        "doubt": "color(164)",
        "warning": "color(130)",
        "soft": "color(243)",
    },
    "dark": {
        "good": "color(114)",
        "bad": "bold color(210)",
        "doubt": "color(183)",
        "warning": "color(221)",
        "soft": "color(250)",
    },
    "light": {
        "good": "color(22)",
        "bad": "bold color(124)",
        "doubt": "color(90)",
        "warning": "color(94)",
        "soft": "color(240)",
    },
    NONE: {"good": "", "bad": "bold", "doubt": "", "warning": "", "soft": ""},
}
"""By ground what each style looks like."""
OF_SIXTEEN = {"good": "", "bad": "bold red", "doubt": "magenta", "warning": "magenta", "soft": ""}
"""Red and magenta can be read on black and on white on all terminals that were tried; green and
yellow cannot."""


def theme(colours: str | None) -> Theme:
    """The styles as the settings want them; a fault in the settings is not told here.

    Args:
        colours: the kind of colours that the console has.
    """
    try:
        ground = load_config().colours
    except InputError:
        ground = BOTH
    return Theme(OF_SIXTEEN if colours == _FEW and ground != NONE else STYLES[ground])
