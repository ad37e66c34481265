"""Kills commands at random moments (SIGKILL), and looks whether the book is whole and tells the truth.

    python scripts/kills.py [--rounds 1000] [--seed 0]

Each round takes one command at random (import, merge, undo, remove, send, sync, the hub
itself), kills it after a random
while, and then holds the book to what must be: sound by `book check`, the change there as a whole or not at all; of a
sending nobody has two copies, and whoever has one is `accepted` or `doubtful`; after an exchange both sides have the
same list. Prints the seed of whatever does not hold.
"""

from __future__ import annotations

import argparse
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from conftest import Mail, Office
from hubs import RunningHub

PEOPLE = 400
KINDS = ("import_", "merge", "undo", "remove", "send", "sync", "hub")


class Wrong(Exception):  # noqa: N818
    """Something does not hold."""


class Rounds:
    """An office with people on a shared list, a mail server and a hub, in which commands are killed."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.pick = random.Random(seed)
        self.office = Office(folder / "office")
        self.other = Office(folder / "other")
        for office in (self.office, self.other):
            office.folder.mkdir()
        rows = "".join(f"Ada Holm{n},ada{n}@kelp.example\n" for n in range(PEOPLE))
        self.office.file("crew.csv", "Name,E-mail\n" + rows)
        self.mail = Mail(self.office)
        self.office.run("setup", "--me", "Maren Holt <maren@tidewick.example>", "--mail", self.mail.url)
        self.office.run("settings", "mail.pauses", "[]")
        self.office.run("import", "crew.csv", "--into", "Crew")
        house = Office(folder / "hub")
        house.folder.mkdir()
        self.house = RunningHub(house, ["--data", str(house.folder / "data")])
        self.other.run("setup", "--me", "Bo Lund <bo@tidewick.example>")
        for office, address in ((self.office, "maren@tidewick.example"), (self.other, "bo@tidewick.example")):
            office.run("hub", "connect", self.house.url, "--code", self.house.code(address))
        self.office.run("share", "offer", "Crew", "--with", "bo@tidewick.example", "--role", "editor")
        self.other.run("share", "accept", "Crew")
        self.turn = 0
        self.only = ""

    def stop(self) -> None:
        self.house.stop()
        self.mail.process.kill()

    def killed(self, *args: str, office: Office | None = None) -> int:
        process = (office or self.office).start(*args)
        time.sleep(self.pick.uniform(0.05, 0.9))
        process.send_signal(signal.SIGKILL)
        process.communicate()
        return process.returncode

    def round(self) -> str:
        self.turn += 1
        name = self.only or self.pick.choice(KINDS)
        getattr(self, name)()
        for office in (self.office, self.other):
            if findings := office.told("book", "check")["findings"]:
                raise Wrong(f"{name}: {findings[:3]}")
        return name

    def counts(self) -> tuple[int, int]:
        return len(self.office.told("find")), len(self.office.told("history"))

    def whole_or_not(self, *args: str) -> None:
        before = self.counts()
        self.killed(*args)
        after = self.counts()
        if after[1] == before[1] and after[0] != before[0]:
            raise Wrong(f"{args}: people changed without a line in the history: {before} {after}")
        if after[1] > before[1]:
            self.office.run("undo")
            if self.counts()[0] != before[0]:
                raise Wrong(f"{args}: undone, and not as before: {before} {self.counts()}")

    def import_(self) -> None:
        rows = "".join(
            f"New{self.turn} Dahl{n},n{self.turn}x{n}@gull.example\n" for n in range(self.pick.choice((5, 3000)))
        )
        self.office.file("new.csv", "Name,E-mail\n" + rows)
        self.whole_or_not("import", "new.csv")

    def merge(self) -> None:
        one, two = self.pick.sample(range(PEOPLE), 2)
        self.whole_or_not("duplicates", "merge", f"ada{one}@kelp.example", f"ada{two}@kelp.example", "--yes")

    def undo(self) -> None:
        self.office.run("contact", "add", f"Cy{self.turn} <cy{self.turn}@gull.example>")
        before = self.counts()
        self.killed("undo")
        after = self.counts()
        if (after[0] == before[0]) != (after[1] == before[1]):
            raise Wrong(f"undo by halves: {before} {after}")

    def remove(self) -> None:
        self.whole_or_not("contact", "remove", f"ada{self.pick.randrange(PEOPLE)}@kelp.example", "--yes")

    def send(self) -> None:
        token = f"round {self.turn}"
        self.office.run("compose", "--for", "Crew", "--subject", token, "--text", "x\n", "--each")
        number = max((one["message"] for one in self.office.told("outbox")), key=lambda number: int(number[1:]))
        self.killed("send", number, "--yes")
        for _ in range(3):
            last = self.office.run("send", number, "--yes", "--resume", code=None)
        got: Counter[str] = Counter()
        for address in self.mail.addresses:
            got[address] = sum(token.encode() in raw for raw in self.mail.copies(address))
        state = {one["address"]: one["state"] for one in self.office.told("outbox", "show", number)["recipients"]}
        twice = [address for address, times in got.items() if times > 1]
        lost = [a for a, s in state.items() if s == "accepted" and not got[a]]
        open_ = [a for a, s in state.items() if s not in ("accepted", "doubtful")]
        if twice or lost or open_:
            raise Wrong(
                f"send: twice {twice[:3]}, accepted without a copy {lost[:3]}, open {open_[:3]}: {last.out} {last.err}"
            )

    def sync(self) -> None:
        self.change_both()
        self.killed("sync", office=self.pick.choice((self.office, self.other)))
        self.must_agree("sync")

    def hub(self) -> None:
        """The hub itself is killed while somebody exchanges with it."""
        self.change_both()
        process = self.office.start("sync")
        time.sleep(self.pick.uniform(0.1, 0.9))
        self.house.stop(signal.SIGKILL)
        process.communicate()
        self.house.start()
        self.must_agree("hub")

    def change_both(self) -> None:
        self.office.run("list", "add", "Crew", f"Syn{self.turn} <syn{self.turn}@gull.example>")
        self.other.run("list", "take", "Crew", f"ada{self.pick.randrange(PEOPLE)}@kelp.example", code=None)

    def must_agree(self, name: str) -> None:
        for office in (self.office, self.other, self.office):
            office.run("sync", code=None)
        both = [one.told("list", "show", "Crew")["members"] for one in (self.office, self.other)]
        here, there = ({member["address"] for member in members} for members in both)
        if here != there:
            raise Wrong(f"{name}: {sorted(here ^ there)[:3]} on one side only")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--rounds", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--only", choices=KINDS)
    args = parser.parse_args()
    done: Counter[str] = Counter()
    wrong = 0
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        rounds = Rounds(Path(folder), args.seed)
        rounds.only = args.only
        begin = time.monotonic()
        for turn in range(args.rounds):
            try:
                done[rounds.round()] += 1
            except (Wrong, AssertionError, subprocess.SubprocessError) as error:
                wrong += 1
                print(f"seed {args.seed}, round {turn}: {str(error)[:400]}", flush=True)
                if wrong > 20:
                    break
        rounds.stop()
    took, held = time.monotonic() - begin, done.total()
    print(f"{took:.0f} s; {held} rounds held of {args.rounds} ({dict(done)}), {wrong} did not; seed {args.seed}")
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
