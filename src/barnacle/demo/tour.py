"""The tour: the whole job on the data of Tidewick Harbour, each command as one would type it, with its real output."""

from __future__ import annotations

import json
import os
import re
import shlex
import socket
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import visible, visible_lines
from barnacle.core.typed import Any

GUEST_OF_HONOUR = "Dagny Fairweather"
DATA = (
    "berth-holders.csv", "slipway-sign-up.csv", "ferry-crews.tsv", "card-file.vcf", "directory.ldif", "suppliers.xlsx",
    "pasted-line.txt", "sent-mail.mbox", "returned-mail.mbox",
)  # fmt: skip
RETURNED = "returned-mail.mbox"
NOTICE = """Good morning,

on Friday 27 November the slipway is closed from 8 to 12 while the crane is inspected.
Boats that are out by Thursday evening can stay in the yard over the weekend.

Maren Holt
Tidewick Harbour Trust
"""


@dataclass(slots=True)
class Step:
    """A command of the tour. `expected` is the exit code that shows that it did what the tour says; the remark
    stands above it. Steps that are not `main` are left out of a quick tour. `keys` are pressed in a command that takes
    the whole screen. A command may begin with a variable, and end with `< FILE`."""

    remark: str
    command: str
    expected: int = 0
    main: bool = True
    keys: str = ""


@dataclass(slots=True)
class Chapter:
    """Steps that go together: by which name somebody asks for them, and what they are about."""

    name: str
    title: str


