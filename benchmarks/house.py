"""House lists: passing a posting on, against a bare loop; taking postings in meanwhile; memory; processes that are killed.

    python benchmarks/house.py [--members 10000] [--runs 3] [--kills 1000]

A hub with a list of so many members, and a stand-in mail server on loopback that takes everything and keeps nothing.
Prints, turn by turn in one run: seconds of a bare loop (smtplib, one line, a message of its own for each member, no
journal) and of the hub, from the first copy to the last (target: at most 1.6 times); how long the hub takes to answer a
posting's dot while it passes on (95th percentile, target: at most 50 ms); the peak memory of its processes for a tenth
of the members and for all, and for a posting of 20 kB and of 5 MB (flat in members; at most twice the posting).
`--kills N` kills hub processes at random N times while postings come in, on SQLite with one hub and on PostgreSQL with
two, and counts: nobody twice, nobody lost.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import random
import smtplib
import socket
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import httpx
from aiosmtpd.controller import Controller
from files import resident
from made_up import SEED
from pretend_server import PROGRAM

OWN = "own.tidewick.example"


class Discard:
    """Takes everything, and counts."""

    def __init__(self) -> None:
        self.taken = 0

    async def handle_DATA(self, server: object, session: object, envelope: object) -> str:
        self.taken += 1
        await asyncio.sleep(0)
        return "250 2.0.0 taken"


def sink() -> None:
    """A mail server of its own process: its port on stdout, then it serves for ever."""
    with closing(socket.create_server(("127.0.0.1", 0))) as free:
        port = free.getsockname()[1]
    Controller(Discard(), hostname="127.0.0.1", port=port, data_size_limit=None).start()
    print(port, flush=True)
    threading.Event().wait()


@contextmanager
def mail_server() -> Iterator[int]:
    process = subprocess.Popen([sys.executable, __file__, "--sink"], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    try:
        yield int(process.stdout.readline())
    finally:
        process.kill()
        process.wait()


class Hub:
    """A hub with a house list."""

    def __init__(self, folder: Path, smtp: int, where: list[str]) -> None:
        self.where = where
        self.environment = {**os.environ, "BARNACLE_HOME": str(folder)}
        self.process = subprocess.Popen(
            [PROGRAM, "hub", "serve", "--listen", "127.0.0.1:0", *where, "--lmtp", "127.0.0.1:0", "--mail",
             f"smtp://127.0.0.1:{smtp}", "--own-domain", OWN, "--house-domain", "tidewick.example", "--trust-results",
             "mx.tidewick.example", "--public-url", "https://lists.tidewick.example/"],
            env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
        )  # fmt: skip
        assert self.process.stdout is not None
        self.url = self.process.stdout.readline().strip().removeprefix("listening on ")
        self.lmtp = int(self.process.stdout.readline().rpartition(":")[2])
        told = subprocess.run(
            [PROGRAM, "--json", "hub", "person", "add", "maren@tidewick.example", *where], env=self.environment,
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        code = json.loads(told.stdout)["code"]
        token = httpx.post(f"{self.url}api/connect", json={"address": "maren@tidewick.example", "code": code}).json()
        self.http = httpx.Client(base_url=self.url, auth=("maren@tidewick.example", token["token"]), timeout=300)

    def open(self, title: str, members: int) -> str:
        made = str(self.http.post("api/lists", json={"title": title}).json()["id"])
        cards = [
            {"name": f"u{n}.vcf", "data": f"BEGIN:VCARD\r\nVERSION:4.0\r\nUID:u{n}\r\nFN:Member {n}\r\nN:{n};Member;;;\r\n"
             f"EMAIL:m{n}@kelp.example\r\nEND:VCARD\r\n"}
            for n in range(members)
        ]  # fmt: skip
        for start in range(0, members, 200):
            answer = self.http.post(f"api/lists/{made}/cards", json={"cards": cards[start : start + 200]})
            answer.raise_for_status()
        rules = {
            "at": title.lower(),
            "writers": "staff",
            "outsiders": True,
            "named": "pass",
            "pace": 10_000,
            "size": 25_000_000,
        }
        self.http.post(f"api/house/{made}", json=rules).raise_for_status()
        return f"{title.lower()}@{OWN}"

    def queue(self) -> dict[str, int]:
        told = subprocess.run(
            [PROGRAM, "--json", "hub", "queue", *self.where], env=self.environment, capture_output=True, text=True, check=True
        )  # fmt: skip
        rows = json.loads(told.stdout)
        return {key: sum(row[key] for row in rows) for key in ("waiting", "accepted", "deferred", "doubtful")}

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(60)


def posting(to: str, octets: int, number: int) -> bytes:
    head = (
        "Authentication-Results: mx.tidewick.example; auth=pass; dkim=pass header.d=tidewick.example\r\n"
        f"From: Ada Holm <ada@tidewick.example>\r\nTo: {to}\r\nSubject: Tides {number}\r\nMessage-ID: <p{number}@x.example>\r\n\r\n"
    )
    pick = random.Random(SEED + number)
    line = "".join(pick.choice("abcdefgh ") for _ in range(74)) + "\r\n"
    return (head + line * (octets // len(line))).encode()


def hand_over(port: int, to: str, raw: bytes) -> float:
    """Hand a posting over; seconds from the dot to the answer."""
    with smtplib.LMTP("127.0.0.1", port) as line:
        line.ehlo_or_helo_if_needed()
        line.mail("ada@tidewick.example")
        line.rcpt(to)
        assert line.docmd("DATA")[0] == 354
        line.send(raw)
        begun = time.perf_counter()
        line.send(b".\r\n")
        code, said = line.getreply()
        took = time.perf_counter() - begun
    assert code == 250 and b"Taken" in said, said
    return took


def bare(port: int, raw: bytes, members: int) -> float:
    """Seconds of a loop that sends each member a message with lines of its own, and keeps nothing."""
    begun = time.perf_counter()
    with smtplib.SMTP("127.0.0.1", port, local_hostname="[127.0.0.1]") as line:
        for n in range(members):
            own = f"List-Unsubscribe: <https://lists.tidewick.example/house/leave/{n:032x}>\r\n".encode()
            line.sendmail(f"bounce+{n:032x}@{OWN}", [f"m{n}@kelp.example"], own + raw)
    return time.perf_counter() - begun


def done_after(path: Path, number: int) -> float:
    """When so many copies were accepted, looked at in the hub's own file: the moment (monotonic)."""
    with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as db:
        while db.execute("SELECT count(*) FROM house_copy WHERE state = 'accepted'").fetchone()[0] < number:
            time.sleep(0.05)
    return time.perf_counter()


