"""House lists over loopback: who may write, come and look; the way of a posting; coming and going; what comes back."""

from __future__ import annotations

import json
import re
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing
from itertools import product
from pathlib import Path
from typing import Any

import pytest
from conftest import Office
from faulty import AHEAD, Faulty
from houses import FORGED, HANDED_IN, OFFICIAL, OWN, House, house_in, link, posting, read, settled, vouched
from hubs import Person

KEEPER, EDITOR, STAFF = "maren@tidewick.example", "idris@tidewick.example", "oluchi@tidewick.example"
MEMBER, OUTSIDER = "cy@gull.example", "eve@kelp.example"
WRITERS, JOINING, LOOKING = (
    ("keepers", "members", "staff", "anyone"),
    ("closed", "asked", "staff", "anyone"),
    ("keepers", "members", "staff"),
)


@pytest.fixture
def house(office: Office) -> Iterator[House]:
    with house_in(office, ["--data", str(office.folder / "hub")]) as made:
        yield made


@pytest.fixture
def people(house: House) -> dict[str, Person]:
    names = {KEEPER: "Maren Holt", EDITOR: "Idris Kane", STAFF: "Oluchi Eze", MEMBER: "Cy Dale"}
    return {address: house.hub.person(address, name) for address, name in names.items() if address != MEMBER}


def test_who_may_write_as_the_table_says(house: House, people: dict[str, Person]) -> None:
    keeper = people[KEEPER]
    may = {
        "keepers": {KEEPER},
        "members": {KEEPER, MEMBER},
        "staff": {KEEPER, EDITOR, STAFF},
        "anyone": {KEEPER, EDITOR, STAFF, MEMBER, OUTSIDER},
    }
    callers = (KEEPER, EDITOR, STAFF, MEMBER, OUTSIDER)
    for number, (writers, otherwise) in enumerate(product(WRITERS, ("refuse", "hold"))):
        made = house.open(
            keeper, f"List {number}", f"list{number}", MEMBER, "bo@tidewick.example", writers=writers, otherwise=otherwise,
            outsiders=True, named="pass", pace=1000,
        )  # fmt: skip
        keeper.ask("PUT", f"api/lists/{made}/people/{EDITOR}", 200, json={"role": "editor"})
        people[EDITOR].ask("POST", f"api/lists/{made}/accept", 204)
        to = f"list{number}@{OWN}"
        for caller in callers:
            code, said = house.post(f"Somebody <{caller}>", to, head=vouched(caller.partition("@")[2]))
            if caller in may[writers]:
                assert (code, "Taken for 2" in said) == (250, True), (writers, caller, said)
            elif otherwise == "hold":
                assert (code, "Held" in said) == (250, True), (writers, caller, said)
            else:
                assert (code, said.startswith("5.7.1")) == (550, True), (writers, caller, said)
            # Whoever is not proven is never refused: the answer would go to somebody who wrote nothing.
            for head in (FORGED, "Authentication-Results: mx.kelp.example; auth=pass\r\n", vouched("other.example")):
                code, said = house.post(caller, to, head=head)
                assert (code, "Taken" in said) == (250, writers == "anyone"), (writers, caller, head, said)
        below = "Received: from kelp by mx\r\nX-Mine: 1\r\n" + HANDED_IN  # it came with the message
        assert ("Held" in house.post(KEEPER, to, head=below)[1]) == (writers != "anyone")
        other = f"Authentication-Results: mx.tidewick.example; auth=pass smtp.auth={OUTSIDER}\r\n"
        assert ("Held" in house.post(KEEPER, to, head=other)[1]) == (writers != "anyone")


def test_who_may_join_and_look_as_the_table_says(house: House, people: dict[str, Person]) -> None:
    keeper = people[KEEPER]
    expected = {"closed": "refused", "asked": "asked", "staff": "on", "anyone": "on"}
    for number, (joining, looking) in enumerate(product(JOINING, LOOKING)):
        made = house.open(
            keeper, f"List {number}", f"list{number}", "bo@tidewick.example", joining=joining, looking=looking
        )
        keeper.ask("PUT", f"api/lists/{made}/people/{EDITOR}", 200, json={"role": "editor"})
        people[EDITOR].ask("POST", f"api/lists/{made}/accept", 204)
        path = f"api/house/{made}"
        for caller in (keeper, people[EDITOR]):
            assert caller.ask("GET", f"{path}/members").status_code == 200
        seen = people[STAFF].ask("GET", f"{path}/members").status_code
        assert seen == (200 if looking == "staff" else 403), (looking, seen)
        answer = people[STAFF].ask("POST", f"{path}/join")
        state = answer.json().get("state", "refused") if answer.status_code != 403 else "refused"
        assert state == expected[joining], (joining, answer.text)
        if state == "on":
            now_member = people[STAFF].ask("GET", f"{path}/members").status_code
            assert now_member == (403 if looking == "keepers" else 200)
            people[STAFF].ask("POST", f"{path}/leave", 204)
        for verb, body in (("PATCH", {"writers": "anyone"}), ("DELETE", None)):
            assert people[STAFF].ask(verb, path, json=body).status_code == 404, "no part of the shared list"
            assert people[EDITOR].ask(verb, path, json=body).status_code == 403
        people[STAFF].ask("POST", f"{path}/add", 404, json={"people": [["x@tidewick.example", ""]]})
    # A list that is not listed does not exist for whoever has no part in it.
    hidden = house.open(keeper, "Hidden", "hidden", MEMBER, listed=False, looking="staff", outsiders=True)
    for path in (f"api/house/{hidden}", f"api/house/{hidden}/members"):
        assert people[STAFF].ask("GET", path).status_code == 404
    assert people[STAFF].ask("POST", f"api/house/{hidden}/join").status_code == 404
    assert hidden not in people[STAFF].ask("POST", "api/house/find", 200, json={"words": ""}).text


