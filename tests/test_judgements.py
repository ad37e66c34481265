"""What the judgement says of many made-up pairs, word for word: whoever changes it sees what else has changed.

`python tests/test_judgements.py` writes the tables anew; read the difference before you commit it.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations
from pathlib import Path

import pytest

from barnacle.core.contact import Address, Contact, Phone
from barnacle.core.matching.candidates import candidates
from barnacle.core.matching.forms import form
from barnacle.core.matching.grouping import find_groups
from barnacle.core.matching.judging import Judge
from barnacle.core.matching.name_forms import name_form
from barnacle.core.matching.naming import compare_names
from barnacle.core.matching.weights import Frequencies
from barnacle.core.matching.wording import in_words

TABLES = Path(__file__).parent / "judgements"
NAMES = """
Una Berg; Berg, Una; U. Berg; Una; Berg; Una Marie Berg; Una Berg-Holm; Una Holm; Dr. Una Berg; Una Berg jun.; Una Berg sen.; Unna Berg
Bo Lund; Robert Lund; Rob Lund; Bob Lund; Robert Magnus Lund; R. M. Lund; Roberta Lund; Al Lund; Lund, Robert; Robret Lund; Rupert Lund
Jan van der Meer; Meer, Jan van der; Van der Meer; Jan Meer; Di Marco; Anna Di Marco; Juan Carlos Rena; Juancarlos Rena; Juan Carlos Rena Soto
Jürgen Müller; Juergen Mueller; Jurgen Muller; Ian MacDonald; Ian Mc Donald; Pat O'Brien; Patrick OBrien; Erik Skarn; Erika Skarn; Eric Skarn
Aleksandr Petrov; Aleksandra Petrova; Алексей Петров; 李小龙; Una and Per Berg; Familie Berg; Jack Keel; John Keel; Jonathan Keel; Ebbe Fjallgren; Ebe Fjallgren
Kelp Yard Ltd; Kelp Yard; KELP YARD GMBH; Kelp; Kelp & Sons; Kelps Yard
"""
ALL_NAMES = [name.strip() for line in NAMES.strip().splitlines() for name in line.split(";")]
# Name | addresses | phones | organisation.
PEOPLE = """
Una Berg | una@kelp.example | 01632 960001 | Kelp Yard
Berg, Una | UNA+list@kelp.example | |
U. Berg | una@kelp.example | | Kelp Yard Ltd
Una Berg | una.berg@gull.example | +44 1632 960001 |
Una Berg | una@klep.example | |
Una Holm | una.berg@gull.example | | Kelp Yard
Per Berg | una@kelp.example | 01632 960001 |
 | una.berg@gull.example | |
 | info@kelp.example | |
Una Berg | info@kelp.example | 01632 960010 | Kelp Yard
Bo Lund | bo.lund@gull.example | 01632 960002 | Ebb Chandlery
Robert Lund | bo.lund@gull.example | |
Robert Lund | rlund@pier.example | 01632 960002 | Ebb
Bob Lund | | 01632 960002 | Ebb Chandlery
Robert Magnus Lund | rob@pier.example | | Ebb Chandlery
Berit Lund | bo.lund@gull.example | | Ebb Chandlery
Torva Skarn | skarn77@kelp.example | 01632 960003 |
Torva Skarn | skarn77@pier.example | |
Torva Skarn | torva@pier.example | 01632 960030 | Quay
Torva Skarn | tskarn@kelp.example | | Quay
Tolva Skarn | skarn77@kelp.example | |
Ebbe Fjallgren | ebbe@skerry.example | |
Ebbe Fjällgren | ebbe@skerry.example | | Skerry
Ebe Fjallgren | ebe@skerry.example | 01632 960005 |
Ebbe Fjallgren jun. | ebbe@skerry.example | |
Jack Keel | keel@pier.example | |
John Keel | keel@pier.example | 01632 960006 | Pier Trust
J. Keel | | 01632 960006 |
Kelp Yard Ltd | info@kelp.example | 01632 960010 |
KELP YARD | yard@kelp.example | 01632 960010 |
Алексей Петров | petrov@pier.example | |
Aleksei Petrov | petrov@pier.example | |
Ida Rask | ida@harbour.example | 01632 960007 | Pier Trust
Ida Rask | ida@hanbour.example | |
Ida Rask | rask@one.example | 01632 960008 | Tide Office
Ida Rask | ida.r@two.example | 01632 960080 | Ferry Office
Ida Rask | | 01632 960007 |
Zoë Abend | zabend@harbour.example | |
Zoe Abend | zabendt@harbour.example | |
Familie Berg | una@kelp.example | |
Odd Brine | odd@kelp.example | 01632 960011 | Brine Yard
Oddvar Brine | odd@kelp.example | 01632 960011 | Quay Trust
O. Brine | odd@kelp.example | 01632 960099 | Quay Trust
 | odd@kelp.example | 01632 960011 |
