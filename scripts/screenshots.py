"""Make the pictures of docs/screenshots from the demo data, each a real terminal of 80 columns.

    apt-get install xvfb xterm xdotool imagemagick fonts-dejavu libreoffice-calc poppler-utils \
        dovecot-imapd slapd ldap-utils chromium
    python scripts/screenshots.py [NAME…]

Runs the tour in a fresh folder, then each command in an xterm on a screen of its own.
"""

from __future__ import annotations

import html
import json
import os
import re
import shlex
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from email import message_from_bytes
from email.policy import default
from pathlib import Path

from barnacle.demo import directory

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from servers import imap_server

OUT = Path(__file__).parents[1] / "docs" / "screenshots"
DISPLAY = ":97"
COLUMNS, ROWS = 80, {"pick": 14, "review": 26}
MOST_ROWS = 58

# What is pressed while a command waits for keys.
TYPED = {
    "setup": (
        "Maren Holt",
        "maren@tidewick.example",
        "",
        "smtp://localhost:2526",
        "",
        "ebb-tide",
        "flood-gate",
        "",
        "",
    ),
}
KEYS = {"import": ["y"], "pick": ["l", "a", "Down", "Tab"], "review": ["l", "f", "Down"]}
# In the middle of which commands the picture is taken, after how many seconds.
MIDDLE = {"import": 4.0, "setup": 3.0}
# What is done first, without a picture; and which are made in a book of their own, so that everybody is new to it.
BEFORE = {
    "send": ("barnacle settings mail.per_message 10",),
    "share": (
        "barnacle hub connect http://127.0.0.1:8843/ --as maren@tidewick.example --moved --code {maren}",
        "env BARNACLE_HOME=idris barnacle hub connect http://127.0.0.1:8843/ --moved --code {idris}",
        "env BARNACLE_HOME=oluchi barnacle hub connect http://127.0.0.1:8843/ --moved --code {oluchi}",
        'barnacle share offer "Ferry masters" --with oluchi@tidewick.example',
        "env BARNACLE_HOME=idris barnacle contact edit bram@pilots.example --job Pilot",
        "env BARNACLE_HOME=idris barnacle contact edit sten@kelp.example --job 'Senior pilot'",
        "env BARNACLE_HOME=idris barnacle sync",
        "barnacle contact edit sten@kelp.example --job 'Chief pilot'",
        "barnacle contact edit ragna@pilots.example --web https://pilots.example/ragna",
    ),
    "house": (
        "barnacle hub connect http://127.0.0.1:8843/ --as maren@tidewick.example --moved --code {maren}",
        "barnacle stand-in post --at {door} --vouch mx.tidewick.example "
        "--from 'Oluchi Marsh <oluchi@tidewick.example>' "
        "--to ferry-crews@lists.tidewick.example --subject 'Ebb tide on Sunday' "
        "--text 'The 10.40 runs from pontoon B on Sunday: the tide is low.'",
        "barnacle stand-in post --at {door} --from oluchi@tidewick.example "
        "--to ferry-crews@lists.tidewick.example --subject 'Click here'",
    ),
    # As if that mail had not been read: what one takes away by hand is not marked again.
    "returns": ("barnacle undo {returns}",),
    "duplicates": (
        "barnacle import berth-holders.csv --into Holders --list-by Pontoon",
        "barnacle import card-file.vcf",
        'barnacle contact add "Tarrant, Kasia <ktarrant+dock@northpier.example>"',
    ),
}
FRESH = ("import", "plan", "duplicates", "review")
NEW = ("setup",)
# What one would type.
SHOTS: dict[str, list[str]] = {
    "setup": ["barnacle setup"],
    "overview": [
        "barnacle",
        "barnacle list",
        "barnacle lits",
        "barnacle book check",
        "barnacle book copy harbour.book --yes",
    ],
    "list": ['barnacle list "Ferry masters"', "barnacle contact show sten@kelp.example"],
    "check": [
        'barnacle check "Trust board" "Ferry crews"',
        'barnacle find --unreachable --in "Berth holders"',
        'barnacle list about "Trust board" "Meets in March"',
        'barnacle history "Trust board"',
        "barnacle undo",
    ],
    "pick": [
        'barnacle compose --for "Night pilots" "Ferry masters" --pick --subject "Pilots and masters" --text "At five."'
    ],
    "import": ['barnacle import berth-holders.csv --into "Berth holders"'],
    "plan": ['barnacle import slipway-sign-up.csv --into "Slipway volunteers" --plan'],
    "gather": ["barnacle gather sent-mail.mbox </dev/null"],
    "returns": ["barnacle returns returned-mail.mbox", 'barnacle contact show "amos lindahl"'],
    "duplicates": ["barnacle duplicates"],
    "review": ["barnacle duplicates review"],
    "export": [
        'barnacle list show Regulars --columns "Berth, Boat, phone"',
        """barnacle find --where 'field Boat is Curlew and field Berth starts A'""",
        'barnacle export "Pontoon A" "Pontoon B" --fields all --out berths.xlsx --yes',
        'barnacle export "Night pilots" --as line',
        'barnacle report reach "Berth holders" "Pontoon A" "Ferry crews" "Regulars"',
    ],
    "compose": [
        'barnacle compose --for "Ferry crews" "Night pilots" --without "Dagny Fairweather" '
        '--subject "Crew supper" --text "Friday at six in the net loft." --attach suppliers.xlsx',
        "barnacle preview m7 --as sten@kelp.example",
    ],
    "send": [
        "barnacle send m7 --yes",
        'cat "$SENT"/cur/* | head -5',
        "barnacle send m6 --test",
        'barnacle send m6 --at "Friday 07:30" --yes',
        "barnacle outbox refused",
    ],
    "directory": [
        "barnacle directory find ferry",
        'barnacle list add "Winter rota" "Idris Vane" "Otto Nobody"',
        'barnacle directory take "Oluchi Marsh" idris@tidewick.example',
        "barnacle contact edit idris@tidewick.example --job 'Harbour master'",
        "barnacle directory refresh",
    ],
    "share": [
        "BARNACLE_HOME=oluchi barnacle share waiting",
        'barnacle share who "Night pilots"',
        'barnacle list show "Night pilots"',
        "barnacle sync",
        "barnacle share conflicts",
        'barnacle share history "Night pilots" --most 4',
    ],
    "house": [
        "barnacle house",
        'barnacle house rules "Ferry crews"',
        'barnacle house members "Ferry crews"',
        "barnacle house held",
    ],
}


