"""The core of a message: who gets it, what stands in it, what must not."""

from __future__ import annotations

import base64
import quopri
from datetime import UTC, datetime
from email import message_from_bytes, policy
from email.message import EmailMessage

import pytest
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.addresses import Mailbox
from barnacle.core.contact import Address, Contact, OptOut
from barnacle.core.mail import refusals
from barnacle.core.mail.audience import Candidate, Exclusions, work_out
from barnacle.core.mail.delivery import batch_count, batches, message_state
from barnacle.core.mail.letter import Letter, build, message_id
from barnacle.core.threeway import merge
from barnacle.files.contents.search import find_leaks

GUARDED = {"della.goss@tidewick.example": "Della Goss"}
ADDRESS = "Della.Goss@tidewick.example"


def letter(subject: str = "Rota", text: str = "Hello.\n", **more: str) -> Letter:
    me = Mailbox("Maren Holt", "maren@tidewick.example")
    return Letter("ab" * 16, me, subject, text, datetime(2026, 11, 23, 9, 0, tzinfo=UTC), **more)


def leaks(text: str = "Hello.", subject: str = "Rota") -> list[str]:
    return [leak.where for leak in find_leaks(build(letter(subject, text)), GUARDED)]


@pytest.mark.parametrize(
    "text",
    [
        ADDRESS,
        f"ask {ADDRESS}.",
        f"<{ADDRESS}>",
        f"mailto:{ADDRESS}?subject=x",
        f"'{ADDRESS}'",
        f"to={ADDRESS}&x",
        "della.goss%40tidewick.example",
        "della.goss&#64;tidewick.example",
        "della.goss&commat;tidewick.example",
        "della.goss=40tidewick.example",
        "=?utf-8?q?della=2Egoss=40tidewick=2Eexample?=",
        base64.b64encode(ADDRESS.encode()).decode(),
        base64.b64encode(f"padding {ADDRESS} end".encode()).decode(),
        base64.encodebytes(b"x " * 25 + ADDRESS.encode() + b" y" * 30).decode(),
        "della.goss%2540tidewick.example",
        "della<b>.goss</b>@tidewick.example",
        "della.goss\u200b@tidewick.example",
        "della.\u00adgoss@tide\u00adwick.example",
        "é " + ADDRESS,
        quopri.encodestring(f"é {ADDRESS}".encode()).decode(),
        f"https://x.example/?to={ADDRESS}",
        "x" * 200 + " " + ADDRESS,
    ],
)
def test_an_address_is_found_in_every_decoded_form(text: str) -> None:
    assert "the text" in leaks(text)


@pytest.mark.parametrize(
    "text",
    [
        "adella.goss@tidewick.example",
        "x-della.goss@tidewick.example",
        "della.goss@tidewick.example.test",
        "della.goss@tidewick.examples",
        "della.goss tidewick.example",
        "goss@tidewick.example",
        "@",
        "a@b",
        "",
    ],
)
def test_only_whole_addresses_count(text: str) -> None:
    assert leaks(text) == []


def test_headers_attachments_and_messages_inside_are_searched() -> None:
    assert leaks(subject=f"Swap with {ADDRESS} – soon") == ["the Subject line"]
    inner = EmailMessage()
    inner["From"] = f"Della Goss <{ADDRESS}>"
    inner.set_content("see you")
    outer = EmailMessage()
    outer.set_content("attached")
    outer.add_attachment(ADDRESS.encode("utf-16"), maintype="application", subtype="octet-stream", filename="rota.txt")
    for codec in ("utf-16-le", "utf-16-be"):  # without a mark at the beginning
        data = f"Rota: {ADDRESS}".encode(codec)
        outer.add_attachment(data, maintype="application", subtype="octet-stream", filename=f"{codec}.txt")
    outer.add_attachment(b"no text", maintype="application", subtype="pdf", filename=f"für {ADDRESS}.pdf")
    outer.add_attachment(inner)
    outer.add_attachment(inner.as_bytes(), maintype="application", subtype="octet-stream", filename="kept.eml")
    places = {leak.where for leak in find_leaks(outer.as_bytes(), GUARDED)}
    assert {"the text of rota.txt", f"the name of für {ADDRESS}.pdf"} <= places
    assert "the From line of kept.eml" in places
    assert {"the text of utf-16-le.txt", "the text of utf-16-be.txt"} <= places


@given(st.text(max_size=200), st.text(max_size=60))
def test_whatever_is_written_stays_in_its_place_and_is_seven_bit(text: str, subject: str) -> None:
    subject = "".join(c for c in subject if c.isprintable())
    text = "".join(c for c in text if c.isprintable() or c == "\n")
    raw = build(letter(subject, text))
    assert raw == build(letter(subject, text))
    assert raw.isascii() and max(map(len, raw.split(b"\r\n"))) <= 998
    assert b"\n" not in raw.replace(b"\r\n", b"")
    read = message_from_bytes(raw, policy=policy.default)
    assert sorted(k.lower() for k in read) == sorted(
        [
            "from",
            "reply-to",
            "to",
            "subject",
            "date",
            "message-id",
            "list-id",
            "list-unsubscribe",
            "content-type",
            "content-transfer-encoding",
            "mime-version",
        ]
    )
    assert read.get_content().replace("\r\n", "\n").rstrip("\n") == text.rstrip("\n")
    assert str(read["Subject"]).split() == subject.split()