STEPS: tuple[Step | Chapter, ...] = (
    Chapter("people", "Who you write to: typed in, and imported"),
    Step("Maren Holt of the harbour office says who she is, and how her mail is sent.",
         'barnacle setup --me "Maren Holt <maren@tidewick.example>" --mail {server}'),
    Step("She types in a pilot, with an address at work and one at home, straight onto a list.",
         'barnacle contact add "Sten Kilbride <sten.kilbride@pilots.example>" --address home:sten@kelp.example '
         '--phone "mobile:07700 900123" --label pilot --into "Night pilots"'),
    Step("The ferry crews come from a spreadsheet: tabs, UTF-16, names in two columns. Barnacle works that out.",
         'barnacle import ferry-crews.tsv --into "Ferry crews"'),
    Step("The berth holders: first the plan. Two addresses cannot be right; both people are kept (exit code 1).",
         'barnacle import berth-holders.csv --into "Berth holders" --plan', 1, main=False),
    Step("Now for real.", 'barnacle import berth-holders.csv --into "Berth holders" --quiet', 1, main=False),
    Step("The sign-up form has people from the berth sheet, typed again by hand. They are updated, not added twice.",
         'barnacle import slipway-sign-up.csv --into "Slipway volunteers"', 1, main=False),
    Step("The same file again changes nothing.",
         'barnacle import slipway-sign-up.csv --into "Slipway volunteers" --quiet', 1, main=False),
    Step("The suppliers' workbook has two sheets, and titles above the header.",
         'barnacle import suppliers.xlsx --into "Chandlers and yards" --quiet', main=False),
    Step("The trust's directory, and the old office's card file: cards without an address are added too.",
         "barnacle import directory.ldif card-file.vcf --quiet", main=False),
    Step("The berth sheet again, now with a list for each pontoon. Nobody is added twice.",
         "barnacle import berth-holders.csv --list-by Pontoon --quiet", 1, main=False),
    Step("A line of addresses from an old message becomes a list.",
         'barnacle list new "Trust board" - < pasted-line.txt', main=False),
    Step("A year of sent mail: everybody she wrote to, who is known already; and those of three messages are added.",
         "barnacle gather sent-mail.mbox --since 2026-07-01", main=False),
    Step("", 'barnacle gather sent-mail.mbox --at-least 3 --into "Regulars"', main=False),
    Chapter("lists", "Lists: who is on them, and why"),
    Step("All lists at a glance.", "barnacle list"),
    Step("Pilots: another one, found by part of his name; Sten gets this list's mail at home.",
         'barnacle list add "Night pilots" "Ragna Quayle <ragna@pilots.example>" sten@kelp.example'),
    Step("Who is on it, since when, and how they got there?", 'barnacle list show "night pilots"', main=False),
    Step("Who was it, Lars something, with a quayside address? Any part of any field will do.",
         "barnacle find quays lars", main=False),
    Step("Della Goss left in May. She comes off the list, and stays in the book.",
         'barnacle list take "Ferry crews" "della goss"'),
    Step("No, that was too early: undo the last change.", "barnacle undo", main=False),
    Step("Any change to the book can be undone.", "barnacle history", main=False),
    Step("A list can keep itself up to date: everybody at the trust who works on a ferry.",
         """barnacle list new "Ferry masters" --where 'domain is tidewick.example and job has master'""", main=False),
    Step("Brigid Keel has moved on; taking her off overrules the rule.",
         'barnacle list take "Ferry masters" "brigid keel"', main=False),
    Step("Which part of the rule, or which command, put each there?",
         'barnacle list show "ferry masters"', main=False),
    Step("Who is on both lists, who on one only?", 'barnacle list compare "Ferry masters" "Ferry crews"', main=False),
    Step("Lars Landry's card gets a new private address, used for one list alone, and a label.",
         'barnacle contact edit "lars landry" --address home:lars@northpier.example --label helmsman', main=False),
    Step("", 'barnacle contact prefer "lars landry" lars@northpier.example --in "Ferry masters"', main=False),
    Step("Or the whole card in your editor (here a small program plays the editor).",
         """EDITOR="sed -i 's/^job:.*/job: Senior ferry master/'" barnacle contact edit landry.l@tidewick.example""",
         main=False),
    Step("Who has which label?", "barnacle label", main=False),
    Chapter("tidying", "Tidying up: who is there twice, and what is wrong"),
    Step("Ragna is in the book twice, typed again at home: merged, with both addresses.",
         'barnacle contact add "Ragna Quayle <ragna@saltpost.example>"', main=False),
    Step("", "barnacle contact merge ragna@pilots.example ragna@saltpost.example", main=False),
    Step("Who else is in it twice? Kasia's other address has just been typed in from a note.",
         'barnacle contact add "Tarrant, Kasia <ktarrant+dock@northpier.example>"', main=False),
    Step("", "barnacle duplicates", main=False),
    Step("Those that are certain are merged all at once; one undo would reverse it.",
         "barnacle duplicates merge --certain", main=False),
    Step("Two people with one name, on pontoons A and C. She says so once.",
         "barnacle duplicates apart rowan@kelp.example thorne.r@gullmail.example", main=False),
    Step("The rest side by side, one key each: m merges, t says they are two people, l leaves it for later.",
         "barnacle duplicates review", main=False, keys="mmmml"),
    Step("The list she writes to most comes first; and a copy for the winter rota starts with the same people.",
         'barnacle list pin "Night pilots"', main=False),
    Step("", 'barnacle list copy "Night pilots" "Winter rota"', main=False),
    Step("Choosing who is on it from a checklist of everybody: she types `isak`, Tab to tick him, and Enter.",
         'barnacle list pick "Winter rota"', main=False, keys="isak \r"),
    Step("A list of everybody a search finds, then removed again; the people stay.",
         'barnacle list new "Quayside" find:quayside.example', main=False),
    Step("", 'barnacle list remove "Quayside" --yes', main=False),
    Step("Somebody asked not to be written to any more, and no list or message gets round that.",
         'barnacle contact optout "malin lindahl" --why "asked on the quay"', main=False),
    Step("Is anything wrong with the berth holders' list, before it is needed?",
         'barnacle check "Berth holders"', main=False),
    Step("The mistyped domain is put right, with the command it names.",
         'barnacle contact edit "Jorun Sandvik" --drop-address jsandvik@kelp.exmaple --address jsandvik@kelp.example',
         main=False),
    Chapter("sending", "Writing to a list, and what became of it"),
    Step(f"A retirement party for {GUEST_OF_HONOUR}, who must not hear of it. The list itself does not change.",
         'barnacle compose --for "Ferry crews" "Night pilots" --without "{guest}" '
         '--also "Kit Rudd <kit@bakery.example>" '
         '--subject "A party for Dagny" --text "Friday at six in the net loft. Not a word to her."'),
    Step("She would not get it, and it says why.", 'barnacle preview m1 --as "{guest}"', 2, main=False),
    Step("For one message, somebody can be unticked too; the list does not change.",
         'barnacle compose --for "Night pilots" --pick --subject "Tides" --text "High water at six."', main=False,
         keys="ragna \r"),
    Step("Somebody's address in the text stops a message before it is sent: everybody would see it (exit code 2).",
         'barnacle compose --for "Ferry crews" --subject "Rota" --text "Swaps to della.goss@tidewick.example"', 2,
         main=False),
    Step("The slipway notice, from a text file, to everybody on two lists. Anybody on both gets it once.",
         'barnacle compose --for "Berth holders" "Slipway volunteers" --subject "Slipway closed on Friday" '
         "--body notice.txt", main=False),
    Step("What will they see?", "barnacle preview m1"),
    Step("To herself first, just as a pilot will get it.", "barnacle send m1 --test", main=False),
    Step("Sent: the server defers one address for now.", "barnacle send m1 --yes", 1),
    Step("Later, just that one is sent. Nobody gets it twice.", "barnacle send m1 --resume --yes"),
    Step("The notice goes out too, in batches; one address is refused, and everybody else still gets it.",
         "barnacle send m4 --yes", 1, main=False),
    Step("The volunteers each get their own message, with their name in it; without a name, they are neighbours.",
         'barnacle compose --for "Slipway volunteers" --each --subject "Saturday, {{given|neighbour}}" '
         '--text "Dear {{given|neighbour}}, can you bring gloves? We begin at nine."', main=False),
    Step("", 'barnacle preview m5 --as "zoe fjallgren"', main=False),
    Step("", "barnacle send m5 --yes --quiet", main=False),
    Step("What became of the party message, address by address?", "barnacle outbox show m1"),
    Step("What was sent cannot be undone, and it says so.", "barnacle undo", 2, main=False),
    Step("She also writes for the office; and a notice that comes back each month is kept, and goes out later.",
         'barnacle setup --sender "Harbour Office <office@tidewick.example>"', main=False),
    Step("", 'barnacle text keep "Slipway closed" m4', main=False),
    Step("", 'barnacle compose --for "Chandlers and yards" --use "Slipway closed" --from office', main=False),
    Step("", 'barnacle send m6 --at "Friday 07:30" --yes', main=False),
    Step("Returned mail: whoever cannot be reached, or asked to be left out, is marked.",
         "barnacle returns returned-mail.mbox", main=False),
    Step("The list as a line to paste elsewhere; a spreadsheet gets only what was asked for.",
         'barnacle export "Pontoon A" --as line', main=False),
    Step("", 'barnacle export "Pontoon A" --out pontoon-a.csv --fields name,address,phone', main=False),
    Step("Whom do the lists reach, and why not the others?",
         'barnacle report reach "Berth holders" "Ferry crews" "Slipway volunteers"', main=False),
    Chapter("directory", "The organisation's directory"),
    Step("The trust has a directory of its staff. Where it is, she is told once.",
         "barnacle setup --directory {directory}", main=False),
    Step("Who works on the ferries?", "barnacle directory find ferry", main=False),
    Step("Petra of works and dredging joins the winter rota. What the directory says later, a refresh brings.",
         'barnacle list add "Winter rota" "directory:Petra Lindqvist"', main=False),
    Step("Has anything changed there?", "barnacle directory refresh", main=False),
    Chapter("sharing", "One list for several colleagues"),
    Step("Idris Vane writes to the pilots too. Through a hub they share one list; whoever runs it gave each a code.",
         "barnacle hub connect {hub} --as maren@tidewick.example --code {maren}", main=False),
    Step("", 'BARNACLE_HOME=idris barnacle setup --me "Idris Vane <idris@tidewick.example>"', main=False),
    Step("", "BARNACLE_HOME=idris barnacle hub connect {hub} --code {idris}", main=False),
    Step("", 'BARNACLE_HOME=oluchi barnacle setup --me "Oluchi Marsh <oluchi@tidewick.example>" --quiet', main=False),
    Step("", "BARNACLE_HOME=oluchi barnacle hub connect {hub} --code {oluchi} --quiet", main=False),
    Step("Idris may change the list; Oluchi of the berthing office may see it.",
         'barnacle share offer "Night pilots" --with idris@tidewick.example --role editor', main=False),
    Step("", 'barnacle share offer "Night pilots" --with oluchi@tidewick.example', main=False),
    Step("In Idris's book:", "BARNACLE_HOME=idris barnacle share waiting", main=False),
    Step("", 'BARNACLE_HOME=idris barnacle share accept "Night pilots"', main=False),
    Step("Both work without the hub: he adds a pilot, she notes where Ragna works, and both where Sten does.",
         'BARNACLE_HOME=idris barnacle contact add "Bram Fulton <bram@pilots.example>" --into "Night pilots"',
         main=False),
    Step("", 'barnacle contact edit ragna@pilots.example --org "Outer Sound Pilots"', main=False),
    Step("", 'BARNACLE_HOME=idris barnacle contact edit sten@kelp.example --org "Outer Sound Pilots"', main=False),
    Step("", 'barnacle contact edit sten@kelp.example --org "Sound Pilotage"', main=False),
    Step("Then they exchange changes. What both changed is a conflict: the hub has his value, and hers is not lost.",
         "BARNACLE_HOME=idris barnacle sync", main=False),
    Step("", "barnacle sync", 1, main=False),
    Step("", "barnacle share conflicts", main=False),
    Step("", "barnacle share conflicts --keep theirs 1", main=False),
    Step("", "barnacle sync", main=False),
    Step("Who shares it, who put Bram on it, and is anything waiting to be exchanged?",
         'barnacle list show "Night pilots"', main=False),
    Step("Oluchi accepts it too. She may see it, but not change it.",
         'BARNACLE_HOME=oluchi barnacle share accept "Night pilots"', main=False),
    Step("", 'BARNACLE_HOME=oluchi barnacle list take "Night pilots" "Bram Fulton"', 2, main=False),
    Step("Everybody who shares it.", 'barnacle share who "Night pilots"', main=False),
    Chapter("house", "A list of the house, with an address of its own"),
    Step("The ferry crews belong to everybody here. Their list gets an address, to which all of the staff may write.",
         'barnacle house open "Ferry crews" --at ferry-crews --writers staff --outsiders yes', main=False),
    Step("Whoever runs the hub vouches for it: from now on it is an official list.",
         "barnacle hub house official ferry-crews@lists.tidewick.example --data hub", main=False),
    Step("Idris keeps it with her.",
         'barnacle share offer "Ferry crews" --with idris@tidewick.example --role owner', main=False),
    Step("", 'BARNACLE_HOME=idris barnacle share accept "Ferry crews"', main=False),
    Step("Oluchi writes to it from her mail program. The mail server, which knows her, hands it to the hub.",
         "barnacle stand-in post --at {door} --vouch mx.tidewick.example "
         "--from 'Oluchi Marsh <oluchi@tidewick.example>' "
         "--to ferry-crews@lists.tidewick.example --subject 'Ebb tide' --text 'The 10.40 runs from pontoon B today.'",
         main=False),
    Step("An outsider is turned away.",
         "barnacle stand-in post --at {door} --vouch mx.tidewick.example --from sales@bargain-ropes.example "
         "--to ferry-crews@lists.tidewick.example --subject 'Ropes' --text 'Half price.'", 2, main=False),
    Step("Somebody in Oluchi's name, for whom nothing speaks, waits for a keeper.",
         "barnacle stand-in post --at {door} --from oluchi@tidewick.example --to ferry-crews@lists.tidewick.example "
         "--subject 'Click here' --text 'Quick!'", main=False),
    Step("", "BARNACLE_HOME=idris barnacle house held", main=False),
    Step("", "BARNACLE_HOME=idris barnacle house refuse 1", main=False),
    Step("Somebody of the crews leaves the list by the link in her copy, as mail programs do with one click.",
         "barnacle stand-in leave mail/bkeel@tidewick.example", main=False),
    Step("The keepers see how it stands.", "barnacle house", main=False),
    Step("", 'barnacle house numbers "Ferry crews"', main=False),
    Step("All messages, and where things stand.", "barnacle outbox", main=False),
    Step("", "barnacle", main=False),
)  # fmt: skip


