"""Each field of a contact is declared once: whatever handles contacts field by field handles all of them."""

from __future__ import annotations

import copy

import pytest
from conftest import Office

from barnacle.core import contact_form, rules, sharing
from barnacle.core.contact import Contact, from_doc, join, to_doc
from barnacle.core.contact_fields import FIELDS, PLAIN, TEXTS, ContactField
from barnacle.core.mail import merge_fields
from barnacle.core.merging import CHOOSABLE, merge, side_by_side

VALUES = {"name": "Una Berg", "given": "Una", "family": "Berg", "web": "https://kelp.example/quay"}


def value_of(field: ContactField) -> str:
    return VALUES.get(field.name, f"Quay {field.name}")


@pytest.mark.parametrize("field", TEXTS, ids=lambda field: field.name)
def test_a_field_is_stored_joined_merged_shown_written_on_a_card_and_asked_for_by_rules(field: ContactField) -> None:
    one, other = Contact("Una Berg", uid="a"), Contact("Una Berg", uid="b")
    setattr(other, field.name, value_of(field))
    assert getattr(from_doc("b", to_doc(other)), field.name) == value_of(field)
    joined = copy.deepcopy(one)
    join(joined, other, str)
    assert getattr(joined, field.name) == value_of(field)
    merge(kept := copy.deepcopy(one), other, 1, str)
    assert getattr(kept, field.name) == value_of(field)
    rows = {row.title: row.merged for row in side_by_side(one, other, None, str)}
    assert field.is_name or rows[field.title] == value_of(field)
    assert getattr(contact_form.read_card(contact_form.write_card(other)), field.name) == value_of(field)

    class Facts:
        contact = other
        written = ""

        def is_on(self, number: int) -> bool:
            return False

    assert rules.matches(rules.parse(f'{field.name} is "{value_of(field)}"'), Facts())
    names = [*sharing.USUAL, *sharing.MORE]
    shared = sharing.fields_of(other, None, names)
    assert shared[field.shared_as or field.name] == value_of(field)
    sharing.put_on_contact(taken := Contact("Una Berg"), {}, shared)
    sharing.put_on_card(card := Contact("Una Berg"), shared, names)
    assert getattr(taken, field.name) == getattr(card, field.name) == value_of(field)
    told = merge_fields.values_of([other], "una@kelp.example")
    assert not field.in_letters or told[field.name] == value_of(field)
    assert (field.name in CHOOSABLE) is field.choosable


@pytest.mark.parametrize("form", ("csv", "vcard", "vcard3", "jcard", "jscontact", "ldif"))
def test_every_field_goes_out_and_comes_in_by_every_format(office: Office, form: str) -> None:
    options = [part for field in PLAIN for part in (f"--{field.name}", value_of(field))]
    office.within(
        "contact", "add", "Una Berg <una@kelp.example>", *options, "--phone", "01632 960001", "--label", "pilot"
    )
    office.run("export", "all", "--as", form, "--out", f"out.{form}")
    other = Office(office.folder / "other")
    other.folder.mkdir()
    other.within("setup", "--me", "Tor Vik <tor@tidewick.example>")
    other.run("import", str(office.folder / f"out.{form}"))
    (mine,), (theirs,) = office.told("find"), other.told("find")
    for field in FIELDS:
        key = field.shared_as or field.name
        if form != "ldif" or field.is_text:  # it has no number without a kind, and no labels
            assert mine.get(key) == theirs.get(key), (field.name, form)


def test_every_field_is_searched_edited_and_undone(office: Office) -> None:
    office.within("contact", "add", "Una Berg <una@kelp.example>")
    options = [part for field in PLAIN for part in (f"--{field.name}", value_of(field))]
    office.within("contact", "edit", "una", *options)
    for field in PLAIN:
        assert [one["name"] for one in office.told("find", *value_of(field).split())] == ["Una Berg"], field.name
        rule = f'{field.name} is "{value_of(field)}"'
        assert [one["name"] for one in office.told("find", "--where", rule)] == ["Una Berg"], field.name
        assert value_of(field) in office.within("contact", "show", "una").out
    office.run("undo")
    assert not any(office.told("find")[0][field.shared_as or field.name] for field in PLAIN)