class Watch:
    """The peak memory (MB) of a process and its children."""

    def __init__(self, pid: int) -> None:
        self.peak = 0.0
        self.over = threading.Event()
        self.thread = threading.Thread(target=self._run, args=(pid,))
        self.thread.start()

    def _run(self, pid: int) -> None:
        while not self.over.wait(0.25):
            self.peak = max(self.peak, resident(pid) / 1024)

    def end(self) -> float:
        self.over.set()
        self.thread.join()
        return self.peak


def measure(members: int, runs: int) -> None:
    ratios, ours, theirs, answers = [], [], [], []
    with tempfile.TemporaryDirectory() as name, mail_server() as smtp:
        folder = Path(name)
        hub = Hub(folder, smtp, ["--data", str(folder / "hub")])
        path = folder / "hub" / "hub.sqlite"
        crew, few = hub.open("Crew", members), hub.open("Few", 5)
        sent = 0
        for run in range(runs):
            raw = posting(crew, 20_000, run)
            base = bare(smtp, raw, members)
            hand_over(hub.lmtp, crew, raw)
            begun = time.perf_counter()
            sent += members
            took = done_after(path, sent) - begun
            ratios.append(took / base)
            ours.append(took)
            theirs.append(base)
        spread = f"{statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"
        print(f"{members:,} copies of 20 kB, median of {runs}: bare loop {statistics.median(theirs):.2f} s, hub "
              f"{statistics.median(ours):.2f} s, {spread} times (at most 1.6)", flush=True)  # fmt: skip
        hand_over(hub.lmtp, crew, posting(crew, 20_000, 1_000))
        for number in range(300):
            answers.append(hand_over(hub.lmtp, few, posting(few, 20_000, 2_000 + number)))
        answers.sort()
        busy = hub.queue()["waiting"]
        print(f"answer to a posting while passing on ({busy:,} copies still waiting at the end): median "
              f"{1000 * statistics.median(answers):.1f} ms, 95th percentile {1000 * answers[int(len(answers) * 0.95)]:.1f} ms "
              "(at most 50)", flush=True)  # fmt: skip
        hub.stop()
    for number, octets in ((members // 10, 20_000), (members, 20_000), (50, 20_000), (50, 5_000_000), (50, 20_000_000)):
        with tempfile.TemporaryDirectory() as name, mail_server() as smtp:
            folder = Path(name)
            hub = Hub(folder, smtp, ["--data", str(folder / "hub")])
            to = hub.open("Crew", number)
            time.sleep(1)
            before = resident(hub.process.pid) / 1024
            watch = Watch(hub.process.pid)
            hand_over(hub.lmtp, to, posting(to, octets, 1))
            done_after(folder / "hub" / "hub.sqlite", number)
            print(f"{number:>7,} members, {octets / 1e6:.2f} MB: all processes {watch.end():.0f} MB at most, "
                  f"{before:.0f} MB before", flush=True)  # fmt: skip
            hub.stop()


def kill(number: int) -> None:
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from conftest import Mail, Office
    from hubs import postgresql
    from test_house_servers import hunt

    for what in ("SQLite, one hub", "PostgreSQL, two hubs"):
        with tempfile.TemporaryDirectory() as name:
            office = Office(Path(name))
            office.run("setup", "--me", "Maren Holt <maren@tidewick.example>")
            mail = Mail(office)
            if what.startswith("SQLite"):
                told = hunt(office, mail, ["--data", str(office.folder / "hub")], 1, number // 2, number)
            else:
                with postgresql() as database:
                    told = hunt(office, mail, ["--database", database.url], 2, number - number // 2, number)
            mail.stop()
        print(f"{what}: {told['kills']} kills, {told['accepted']:,} copies accepted, nobody twice, nobody lost; "
              f"{told['doubtful']} doubtful, of which {told['missing']} had not arrived", flush=True)  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--members", type=int, default=10_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--kills", type=int, default=0)
    parser.add_argument("--sink", action="store_true", help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.sink:
        sink()
    elif args.kills:
        kill(args.kills)
    else:
        measure(args.members, args.runs)


if __name__ == "__main__":
    main()