@dataclass(slots=True)
class Result:
    """What the tour did: each step with exit code and output (kept only where asked for), and what went wrong."""

    folder: Path
    steps: list[dict[str, Any]] = field(default_factory=list)
    failures: list[str] = field(default_factory=list)


def take_tour(
    into: Path | None,
    quick: bool,
    keep_output: bool,
    say: Callable[[str], None],
    chapter: str | None = None,
    go_on: Callable[[Chapter], bool] = lambda chapter: True,
) -> Result:
    """Go through the job in a fresh folder, or through one chapter of it, the ones before it in silence. `go_on` is
    asked before each further chapter. Raises FileError where `into` is there already and not empty."""
    folder = _fresh_folder(into)
    for name in DATA:
        (folder / name).write_bytes((files("barnacle.demo") / "data" / name).read_bytes())
    (folder / "notice.txt").write_text(NOTICE, encoding="utf-8")
    result = Result(folder)
    # Tokens of a hub that is gone tomorrow have no place in anybody's keyring.
    no_keyring = {"PYTHON_KEYRING_BACKEND": "keyring.backends.null.Keyring"}
    environment = {**os.environ, "BARNACLE_HOME": str(folder), "PYTHONUTF8": "1", **no_keyring}
    for name in ("BARNACLE_MAIL_PASSWORD", "VISUAL"):
        environment.pop(name, None)
    stand_in = "barnacle stand-in mail --port 0 --into mail --defer 'sten*' --defer-times 1 --refuse 'pike.family@*'"
    with ExitStack() as servers:
        say("A pretend mail server, which keeps what each recipient would have got.")
        (url,) = servers.enter_context(_serving(stand_in, folder, environment, say))
        names = {"server": url, "guest": GUEST_OF_HONOUR}
        has_hub = find_spec("sqlalchemy") is not None and find_spec("uvicorn") is not None
        if not quick and not has_hub:
            say("\nThe chapter on sharing is left out: it needs pip install 'barnacle[hub]'.")
        elif not quick:
            say("\nAnd a hub, for colleagues to share lists.")
            port = _free_port()
            mail = (
                f"--lmtp 127.0.0.1:0 --mail {url} --list-domain lists.tidewick.example --house-domain tidewick.example"
            )
            hub = f"barnacle hub serve --listen 127.0.0.1:{port} --data hub {mail} --trust-results mx.tidewick.example"
            hub += f" --public-url http://127.0.0.1:{port}/"
            names["hub"], names["door"] = servers.enter_context(_serving(hub, folder, environment, say, 2))
            names |= {who: _code(who, folder, environment) for who in ("maren", "idris", "oluchi")}
        from barnacle.demo import directory

        has_directory = False
        if not quick and not directory.is_here():
            say("\nThe chapter on the organisation's directory is left out: this computer has no directory server.")
        elif not quick:
            place = servers.enter_context(directory.serving(folder / "directory"))
            has_directory = place is not None
            names["directory"] = place or ""
            say(
                f"\nThe trust's directory is at {place}."
                if place
                else "\nThe directory did not start; its chapter is left out."
            )
        # The pause before a second try would only make you wait here.
        (folder / "barnacle.toml").write_text("[mail]\npauses = []\n", encoding="utf-8")
        now, skipped = "", False
        for step in STEPS:
            if isinstance(step, Chapter):
                if step.name == "sharing" and (quick or not has_hub):
                    break
                skipped = step.name == "directory" and not has_directory
                if skipped:
                    continue
                if now and (now == chapter or (chapter is None and not go_on(step))):
                    return result
                now = step.name
                if chapter in (None, now):
                    say(f"\n{step.title}\n{'=' * len(step.title)}")
            elif not skipped and (step.main or not quick or chapter is not None):
                shown = chapter in (None, now)
                _take(step, names, folder, environment, keep_output or not shown, say if shown else _nothing, result)
        _open_copy(folder, "sten@kelp.example", say, result)
    return result


