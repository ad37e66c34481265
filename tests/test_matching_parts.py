"""The parts of matching one by one: names taken apart, words compared, keys that bring pairs together, groups."""

from __future__ import annotations

import os
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.contact import Address, Contact, Extra, Phone
from barnacle.core.matching import grouping
from barnacle.core.matching.candidates import candidates
from barnacle.core.matching.forms import Form, form, guessed_name
from barnacle.core.matching.grouping import find_groups, find_links
from barnacle.core.matching.judging import Judge
from barnacle.core.matching.name_forms import name_form, name_words
from barnacle.core.matching.short_forms import forms_of, known_given_names, names_in_their_own_right
from barnacle.core.matching.slips import slips
from barnacle.core.matching.spelling import Level, compare_words, plain_spelling, sound
from barnacle.core.matching.task_words import is_task
from barnacle.core.matching.weights import Frequencies
from barnacle.core.matching.wording import bits
from barnacle.core.usual_domains import UsualDomains
from barnacle.files.worker import in_two


def contact(name: str, *points: str, org: str = "", uid: str = "") -> Contact:
    addresses = [Address(p) for p in points if "@" in p]
    phones = [Phone(p) for p in points if "@" not in p]
    return Contact(name, addresses=addresses, phones=phones, org=org, uid=uid or f"{name} {points} {org}")


@pytest.mark.parametrize(
    ("name", "words", "given", "generation"),
    [
        ("Maren Holt", ("maren", "holt"), 1, ""),
        ("Holt, Maren", ("maren", "holt"), 1, ""),
        ("Dr. Maren Anna Holt", ("maren", "anna", "holt"), 2, ""),
        ("Jan van der Meer", ("jan", "meer"), 1, ""),
        ("Ana de la Cruz Ruiz", ("ana", "cruz", "ruiz"), 1, ""),
        ("Tom Pike jun.", ("tom", "pike"), 1, "younger"),
        ("Pike sen., Tom", ("tom", "pike"), 1, "elder"),
        ("Tom Pike III", ("tom", "pike"), 1, "younger"),
        ("Kim Min-Jun", ("kim", "min", "jun"), 2, ""),
        ("Anne-Marie Berg-Lund", ("anne", "marie", "berg", "lund"), 3, ""),
        ("Pat O'Brien", ("pat", "obrien"), 1, ""),
        ("Ian Mc Donald", ("ian", "mcdonald"), 1, ""),
        ("Maren", ("maren",), 1, ""),
        ("Åse Sandvik", ("ase", "sandvik"), 1, ""),
        ("山田 太郎", ("山田", "太郎"), 1, ""),
        ("мария иванова", ("мария", "иванова"), 1, ""),
        ("  ", (), 0, ""),
        ("Maren Holt, PhD", ("maren", "holt"), 1, ""),
    ],
)
def test_names_are_taken_apart(name: str, words: tuple[str, ...], given: int, generation: str) -> None:
    found = name_form(name)
    assert (found.words, found.given, found.generation) == (words, given, generation)
    assert not found.several and not found.org


@pytest.mark.parametrize(
    ("name", "several", "org"),
    [
        ("Una & Per Berg", True, False),
        ("Una and Per Berg", True, False),
        ("Una und Per Berg", True, False),
        ("Familie Berg", True, False),
        ("Berg family", True, False),
        ("Brine Yard Ltd", False, True),
        ("Kelp GmbH", False, True),
        ("Anders Berg", False, False),
    ],
)
def test_couples_and_organisations_are_told_from_people(name: str, several: bool, org: bool) -> None:
    found = name_form(name)
    assert (found.several, found.org) == (several, org)
    assert name_form("", org="Brine Yard").org and name_form("Brine Yard", org="BRINE YARD Ltd").org
    assert not name_form("Una Brine", org="Brine Yard").org