Uma Dale | dale@rare.example | | Lone Trust
Una Dale | dale@rare.example | | Other Trust
U. Rudd | dale@rare.example | |
Ana Lucia Maria Torv | ana@one.example | |
Ana Lucia Maria Torv | torv@two.example | |
Ana Lucia Torv | | | Skerry Sound Rescue Association
Ana Torv | | | Skerry Sound Rescue Association
Ana Torv | | | Skerry Sound Rescue
Jack Fjord | jf@five.example | |
John Fjord | | | Ferry Inn
Jack Fjord | fjord@five.example | 01632 960021 | Ferry Inn
John Fjord | | 01632 960021 | Harbour Inn
Siv Alm | siv.alm@one.example | |
Siv Alm | siv.alm@two.example | 01632 960022 | Alm Boats
Siv Alm | sivalm1@six.example | |
Siv Alm | sivalm1@sixx.example | 01632 960023 | Alm & Co
Nils Ode | post@ode.example | | Ode
Nora Ode | post@ode.example | | Ode
Nina Ode | post@ode.example | | Ode
Nico Ode | post@ode.example | | Ode
Noel Ode | post@ode.example | | Ode
N. Ode | post@ode.example | 01632 960024 | Ode
Nils Ode | post@ode.example | 01632 960024 |
Nils Odde | post@ode.example | |
"""


def people() -> list[Contact]:
    found = []
    for number, line in enumerate(PEOPLE.strip("\n").splitlines()):
        name, addresses, phones, org = (part.strip() for part in line.split("|"))
        contact = Contact(name, org=org, uid=f"u{number:02}")
        contact.addresses = [Address(one) for one in addresses.split()]
        contact.phones = [Phone(phones)] if phones else []
        found.append(contact)
    # Others, so that frequencies mean something: usual names, and domains that many have.
    for number in range(160):
        given = ("Una", "Per", "Robert", "John", "Jack", "Nils", "Siv", "Odd")[number % 8]
        family = ("Lund", "Dale", "Brine", "Fay", "Rudd")[number % 5]
        domain = "harbour" if number % 2 else f"d{number % 40}"
        found.append(
            Contact(
                f"{given} {family}{'son' * (number // 40)}",
                uid=f"v{number:03}",
                addresses=[Address(f"m{number}@{domain}.example")],
            )
        )
    return found


def names() -> Iterator[str]:
    counts = {"robert": 9, "una": 6, "lund": 9, "jack": 5, "john": 7}
    for one, other in combinations(ALL_NAMES, 2):
        left, right = name_form(one), name_form(other)
        found = compare_names(left, right, lambda word: counts.get(word, 0))
        turned = compare_names(right, left, lambda word: counts.get(word, 0))
        assert (bool(found.contradiction), bool(found.doubt), found.given) == (
            bool(turned.contradiction),
            bool(turned.doubt),
            turned.given,
        )
        if found.contradiction:
            said = found.contradiction
        else:
            pairs = ", ".join(
                f"{p.one}={p.other} {p.level.name.lower()}{' given' if p.given else ''}" for p in found.pairs
            )
            marks = [mark for mark, holds in (("turned", found.turned), ("complete", found.complete)) if holds]
            said = "; ".join(part for part in (pairs, found.doubt, *marks) if part)
        if "nothing in common" not in said:
            yield f"{one} | {other} | {said}"


def pairs() -> Iterator[str]:
    some = people()
    forms = [form(one, "GB") for one in some]
    judge = Judge(Frequencies(forms))
    asked = {frozenset(pair) for pair in candidates(forms, lambda done, total: None)}
    number = len(PEOPLE.strip("\n").splitlines())
    for one, other in combinations(range(number), 2):
        judged = judge.judge(forms[one], forms[other])
        if judged.score > -30:
            seen = "" if frozenset((one, other)) in asked else " not a candidate"
            yield f"{one} {other} | {judged.verdict or '-'} {judged.score:.2f}{seen} | {in_words(judged.reasons, judged.against)}"
    for group in find_groups(some, "GB"):
        yield f"group {' '.join(str(n) for n in group.members)} | {group.verdict} {group.score:.2f}"


@pytest.mark.parametrize("table", [names, pairs], ids=lambda table: table.__name__)
def test_the_judgement_says_just_what_it_said(table) -> None:  # type: ignore[no-untyped-def]
    assert list(table()) == (TABLES / f"{table.__name__}.txt").read_text("utf-8").splitlines()


if __name__ == "__main__":
    TABLES.mkdir(exist_ok=True)
    for made in (names, pairs):
        (TABLES / f"{made.__name__}.txt").write_text("".join(f"{line}\n" for line in made()), "utf-8")