def _nothing(text: str) -> None:
    """What is said of the chapters that nobody asked for."""


def _fresh_folder(into: Path | None) -> Path:
    if into is None:
        return Path(tempfile.mkdtemp(prefix="barnacle-tour-"))
    if into.exists() and (not into.is_dir() or any(into.iterdir())):
        raise FileError(f"{visible(str(into))} exists already and is not empty. Name a new folder for the tour.")
    into.mkdir(parents=True, exist_ok=True, mode=0o700)
    return into.resolve()


def _argv(command: str) -> list[str]:
    """The command as a process: this very Python and program, wherever they are installed."""
    return [sys.executable, "-m", *shlex.split(command)]


@contextmanager
def _serving(
    command: str, folder: Path, environment: dict[str, str], say: Callable[[str], None], places: int = 1
) -> Iterator[list[str]]:
    """A server of the tour, for the length of the block: its places, of which it names so many."""
    say(f"\n$ {command} &")
    with (folder / "servers.log").open("ab") as log:
        server = subprocess.Popen(
            _argv(command), cwd=folder, env=environment, stdout=subprocess.PIPE, stderr=log, stdin=subprocess.DEVNULL,
            text=True,
        )  # fmt: skip
    try:
        found = []
        for _ in range(places):
            line = server.stdout.readline().strip() if server.stdout is not None else ""
            if not line.startswith(("listening on ", "taking mail on ")):
                raise FileError(f"`{command}` did not start; {folder / 'servers.log'} may say why.")
            say(line)
            found.append(line.partition(" on ")[2])
        yield found
    finally:
        server.terminate()
        server.wait(10)
        if server.stdout is not None:
            server.stdout.close()