@pytest.mark.parametrize(
    ("one", "other", "given", "level"),
    [
        ("maren", "maren", True, Level.SAME),
        ("m", "maren", True, Level.INITIAL),
        ("m", "m", True, Level.INITIAL),
        ("b", "robert", True, Level.NONE),
        ("mueller", "muller", False, Level.SAME),
        ("macdonald", "mcdonald", False, Level.SAME),
        ("bo", "robert", True, Level.FORM),
        ("peggy", "margaret", True, Level.FORM),
        ("jack", "john", True, Level.LOOSE_FORM),
        ("dagny", "dagmy", True, Level.SLIP),
        ("dagny", "dgany", True, Level.SLIP),
        ("erik", "erika", True, Level.NONE),
        ("marten", "maren", True, Level.NONE),
        ("david", "vavid", True, Level.NEAR),
        ("fairweather", "gairweather", False, Level.SLIP),
        ("fairweather", "fairwaether", False, Level.SLIP),
        ("petrov", "petrova", False, Level.NONE),
        ("berg", "borg", False, Level.SLIP),
        ("lund", "land", False, Level.SLIP),
        ("strand", "lund", False, Level.NONE),
        ("山田", "山本", False, Level.NONE),
        ("1", "10", True, Level.NONE),
    ],
)
def test_words_are_compared(one: str, other: str, given: bool, level: Level) -> None:
    assert compare_words(one, other, lambda word: 0, given) == level
    assert compare_words(other, one, lambda word: 0, given) == level
    usual = compare_words(one, other, lambda word: 9, given)
    assert usual == (Level.NONE if level in (Level.SLIP, Level.NEAR) else level), "both usual: two names"


@given(st.text(max_size=40))
def test_any_text_is_a_name_that_is_like_itself(text: str) -> None:
    found = name_form(text)
    assert found.given <= len(found.words) and all(word == word.strip() and word for word in name_words(text))
    assert plain_spelling(text.lower()) == plain_spelling(plain_spelling(text.lower())) or not text.isascii()
    for word in found.words:
        assert compare_words(word, word, lambda word: 0) in (Level.SAME, Level.INITIAL)
        assert sound(word) == sound(word)


def test_the_tables_of_names_hold_together() -> None:
    assert names_in_their_own_right() <= known_given_names()
    assert forms_of("bill") == forms_of("will") & forms_of("bill") != frozenset() and not forms_of("dagny")
    assert all(name.isascii() and name == name.lower() and name.isalpha() for name in known_given_names())
    assert "bo" not in names_in_their_own_right() and {"jack", "robert", "una"} <= names_in_their_own_right()


@pytest.mark.parametrize(
    ("local", "words"),
    [
        ("bo.lund", ("bo", "lund")),
        ("bo_lund77", ("bo", "lund")),
        ("una-berg", ("una", "berg")),
        ("blund", None),
        ("b.lund", None),
        ("seadog77", None),
        ("the.whole.crew", None),
    ],
)
def test_an_address_may_tell_a_name(local: str, words: tuple[str, ...] | None) -> None:
    found = guessed_name(local)
    assert (found.words if found else None) == words


@pytest.mark.parametrize(
    ("local", "task"),
    [
        ("info", True), ("info2", True), ("customer-service", True), ("no.reply", True), ("geschaeftsstelle", True), ("segreteria", True),
        ("ured", True), ("kancelar", True), ("toimisto", True), ("postmottak", True), ("ola", False), ("luka", False), ("anna.info", False),
        ("una77", False), ("77", False),
    ],
)  # fmt: skip
def test_a_mailbox_of_a_task_is_known_in_many_languages(local: str, task: bool) -> None:
    assert is_task(local) is task


