"""Reports of a large book: whole commands, in seconds and MB.

    python benchmarks/report.py [--contacts 100000] [--lists 500] [--messages 200] [--runs 3]

Makes a book with a seed: contacts from a sheet, each on one or two lists; messages to a thousand people each, over a year.
Then `report all` as bars and as a picture, turn by turn. The targets: 5 s and 400 MB. Needs Matplotlib
(`pip install '.[report]'`).
"""

from __future__ import annotations

import argparse
import csv
import os
import random
import statistics
import subprocess
import sys
import tempfile
from contextlib import closing
from datetime import datetime, timedelta
from pathlib import Path

from files import timed
from made_up import SEED, Town, word

from barnacle.book import contacts, outbox
from barnacle.book.opening import open_book
from barnacle.core.addresses import Mailbox
from barnacle.core.contact import Contact
from barnacle.core.mail.audience import Recipient
from barnacle.core.mail.delivery import Answer, State
from barnacle.core.mail.message import Message, Mode

RECIPIENTS = 1000


def fill(home: Path, number_of: int, lists: int, messages: int, environment: dict[str, str]) -> None:
    pick = random.Random(SEED)
    town = Town(pick)
    path = home / "rows.csv"
    with path.open("w", newline="") as file:
        out = csv.writer(file)
        out.writerow(["Name", "E-mail", "Group"])
        for n in range(number_of):
            name = f"{word(pick, 2)} {pick.choice(town.families)}"
            groups = {f"Group {pick.randrange(lists)}" for _ in range(pick.choice((1, 1, 2)))}
            out.writerow([name, f"h{n}@{pick.choice(town.domains)}", ", ".join(sorted(groups))])
    command = ["barnacle", "import", str(path), "--list-by", "Group", "--yes", "--quiet"]
    subprocess.run(command, env=environment, check=True, stdout=subprocess.DEVNULL)
    states = [State.ACCEPTED] * 97 + [State.REFUSED] * 2 + [State.DEFERRED]
    begin = datetime(2025, 12, 1, 9)
    with closing(open_book(home / "barnacle.book")) as book:

        def look_up(number: int) -> Contact:
            return contacts.need(book, number)

        addresses = book.db.execute(
            "SELECT contact, replace(addresses, char(10), '') FROM contact_facts WHERE addresses != ''"
        ).fetchall()
        for number in range(messages):
            some = pick.sample(addresses, min(RECIPIENTS, len(addresses)))
            with book.action("compose", f"Composed {number}"):
                content = Message(Mailbox("Maren Holt", "maren@tidewick.example"))
                message = outbox.add(book, f"{number:032x}", f"Notice {number}", Mode.BLIND, content)
            with book.action("send") as action:
                action.final = True
                outbox.begin(book, message, [Recipient(address, (who,), (), look_up) for who, address in some])
            outbox.record(book, message.id, [Answer(address, pick.choice(states), 250, "") for _, address in some])
            day = (begin + timedelta(days=pick.randrange(360))).strftime("%Y-%m-%dT%H:%M:%SZ")
            with book.transaction():
                book.db.execute(
                    "UPDATE delivery SET tried = ?1, sum = row_sum(message, address, people, state, code, reply, ?1)"
                    " WHERE message = ?2",
                    (day, message.id),
                )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--contacts", type=int, default=100_000)
    parser.add_argument("--lists", type=int, default=500)
    parser.add_argument("--messages", type=int, default=200)
    parser.add_argument("--runs", type=int, default=3)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        home = Path(name)
        environment = {
            **os.environ,
            "BARNACLE_HOME": name,
            "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
        }
        subprocess.run(["barnacle", "setup", "--me", "Maren Holt <maren@tidewick.example>"], env=environment, check=True,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        fill(home, args.contacts, args.lists, args.messages, environment)
        commands = {"as bars": [], "drawn": ["--out", str(home / "all.png")], "reach": None}
        print(f"{args.contacts:,} contacts, {args.lists} lists, {args.messages} messages to {RECIPIENTS:,} each")
        taken: dict[str, list[tuple[float, float]]] = {what: [] for what in commands}
        for _ in range(args.runs):
            for what, more in commands.items():
                argv = ["barnacle", "report", "reach"] if more is None else ["barnacle", "report", "all", *more]
                taken[what].append(timed(argv, environment))
        for what, some in taken.items():
            seconds, peaks = zip(*some, strict=True)
            print(f"  {what:8} {statistics.median(seconds):6.2f} s ({min(seconds):.2f} to {max(seconds):.2f})"
                  f"  {max(peaks):4.0f} MB")  # fmt: skip


if __name__ == "__main__":
    main()
