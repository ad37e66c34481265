"""How many on a list can be reached is one truth, whatever has been changed and wherever it is shown."""

from __future__ import annotations

from contextlib import suppress

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from barnacle.book import contacts as book_contacts
from barnacle.book import lists
from barnacle.book.rule_members import FEW
from barnacle.core.contact import Address, Contact, Failing
from barnacle.core.errors import BarnacleError
from barnacle.core.mail.message import Choice
from barnacle.jobs import history
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import need_contact, understand
from barnacle.jobs.lists import manage, members
from barnacle.jobs.mail import marks
from barnacle.jobs.mail.audience import audience_for
from barnacle.jobs.people import contacts, edit, removal

WHO = ("Una Berg", "Per Berg", "Bo Lund")
PLACES = ("berg@kelp.example", "bo@gull.example")
STEPS = st.lists(
    st.tuples(
        st.sampled_from(
            ("out", "in", "give", "drop", "prefer", "on", "off", "fails", "works", "remove", "undo", "many")
        ),
        st.sampled_from(WHO),
        st.sampled_from(PLACES),
    ),
    min_size=3,
    max_size=14,
)


@settings(max_examples=30)
@given(STEPS)
def test_who_can_be_reached_is_whom_a_message_would_reach_whatever_has_been_changed(
    tmp_path_factory: pytest.TempPathFactory, steps: list[tuple[str, str, str]]
) -> None:
    desk = Desk(home=tmp_path_factory.mktemp("reach"))
    with desk.open(make=True):
        pass
    for who, place in zip(WHO, (PLACES[0], *PLACES), strict=True):
        contacts.add_contact(desk, contacts.read_person(f"{who} <{place}>"), ["Crew"])
    manage.new(desk, "Ruled", ["Bo Lund"], "", where="address has @kelp.example")
    manage.new(desk, "Per alone", ["Per Berg"], "")
    for step, who, place in steps:
        with suppress(BarnacleError):
            _step(desk, step, who, place)
        told = {one.one.list.title: one.one.reachable for one in manage.overview(desk)}
        with desk.open() as book:
            for title, reachable in told.items():
                audience = audience_for(book, Choice([understand(desk, book, title)]), None)
                assert reachable == audience.people, (step, who, place, title)


def _step(desk: Desk, step: str, who: str, place: str) -> None:
    if step in ("out", "in"):
        edit.opt(desk, who, step == "out")
    elif step in ("give", "drop"):
        wish = edit.Edit({}, [Address(place)]) if step == "give" else edit.Edit({}, drop_addresses=[place])
        edit.edit(desk, who, wish)
    elif step == "prefer":
        edit.prefer(desk, who, place, "Crew")
    elif step == "on":
        members.add(desk, "Crew", [who])
    elif step == "off":
        members.take(desk, "Crew", [who])
    elif step == "works":
        marks.works_again(desk, [who])
    elif step == "remove":
        removal.remove(desk, [who], lambda names: True)
    elif step == "undo":
        history.take_back(desk, None)
    else:
        with desk.open() as book, book.action("test") as action:
            action.title = step
            kept = need_contact(desk, book, who)
            if step == "fails":
                kept.contact.failing = [Failing(place, True, 1, "2026-01-01T00:00:00Z", "550")]
                book_contacts.save(book, kept.id, kept.contact)
            else:  # so many that all is worked out anew
                for number in range(FEW + 1):
                    more = Contact(f"Mate {number}", addresses=[Address(place)])
                    lists.add_member(book, 1, book_contacts.add(book, more), "test")