def _free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def _code(who: str, folder: Path, environment: dict[str, str]) -> str:
    """The code that whoever runs the hub gives to somebody."""
    command = _argv(f"barnacle hub person add {who}@tidewick.example --name {_NAMES[who]!r} --data hub --json")
    done = subprocess.run(command, cwd=folder, env=environment, stdout=subprocess.PIPE, text=True, check=True)
    return str(json.loads(done.stdout)["code"])


_NAMES = {"maren": "Maren Holt", "idris": "Idris Vane", "oluchi": "Oluchi Marsh"}


def _take(
    step: Step,
    names: dict[str, str],
    folder: Path,
    environment: dict[str, str],
    keep_output: bool,
    say: Callable[[str], None],
    result: Result,
) -> None:
    command = step.command.format(**names)
    say(f"\n{step.remark}\n\n$ {command}" if step.remark else f"\n$ {command}")
    sys.stdout.flush()
    if RETURNED in command:
        _fill_in_message_id(folder)
    command, _, file = command.partition(" < ")
    set_here = dict(part.split("=", 1) for part in shlex.split(command) if re.match("[A-Z_]+=", part))
    argv = _argv(shlex.join(part for part in shlex.split(command) if not re.match("[A-Z_]+=", part)))
    environment = {**environment, **set_here}
    if step.keys:
        from barnacle.demo.keys import with_keys  # of Unix alone

        code, output = with_keys(argv, folder, environment, step.keys)
        if not keep_output:
            say(output)
    else:
        with (folder / file if file else Path(os.devnull)).open("rb") as given:
            done = subprocess.run(
                argv,
                cwd=folder,
                env=environment,
                stdin=given,
                stdout=subprocess.PIPE if keep_output else None,
                stderr=subprocess.STDOUT,
                text=True,
                check=False,
            )
        code, output = done.returncode, done.stdout or ""
    result.steps.append({"command": command, "exit": code, "expected": step.expected, "output": output})
    if code != step.expected:
        result.failures.append(f"`{command}` ended with {code}, not {step.expected}")