def test_to_shows_the_sender_an_empty_group_or_the_title_when_asked() -> None:
    seen = [
        str(message_from_bytes(build(letter(**more)), policy=policy.default)["To"])
        for more in ({}, {"to": "none"}, {"to": "title", "to_title": "Night pilots"})
    ]
    assert seen == ["Maren Holt <maren@tidewick.example>", "undisclosed-recipients:;", "Night pilots:;"]
    assert message_id(letter()) == f"<{'ab' * 16}@tidewick.example>"


def person(name: str, *addresses: str, **more: OptOut) -> Contact:
    return Contact(name, addresses=[Address(a) for a in addresses], uid=name, **more)


ADA = person("Ada", "ada@work.example", "ada@home.example")
BO = person("Bo", "bo@x.example")
CY = person("Cy", "bo@x.example")
NOBODY = person("Dee")
GONE = person("Eve", "eve@x.example", "shared@x.example", opt_out=OptOut("2026-01-01", "asked on the phone"))
PEOPLE = [ADA, BO, CY, NOBODY, GONE]


def on(contact: Contact, reason: str, **more: object) -> Candidate:
    return Candidate(contact, PEOPLE.index(contact) if contact in PEOPLE else None, reason, **more)  # type: ignore[arg-type]


def opted_out_at(keys: list[str]) -> dict[str, Contact]:
    return {key: GONE for key in keys if key in GONE.address_keys()}


def audience(*candidates: Candidate, **exclusions: object):  # type: ignore[no-untyped-def]
    return work_out(candidates, opted_out_at, Exclusions(**exclusions))  # type: ignore[arg-type]


def test_one_person_on_two_lists_is_one_recipient_at_the_most_explicit_address() -> None:
    both = audience(on(ADA, "Crew", chosen="ada@home.example"), on(ADA, "Pilots"))
    assert [(r.address, r.names, r.reasons) for r in both.recipients] == [
        ("ada@home.example", ["Ada"], ("Crew; address chosen for this list", "Pilots"))
    ]
    named = audience(on(ADA, "Crew", chosen="ada@home.example"), on(ADA, "named", explicit="ada@work.example"))
    assert [r.address for r in named.recipients] == ["ada@work.example"]
    differing = audience(on(ADA, "A", chosen="ada@home.example"), on(ADA, "B", chosen="ada@work.example"))
    assert [r.address for r in differing.recipients] == ["ada@home.example"]
    assert differing.notes == ["Ada gets it at ada@home.example (A); B uses ada@work.example"]


def test_two_who_share_an_address_get_one_message_that_names_both() -> None:
    shared = audience(on(BO, "Crew"), on(CY, "Crew"))
    assert [(r.address, r.names) for r in shared.recipients] == [("bo@x.example", ["Bo", "Cy"])]
    assert shared.people == 2 and shared.notes == ["Bo and Cy share bo@x.example, so they get one message for both"]


def test_opted_out_excluded_and_unreachable_people_are_left_out_with_the_reason() -> None:
    result = audience(
        on(ADA, "Crew"), on(BO, "Crew"), on(CY, "Crew"), on(NOBODY, "Crew"), on(GONE, "Crew"), people={1: BO}
    )
    assert [r.address for r in result.recipients] == ["ada@work.example"]
    assert {(o.name, o.reason) for o in result.left_out} == {
        ("Bo", "left out this time"),
        ("Cy", "left out this time, at an address of Bo"),
        ("Dee", "no address"),
        ("Eve", "opted out (asked on the phone)"),
    }
    assert set(result.guarded) >= {"ada@home.example", "ada@work.example", "bo@x.example", "eve@x.example"}


def test_nobody_gets_round_an_opt_out_by_another_address_or_by_also() -> None:
    stranger = person("Kit", "shared@x.example")
    result = audience(on(stranger, "added this time", explicit="shared@x.example", also=True))
    assert result.recipients == []
    assert result.left_out[0].reason == "shares this address with Eve, who opted out"
    assert result.guarded["eve@x.example"] == "Eve", "nor may her other address stand in the message"
    excluded = audience(on(ADA, "added this time", explicit="ada@home.example", also=True), people={0: ADA})
    assert excluded.recipients == [] and excluded.left_out[0].reason == "left out this time"
    by_address = audience(on(BO, "Crew"), addresses=frozenset({"bo@x.example"}))
    assert by_address.recipients == []


def test_also_comes_after_within() -> None:
    inside = ("Pilots", frozenset({0}))
    result = audience(on(ADA, "Crew"), on(BO, "Crew"), on(CY, "added this time", also=True), within=inside)
    assert [r.names for r in result.recipients] == [["Ada"], ["Cy"]]
    assert [(o.name, o.reason) for o in result.left_out] == [("Bo", "not on Pilots")]