@contextmanager
def screen() -> Iterator[None]:
    server = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x1200x24", "-noreset"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.5)
        yield
    finally:
        server.terminate()
        server.wait()


def shoot(name: str, commands: list[str], folder: Path, environment: dict[str, str]) -> None:
    done = folder / f"{name}.done"
    lines = [f"printf '%s\\n' {shlex.quote('$ ' + c)}; {c}; echo" for c in commands]
    script = folder / f"{name}.sh"
    script.write_text(
        "cd " + shlex.quote(str(folder / "tour")) + "\n" + "\n".join(lines) + f"\ntouch {done}\nsleep 60\n"
    )
    size = f"{COLUMNS}x{ROWS.get(name, MOST_ROWS)}+0+0"
    terminal = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "12", "-geometry", size, "-bg", "white", "-fg", "black",
         "+sb", "-e", "bash", str(script)],
        env={**environment, "DISPLAY": DISPLAY},
    )  # fmt: skip
    try:
        # The window below the pointer gets the keys.
        subprocess.run(["xdotool", "mousemove", "100", "100"], env={**environment, "DISPLAY": DISPLAY}, check=True)
        for words in TYPED.get(name, ()):
            time.sleep(1.2)
            typed = ["xdotool", "type", "--delay", "15", words] if words else ["true"]
            subprocess.run(typed, env={**environment, "DISPLAY": DISPLAY}, check=True)
            subprocess.run(["xdotool", "key", "Return"], env={**environment, "DISPLAY": DISPLAY}, check=True)
        for key in KEYS.get(name, []):
            time.sleep(3.0 if key == KEYS[name][0] else 0.3)
            subprocess.run(["xdotool", "key", key], env={**environment, "DISPLAY": DISPLAY}, check=True)
        for _ in range(int(MIDDLE.get(name, 0.5 if name in KEYS else 30) * 10)):
            if done.exists():
                break
            time.sleep(0.1)
        picture = str(OUT / f"{name}.png")
        for _ in range(20):  # until something is painted
            time.sleep(0.7)
            subprocess.run(["import", "-window", "root", picture], env={**environment, "DISPLAY": DISPLAY}, check=True)
            colours = subprocess.run(["identify", "-format", "%k", picture], capture_output=True, text=True, check=True)
            if int(colours.stdout) > 2:
                break
        else:
            raise SystemExit(f"{name}: nothing was painted")
        frame = ["-bordercolor", "black", "-trim", "+repage", "-bordercolor", "white", "-trim", "-border", "16"]
        subprocess.run(["mogrify", *frame, "+repage", picture], check=True)
    finally:
        terminal.terminate()
        terminal.wait()
    print(OUT / f"{name}.png")