def _fill_in_message_id(folder: Path) -> None:
    """What came back belongs to a message that went out a moment ago: it names that one's Message-ID."""
    for copy in sorted((folder / "mail").glob("*/new/*")):
        message = message_from_bytes(copy.read_bytes())
        if str(message["Subject"]).startswith("Slipway closed"):
            box = folder / RETURNED
            box.write_text(box.read_text().replace("<message-4@tidewick.example>", str(message["Message-ID"])))
            return


def _open_copy(folder: Path, address: str, say: Callable[[str], None], result: Result) -> None:
    """Read one recipient's own copy, and look for everybody else's address in it."""
    copies = {
        box.name: [p.read_bytes() for p in (box / "new").iterdir()]
        for box in (folder / "mail").iterdir()
        if box.name != "maren@tidewick.example"  # who sent it, and herself a test
    }
    say(f"\nFinally, one recipient's own copy, from the mailbox of {address}:\n")
    for raw in copies.get(address, [])[:1]:
        say("\n".join("    " + line for line in visible_lines(raw.decode("utf-8", "replace")).split("\n")))
        text = raw.decode("latin-1") + str(message_from_bytes(raw, policy=policy.default).get_content())
        others = [other for other in copies if other != address and other in text.lower()]
        if others:
            result.failures.append(f"the copy of {address} shows {len(others)} other addresses")
        else:
            say(f"{len(copies) - 1} other people got mail today. Not one of their addresses is in it.")
    if len(copies.get(address, [])) != 1:
        result.failures.append(f"{address} has {len(copies.get(address, []))} copies of the message, not one")
    if any(b"A party for Dagny" in raw for raw in copies.get("dagny.fairweather@tidewick.example", [])):
        result.failures.append("the guest of honour heard of her party")