@given(st.lists(st.integers(0, 4), max_size=12), st.sets(st.integers(0, 4)))
def test_the_audience_never_holds_anybody_twice_or_anybody_barred(picked: list[int], excluded: set[int]) -> None:
    result = audience(*(on(PEOPLE[n], "Crew") for n in picked), people={n: PEOPLE[n] for n in excluded})
    addresses = [r.address for r in result.recipients]
    barred = {a.address for n in excluded | {4} for a in PEOPLE[n].addresses}
    assert len(set(addresses)) == len(addresses) and not barred & set(addresses)
    named = {n for r in result.recipients for n in r.names} | {o.name for o in result.left_out}
    assert named >= {PEOPLE[n].name for n in picked}


@given(st.lists(st.integers(), unique=True), st.integers(1, 9))
def test_batches_hold_everybody_once_and_no_more_than_allowed(items: list[int], size: int) -> None:
    cut = list(batches(map(str, items), size))
    assert [x for batch in cut for x in batch] == [str(i) for i in items]
    assert all(0 < len(batch) <= size for batch in cut) and len(cut) == batch_count(len(items), size)


@pytest.mark.parametrize(
    ("code", "reply", "others", "about"),
    [
        (250, "2.1.5 ok", 0, "taken"),
        (252, "cannot tell", 0, "taken"),
        (550, "5.1.1 no such user", 0, "mailbox"),
        (550, "5.2.1 mailbox disabled", 0, "mailbox"),
        (550, "5.1.8 sender unknown", 0, "message"),
        (552, "5.2.2 mailbox full", 0, "message"),
        (550, "5.7.1 relaying denied", 3, "message"),
        (554, "no", 3, "message"),
        (550, "no such person", 0, "maybe"),
        (553, "what?", 3, "maybe"),
        (450, "4.7.1 greylisted", 3, "later"),
        (452, "4.5.3 too many", 3, "too many"),
        (452, "4.5.3 too many", 0, "later"),
        (552, "too many recipients", 3, "too many"),
        (452, "insufficient system storage", 3, "later"),
        (450, "4.7.1 Error: too many recipients from 127.0.0.1", 0, "later"),
        (354, "go on", 0, "nonsense"),
        (-1, "rubbish", 0, "nonsense"),
    ],
)
def test_what_an_answer_to_rcpt_is_about(code: int, reply: str, others: int, about: str) -> None:
    assert refusals.of_recipient(code, reply, others) == about


def test_answers_and_states() -> None:
    for counts, begun, expected in (
        ({}, False, "waiting"),
        ({"accepted": 2}, True, "sent"),
        ({"accepted": 1, "deferred": 1}, True, "sent in part"),
        ({"doubtful": 1}, True, "sent in part"),
        ({"deferred": 1, "waiting": 2, "refused": 1}, True, "not sent yet"),
        ({"refused": 3}, True, "refused"),
        ({"refused as a message": 3, "waiting": 2}, True, "refused as a message"),
        ({"refused as a message": 3, "accepted": 2}, True, "sent in part"),
    ):
        assert message_state(counts, False, begun) == expected
    assert message_state({}, True, False) == "held"


VALUES = st.one_of(st.none(), st.sampled_from(["a", "b", "c"]))
SETS = st.lists(st.sampled_from(["x", "y", "z"]), unique=True)
RECORDS = st.fixed_dictionaries({"name": VALUES, "org": VALUES, "labels": SETS})


@given(RECORDS, RECORDS, RECORDS)
def test_a_three_way_merge_keeps_both_sides_changes(base: dict, mine: dict, theirs: dict) -> None:  # type: ignore[type-arg]
    merged, clashes = merge(base, mine, theirs)
    for field in ("name", "org"):
        if mine[field] == base[field]:
            assert merged.get(field) == theirs[field]
        elif theirs[field] == base[field]:
            assert merged.get(field) == mine[field]
        else:
            assert (field in clashes) == (mine[field] != theirs[field])
    added = (set(mine["labels"]) | set(theirs["labels"])) - set(base["labels"])
    taken = set(base["labels"]) - (set(mine["labels"]) & set(theirs["labels"]))
    assert set(merged.get("labels") or []) == (set(base["labels"]) | added) - taken


def test_sets_of_pairs_merge_by_their_first_part() -> None:
    base = {"addresses": [["a@x", "work"], ["b@x", ""]]}
    mine = {"addresses": [["a@x", "home"], ["b@x", ""], ["c@x", ""]]}
    theirs = {"addresses": [["b@x", ""], ["a@x", "work"]]}
    assert merge(base, mine, theirs) == ({"addresses": [["a@x", "home"], ["b@x", ""], ["c@x", ""]]}, [])
    assert merge(base, base, theirs)[0] == theirs
    assert merge(base, mine, {"addresses": [["a@x", "other"], ["b@x", ""]]})[1] == ["addresses"]
