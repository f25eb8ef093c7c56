"""Makes the pictures in docs/screenshots from the demo data: `make shots`.

Each command runs in a real terminal window under Xvfb at 1280x800; pages are taken in headless
Chromium. Needs Xvfb, xterm, imagemagick and chromium.
"""

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SHOTS = Path(__file__).parent / "screenshots"
PROGRAM = Path(sys.executable).with_name("mending")
DISPLAY = ":87"
SIZE = "1280x800"
TERMINALS = {
    "trace": ["trace quay-desk-2"],
    "nt": [
        "files images/tide-table.img",
        "compare images/harbour-1.img images/pilot-house.img",
        "trace pilot-house | head -8",
        "mend pilot-house",
        "mend pilot-house driver-off --driver quayvol --yes",
    ],
    "causes": ["causes pier-kiosk"],
    "plan": ["plan lounge-1 | head -46"],
    "ask": [
        "open kiosk-3 --fact family=nt --quiet | tail -1",
        "saw kiosk-3 'after the logo it restarts again and again, and the dog barks' --quiet",
        "ask kiosk-3",
    ],
    "mend": ["mend quay-desk-2 boot-code --yes", "undo quay-desk-2 --list", "mend mess-room"],
    "rehearse": ["rehearse images/gate-2.img", "rehearse images/quay-desk-1.img"],
    "search": ["search ticket-hall", "mend ticket-hall"],
    "linux": ["trace gangway-2"],
    "copies": [
        "keep images/harbour-1.img -o harbour-1.zip | head -4",
        "trace later.img --against harbour-1.zip | grep -A3 'since the'",
        "mend later.img --all --from harbour-1.zip --yes | tail -9",
        "copy images/gangway-1.img rescued.img",
        "copy rescued.img --verify",
    ],
    "code": [
        "code '*** STOP: 0x1E (0xC0000005,0xFFFFF80002A1B2C3,0x0,0x8)'",
        "code inaccessable boot devise",
    ],
    "crashes": ["crashes slip-desk | head -46"],
    "work": ["work mess-room"],
    "demo": ["demo --brief new-workshop"],
    "help": [
        "saw lounge-1 --volumes listing.txt --quiet",
        "help check-file-system",
    ],
}
KNOWN = (
    "family=nt",
    "firmware=uefi",
    "form=desktop",
    "bench=yes",
    "rescue-stick=no",
    "backup=no",
    "age=middle",
)
SEEN = ("after-logo=stop-screen", "recent-change=driver", "code-pattern=same")
"""A PC of which nobody has brought the disk yet."""
LISTING = """\
  Volume ###  Ltr  Label        Fs     Type        Size     Status     Info
  ----------  ---  -----------  -----  ----------  -------  ---------  --------
  Volume 0     D   Lounge       NTFS   Partition    237 GB  Healthy
  Volume 1     C   Reserved     NTFS   Partition    500 MB  Healthy    System
  Volume 2     E   RESCUE       FAT32  Removable     14 GB  Healthy
"""
ESP_AT = 1 << 20
PAGE = "report"
FIGURE = "disk-map"
HISTORY = "history"
MINUTES = "minutes"


def main() -> None:
    """Make all pictures, or those named on the command line."""
    wanted = sys.argv[1:] or [*TERMINALS, PAGE, FIGURE, HISTORY, MINUTES]
    with tempfile.TemporaryDirectory() as folder:
        shop = Path(folder) / "workshop"
        _mending("demo", "workshop", "--brief", cwd=Path(folder))
        for case in ("quay-desk-2", "gate-2", "ticket-hall", "mess-room", "stores-1", "gangway-2"):
            _mending("undo", case, cwd=shop)
        later = shop / "later.img"
        shutil.copy(shop / "images" / "harbour-1.img", later)
        with later.open("r+b") as disk:  # the first sector of its system partition is lost
            disk.seek(ESP_AT)
            disk.write(bytes(512))
        facts = [word for fact in KNOWN for word in ("--fact", fact)]
        _mending("open", "lounge-1", "--quiet", *facts, cwd=shop)
        _mending("saw", "lounge-1", *SEEN, cwd=shop)
        (shop / "listing.txt").write_text(LISTING)
        screen = subprocess.Popen(
            ["Xvfb", DISPLAY, "-screen", "0", f"{SIZE}x24"], stderr=subprocess.DEVNULL
        )
        try:
            time.sleep(1)
            for name in wanted:
                if name == PAGE:
                    _page(shop)
                elif name == FIGURE:
                    _mending(
                        "mend",
                        "ticket-hall",
                        "--force",
                        "--figure",
                        str(SHOTS / f"{FIGURE}.png"),
                        cwd=shop,
                    )
                elif name == HISTORY:
                    _mending(
                        "crashes",
                        "slip-desk",
                        "--force",
                        "--figure",
                        str(SHOTS / f"{HISTORY}.png"),
                        cwd=shop,
                    )
                elif name == MINUTES:
                    _mending(
                        "plan",
                        "lounge-1",
                        "--force",
                        "--figure",
                        str(SHOTS / f"{MINUTES}.png"),
                        cwd=shop,
                    )
                else:
                    _terminal(name, TERMINALS[name], shop)
                print(f"made {name}.png")
        finally:
            screen.terminate()
            screen.wait()


def _mending(*words: str, cwd: Path) -> None:
    subprocess.run([PROGRAM, *words], cwd=cwd, check=True, stdout=subprocess.DEVNULL)


def _terminal(name: str, commands: list[str], folder: Path) -> None:
    shown = [shlex.quote(f"$ mending {command}") for command in commands]
    pairs = zip(shown, commands, strict=True)
    lines = [
        f"printf '%s\\n' {line}; {shlex.quote(str(PROGRAM))} {command}; echo"
        for line, command in pairs
    ]
    script = f"cd {shlex.quote(str(folder))}; {'; '.join(lines)}; touch done; sleep 60"
    look = [
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        "11",
        "-geometry",
        "141x47+0+0",
        "-bg",
        "#fbfaf6",
        "-fg",
        "#202020",
    ]
    window = subprocess.Popen(
        ["xterm", "-tn", "xterm-256color", "-display", DISPLAY, *look, "-e", "sh", "-c", script],
        env=_environment(),
    )
    done = folder / "done"
    for _ in range(250):
        if done.exists():
            break
        time.sleep(0.1)
    time.sleep(0.7)
    subprocess.run(
        ["import", "-display", DISPLAY, "-window", "root", SHOTS / f"{name}.png"], check=True
    )
    window.kill()
    window.wait()
    done.unlink(missing_ok=True)  # a command that asks is still waiting


def _page(folder: Path) -> None:
    _mending("report", "mess-room", "-o", "page.html", cwd=folder)
    flags = [
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--hide-scrollbars",
    ]
    flags += ["--disable-background-networking", "--disable-component-update", "--disable-sync"]
    flags += [
        f"--user-data-dir={folder}/profile",
        "--window-size=1280,1000",
        f"--screenshot={SHOTS}/{PAGE}.png",
    ]
    subprocess.run(
        ["chromium", *flags, f"file://{folder}/page.html"], check=True, capture_output=True
    )


def _environment() -> dict[str, str]:
    return {**os.environ, "COLUMNS": "100", "TERM": "xterm-256color"}


if __name__ == "__main__":
    main()