def workbook(folder: Path, environment: dict[str, str]) -> None:
    """A workbook that was exported, as a spreadsheet program shows it, below the commands."""

    def ran(*argv: str) -> None:
        subprocess.run(argv, cwd=folder, env=environment, check=True, capture_output=True)

    ran(
        "barnacle",
        "export",
        "Pontoon A",
        "--fields",
        "name,address,phone,Berth,Boat,lists,uid",
        "--out",
        "berths.xlsx",
        "--yes",
    )
    ran("soffice", "--headless", "--convert-to", "pdf", "berths.xlsx")
    ran("pdftoppm", "-r", "150", "-f", "1", "-l", "1", "-singlefile", "-png", "berths.pdf", "page")
    ran(
        "convert",
        "page.png",
        "-trim",
        "-resize",
        "1240x",
        "-bordercolor",
        "white",
        "-border",
        "20",
        "workbook.png",
    )
    ran(
        "convert",
        str(OUT / "export.png"),
        "workbook.png",
        "-background",
        "white",
        "-append",
        "+repage",
        str(OUT / "export.png"),
    )
    print(OUT / "export.png")


def report(folder: Path, environment: dict[str, str]) -> None:
    """The reports as they are drawn, and a list on paper, beside each other."""
    for name in ("reach", "deliveries", "overlap"):
        argv = ["barnacle", "report", name, "--out", f"{name}.png"]
        subprocess.run(argv, cwd=folder, env=environment, check=True, capture_output=True)
    argv = ["barnacle", "report", "list", "Pontoon A", "--columns", "phone, Berth, Boat", "--out", "list.png"]
    subprocess.run(argv, cwd=folder, env=environment, check=True, capture_output=True)
    names = ["reach.png", "overlap.png", "deliveries.png", "list.png"]
    sizes = ["-tile", "2x2", "-geometry", "640x560+6+6", "-background", "white"]
    subprocess.run(["montage", *names, *sizes, str(OUT / "report.png")], cwd=folder, env=environment, check=True)
    print(OUT / "report.png")


PROGRAM_VIEW = """<!doctype html><meta charset="utf-8"><style>
body { font: 16px/1.5 system-ui, sans-serif; margin: 24px; max-width: 660px }
td { padding: 2px 14px 2px 0; vertical-align: top } td:first-child { color: #666 }
hr { border: 0; border-top: 1px solid #bbb; margin: 16px 0 } pre { font: inherit; white-space: pre-wrap }
</style><table>%s</table><hr><pre>%s</pre>"""


def house_page(folder: Path, mail: Path) -> None:
    """The page behind the way out on a phone, and a member's copy as a mail program shows it, beside each other."""

    def picture(url: str, name: str, size: str) -> None:
        subprocess.run(
            ["chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars",
             f"--window-size={size}",
             f"--screenshot={folder / name}", url],
            check=True, capture_output=True,
        )  # fmt: skip

    copy = min(mail.glob("*@tidewick.example/new/*"))
    message = message_from_bytes(copy.read_bytes(), policy=default)
    rows = "".join(
        f"<tr><td>{name}</td><td>{html.escape(str(message[name]))}</td></tr>"
        for name in ("From", "To", "Subject", "Date", "List-Id")
    )
    (folder / "copy.html").write_text(PROGRAM_VIEW % (rows, html.escape(message.get_content())), encoding="utf-8")
    link = re.sub(r"\s", "", str(message["List-Unsubscribe"])).partition(">")[0].strip("<")
    picture(link, "page.png", "500,500")
    picture((folder / "copy.html").as_uri(), "copy.png", "720,500")
    frame = ["-bordercolor", "#999", "-border", "1", "-bordercolor", "white", "-border", "8", "+append", "+repage"]
    names = [str(folder / name) for name in ("copy.png", "page.png")]
    subprocess.run(["convert", *names, *frame, str(OUT / "house-page.png")], check=True)
    print(OUT / "house-page.png")