def test_comparable_forms_leave_off_what_does_not_count() -> None:
    found = form(contact("Maren Holt", "Maren+Lists@TIDEWICK.example", "maren@tidewick.example", "office@kelp.example", "07700 900123", "+44 7700 900123", org="Kelp Ltd"), "GB")  # fmt: skip
    assert [a.base for a in found.addresses] == ["maren@tidewick.example", "office@kelp.example"]
    assert [a.role for a in found.addresses] == [False, True]
    assert found.phones == ("+447700900123",) and found.org == "kelp" and not found.called_after
    own = contact("Maren Holt")
    own.extra = [Extra("csv:Berth", "A 7"), Extra("csv:Sent", "30.11.2026 09:15"), Extra("vcard:BDAY", "BDAY:19840229"), Extra("vcard:REV", "20261130")]  # fmt: skip
    assert form(own, "GB").own == (("berth", "a7"), ("birthday", "19840229"))
    idn = form(contact("", "bo.lund@höfn.example"), "GB")
    assert idn.addresses[0].domain == "xn--hfn-sna.example" and idn.called_after and idn.name.words == ("bo", "lund")


CROWD = [
    contact(f"{g}{n} {f}{n}", f"{g}.{f}{n}@gull.example", f"01632 7{n:05d}", org=f"Firm {n // 4}", uid=f"crowd{n:03d}")
    for n, (g, f) in enumerate(
        (g, f) for g in ("Tor", "Ulv", "Sig") for f in ("dal", "nes", "vik", "mo") for _ in range(10)
    )
]


@pytest.mark.parametrize(
    ("one", "other"),
    [
        (contact("Bo Lund", "b@kelp.example"), contact("Ida Rask", "B+x@kelp.example")),
        (contact("Bo Lund", "07700 900001"), contact("Lund", "+44 7700 900001")),
        (contact("Bo Lund", "seadog77@kelp.example"), contact("Bo Lunt", "seadog77@gull.example")),
        (contact("Bo Lund", "bolund@kelp.example"), contact("Bo Lnud", "bolnud@kelp.example")),
        (contact("Bo Lund", "a@kelp.example"), contact("Lund, Bo", "c@pier.example")),
        (contact("Robert Lund", "a@kelp.example"), contact("Bo Lund", "c@pier.example")),
        (contact("R. Lund", "a@kelp.example"), contact("Robert Lund", "c@pier.example")),
        (contact("Dagny Fairweather", "a@kelp.example"), contact("Fairweather", "c@pier.example")),
        (contact("Dagny Fairweather", "a@kelp.example"), contact("Dagny Fairwaether", "c@pier.example")),
        (contact("Anna Maria Lund", "a@kelp.example"), contact("Anna Lund", "c@pier.example")),
        (contact("", "bo.lund@kelp.example"), contact("Bo Lund", "c@pier.example")),
        (contact("Xaver (Beppo) Lund", "a@kelp.example"), contact("Beppo Lund", "c@pier.example")),
        (contact("Anna Lund (née Rask)", "a@kelp.example"), contact("Anna Rask", "c@pier.example")),
        (
            contact("", "office@brine.example", org="Brine Yard"),
            contact("", "info@brine.example", org="Brine Yard Ltd"),
        ),
    ],
)
def test_each_kind_of_key_brings_a_pair_together(one: Contact, other: Contact) -> None:
    forms = [form(c, "GB") for c in [*CROWD, one, other]]
    pairs = set(candidates(forms))
    assert (len(CROWD), len(CROWD) + 1) in pairs
    assert len(pairs) < 8 * len(forms), "and not all with all"


def test_pairs_grow_with_the_book_not_with_its_square() -> None:
    def crowded(number: int) -> list[Form]:
        return [form(contact(f"Ada{n % 50} Brine{n % 70}", "desk@kelp.example", "01632 960000", uid=f"{n:05d}"), "GB") for n in range(number)]  # fmt: skip

    few, many = len(candidates(crowded(500))), len(candidates(crowded(4000)))
    assert many <= 12 * few
    assert len(candidates([form(contact("Ada Brine"), "GB")])) == 0


def test_chance_is_what_it_is_in_the_book() -> None:
    forms = [form(c, "GB") for c in CROWD]
    book = Frequencies(
        [*forms, form(contact("Bo Lund", "info@x.example"), "GB"), form(contact("Bo Rask", "info@x.example"), "GB")]
    )
    assert book.rarity("lund") > book.rarity("bo") and book.rarity("nobody") >= book.rarity("lund")
    assert book.crowd("info@x.example") == 1, "both are called Bo"
    assert Frequencies([*forms, form(contact("Ida", "a@x.example"), "GB"), form(contact("Bo", "a@x.example"), "GB")]).crowd("a@x.example") == 2  # fmt: skip
    assert book.org_rarity("firm 1") < book.org_rarity("nowhere") and not book.of_few("gull.example")
    assert Frequencies([]).prior == Frequencies(forms[:50]).prior > Frequencies(forms * 4).prior


