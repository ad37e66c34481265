"""Taking files in: against a bare script that does the least, and from 100,000 rows to a million.

    python benchmarks/files.py [--rows 100000] [--runs 3] [--million]

Writes its files with a seed (name, two addresses, phone, organisation) and prints, all of one run: seconds and peak
memory of the bare script (pandas reads, lower-cases, drops what is twice, writes SQLite), of `barnacle import`, and of
the same file once more; with `--million` also of ten times as many rows; and cards read in a second by our vCard
reader and by the registry's common library. The targets: at most 1.4 times the bare script, at most 300 MB, once more at
most 0.35 times the first time, a million at most 10 times as long with at most a fifth more memory, 10 times as many
cards. Needs pandas and vobject (`pip install '.[bench]'`). Memory is of the process and its helper together.
"""

from __future__ import annotations

import argparse
import csv
import io
import os
import random
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from made_up import SEED, Town, phone, word

BARE = """
import sqlite3, sys
import pandas
table = pandas.read_csv(sys.argv[1], dtype=str)
for column in table.columns:
    table[column] = table[column].str.lower()
table = table.drop_duplicates()
with sqlite3.connect(sys.argv[2]) as db:
    table.to_sql("contact", db, index=False)
"""


def write_rows(path: Path, number: int) -> None:
    pick = random.Random(SEED)
    town = Town(pick)
    with path.open("w", newline="") as file:
        out = csv.writer(file)
        out.writerow(["Name", "E-mail", "Second e-mail", "Phone", "Organisation"])
        for n in range(number):
            given, family = word(pick, 2), pick.choice(town.families)
            out.writerow([
                f"{given} {family}", f"{given}.{family}{n}@{pick.choice(town.domains)}".lower(),
                f"{given[0]}{family}{n}@{pick.choice(town.domains)}", phone(pick.randrange(1000)), pick.choice(town.orgs),
            ])  # fmt: skip


def write_cards(number: int) -> str:
    pick = random.Random(SEED)
    cards = []
    for n in range(number):
        given, family = word(pick, 2), word(pick, 3)
        cards.append(
            f"BEGIN:VCARD\r\nVERSION:3.0\r\nN:{family};{given};;;\r\nFN:{given} {family}\r\n"
            f"EMAIL;TYPE=INTERNET,WORK:{given}.{family}{n}@kelp.example\r\nEMAIL;TYPE=INTERNET,HOME:{given}{n}@gull.example\r\n"
            f"TEL;TYPE=CELL:{phone(n)}\r\nORG:{word(pick, 2)} Yard\r\nCATEGORIES:pilot,crew\r\nEND:VCARD\r\n"
        )
    return "".join(cards)


def resident(root: int) -> int:
    """The memory of a process and its children now, in KiB; pages that they share are counted once."""
    total = 0
    todo = [root]
    while todo:
        one = todo.pop()
        try:
            for line in Path(f"/proc/{one}/smaps_rollup").read_text().splitlines():
                if line.startswith("Pss:"):
                    total += int(line.split()[1])
            todo += [int(child) for child in Path(f"/proc/{one}/task/{one}/children").read_text().split()]
        except OSError:
            pass
    return total


def timed(command: list[str], environment: dict[str, str], code: tuple[int, ...] = (0,)) -> tuple[float, float]:
    """Seconds and peak memory (MB) of a command and the processes that it starts."""
    begun = time.perf_counter()
    process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    peak = 0
    over = threading.Event()

    def watch() -> None:
        nonlocal peak
        while not over.wait(0.25):  # a look stops the process that is looked at for a moment
            peak = max(peak, resident(process.pid))

    watcher = threading.Thread(target=watch)
    watcher.start()
    _, err = process.communicate()
    seconds = time.perf_counter() - begun
    over.set()
    watcher.join()
    assert process.returncode in code, err.decode()
    return seconds, peak / 1024


def take_in(folder: Path, path: Path) -> tuple[float, float, float, float]:
    """Seconds of the first time and of the second; the peaks of both (MB)."""
    program = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or "barnacle"
    home = folder / "home"
    shutil.rmtree(home, ignore_errors=True)
    environment = {**os.environ, "BARNACLE_HOME": str(home)}
    timed([program, "setup", "--me", "Maren Holt <maren@tidewick.example>"], environment)
    first, again = (timed([program, "import", str(path), "--quiet"], environment) for _ in range(2))
    return *first, *again


def bare(folder: Path, path: Path) -> float:
    """Seconds of the bare script."""
    (folder / "bare.db").unlink(missing_ok=True)
    return timed([sys.executable, "-c", BARE, str(path), str(folder / "bare.db")], dict(os.environ))[0]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, default=100_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--million", action="store_true")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = folder / "rows.csv"
        write_rows(path, args.rows)
        # Turn by turn, since the machine's speed changes from minute to minute.
        runs = [(bare(folder, path), *take_in(folder, path)) for _ in range(args.runs)]
        base, first, peak, again, peak_again = (statistics.median(column) for column in zip(*runs, strict=True))
        ratios = sorted(run[1] / run[0] for run in runs)
        ratios_again = sorted(run[3] / run[1] for run in runs)
        print(f"{args.rows:,} rows, median of {args.runs} (and the span)")
        print(f"  bare script  {base:7.2f} s")
        print(f"  import       {first:7.2f} s   {spread(ratios)} times the bare script   {peak:4.0f} MB")
        print(f"  once more    {again:7.2f} s   {spread(ratios_again)} times the first time    {peak_again:4.0f} MB")
        if args.million:
            write_rows(path, 10 * args.rows)
            ten, high, ten_again, _ = take_in(folder, path)
            print(f"{10 * args.rows:,} rows, one run")
            print(
                f"  import       {ten:7.2f} s   {ten / first:5.2f} times as long   {high:4.0f} MB ({high / peak:.2f})"
            )
            print(f"  once more    {ten_again:7.2f} s   {ten_again / ten:5.2f} times the first time")
    vcards(args.runs)


def spread(ratios: list[float]) -> str:
    return f"{statistics.median(ratios):5.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f})"


def vcards(runs: int) -> None:
    """Cards a second, ours and the library's in turn; by the processor's time, since each turn is short."""
    import vobject

    from barnacle.files.cards.vcard import read_cards

    text = write_cards(3000)
    ours, theirs = [], []
    for _ in range(max(runs, 7)):
        begun = time.process_time()
        assert sum(len(draft.people) for draft in read_cards(io.StringIO(text, newline="\n"))) == 3000
        ours.append(3000 / (time.process_time() - begun))
        begun = time.process_time()
        assert sum(1 for _ in vobject.readComponents(text)) == 3000
        theirs.append(3000 / (time.process_time() - begun))
    ratios = sorted(one / other for one, other in zip(ours, theirs, strict=True))
    one, other = statistics.median(ours), statistics.median(theirs)
    print(f"vCards a second: {one:,.0f}, the library {other:,.0f}: {spread(ratios)} times as many")
    print(f"(this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB)")


if __name__ == "__main__":
    main()