def stand_in(environment: dict[str, str], port: str, folder: Path, *options: str) -> subprocess.Popen[str]:
    return server(environment, "stand-in", "mail", "--port", port, "--into", str(folder), *options)


def server(environment: dict[str, str], *argv: str) -> subprocess.Popen[str]:
    process = subprocess.Popen(["barnacle", *argv], env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                               text=True)  # fmt: skip
    assert process.stdout is not None
    process.stdout.readline()
    return process


def code_for(environment: dict[str, str], who: str, data: Path) -> str:
    """The code that whoever runs the hub gives to somebody."""
    command = ["barnacle", "hub", "person", "add", f"{who}@tidewick.example", "--data", str(data), "--json"]
    done = subprocess.run(command, env=environment, stdout=subprocess.PIPE, text=True, check=True)
    return str(json.loads(done.stdout)["code"])


def main(names: list[str]) -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as scratch, screen(), ExitStack() as stack:
        folder = Path(scratch)
        environment = {**os.environ, "BARNACLE_HOME": str(folder / "tour"), "TERM": "xterm-256color",
                       "PYTHON_KEYRING_BACKEND": "keyring.backends.null.Keyring",
                       "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}  # fmt: skip
        subprocess.run(["barnacle", "tour", "--into", str(folder / "tour")], env=environment, check=True,
                       capture_output=True)  # fmt: skip
        hub = [
            "hub", "serve", "--listen", "127.0.0.1:8843", "--data", str(folder / "tour" / "hub"),
            "--lmtp", "127.0.0.1:2424",
            "--mail", "smtp://127.0.0.1:2527", "--list-domain", "lists.tidewick.example", "--house-domain",
            "tidewick.example", "--trust-results", "mx.tidewick.example", "--public-url", "http://127.0.0.1:8843/",
        ]  # fmt: skip
        servers = [
            stand_in(environment, "2527", folder / "house-mail"),
            server(environment, *hub),
            stand_in(environment, "2525", folder / "mail", "--refuse", "sten*", "--drop", "after"),
            stand_in(environment, "2526", folder / "mail2", "--login", "maren@tidewick.example:flood-gate"),
        ]
        subprocess.run(["barnacle", "setup", "--mail", "smtp://127.0.0.1:2525"], env=environment, check=True,
                       capture_output=True)  # fmt: skip
        place, boxes = stack.enter_context(imap_server())
        environment["SENT"] = str(boxes / "maren@tidewick.example" / ".Gesendet")
        environment["BARNACLE_MAILBOX_PASSWORD"] = "flood-gate"
        url = f"imap://maren%40tidewick.example@{place}"
        people = stack.enter_context(directory.serving(folder / "ldap"))
        for argv in (["--mailbox", url], ["--directory", str(people)]):
            subprocess.run(["barnacle", "setup", *argv], env=environment, check=True, capture_output=True)
        subprocess.run(["barnacle", "setup", "--me", "Maren Holt <maren@tidewick.example>"], check=True,
                       env={**environment, "BARNACLE_HOME": str(folder / "fresh")}, capture_output=True)  # fmt: skip
        try:
            history = subprocess.run(
                ["barnacle", "history", "--json"], env=environment, stdout=subprocess.PIPE, check=True
            )
            done = {one["command"]: one["number"] for one in json.loads(history.stdout)}
            codes = {who: code_for(environment, who, folder / "tour" / "hub") for who in ("maren", "idris", "oluchi")}
            for name, commands in SHOTS.items():
                if not names or name in names or name in ("compose",):
                    home = "fresh" if name in FRESH else "new" if name in NEW else "tour"
                    own = {"BARNACLE_HOME": str(folder / home)}
                    for command in BEFORE.get(name, ()):
                        argv = shlex.split(
                            command.format(**codes, returns=done["returns"], door="lmtp://127.0.0.1:2424")
                        )
                        subprocess.run(argv, cwd=folder / "tour", env={**environment, **own}, capture_output=True)
                    shoot(name, commands, folder, {**environment, **own})
            if not names or "report" in names:
                report(folder / "tour", environment)
            if not names or "house" in names:
                house_page(folder, folder / "house-mail")
            if not names or "export" in names:
                workbook(folder / "tour", environment)
        finally:
            for one in servers:
                one.terminate()
                one.communicate()


if __name__ == "__main__":
    main(sys.argv[1:])
