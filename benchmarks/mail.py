"""Sending to a stand-in mail server, against a bare loop that sends the same messages and keeps no journal.

    python benchmarks/mail.py [--blind 10000] [--each 5000] [--runs 3]

Both hand over to a stand-in on loopback, in turn, and print seconds and ratios: a blind message in batches of 100 (target:
at most 0.7 times the bare loop), messages to each by itself (at most 1.2 times); how long composing takes for 10,000
recipients from 20 overlapping lists of a book of 100,000 contacts, the search for addresses included (at most 3 s); and the
sender's peak memory for a tenth of the recipients and for all of them.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import smtplib
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from files import timed
from made_up import SEED, word
from pretend_server import PROGRAM, stand_in

from barnacle.book import contacts, lists
from barnacle.core.contact import Address, Contact
from barnacle.jobs.desk.desk import Desk


def make_book(home: Path, number: int, on: int, count: int) -> None:
    """A book with `number` contacts, of whom `on` stand on `count` lists, each on three of them."""
    pick = random.Random(SEED)
    desk = Desk(home=home)
    with desk.open(make=True) as book, book.action("benchmark", "Made the book"):
        made = [lists.new(book, f"List {n:02d}") for n in range(count)]
        for n in range(number):
            given, family = word(pick, 2), word(pick, 3)
            row = contacts.add(
                book, Contact(f"{given} {family}", addresses=[Address(f"{given}.{family}{n}@kelp.example".lower())])
            )
            if n < on:
                for one in pick.sample(made, min(3, count)):
                    lists.add_member(book, one.id, row, "benchmark")


def barnacle(home: Path, *argv: str) -> str:
    environment = {**os.environ, "BARNACLE_HOME": str(home)}
    return subprocess.run([PROGRAM, *argv], env=environment, check=True, capture_output=True, text=True).stdout


def bare(url: str, sender: str, batches: list[tuple[list[str], bytes]]) -> float:
    """Seconds of a loop that hands the same batches over."""
    host, _, port = url.removeprefix("smtp://").partition(":")
    begun = time.perf_counter()
    with smtplib.SMTP(host, int(port), local_hostname="[127.0.0.1]") as line:
        for addresses, raw in batches:
            line.sendmail(sender, addresses, raw)
    return time.perf_counter() - begun


def measure(scratch: Path, mode: str, number: int, runs: int, url: str) -> tuple[float, float, float]:
    """Medians of the bare loop and of `send`, in turn, and the peak memory (MB)."""
    home = scratch / f"{mode}{number}"
    make_book(home, number, number, 1)
    barnacle(home, "setup", "--me", "Maren Holt <maren@tidewick.example>", "--mail", url)
    barnacle(home, "settings", "mail.per_message", "100")
    ours, theirs, peaks = [], [], []
    text = "Dear {given|neighbour},\n" * (mode == "each") + "the slipway is closed on Friday from 8 to 12.\n" * 30
    for _ in range(runs):
        made = json.loads(
            barnacle(home, "compose", "--for", "List 00", "--subject", "Slipway", "--text", text, f"--{mode}", "--json")
        )
        addresses = [
            r["address"] for r in json.loads(barnacle(home, "outbox", "show", made["message"], "--json"))["recipients"]
        ]
        raw = barnacle(home, "preview", made["message"], "--raw").replace("\n", "\r\n").encode()
        size = 1 if mode == "each" else 100
        theirs.append(
            bare(url, "maren@tidewick.example", [(addresses[n : n + size], raw) for n in range(0, number, size)])
        )
        took, peak = timed(
            [PROGRAM, "send", made["message"], "--yes", "--quiet"], {**os.environ, "BARNACLE_HOME": str(home)}
        )
        ours.append(took)
        peaks.append(peak)
    return statistics.median(theirs), statistics.median(ours), max(peaks)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--blind", type=int, default=10_000)
    parser.add_argument("--each", type=int, default=5_000)
    parser.add_argument("--runs", type=int, default=3)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        scratch = Path(name)
        with stand_in(scratch / "mail") as url:
            for mode, number, target in (("blind", args.blind, 0.7), ("each", args.each, 1.2)):
                base, took, peak = measure(scratch, mode, number, args.runs, url)
                tenth = measure(scratch, mode, number // 10, 1, url)[2]
                print(
                    f"{mode:<6}{number:>8,}  bare {base:6.2f} s  barnacle {took:6.2f} s  {took / base:5.2f} times"
                    f" (at most {target})  {peak:4.0f} MB, for a tenth {tenth:4.0f} MB",
                    flush=True,
                )
        home = scratch / "large"
        make_book(home, 100_000, 10_000, 20)
        barnacle(home, "setup", "--me", "Maren Holt <maren@tidewick.example>")
        every = [f"List {n:02d}" for n in range(20)]
        took = []
        for _ in range(args.runs):
            begun = time.perf_counter()
            barnacle(home, "compose", "--for", *every, "--subject", "Slipway", "--text", "Closed.\n" * 50)
            took.append(time.perf_counter() - begun)
        print(f"composing for 10,000 from 20 lists of 100,000 contacts: {statistics.median(took):.2f} s (at most 3)")


if __name__ == "__main__":
    main()
