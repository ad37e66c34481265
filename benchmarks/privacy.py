"""Messages that hide a member's address, and ordinary ones: what the search stops, what it lets through, how long it takes.

    python benchmarks/privacy.py [--messages 10000] [--ordinary 1000] [--seed 18]

Each message is composed for a list and sent to a stand-in mail server, by the jobs that the command line calls; then the
mailboxes are read. A message that hides an address and arrived is a leak (0 may be), an ordinary one that did not is a
false stop (1 in 1,000 may be). Forms that only somebody who guesses would read are sent, and must be warned of. Last, how
long the search of a workbook of 10 MB takes (at most 3 s), of 3 MB of no known kind (at most 10 s), and of a usual
message for 10,000 (at most 0.3 s).
"""

from __future__ import annotations

import argparse
import collections
import io
import multiprocessing
import random
import shutil
import statistics
import tempfile
import time
from pathlib import Path

import openpyxl
from disguises import FILES, GUESSED, WRITTEN, calendar, fits, letter, pdf, picture, sheet
from made_up import word
from pretend_server import stand_in

from barnacle.book import contacts, lists
from barnacle.core.contact import Address, Contact
from barnacle.core.mail.message import Mode
from barnacle.files.contents.search import search
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.setup import set_up
from barnacle.jobs.mail import compose, send
from barnacle.jobs.mail.compose import Wish
from barnacle.jobs.mail.plan import Run

ODD = ("zoë.lund@kelp.example", "nils@bücher.example", "o'brien@harbour.example", "x_y-z@deep.sea.example")
LINES = (
    "The slipway is closed on Friday from 8 to 12.", "Bitte bis Freitag antworten: info@gull.example, Tel. 0123 456.",
    "3 ropes @ 4.50 each, 12 @ 9.95.", "See https://harbour.example/plan?from=a%40gull.example&day=4 for the plan.",
    "Les bateaux partent à 10 h, merci de prévenir Jean.", "Meet at the crane (at noon) or at berth 4.",
    "My address stays maren@tidewick.example.", "Total: 1&#44;200 =3D 40 % of last year's.", "user@host:~$ ls -l",
    "Write to the harbour master, harbour.master@gull.example, not to me.", "Fees: 12,50 € – payable at the office.",
)  # fmt: skip


def make_book(home: Path, url: str) -> tuple[Desk, list[str]]:
    """A book with a list of forty people, some with odd addresses."""
    pick = random.Random(7)
    desk = Desk(home=home)
    set_up(desk, "Maren Holt <maren@tidewick.example>", url, None, None)
    addresses = [
        *ODD,
        *(f"{word(pick, 2)}.{word(pick, 2)}@{pick.choice(['kelp', 'tidewick'])}.example".lower() for _ in range(36)),
    ]
    with desk.open(make=True) as book, book.action("benchmark", "Made the book"):
        crew = lists.new(book, "Crew")
        for address in addresses:
            row = contacts.add(book, Contact(f"{word(pick, 2)} {word(pick, 3)}", addresses=[Address(address)]))
            lists.add_member(book, crew.id, row, "benchmark")
    return desk, addresses


def ordinary(pick: random.Random) -> tuple[str, list[tuple[str, bytes]]]:
    """A text as offices write it, now and then with a file that names nobody of the list."""
    text = "\n".join(pick.sample(LINES, 4))
    note = pick.choice(LINES)
    made = pick.choice([None, None, sheet, letter, pdf, calendar, picture])
    return text, [made(note, pick)] if made else []


def adversarial(
    number: int, pick: random.Random, addresses: list[str]
) -> tuple[str, str, list[tuple[str, bytes]], bool]:
    """What it is, its text, its files, and whether an address is only to be guessed."""
    address = pick.choice(addresses)
    guessed = number % 25 == 0
    kinds = [None, *FILES]
    while True:
        name, write = pick.choice(list((GUESSED if guessed else WRITTEN).items()))
        kind = pick.choice(kinds) if not guessed else None
        if kind is None or fits(name, kind):
            break
    written = write(address, pick)
    if kind is None:
        return f"{name}, in the text", f"Please note\n{written}\nor come by.", [], guessed
    return f"{name}, in a file ({kind})", "See the file.", [FILES[kind](written, pick)], guessed