def test_each_member_gets_one_copy_of_their_own_and_nobody_s_address(house: House, people: dict[str, Person]) -> None:
    members = [f"m{n}@kelp.example" for n in range(30)]
    made = house.open(
        people[KEEPER], "Ferry crews", "ferry-crews", *members, writers="staff", outsiders=True, pace=1000
    )
    body = "The tide table: 30 %\r\n.a line that begins with a dot\r\n..two\r\n\r\nFrom here on\r\n\r\n"
    taken = {
        "Bcc": "hidden@kelp.example", "Return_Receipt_To": "ada@tidewick.example", "List_Id": "<other.example>",
        "Disposition_Notification_To": "ada@tidewick.example",
    }  # fmt: skip
    kept = "X-Odd:   spaces  kept \r\n\tand folded\r\nsubject: =?utf-8?q?Ebbe_und_Fl=C3=B6t?=\r\n"
    head = HANDED_IN + "Authentication-Results: mx.kelp.example; dkim=pass\r\n" + kept
    raw = posting("Ada Holm <ada@tidewick.example>", f"ferry-crews@{OWN}", body, head, **taken)
    (answer,) = house.hand_over(raw, f"ferry-crews@{OWN}")
    assert answer == (250, "2.0.0 Taken for 30 members")
    assert house.hand_over(raw, f"ferry-crews@{OWN}") == [(250, "2.0.0 It came before")]
    house.quiet()
    ways, ids = set(), set()
    for member in members:
        (copy,) = house.mail.copies(member)
        head_of, _, body_of = copy.partition(b"\r\n\r\n")
        assert body_of == body.encode(), "octet for octet"
        assert kept.encode() in head_of + b"\r\n" and b"mx.kelp.example" in head_of
        for gone in (b"hidden@", b"Receipt", b"Disposition", b"other.example", b"mx.tidewick.example"):
            assert gone not in head_of, gone
        message = read(copy)
        found = set(re.findall(r"[\w.+-]+@[\w.-]+", head_of.decode()))
        other = found & set(members)
        assert not other, other
        assert message["From"] == "Ada Holm <ada@tidewick.example>" or "by Ferry crews" in message["From"]
        assert message["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
        assert "ferry-crews.own.tidewick.example" in message["List-Id"] and "opened by Maren Holt" in message["List-Id"]
        ways.add(link(message, "leave"))
        ids.add(message["Message-ID"])
    assert len(ways) == 30 and len(ids) == 1
    senders = house.office.told("hub", "queue", *house.hub.where)
    assert [(one["accepted"], one["waiting"], one["refused"]) for one in senders] == [(30, 0, 0)]
    numbers = people[KEEPER].ask("GET", f"api/house/{made}/numbers", 200).json()
    assert numbers[0]["postings"] == 1 and numbers[0]["accepted"] == 30


def test_what_is_held_is_told_settled_and_comes_to_its_right_end(house: House, people: dict[str, Person]) -> None:
    keeper = people[KEEPER]
    office = house.office
    code = office.told("hub", "person", "add", KEEPER, *house.hub.where)["code"]
    office.run("hub", "connect", house.hub.url, "--as", KEEPER, "--code", code)
    house.open(
        keeper, "Pontoon C", "pontoon-c", "bo@tidewick.example", writers="staff", otherwise="hold", named="hold", pace=2,
        size=20_000,
    )  # fmt: skip
    to = f"pontoon-c@{OWN}"
    assert "Held" in house.post(f"Eve <{OUTSIDER}>", to, head=vouched("kelp.example"), Subject="Offer")[1]
    assert "Held" in house.post("ada@tidewick.example", to, text="x" * 30_000 + "\r\n")[1]
    assert "Taken" in house.post("ada@tidewick.example", to, text="Ask Bo: bo@tidewick.example\r\n", Subject="Names")[1]
    house.quiet()
    held = office.told("house", "held")
    assert [one["kind"] for one in held] == ["posting"] * 3 and set(held[0]) == {
        "number", "list", "kind", "from", "subject", "why", "since"
    }  # fmt: skip
    why = [one["why"] for one in held]
    assert why[0] == "the writer may not write to this list" and re.fullmatch(r"it has 30,\d+ octets", why[1])
    assert why[2].startswith("it shows the address of Bo (")
    assert not house.mail.copies("bo@tidewick.example")
    told = house.last(KEEPER)
    assert re.search(r": \d things? waits? for you", told["Subject"])
    assert told["Auto-Submitted"] == "auto-generated" and "house let NUMBER" in " ".join(told.get_content().split())
    assert "3 is let through. It goes to 1 member." in office.run("house", "let", str(held[2]["number"])).out
    assert read(house.come("bo@tidewick.example")[0])["Subject"] == "Names"
    office.run("house", "refuse", str(held[0]["number"]), "--why", "We do not buy")
    refused = house.last(OUTSIDER)
    assert "We do not buy" in refused.get_content() and "Offer" in refused.get_content()
    again = office.run("house", "let", str(held[0]["number"]), code=2)
    assert "perhaps another keeper has settled it" in again.err
    assert office.told("house", "held", "pontoon-c")[0]["number"] == held[1]["number"]
    for subject in ("One", "Two", "Three"):
        house.post("ada@tidewick.example", to, Subject=subject)
    assert office.told("house", "held")[-1]["why"] == "more than 2 postings within an hour"
    settled()
    assert len([m for m in house.mail.copies(KEEPER) if b"wait" in m]) == 1, "once an hour at most"
    asking = people[STAFF]
    (made,) = [one["id"] for one in keeper.ask("GET", "api/house", 200).json()["keep"]]
    keeper.ask("PATCH", f"api/house/{made}", 200, json={"joining": "asked"})
    assert asking.ask("POST", f"api/house/{made}/join", 200).json() == {"state": "asked"}
    wish = office.told("house", "held")[-1]
    assert (wish["kind"], wish["from"]) == ("request", STAFF)
    office.run("house", "let", str(wish["number"]))
    assert "you are on this list now" in house.last(STAFF)["Subject"]
    shown = {m["address"]: m for m in office.told("house", "members", "Pontoon C")}
    assert (shown[STAFF]["how"], shown[STAFF]["state"]) == ("asked", "on")
    assert set(shown[STAFF]) == {"address", "name", "since", "how", "role", "state"}


def test_coming_onto_a_list_and_leaving_it(house: House, people: dict[str, Person]) -> None:
    keeper = people[KEEPER]
    made = house.open(
        keeper, "Choir", "choir", "bo@tidewick.example", writers="members", outsiders=True, joining="anyone"
    )
    path = f"api/house/{made}"

    def state(address: str) -> str:
        return next(
            (m["state"] for m in keeper.ask("GET", f"{path}/members", 200).json() if m["address"] == address), ""
        )

    # Invited: nothing until they say yes, by the page or by an answer; a GET changes nothing.
    invited = keeper.ask(
        "POST", f"{path}/invite", 200, json={"people": [[OUTSIDER, "Eve"], ["ann@gull.example", ""]]}
    ).json()
    assert [one["state"] for one in invited] == ["invited", "invited"] and state(OUTSIDER) == "invited"
    again = keeper.ask("POST", f"{path}/invite", 200, json={"people": [[OUTSIDER, "Eve"]]}).json()
    assert again[0]["state"] == "invited already"
    message = house.last(OUTSIDER)
    yes = link(message, "yes")
    for _ in range(2):
        page = house.page("GET", yes)
        assert (
            page.status_code == 200
            and "<button" in page.text
            and "<script" not in page.text
            and state(OUTSIDER) == "invited"
        )
        assert "default-src 'none'" in page.headers["content-security-policy"]
    assert "You are on the list" in house.page("POST", yes).text and state(OUTSIDER) == "on"
    answer = posting("ann@gull.example", f"join+x@{OWN}", "yes please\r\n\r\n> text\r\n", FORGED)
    assert house.hand_over(answer, str(house.last("ann@gull.example")["Reply-To"])) == [(250, "2.0.0 Done")]
    assert state("ann@gull.example") == "on"
    # One click (RFC 8058), a mail, the page: each leads out, with no signing in; again and for ever the same.
    house.post("Bo <bo@tidewick.example>", f"choir@{OWN}")
    copies = {
        one: house.last(one, 3 if one != "bo@tidewick.example" else 1)
        for one in (OUTSIDER, "ann@gull.example", "bo@tidewick.example")
    }
    out = link(copies[OUTSIDER], "leave")
    assert "Take me off" in house.page("GET", out).text and state(OUTSIDER) == "on"
    for _ in range(2):
        assert "You are not on the list" in house.page("POST", out).text and state(OUTSIDER) == "off"
    mailto = re.search(rf"<mailto:(leave\+[0-9a-f]+@{OWN})", copies["ann@gull.example"]["List-Unsubscribe"])
    assert mailto
    assert house.hand_over(posting("ann@gull.example", mailto[1], "", FORGED), mailto[1]) == [(250, "2.0.0 Done")]
    assert state("ann@gull.example") == "off"
    wrong = f"leave+{'0' * 32}@{OWN}"
    assert house.hand_over(posting("ann@gull.example", wrong, "", FORGED), wrong) == [(250, "2.0.0 Done")], "all alike"
    assert house.page("GET", "house/leave/" + "0" * 32).status_code == 404
    # Who left by themselves is not put on again without being asked.
    added = keeper.ask(
        "POST", f"{path}/add", 200, json={"people": [[OUTSIDER, "Eve"], ["new@tidewick.example", "New"]]}
    ).json()
    assert added[0]["state"] == "refused" and "invite them" in added[0]["why"] and added[1]["state"] == "added"
    told = house.last("new@tidewick.example")
    assert "Maren Holt" in told.get_content() and link(told, "leave")
    # By mail to the list's address for requests, confirmed by a token to the address itself.
    wish = posting("Ida <ida@gull.example>", f"choir-request@{OWN}", "", FORGED, Subject="join")
    assert house.hand_over(wish, f"choir-request@{OWN}") == [(250, "2.0.0 Done")]
    assert state("ida@gull.example") == ""
    assert "You are on" in house.page("POST", link(house.last("ida@gull.example"), "yes")).text
    assert state("ida@gull.example") == "on"
    house.hand_over(
        posting("ida@gull.example", f"choir-request@{OWN}", "", FORGED, Subject="leave"), f"choir-request@{OWN}"
    )
    assert "You are not on" in house.page("POST", link(house.last("ida@gull.example", 3), "leave")).text
    for _ in range(3):
        house.hand_over(posting("pat@gull.example", f"choir-request@{OWN}", "help\r\n", FORGED), f"choir-request@{OWN}")
    house.hand_over(posting("pat@gull.example", f"choir-request@{OWN}", "help\r\n", FORGED), f"choir-request@{OWN}")
    house.come("pat@gull.example", 3)
    settled()
    assert len(house.mail.copies("pat@gull.example")) == 3, "three answers a day, to whoever asks in another's name"
    # Closed to outsiders: refused in every way in, and not without a word on those who are on it.
    keeper.ask("POST", f"{path}/add", 200, json={"people": [["out@gull.example", ""]]})
    assert "1 person on it is an outsider" in keeper.ask("PATCH", path, 409, json={"outsiders": False}).text
    keeper.ask("PATCH", path, 200, json={"outsiders": False, "outside": "remove"})
    for verb in ("add", "invite"):
        answer_doc = keeper.ask("POST", f"{path}/{verb}", 200, json={"people": [["x@gull.example", ""]]}).json()
        assert "outsider" in answer_doc[0]["why"]


def test_whom_a_colleague_puts_on_the_shared_list_is_told_and_no_outsider_comes_in_by_that(
    house: House, people: dict[str, Person]
) -> None:
    keeper = people[KEEPER]
    made = keeper.new_list("Crew")
    mine = "BEGIN:VCARD\r\nVERSION:4.0\r\nUID:{0}\r\nFN:{0}\r\nEMAIL:{0}@{1}\r\nEND:VCARD\r\n"
    keeper.put(made, "eve", data=mine.format("eve", "kelp.example"))
    assert (
        "1 person on it is an outsider: eve@kelp.example"
        in keeper.ask("POST", f"api/house/{made}", 409, json={"at": "crew"}).text
    )
    keeper.ask("POST", f"api/house/{made}", 201, json={"at": "crew", "writers": "staff", "outside": "keep"})
    keeper.put(made, "bo", data=mine.format("bo", "tidewick.example"))
    keeper.put(made, "out", data=mine.format("out", "gull.example"))
    keeper.put(made, "nowhere", data="BEGIN:VCARD\r\nVERSION:4.0\r\nUID:nowhere\r\nFN:Nobody\r\nEND:VCARD\r\n")
    words = keeper.ask("GET", f"api/house/{made}", 200).json()["words"]
    assert words[-2:] == [
        "1 person on it has no address, and cannot be reached.", "1 person on the shared list is an outsider, and gets nothing."
    ]  # fmt: skip
    assert "Taken for 2" in house.post("ada@tidewick.example", f"crew@{OWN}")[1]
    told = house.last("bo@tidewick.example", 2)
    house.quiet()
    assert not house.mail.copies("out@gull.example") and len(house.mail.copies("eve@kelp.example")) == 1, (
        "nobody told her"
    )
    assert any("Maren Holt" in read(one).get_content() for one in house.mail.copies("bo@tidewick.example")), told
    # Who has left is not put on again by a card; who says yes is, and has one card.
    house.page("POST", link(house.last("bo@tidewick.example", 2), "leave"))
    keeper.put(made, "bo2", data=mine.format("bo", "tidewick.example").replace("UID:bo", "UID:bo2"))
    words = keeper.ask("GET", f"api/house/{made}", 200).json()["words"]
    assert words[-1] == "1 person on the shared list has left or was taken off, and gets nothing."
    keeper.ask("PATCH", f"api/house/{made}", 200, json={"outsiders": True})
    assert "Taken for 2" in house.post("ada@tidewick.example", f"crew@{OWN}")[1]
    keeper.ask("POST", f"api/house/{made}/invite", 200, json={"people": [["bo@tidewick.example", "Bo"]]})
    house.quiet()
    house.page("POST", link(house.last("bo@tidewick.example", 3), "yes"))
    cards = keeper.ask("POST", f"api/lists/{made}/changes", 200, json={"since": ""}).json()["cards"]
    assert sum("bo@tidewick.example" in (card[2] or "") for card in cards) == 1
    assert "Taken for 3" in house.post("ada@tidewick.example", f"crew@{OWN}")[1]


def test_a_keeper_puts_on_so_many_a_day_and_then_is_told_when_it_goes_on(office: Office) -> None:
    with house_in(office, ["--data", str(office.folder / "hub")], "--most-put-on", "3") as house:
        keeper = house.hub.person(KEEPER, "Maren Holt")
        made = house.open(keeper, "Choir", "choir")
        people = [[f"n{n}@tidewick.example", ""] for n in range(5)]
        done = keeper.ask("POST", f"api/house/{made}/add", 200, json={"people": people}).json()
        assert [one["state"] for one in done] == ["added"] * 3 + ["refused"] * 2
        assert re.search(r"not more than 3 in a day; it goes on at \d{4}-\d\d-\d\d \d\d:\d\d", done[3]["why"])


REPORT = """From: MAILER-DAEMON@kelp.example
To: {to}
Subject: Undelivered Mail Returned to Sender
Auto-Submitted: auto-replied
MIME-Version: 1.0
Content-Type: multipart/report; report-type={kind}; boundary="b"

--b
Content-Type: text/plain

It did not work.
--b
Content-Type: message/{part}

{fields}

--b--
"""


def report(to: str, action: str, status: str, said: str) -> bytes:
    fields = (
        f"Reporting-MTA: dns; kelp.example\n\nFinal-Recipient: rfc822; x@kelp.example\nAction: {action}\n"
        f"Status: {status}\nDiagnostic-Code: smtp; {said}"
    )
    text = REPORT.format(to=to, kind="delivery-status", part="delivery-status", fields=fields)
    return text.replace("\n", "\r\n").encode()


def test_what_comes_back_stops_at_the_hub_and_pauses_whose_mailbox_is_gone(
    house: House, people: dict[str, Person]
) -> None:
    keeper = people[KEEPER]
    members = ["gone@kelp.example", "full@kelp.example", "away@kelp.example", "cross@kelp.example"]
    made = house.open(keeper, "Crew", "crew", *members, writers="staff", outsiders=True)
    house.post("ada@tidewick.example", f"crew@{OWN}")
    house.quiet()
    db = house.office.folder / "hub" / "hub.sqlite"

    def returns(address: str) -> str:
        import sqlite3
        from contextlib import closing

        with closing(sqlite3.connect(db)) as read_only:
            found = read_only.execute(
                "SELECT token FROM house_copy WHERE address = ? ORDER BY id DESC", (address,)
            ).fetchone()
        return f"bounce+{found[0]}@{OWN}"

    def state(address: str) -> Any:
        return next(m for m in keeper.ask("GET", f"api/house/{made}/members", 200).json() if m["address"] == address)[
            "state"
        ]

    def back(address: str, raw: bytes) -> None:
        to = returns(address)
        assert house.hand_over(raw.replace(b"TO", to.encode()), to, sender="") == [(250, "2.0.0 Done")]

    back("gone@kelp.example", report("TO", "failed", "5.1.1", "550 5.1.1 no such user"))
    back("full@kelp.example", report("TO", "failed", "5.2.2", "552 5.2.2 mailbox full"))
    for _ in range(4):
        back("full@kelp.example", report("TO", "delayed", "4.2.2", "452 4.2.2 not yet"))
    vacation = posting("away@kelp.example", "TO", "I am away until Monday.\r\n", FORGED, Auto_Submitted="auto-replied")
    back("away@kelp.example", vacation)
    feedback = REPORT.format(
        to="TO", kind="feedback-report", part="feedback-report", fields="Feedback-Type: abuse\nVersion: 1"
    )
    back("cross@kelp.example", feedback.replace("\n", "\r\n").encode())
    nobody = f"bounce+{'f' * 32}@{OWN}"
    assert house.hand_over(report(nobody, "failed", "5.1.1", "gone"), nobody, sender="") == [(250, "2.0.0 Done")]
    assert [state(one) for one in members] == ["paused", "on", "on", "off"]
    told = house.last(KEEPER)
    assert "gone@kelp.example" in " ".join(told.get_content().split()) and "no such user" in " ".join(
        told.get_content().split()
    )
    # A report to the list itself goes nowhere.
    assert (
        "Not passed on"
        in house.hand_over(report(f"crew@{OWN}", "failed", "5.1.1", "x"), f"crew@{OWN}", sender="")[0][1]
    )
    house.post("ada@tidewick.example", f"crew@{OWN}", Subject="Second")
    house.quiet()
    assert [len(house.mail.copies(one)) for one in members] == [1, 2, 2, 1]
    # Back by a keeper; and by one click of the member's own.
    assert (
        keeper.ask("POST", f"api/house/{made}/add", 200, json={"people": [[members[0], ""]]}).json()[0]["state"]
        == "taken up again"
    )
    back("gone@kelp.example", report("TO", "failed", "5.1.1", "550 5.1.1 no such user"))
    assert state(members[0]) == "paused"
    out = link(read(house.mail.copies(members[0])[0]), "leave")
    assert "Does mail reach you again" in house.page("GET", out.replace("leave", "yes")).text
    assert "You are on the list" in house.page("POST", out.replace("leave", "yes")).text and state(members[0]) == "on"


BAD: list[tuple[str, bytes, str, str]] = [
    ("no From", b"Subject: x\r\n\r\nText\r\n", "x@kelp.example", "250 2.0.0 Held"),
    ("two From", b"From: a@tidewick.example\r\nFrom: b@tidewick.example\r\n\r\nText\r\n", "x@kelp.example", "250 2.0.0 Held"),
    ("two addresses", HANDED_IN.encode() + b"From: a@tidewick.example, b@tidewick.example\r\n\r\nT\r\n", "x@kelp.example", "250 2.0.0 Held"),
    ("a group", HANDED_IN.encode() + b"From: Crew: a@tidewick.example;\r\n\r\nText\r\n", "x@kelp.example", "250 2.0.0 Held"),
    ("NUL", b"From: a@tidewick.example\r\n\r\nTe\0xt\r\n", "x@kelp.example", "554 5.6.0"),
    ("a bare LF", b"From: a@tidewick.example\r\n\r\nText\n.\nMAIL FROM:<x@y.example>\r\n", "x@kelp.example", "554 5.6.0"),
    ("a bare CR", b"From: a@tidewick.example\r\n\r\nText\r.\r\r\n", "x@kelp.example", "554 5.6.0"),
    ("a large header", b"From: a@tidewick.example\r\n" + b"X-A: " + b"y" * 900 + b"\r\n " + (b"z" * 900 + b"\r\n ") * 1200 + b"\r\n\r\nT\r\n", "x@kelp.example", "554 5.6.0"),
    ("600 fields", b"From: a@tidewick.example\r\n" + b"X-A: 1\r\n" * 600 + b"\r\nT\r\n", "x@kelp.example", "554 5.6.0"),
    ("a line without end", b"From: a@tidewick.example\r\n\r\n" + b"x" * 300_000 + b"\r\n", "x@kelp.example", "554 5.6.0"),
    ("no header", b"just text\r\n", "x@kelp.example", "554 5.6.0"),
    ("too large", b"From: a@tidewick.example\r\n\r\n" + (b"x" * 76 + b"\r\n") * 30_000, "x@kelp.example", "552 5.3.4"),
    ("a null sender", posting("a@tidewick.example", "crew"), "", "250 2.0.0 Not passed on"),
    ("of a program", posting("a@tidewick.example", "crew", Auto_Submitted="auto-generated"), "x@kelp.example", "250 2.0.0 Not passed on"),
    ("bulk", posting("a@tidewick.example", "crew", Precedence="bulk"), "x@kelp.example", "250 2.0.0 Not passed on"),
    ("in circles", posting("a@tidewick.example", "crew", List_Id=f"Crew <crew.{OWN}>"), "x@kelp.example", "250 2.0.0 Not passed on"),
    ("31 hops", posting("a@tidewick.example", "crew", head=HANDED_IN + "Received: by mx\r\n" * 31), "x@kelp.example", "250 2.0.0 Not passed on"),
    ("from a list", posting(f"other@{OWN}", "crew"), "x@kelp.example", "250 2.0.0 Not passed on"),
    ("sent by a list", posting("a@tidewick.example", "crew"), f"bounce+1@{OWN}", "250 2.0.0 Not passed on"),
    ("8 bits without a word", HANDED_IN.encode() + b"From: a@tidewick.example\r\nSubject: b\xe4d\r\n\r\n\xff\xfe caf\xe9\r\n", "x@kelp.example", "250 2.0.0 Taken"),
    ("10,000 parts", HANDED_IN.encode() + b'From: a@tidewick.example\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary="b"\r\n\r\n' + b"--b\r\n\r\nx\r\n" * 10_000 + b"--b--\r\n", "x@kelp.example", "250 2.0.0 Taken"),
    ("SMTPUTF8", HANDED_IN.encode() + "From: Zoë <zoë@tidewick.example>\r\nSubject: Ebbe\r\n\r\nFlöt\r\n".encode(), "x@kelp.example", "250 2.0.0 Taken"),
]  # fmt: skip


def test_bad_input_has_its_right_answer_and_the_hub_goes_on(office: Office) -> None:
    with house_in(office, ["--data", str(office.folder / "hub")], "--most-mail", "2000000") as house:
        keeper = house.hub.person(KEEPER, "Maren Holt")
        house.open(keeper, "Crew", "crew", "bo@tidewick.example", writers="staff", pace=1000, named="hold")
        for name, raw, sender, answer in BAD:
            code, said = house.hand_over(raw, f"crew@{OWN}", sender=sender)[0]
            assert f"{code} {said}".startswith(answer), (name, code, said[:200])
        # One answer for each recipient, whatever the others get (RFC 2033 section 4.2).
        several = [
            f"crew@{OWN}",
            f"nobody@{OWN}",
            "x@elsewhere.example",
            f"crew-request@{OWN}",
            f"leave+{'0' * 32}@{OWN}",
        ]
        answers = house.hand_over(posting("ada@tidewick.example", "crew", Subject="help"), *several)
        assert [code for code, _ in answers] == [250, 550, 550, 250, 250]
        house.quiet()
        subjects = [read(one)["Subject"] for one in house.mail.copies("bo@tidewick.example")]
        assert "help" in subjects and len(subjects) >= 3, subjects


def test_two_lists_on_each_other_do_not_write_in_circles(house: House, people: dict[str, Person]) -> None:
    for one, other in (("one", "two"), ("two", "one")):
        house.open(
            people[KEEPER], one, one, f"{other}@{OWN}", f"bo-{one}@tidewick.example", writers="anyone", outsiders=True
        )
    house.post("ada@tidewick.example", f"one@{OWN}")
    (copy,) = house.come(f"two@{OWN}")
    answers = house.hand_over(copy, f"two@{OWN}", sender=f"bounce+1@{OWN}")
    answers += house.hand_over(copy, f"two@{OWN}")
    assert all("Not passed on" in said for _, said in answers)


def test_from_becomes_the_list_where_mail_under_the_writer_s_name_would_not_arrive(office: Office) -> None:
    from test_setup import names

    records = {
        ("_dmarc.strict.example", "TXT"): ['"v=DMARC1; p=reject"'],
        ("_dmarc.sub.lax.example", "TXT"): [],
        ("_dmarc.lax.example", "TXT"): ['"v=DMARC1; p=reject; sp=none"'],
    }
    with names(records) as place:
        office.environment["BARNACLE_DNS"] = place
        with house_in(office, ["--data", str(office.folder / "hub")]) as house:
            keeper = house.hub.person(KEEPER, "Maren Holt")
            house.open(keeper, "Ferry crews", "crews", "bo@tidewick.example", writers="anyone")
            signed = "Authentication-Results: mx.tidewick.example; dkim=pass header.d=strict.example\r\n"
            seen = []
            for number, (writer, head) in enumerate(
                (("Ada Holm <ada@strict.example>", FORGED), ("ada@strict.example", signed), ("ada@sub.lax.example", FORGED)), 1
            ):  # fmt: skip
                house.post(writer, f"crews@{OWN}", head=head, Subject=f"n{number}")
                seen.append(house.last("bo@tidewick.example", number))
        assert (
            seen[0]["From"] == f'"Ada Holm by Ferry crews" <crews@{OWN}>'
            or seen[0]["From"] == f"Ada Holm by Ferry crews <crews@{OWN}>"
        )
        assert seen[0]["Reply-To"] == "Ada Holm <ada@strict.example>"
        assert [m["From"] for m in seen[1:]] == ["ada@strict.example", "ada@sub.lax.example"]


def test_the_commands_of_keepers_members_and_whoever_runs_the_hub(house: House, people: dict[str, Person]) -> None:
    office = house.office
    code = office.told("hub", "person", "add", KEEPER, *house.hub.where)["code"]
    office.run("hub", "connect", house.hub.url, "--as", KEEPER, "--code", code)
    office.run("contact", "add", "Bo Lund <bo@tidewick.example>", "--into", "Ferry crews")
    opened = office.run(
        "house", "open", "Ferry crews", "--at", "Ferry-Crews", "--writers", "staff", "--outsiders", "yes"
    )
    assert (
        f"ferry-crews@{OWN}" in opened.out
        and "Anybody of the staff may write to it; others are turned away." in opened.out
    )
    taken = office.run("house", "open", "Ferry crews", "--at", "other", code=2)
    assert f"has an address already: ferry-crews@{OWN}" in taken.err
    for bad in ("root", "choir-request", "a b", "ü"):
        office.run("list", "new", f"L {bad}")
        office.run("house", "open", f"L {bad}", "--at", bad, code=2)
    keep = office.told("house")
    assert set(keep) == {"keep", "on"} and set(keep["keep"][0]) == {
        "title", "address", "official", "writers", "joining", "looking", "outsiders", "listed", "members", "postings", "held"
    }  # fmt: skip
    assert "ferry-crews" in office.run("list", "show", "Ferry crews").out
    shown = office.told("list", "show", "Ferry crews")["shared"]["house"]
    assert shown[0] == f"ferry-crews@{OWN}"
    added = office.run("house", "add", "ferry-crews", "Ada Brine <ada@tidewick.example>", OUTSIDER)
    assert "added" in added.out
    office.run("sync")
    assert sorted(office.members("Ferry crews")) == ["Ada Brine", "Bo Lund", OUTSIDER]
    # What whoever keeps it can do, a member can: come onto it, and go.
    assert "Only its keepers put people on it" in office.run("house", "rules", "Ferry crews").out
    said = office.run("house", "rules", "ferry-crews", "--joining", "staff").out
    assert said.startswith("Ferry crews ") and "Anybody of the staff may join" in said
    assert f"What is written to ferry-crews@{OWN} reaches you." in office.run("house", "join", "Ferry crews").out
    assert [one["title"] for one in office.told("house")["on"]] == ["Ferry crews"]
    assert "You are not on Ferry crews any more." in office.run("house", "leave", "ferry-crews").out
    assert "You are not on that list" in office.run("house", "leave", "Ferry", code=2).err
    assert office.told("house")["on"] == []
    left = next(one for one in office.told("house", "members", "Ferry crews") if one["address"] == KEEPER)
    assert left["state"] == "off"
    # --post writes to the address, and changes nobody else's way of writing to the list blind.
    office.within("settings", "mail.server", house.mail.url)
    composed = office.run("compose", "Ferry", "crews", "--post", "--subject", "Hello", "--text", "Tides")
    assert "For 1 person" in composed.out
    office.run("send", "m1", "--yes")
    assert read(house.come(f"ferry-crews@{OWN}")[0])["To"] == f"ferry-crews@{OWN}"
    # Official: told apart by address, and the one it had still works.
    official = office.run("hub", "house", "official", f"ferry-crews@{OWN}", *house.hub.where)
    assert f"ferry-crews@{OFFICIAL}" in official.out
    for to in (f"ferry-crews@{OWN}", f"ferry-crews@{OFFICIAL}"):
        assert house.post("ada@tidewick.example", to)[0] == 250
    copy = house.last("bo@tidewick.example", 2)
    assert copy["List-Id"] == f'"Ferry crews" <ferry-crews.{OFFICIAL}>' or "opened by" not in copy["List-Id"]
    assert office.told("house", "find", "ferry")[0]["official"] is True
    every = office.told("hub", "house", *house.hub.where)
    assert [(one["title"], one["keepers"]) for one in every] == [("Ferry crews", [KEEPER])]
    house.quiet()
    queue = office.told("hub", "queue", *house.hub.where)
    assert {"list", "from", "since", "waiting", "accepted", "refused", "deferred", "doubtful"} <= set(queue[0])
    assert "Nothing waits." in office.run("hub", "queue", *house.hub.where).out
    numbers = office.told("house", "numbers", "ferry-crews")
    assert numbers[0]["postings"] == 2 and "Postings" in office.run("house", "numbers", "ferry-crews").out
    # Closed: no mail, and nobody else gets the address.
    asked = office.run("house", "close", "Ferry", code=2).err
    assert f"Close ferry-crews@{OFFICIAL}, the address of Ferry crews, for good?" in asked and "--yes" in asked
    assert "There is no house list" in office.run("house", "close", "Tides", code=2).err
    office.run("house", "close", "ferry-crews", "--yes")
    assert [code for code, _ in house.hand_over(posting("ada@tidewick.example", "x"), f"ferry-crews@{OFFICIAL}")] == [
        550
    ]
    assert house.hand_over(posting("ada@tidewick.example", "x"), f"ferry-crews@{OWN}")[0][1].startswith("5.1.6")
    office.run("list", "new", "Others")
    assert "belongs to a list, or once did" in office.run("house", "open", "Others", "--at", "ferry-crews", code=2).err
    assert "Others is not shared" in office.run("share", "who", "Others", code=2).err, (
        "what was refused left nothing there"
    )
    assert json.loads(office.run("--json", "house").out) == {"keep": [], "on": []}
    assert "Ferry crews" in office.run("list").out, "the shared list stays"


def test_what_time_brings(house: House, people: dict[str, Person]) -> None:
    office, keeper, to = house.office, people[KEEPER], f"choir@{OWN}"
    made = house.open(
        keeper, "Choir", "choir", "bo@tidewick.example", "cy@tidewick.example", writers="staff", otherwise="hold",
        joining="asked",
    )  # fmt: skip
    path = f"api/house/{made}"
    assert house.post("ada@tidewick.example", to)[0] == 250
    house.come("cy@tidewick.example")
    house.post(OUTSIDER, to, head=vouched("kelp.example"), Subject="Offer")
    people[STAFF].ask("POST", f"{path}/join", 200)
    keeper.ask("POST", f"{path}/invite", 200, json={"people": [["ada@tidewick.example", "Ada"]]})
    house.quiet()
    numbers = keeper.ask("GET", f"{path}/numbers", 200).json()
    house.hub.stop()
    day = 86_400
    data = office.folder / "hub" / "hub.sqlite"
    with closing(sqlite3.connect(data)) as db, db:
        db.execute("UPDATE posting SET ended = ended - ?", (4 * day,))
        db.execute("UPDATE house_held SET since = since - ?", (15 * day,))
        db.execute("UPDATE house_member SET until = until - ?", (15 * day,))
        since = (time.time() - 31 * day,)
        db.execute("UPDATE house_member SET state = 'paused', reported = 1, asked = ? WHERE address LIKE 'cy@%'", since)
    house.hub.start()
    told = house.last(OUTSIDER)
    assert "No keeper of the list settled it within 14 days." in " ".join(told.get_content().split())
    asked = house.last("cy@tidewick.example", 2)
    assert "does mail reach you again?" in asked["Subject"]
    house.quiet()
    assert keeper.ask("GET", "api/house/held", 200).json() == []
    state = {m["address"]: m["state"] for m in keeper.ask("GET", f"{path}/members", 200).json()}
    assert state == {"bo@tidewick.example": "on", "cy@tidewick.example": "paused", STAFF: "off"}, state
    after = keeper.ask("GET", f"{path}/numbers", 200).json()
    assert after == numbers and "accepted" in str(numbers)
    with closing(sqlite3.connect(data)) as db:
        assert db.execute("SELECT count(*) FROM posting WHERE subject = 'Tides'").fetchone() == (0,), (
            "counted, not kept"
        )
    assert house.page("POST", link(asked, "yes")).status_code == 200
    state = {m["address"]: m["state"] for m in keeper.ask("GET", f"{path}/members", 200).json()}
    assert state["cy@tidewick.example"] == "on"


def test_the_door_is_on_this_machine_alone(office: Office) -> None:
    base = ["hub", "serve", "--data", str(office.folder / "hub"), "--mail", "smtp://127.0.0.1:1", "--own-domain", OWN]
    url = ["--public-url", "https://lists.tidewick.example/"]
    beyond = office.run(*base, *url, "--lmtp", "0.0.0.0:2424", code=2)
    assert "on this machine alone" in beyond.err
    assert "--public-url" in office.run(*base, "--lmtp", "127.0.0.1:0", code=2).err
    assert Path(office.folder / "hub").exists()


def test_what_waited_when_a_backup_was_made_is_not_sent_again_by_itself(
    house: House, people: dict[str, Person]
) -> None:
    office, where = house.office, house.hub.where
    house.open(people[KEEPER], "Crew", "crew", "bo@kelp.example", writers="staff", outsiders=True)
    house.mail.process.send_signal(19)  # SIGSTOP: the mail server does not answer just now
    house.post("ada@tidewick.example", f"crew@{OWN}")
    office.run("hub", "backup", "b.sqlite", *where)
    house.mail.process.send_signal(18)
    house.come("bo@kelp.example")
    house.page("POST", link(house.last("bo@kelp.example"), "leave"))
    house.hub.stop()
    done = office.told("hub", "restore", "b.sqlite", "--over", *where)
    assert (
        "which they have left" in done["ended"][0]
        and done["doubtful"] == 1
        and not list(office.folder.glob("b.sqlite?*"))
    )
    house.hub.start()
    settled(2)
    (one,) = office.told("hub", "queue", *where)
    assert (one["doubtful"], one["waiting"]) == (1, 0) and "backup" in one["why"]
    assert "Taken for 0" in house.post("ada@tidewick.example", f"crew@{OWN}", Subject="After")[1]
    assert len(house.mail.copies("bo@kelp.example")) == 1


def test_copies_that_wait_with_the_first_one_are_not_asked_about(office: Office) -> None:
    server = Faulty({"MAIL": ["451 busy"], **AHEAD})
    house = House(office, server, ["--data", str(office.folder / "hub")])  # type: ignore[arg-type]  # its url is enough
    members = [f"m{n}@kelp.example" for n in range(10)]
    house.open(house.hub.person(KEEPER, "Maren Holt"), "Crew", "crew", *members, writers="staff", outsiders=True)
    before = len(server.lines)
    house.post("ada@tidewick.example", f"crew@{OWN}")
    house.quiet()
    rows = office.told("hub", "queue", *house.hub.where)
    assert [row["deferred"] for row in rows if row["deferred"] >= len(members)] == [10]
    assert sum(line.startswith("MAIL") for line in server.lines[before:]) <= 3
    house.hub.stop()
    server.stop()


def test_a_mail_server_that_takes_so_many_over_one_line_gets_the_other_copies_over_new_ones(office: Office) -> None:
    server = Faulty({}, a_line=3, enough="452 4.5.3 Too many messages sent")
    house = House(office, server, ["--data", str(office.folder / "hub")])  # type: ignore[arg-type]  # its url is enough
    members = [f"m{n}@kelp.example" for n in range(10)]
    house.open(house.hub.person(KEEPER, "Maren Holt"), "Crew", "crew", *members, writers="staff", outsiders=True)
    house.post("ada@tidewick.example", f"crew@{OWN}")
    house.quiet()
    assert sorted(one for (one,), _ in server.messages if one in members) == members
    house.hub.stop()
    server.stop()
