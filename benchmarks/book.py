"""How daily commands do on a large book, against `barnacle --version`, in one paired run.

    python benchmarks/book.py [--contacts 100000] [--runs 9]

Makes two books with a seed, one of a tenth of the size, with 500 lists (50 of them rules) and three memberships for
each contact, and prints medians, ratios, and how much each command grows from the small book to the large one. The
targets: at most 3 times `--version` (a completion 1.5, all rules together 10), and from the small book to the large
one at most 1.5 times as long, but for the rules.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from made_up import SEED, Town, phone, word

from barnacle.book import contacts, lists, rule_members
from barnacle.core import rules
from barnacle.core.contact import Address, Contact, Phone
from barnacle.jobs.desk.desk import Desk

LISTS, RULES, EACH = 500, 50, 3


def make_book(home: Path, number: int) -> None:
    pick = random.Random(SEED)
    town = Town(pick)
    desk = Desk(home=home)
    with desk.open(make=True) as book, book.action("benchmark", "Made the book"):
        rows = []
        for n in range(number):
            given, family = word(pick, 2), pick.choice(town.families)
            own = [Address(f"{given}.{family}{n}@{pick.choice(town.domains)}".lower(), "work")]
            org = pick.choice(town.orgs) if n % 3 == 0 else ""
            labels = [pick.choice(("crew", "pilot", "berth", "board"))] if n % 5 == 0 else []
            phones = [Phone(phone(n))]
            rows.append(contacts.add(book, Contact(f"{given} {family}", addresses=own, org=org, labels=labels,
                                                   phones=phones, added="2026-01-01T00:00:00Z")))  # fmt: skip
        contacts.add(book, Contact("Quixley Zorn", addresses=[Address("quixley@zorn.example")]))
        made = [lists.new(book, f"List {n:03d} {word(pick, 2)}") for n in range(LISTS - RULES)]
        special = lists.new(book, "Two hundred")
        for row in pick.sample(rows, 200):
            lists.add_member(book, special.id, row, "benchmark")
        # Straight into the table: the way of the commands would take longer than all the measuring.
        book.db.executemany(
            "INSERT OR IGNORE INTO member(list, contact, kind, since, by) VALUES(?, ?, 'on', '2026-01-01', 'benchmark')",
            [(pick.choice(made).id, row) for row in rows for _ in range(EACH)],
        )
        for n in range(RULES):
            text = pick.choice((
                f"domain is {pick.choice(town.domains)}", f"family is {pick.choice(town.families)}",
                f'org is "{pick.choice(town.orgs)}"', f"label is pilot and domain is {pick.choice(town.domains)}",
                f"phone starts 01632960{n:03d}", f"org has {word(pick, 2)[:4]} and not label missing",
            ))  # fmt: skip
            rule = lists.new(book, f"Rule {n:02d}")
            lists.set_rule(book, rule.id, rules.parse(text))


def seconds(argv: list[str], environment: dict[str, str]) -> float:
    begun = time.perf_counter()
    subprocess.run(argv, env=environment, stdin=subprocess.DEVNULL, capture_output=True, check=True)
    return time.perf_counter() - begun


def rules_together(home: Path) -> float:
    with Desk(home=home).open() as book:
        begun = time.perf_counter()
        for rule in rule_members.all_rules(book).values():
            rule_members.fitting(book, rule)
        return time.perf_counter() - begun


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--contacts", type=int, default=100_000)
    parser.add_argument("--runs", type=int, default=9)
    options = parser.parse_args()
    program = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or "barnacle"
    commands: dict[str, tuple[list[str], float, dict[str, str]]] = {
        "find, rare": (["find", "quixl", "--most", "100"], 3, {}),
        "find, common": (["find", "exam", "--most", "100"], 3, {}),
        "find, common name": (["find", "bako", "--most", "100"], 3, {}),
        "contact show": (["contact", "show", "Quixley Zorn"], 3, {}),
        "list add": (["list", "add", "Two hundred", "Quixley Zorn"], 3, {}),
        "list show of 200": (["list", "show", "Two hundred"], 3, {}),
        "overview": (["list"], 3, {}),
        "completion": ([], 1.5, {"_ARGCOMPLETE": "1", "COMP_LINE": "barnacle contact show Quix", "COMP_POINT": "26",
                                 "_ARGCOMPLETE_STDOUT_FILENAME": os.devnull}),
    }  # fmt: skip
    missed = False
    with tempfile.TemporaryDirectory() as scratch:
        homes = {size: Path(scratch) / str(size) for size in (options.contacts // 10, options.contacts)}
        for size, home in homes.items():
            begun = time.perf_counter()
            make_book(home, size)
            print(f"made a book of {size:,} in {time.perf_counter() - begun:.0f} s")
        small, large = homes.values()
        print(
            f"\n{'command':<20}{'--version ms':>13}{'small ms':>10}{'large ms':>10}{'ratio':>8}{'target':>8}{'growth':>8}"
        )
        bare = statistics.median(seconds([program, "--version"], dict(os.environ)) for _ in range(options.runs))
        for name, (arguments, target, extra) in commands.items():
            argv, triples = [program, *arguments], []
            for _ in range(options.runs + 1):
                triples.append(tuple(
                    seconds(a, {**os.environ, "BARNACLE_HOME": str(h), **e})
                    for a, h, e in (([program, "--version"], small, {}), (argv, small, extra), (argv, large, extra))
                ))  # fmt: skip
            triples = triples[1:]
            medians = [statistics.median(column) * 1000 for column in zip(*triples, strict=True)]
            ratio = statistics.median(t[2] / t[0] for t in triples)
            growth = statistics.median(t[2] / t[1] for t in triples)
            missed |= ratio > target or growth > 1.5
            print(
                f"{name:<20}{medians[0]:>13.0f}{medians[1]:>10.0f}{medians[2]:>10.0f}{ratio:>8.2f}{target:>8}{growth:>8.2f}"
            )
        together = [statistics.median(rules_together(home) for _ in range(3)) for home in (small, large)]
        ratio = together[1] / bare
        missed |= ratio > 10
        print(f"{'all 50 rules':<20}{bare * 1000:>13.0f}{together[0] * 1000:>10.0f}{together[1] * 1000:>10.0f}"
              f"{ratio:>8.2f}{10:>8}")  # fmt: skip
    print(f"targets: {'missed' if missed else 'met'}")
    return int(missed)


if __name__ == "__main__":
    sys.exit(main())
