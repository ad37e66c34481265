"""Three colleagues, two lists, and a phone: at random, offline for long, killed, and at the end all must have the same."""

from __future__ import annotations

import os
import random
import re
import shutil
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import keyring
import pytest
from conftest import Office
from hubs import Person, RunningHub, hub_in
from keyring.backends import null

from barnacle.book import contacts, lists, share_conflicts, shares
from barnacle.book.stored_contact import StoredContact
from barnacle.core import sharing as core
from barnacle.core.contact import Address, Contact, OptOut, Phone
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.people import merge
from barnacle.jobs.sharing import cards, conflicts, offers, sync
from barnacle.net import hub as net

WHO = ("maren", "tor", "ida")
TITLES = ("Crew", "Pilots")
FIELDS = ("org", "job", "web")
# `WALKS=200 pytest tests/test_walks.py` takes so many.
# 1095: an edit that settles a conflict goes out, also where it brings back what was here before. 1225: who follows one
# list and may be written to again by another is asked about.
SEEDS = [*range(int(os.environ.get("WALKS_FROM", "0")), int(os.environ.get("WALKS", "6"))), 1095, 1225]


VALUES = re.compile(r"v\d+x|\+44 1632 \d{6}")


class KilledError(BaseException):
    """An end at any moment: nothing after it is done."""


@pytest.fixture(scope="module")
def hub(tmp_path_factory: pytest.TempPathFactory) -> Iterator[RunningHub]:
    office = Office(tmp_path_factory.mktemp("walks"))
    with hub_in(office, "--most-requests", "100000") as hub:
        yield hub