def test_a_group_holds_who_belongs_together_and_splits_at_a_contradiction() -> None:
    tom = [
        contact("Tom Pike", "pike@kelp.example", uid="1"), contact("Thomas Pike", "pike@kelp.example", uid="2"),
        contact("Pike, Tom", "pike+x@kelp.example", "07700 900001", uid="3"), contact("Tom Pike jun.", "pike@kelp.example", uid="4"),
        contact("T. Pike jun.", "pike@kelp.example", "07700 900001", uid="5"),
    ]  # fmt: skip
    groups = find_groups([*CROWD, *tom], "GB")
    members = [{([*CROWD, *tom])[n].uid for n in group.members} for group in groups]
    assert members[0] == {"1", "2", "3"} and groups[0].verdict == "certain"
    assert all(not ({"1", "2", "3"} & group and {"4", "5"} & group) for group in members)
    assert {"4", "5"} in members
    apart = find_groups([*CROWD, *tom], "GB", [frozenset("12"), frozenset("13"), frozenset("23")])
    assert all(len({"1", "2", "3"} & {([*CROWD, *tom])[n].uid for n in group.members}) < 2 for group in apart)


def test_in_two_processes_the_same_comes_out_also_where_one_of_them_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(grouping, "_WORTH_PARTS", 0)
    twice = [
        contact(one.name.replace("1", "l"), *(a.address for a in one.addresses), uid=f"{one.uid}b") for one in CROWD
    ]
    told: list[int] = []
    both = find_groups([*CROWD, *twice], "GB", tick=lambda done, total: told.append(done), in_parts=in_two)
    assert both == find_groups([*CROWD, *twice], "GB") and len(both) > 50
    assert told == sorted(told)  # one of the two says how far it is
    here = os.getpid()

    def part(number: int, parts: int) -> list[tuple[int, int, bool]]:
        if os.getpid() != here and ends:
            os._exit(1)
        return [(number, parts, os.getpid() == here)]

    several = sys.platform == "linux" and len(os.sched_getaffinity(0)) > 1
    for ends in (False, True):
        assert in_two(part) == ([(0, 2, True), (1, 2, ends)] if several else [(0, 1, True)])


def test_links_come_the_surest_first_and_bits_double() -> None:
    people = [*CROWD, contact("Bo Lund", "b@kelp.example"), contact("Bo Lund", "b@kelp.example", "07700 900001", uid="x"), contact("Bo Lund", "bo@gull.example", uid="y")]  # fmt: skip
    forms = [form(c, "GB") for c in people]
    links = find_links(forms, Judge(Frequencies(forms)))
    scores = [link.judgement.score for link in links]
    assert scores == sorted(scores, reverse=True) and links[0].judgement.verdict == "certain"
    assert bits(0.6931471805599453) == 1.0 and bits(6.9) == 10.0


@given(
    st.dictionaries(st.text("kelp", min_size=1, max_size=5).map("{}.example".format), st.integers(1, 60), max_size=12)
)
def test_a_mistyped_domain_is_the_nearest_then_the_most_frequent_of_those_with_five_times_as_many(
    counts: dict[str, int],
) -> None:
    usual = UsualDomains(counts)
    for domain, number in counts.items():
        near = [(slips(domain, other), -counts[other], other) for other in counts if other != domain]
        meant = min(((far, many, it) for far, many, it in near if far <= 2 and -many >= 5 * number), default=None)
        assert usual.meant_by(domain) == (meant[2] if meant and len(domain) > 2 * meant[0] + 4 else "")
    assert UsualDomains({"kelp.example": 5}).meant_by("klep.example") == "kelp.example"