def share(seed: int, first: int, messages: int, plain: int, results: multiprocessing.Queue) -> None:  # type: ignore[type-arg]
    """One process's messages."""
    tally: collections.Counter[str] = collections.Counter()
    with tempfile.TemporaryDirectory() as name:
        home = Path(name)
        leaks: list[str] = []
        with stand_in(home / "mail") as url:
            desk, addresses = make_book(home, url)
            for number in range(first, first + messages + plain):
                pick = random.Random(f"{seed} {number}")
                is_plain = number >= first + messages
                if is_plain:
                    what, guessed = "ordinary", False
                    text, files = ordinary(pick)
                else:
                    what, text, files, guessed = adversarial(number, pick, addresses)
                paths = []
                for file, data in files:
                    paths.append(home / file)
                    paths[-1].write_bytes(data)
                made = compose.compose(
                    desk,
                    Wish(
                        wanted=["Crew"],
                        subject=f"N{number}",
                        text=text.replace("\r", ""),
                        mode=Mode.BLIND,
                        attach=paths,
                    ),
                )
                if made.held is None:
                    send.send(desk, made.message.number, Run(confirm=lambda plan: True))
                arrived = any(f"Subject: N{number}\r\n".encode() in one.read_bytes().replace(b"\n", b"\r\n").replace(b"\r\r", b"\r")
                              for one in (home / "mail" / addresses[5]).glob("new/*"))  # fmt: skip
                shutil.rmtree(home / "mail", ignore_errors=True)
                kind = "ordinary" if is_plain else "guessed" if guessed else "hidden"
                tally[f"{kind} made"] += 1
                tally[f"{kind} arrived"] += arrived
                tally[f"{kind} warned"] += bool(made.examined.warnings)
                if (kind == "hidden" and arrived) or (kind == "ordinary" and not arrived):
                    leaks.append(f"{number}: {what}: {(made.held or text)[:120]!r}")
        results.put((dict(tally), leaks))


def speed() -> None:
    guarded = {
        f"p{n}.lund{n % 97}@{'tidewick' if n % 2 else 'kelp'}.example": f"P{n} Lund{n % 97}" for n in range(10_000)
    }
    book = openpyxl.Workbook()
    pick = random.Random(1)
    for row in range(155_000):
        book.active.append(
            [
                row,
                word(pick, 3),
                f"q{pick.randrange(10**9)}.x@gull.example",
                pick.random(),
                f"Berth {row}",
                pick.random(),
            ]
        )
    out = io.BytesIO()
    book.save(out)

    def took(files: list[tuple[str, bytes]], text: str) -> float:
        from email.message import EmailMessage

        message = EmailMessage()
        message["Subject"] = "Rota"
        message.set_content(text)
        for name, data in files:
            message.add_attachment(data, maintype="application", subtype="octet-stream", filename=name)
        raw = message.as_bytes()
        times = []
        for _ in range(5):
            begun = time.perf_counter()
            assert not search(raw, guarded).leaks
            times.append(time.perf_counter() - begun)
        return statistics.median(times)

    size = len(out.getvalue()) / 1e6
    print(f"a workbook of {size:.1f} MB: {took([('rota.xlsx', out.getvalue())], 'See the file.'):.2f} s (at most 3)")
    noise = b"\1\2\3\4" + pick.randbytes(3_000_000)
    print(f"3 MB of no known kind: {took([('plan.dwg', noise)], 'See the file.'):.2f} s (at most 10)")
    print(
        f"a usual message for 10,000: {took([], 'Closed on Friday, ask maren@tidewick.example.' * 40):.3f} s (at most 0.3)"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--messages", type=int, default=10_000)
    parser.add_argument("--ordinary", type=int, default=1_000)
    parser.add_argument("--seed", type=int, default=18)
    args = parser.parse_args()
    results: multiprocessing.Queue = multiprocessing.Queue()  # type: ignore[type-arg]
    half, plain = args.messages // 2, args.ordinary // 2
    workers = [
        multiprocessing.Process(target=share, args=(args.seed, n * 10**6, half, plain, results)) for n in range(2)
    ]
    for worker in workers:
        worker.start()
    tally: collections.Counter[str] = collections.Counter()
    wrong: list[str] = []
    for _ in workers:
        some, leaks = results.get()
        tally.update(some)
        wrong += leaks
    for worker in workers:
        worker.join()
    print(
        f"{tally['hidden made']:,} messages with an address hidden in them: {tally['hidden arrived']} arrived (0 may)"
    )
    print(
        f"{tally['guessed made']:,} with one to be guessed: {tally['guessed warned']:,} were warned of (all should be)"
    )
    print(f"{tally['ordinary made']:,} ordinary ones: {tally['ordinary made'] - tally['ordinary arrived']} were stopped "
          f"(1 in 1,000 may be), {tally['ordinary warned']} warned of")  # fmt: skip
    for line in wrong[:40]:
        print("  ", line)
    speed()


if __name__ == "__main__":
    main()