class Walk:
    """What one seed does."""

    def __init__(self, seed: int, hub: RunningHub, folder: Path) -> None:
        self.random = random.Random(seed)
        self.hub = hub
        self.log: list[str] = []
        # Each value that somebody set: on whom, by which client, and what lists that person was on.
        self.made: dict[str, tuple[str, int, set[str]]] = {}
        self.superseded: set[str] = set()
        self.desks: list[Desk] = []
        for name in WHO:
            office = Office(folder / name)
            office.folder.mkdir()
            address = f"{name}.{seed}@tidewick.example"
            office.within("setup", "--me", f"{name.title()} <{address}>")
            office.within("hub", "connect", hub.url, "--code", hub.code(address, name.title()))
            self.desks.append(Desk(home=office.home))
        token = office.json("hub", "token", "new", "--for", "phone")["token"]
        self.phone = Person(hub.url, address, token)
        self.begin(seed)

    def begin(self, seed: int) -> None:
        owner = self.desks[0]
        with owner.open() as book, book.action("test"):
            rows = [lists.new(book, title).id for title in TITLES]
            for n in range(4):
                number = contacts.add(book, Contact(f"Person Nr{n}", addresses=[Address(f"p{n}@kelp.example")]))
                lists.add_member(book, rows[0], number, "test")
                if n == 0:
                    lists.add_member(book, rows[1], number, "test")
        others = [f"{name}.{seed}@tidewick.example" for name in WHO[1:]]
        offers.offer(owner, TITLES, others, "editor", list(core.USUAL), False, lambda d, t: None)
        for desk in self.desks[1:]:
            for title in TITLES:
                offers.answer(desk, title, None, True, lambda d, t: None)
        with owner.open() as book:
            self.remotes = {title: shares.of(book, self.row(book, title)).remote for title in TITLES}  # type: ignore[union-attr]

    @staticmethod
    def row(book: Any, title: str) -> int:
        found = lists.by_exact_title(book, title)
        assert found is not None
        return found.id

    # Steps

    def step(self, number: int) -> None:
        who = self.random.randrange(3)
        title = self.random.choices(TITLES, (4, 1))[0]
        what = self.random.choices(
            ("edit", "clear", "phone", "take", "put", "new", "merge", "sync", "killed", "settle", "card", "card off", "out", "in"),
            (10, 2, 4, 4, 5, 2, 1, 12, 2, 3, 4, 1, 1, 1),
        )[0]  # fmt: skip
        self.log.append(f"{number}: {WHO[who]} {what} {title}")
        if what in ("sync", "killed"):
            self.sync(who, what == "killed")
        elif what == "settle":
            self.settle(who)
        elif what.startswith("card"):
            self.card(title, number, what == "card off")
        else:
            with self.desks[who].open() as book, book.action("test"):
                self.act(book, who, what, title, f"v{number}x")

    def act(self, book: Any, who: int, what: str, title: str, value: str) -> None:
        row = self.row(book, title)
        on = lists.members(book, row)
        if what == "new":
            made = contacts.add(book, Contact(f"New {value}", addresses=[Address(f"{value}@kelp.example")]))
            lists.add_member(book, row, made, "test")
            self.made[value] = (f"New {value}", who, {title})
            return
        if what == "put":
            off = [k for k in contacts.everybody(book) if not lists.is_on(book, row, k.id)]
            if off:
                one = self.random.choice(off)
                self.log[-1] += f" {one.contact.name}"
                lists.add_member(book, row, one.id, "test")
            return
        if not on:
            return
        member = self.random.choice(on)
        kept = StoredContact(member.id, contacts.need(book, member.id))
        contact = kept.contact
        self.log[-1] += f" {contact.name} {value}"
        if what == "take":
            self.superseded |= self.values(contact)
            lists.take_member(book, row, kept.id)
            return
        if what == "merge":
            other = self.random.choice(on)
            if other.id != kept.id:
                both = [kept, StoredContact(other.id, contacts.need(book, other.id))]
                self.superseded |= self.values(both[0].contact) | self.values(both[1].contact)
                merge.make_one(self.desks[who], book, both)
            return
        titles = {on.title for on, *_ in lists.memberships(book, kept.id)}
        asked = [one for one in share_conflicts.every(book) if one.contact == kept.id]
        spoken = str([(one.mine, one.theirs) for one in asked if one.field in (*FIELDS, "phones")])
        if what in ("edit", "clear", "phone") and asked:  # a later edit settles it
            self.superseded |= set(VALUES.findall(spoken))
        if not self.handed_on(book, row, kept.id):
            self.superseded |= {value, f"+44 1632 96{int(value[1:-1]):04}"}  # stays in this book, and it is said
        if what == "edit":
            field = self.random.choice(FIELDS)
            self.log[-1] += f" {field}"
            self.superseded.add(getattr(contact, field))
            setattr(contact, field, value)
            self.made[value] = (contact.name, who, titles)
        elif what == "clear":
            field = self.random.choice(FIELDS)
            self.superseded.add(getattr(contact, field))
            setattr(contact, field, "")
        elif what == "phone":
            number = f"+44 1632 96{int(value[1:-1]):04}"
            contact.phones.append(Phone(number))
            self.made[number] = (contact.name, who, titles)
        elif what == "out":
            contact.opt_out = OptOut("2026-11-29T10:00:00Z", value)
        elif what == "in":
            contact.opt_out = None
        contacts.save(book, kept.id, contact)

    @staticmethod
    def handed_on(book: Any, row: int, contact: int) -> bool:
        """Whether what is changed of somebody is for those who share the list."""
        every = shares.all_links(book, row)
        links = [one for one in every if contact in (one.contact, shares.merged_into(book, one.uid))]
        return not links or any(link.own for link in links)

    @staticmethod
    def values(contact: Contact) -> set[str]:
        return (
            {getattr(contact, f) for f in FIELDS}
            | {p.number for p in contact.phones}
            | {contact.name.removeprefix("New ")}
        )

    def sync(self, who: int, killed: bool) -> None:
        if not killed:
            sync.sync(self.desks[who])
            return
        left, after = self.random.randrange(1, 7), self.random.random() < 0.5
        send = net.Client._send

        def cut(client: net.Client, *args: Any, **more: Any) -> Any:
            nonlocal left
            left -= 1
            if left < 1 and not after:
                raise KilledError
            answer = send(client, *args, **more)
            if left < 1:
                raise KilledError
            return answer

        net.Client._send = cut  # type: ignore[method-assign]
        try:
            with suppress(KilledError):
                sync.sync(self.desks[who])
        finally:
            net.Client._send = send  # type: ignore[method-assign]

    def settle(self, who: int) -> None:
        rows = conflicts.conflicts(self.desks[who])
        if rows:
            row, keep = self.random.choice(rows), self.random.choice(("mine", "theirs"))
            self.log[-1] += f" {keep} {row}"
            with self.desks[who].open() as book:
                one = next(c for c in share_conflicts.every(book) if c.number == row["number"])
                kept = contacts.get(book, one.contact)
                alike = [c for c in share_conflicts.every(book) if (c.contact, c.field) == (one.contact, one.field)]
            self.superseded |= set(VALUES.findall(str([(c.mine, c.theirs) for c in alike])))
            if kept is not None and row["field"] == core.ON and row[keep] is None:
                self.superseded |= self.values(kept.contact)
            elif kept is not None and row["field"] in FIELDS:
                self.superseded.add(getattr(kept.contact, row["field"]))
            conflicts.settle(self.desks[who], keep, [row["number"]])

    def card(self, title: str, number: int, off: bool) -> None:
        """A phone changes a card, and leaves out what it does not know; or takes it off."""
        found = self.hub_cards(title)
        if not found:
            return
        name = self.random.choice(sorted(found, key=lambda name: re.findall(r"FN:(.*)", found[name])))
        path = f"dav/lists/{self.remotes[title]}/{name}"
        answer = self.phone.ask("GET", path, 200)
        text, etag = answer.text, answer.headers["etag"]
        read = cards.read(text, name)
        assert read is not None
        contact = read.contact
        if off:
            self.superseded |= self.values(contact)
            self.phone.ask("DELETE", path, 204, headers={"If-Match": etag})
            self.log[-1] += f" {contact.name}"
            return
        value = f"v{number}x"
        self.superseded.add(contact.org)
        lines = [line for line in text.splitlines() if not line.startswith(("ORG", "X-"))]
        lines.insert(-1, f"ORG:{value}")
        self.made[value] = (contact.name, -1, {title})
        self.log[-1] += f" {contact.name} {value} org for {contact.org}"
        head = {"Content-Type": "text/vcard", "If-Match": etag}
        self.phone.ask("PUT", path, 204, content="".join(f"{line}\r\n" for line in lines).encode(), headers=head)

    # What there is

    def hub_cards(self, title: str) -> dict[str, str]:
        cards_there = self.phone.ask("POST", f"api/lists/{self.remotes[title]}/changes", 200, json={}).json()["cards"]
        return {name: data for name, _, data, *_ in cards_there if data is not None}

    def end(self) -> None:
        """Everybody exchanges until nothing moves."""
        for _ in range(8):
            moved = False
            for desk in self.desks:
                done = sync.sync(desk).lists
                trouble = [(one.title, one.refused, one.unreadable, one.ended) for one in done]
                assert not any(any(one[1:]) for one in trouble), trouble
                moved |= any(one.received or one.sent for one in done)
            if not moved:
                return
        raise AssertionError("it goes on and on")

    def check(self) -> None:
        spoken = " ".join(str(row) for desk in self.desks for row in conflicts.conflicts(desk))
        everything = spoken
        for title in TITLES:
            there = self.hub_cards(title)
            everything += " ".join(there.values())
            for who, desk in enumerate(self.desks):
                with desk.open() as book:
                    row = self.row(book, title)
                    links = shares.all_links(book, row)
                    on = {member.id for member in lists.members(book, row)}
                    assert {link.name for link in links} == set(there), (title, WHO[who])
                    assert {link.contact for link in links} == on, (title, WHO[who])
                    asked = {(one.contact, one.field) for one in share_conflicts.every(book, row)}
                    doubted = [contacts.get(book, one) for one, field in asked if field == core.ON]
                    spoken += str([self.values(kept.contact) for kept in doubted if kept is not None])
                    for link in links:
                        kept = contacts.get(book, link.contact)
                        assert kept is not None
                        if not link.own or shares.follows_another(book, row, link.contact, link.since):
                            continue
                        read = cards.read(there[link.name], link.name)
                        assert read is not None
                        theirs = read.fields(core.USUAL)
                        address = shares.chosen_address(book, row, kept)
                        mine = core.fields_of(kept.contact, address, core.USUAL)
                        for field in mine.keys() | theirs.keys():
                            if (link.contact, field) not in asked:
                                one, other = (set(VALUES.findall(str(side.get(field)))) for side in (mine, theirs))
                                # What was set while somebody was not on this list stays one's own.
                                more = {
                                    v for v in one - other if v not in self.made or title in self.made[v][2]
                                } - self.superseded
                                where = (title, WHO[who], kept.contact.name, field, one, other)
                                assert not more and not other - one, where
        for value, (name, who, _) in self.made.items():
            told = value in everything or value in self.superseded or value in spoken
            on_it = f"'name': '{name}', 'field': 'member'" in spoken
            assert told or on_it, f"{value} of {name}, set by {WHO[who]}, is gone"


@pytest.mark.parametrize("seed", SEEDS)
def test_whatever_three_do_they_end_alike_and_no_edit_is_gone(seed: int, hub: RunningHub, tmp_path: Path) -> None:
    keyring.set_keyring(null.Keyring())
    walk = Walk(seed, hub, tmp_path)
    try:
        for number in range(walk.random.randrange(30, 160)):
            walk.step(number)
        walk.end()
        walk.check()
    except BaseException:
        print("\n".join(walk.log))
        raise
    shutil.rmtree(tmp_path)
