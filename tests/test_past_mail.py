"""Past mail through the installed program: gathering people, delivery reports, opt-out replies, and giving lists out."""

from __future__ import annotations

import base64
import csv
import json
from collections.abc import Callable
from pathlib import Path

import pexpect
import pytest
from conftest import HANGS, PROGRAM, Mail, Office


def message(sender: str, to: str, date: str, more: str = "", body: str = "Hello\n") -> str:
    return f"From: {sender}\nTo: {to}\n{more}Date: {date}\nSubject: Keys\n\n{body}"


def mbox(*messages: str) -> str:
    return "".join(f"From x Mon Jan  5 10:00:00 2026\n{m}\n" for m in messages)


def report(address: str, action: str, status: str, date: str, why: str = "550 no such user", of: str = "") -> str:
    """A delivery report (RFC 3464) that returns the head of a message of ours."""
    returned = f"--b\nContent-Type: text/rfc822-headers\n\nMessage-ID: {of}\nSubject: Slipway\n" if of else ""
    return (
        f"From: Mail <MAILER-DAEMON@kelp.example>\nTo: maren@tidewick.example\nDate: {date}\nAuto-Submitted: auto-replied\n"
        'Subject: Undelivered\nMIME-Version: 1.0\nContent-Type: multipart/report; report-type=delivery-status; boundary="b"\n\n'
        "--b\nContent-Type: text/plain\n\nIt could not be delivered.\n--b\nContent-Type: message/delivery-status\n\n"
        f"Reporting-MTA: dns; kelp.example\n\nFinal-Recipient: rfc822; {address}\nAction: {action}\nStatus: {status}\n"
        f"Diagnostic-Code: smtp; {why}\n\n{returned}\n--b--\n"
    )


ME = "Maren Holt <maren@tidewick.example>"
MAIL = mbox(
    message(ME, '"Brine, Ada" <ada@kelp.example>, bo@tidewick.example', "Mon, 5 Jan 2026 10:00:00 +0000"),
    message(
        ME,
        "Ada Brine <ADA@kelp.example>",
        "Tue, 6 Jan 2026 10:00:00 +0000",
        "Cc: =?utf-8?q?Zo=C3=AB?= <zoe@kelp.example>\n",
    ),
    message("Ada B <ada@kelp.example>", ME, "Wed, 7 Jan 2026 10:00:00 +0000", "List-Id: <lists.ada.kelp.example>\n"),
    message("News <news@gull.example>", ME, "Wed, 7 Jan 2026 11:00:00 +0000", "List-Id: <news.gull.example>\n"),
    message("no-reply@gull.example", ME, "Wed, 7 Jan 2026 12:00:00 +0000"),
    message("Cy Dale <cy@kelp.example>", f"{ME}, stranger@gull.example", "Thu, 1 Jan 2015 10:00:00 +0000"),
    "broken\n",
)


def test_gather_counts_everybody_one_wrote_to_or_heard_from(crew: Office) -> None:
    crew.file("sent", MAIL)
    found = crew.json("gather", "sent")
    assert [(p["address"], p["name"], p["sent"], p["heard"], p["last"][:10], p["known"]) for p in found["people"]] == [
        ("ada@kelp.example", "Ada Brine", 2, 1, "2026-01-07", None),
        ("zoe@kelp.example", "Zoë", 1, 0, "2026-01-06", None),
        ("bo@tidewick.example", "", 1, 0, "2026-01-05", "Bo Lund"),
        ("cy@kelp.example", "Cy Dale", 0, 1, "2015-01-01", None),
    ]
    assert found["people"][0]["names"] == {"Ada Brine": 2, "Ada B": 1}
    ran = crew.run("gather", "sent", "--since", "2016-01-01")
    assert len(ran.rows) == 3 and "2 mailing lists and no-reply addresses left out." in ran.out


def test_those_chosen_become_contacts_and_members(crew: Office) -> None:
    crew.file("sent", MAIL)
    done = crew.json("gather", "sent", "--take", "1-2,4", "--into", "Friends", "--label", "met")
    assert (done["added"], done["members"]) == (3, 3)
    assert crew.members("Friends") == ["Ada Brine", "Cy Dale", "Zoë"]
    assert crew.json("gather", "sent", "--at-least", "3")["added"] == 0
    assert "between 1 and 4" in crew.run("gather", "sent", "--take", "7", code=2).err
    # What was heard counts for who is idle, also of those who were known before.
    crew.json("gather", "sent", "--take", "3", "--into", "Friends")
    idle = crew.json("check", "Friends", "--idle-since", "2016-01-01")
    assert [(f["name"], f["what"]) for f in idle if f["kind"] == "idle"] == [
        ("Cy Dale", "never written to, last heard from 2015-01-01")
    ]


def test_a_maildir_and_a_single_message_are_mail_too(crew: Office) -> None:
    for n, one in enumerate(MAIL.split("From x Mon Jan  5 10:00:00 2026\n")[1:]):
        folder = crew.folder / "box" / ("cur" if n % 2 else "new")
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{n}.x").write_text(one, encoding="utf-8")
    assert len(crew.json("gather", "box")["people"]) == 4
    crew.file(
        "one.eml",
        message("Eve <eve@kelp.example>", f"{ME}, Ada Brine <ada@kelp.example>", "Mon, 5 Jan 2026 10:00:00 +0000"),
    )
    crew.within("list", "new", "Thread", "--from-message", "one.eml")
    assert crew.members("Thread") == ["Ada Brine", "Eve"]
    done = crew.json("import", "one.eml", "--into", "Everyone")
    assert (done["files"][0]["kind"], len(crew.members("Everyone"))) == ("mail", 3)
    assert "not a Maildir" in crew.run("gather", str(crew.folder), code=2).err


def sent(office: Office, *to: str, mode: str = "--blind") -> str:
    """A message that went out; its Message-ID."""
    made = office.json("compose", "--for", *to, "--subject", "Slipway", "--text", "Closed.", mode)["message"]
    office.run("send", made, "--yes")
    return str(office.told("preview", made)["headers"]["Message-ID"])


def test_reports_mark_addresses_and_messages_leave_those_out(crew: Office, serve: Callable[..., Mail]) -> None:
    serve()
    day = "Mon, {} Jan 2026 10:00:00 +0000"
    ids = [sent(crew, "Crew") for _ in range(3)]
    crew.file("back", mbox(
        report("bo@tidewick.example", "failed", "5.1.1", day.format(5), of=ids[0]),
        report("bo@tidewick.example", "failed", "5.1.1", day.format(6), of=ids[0]),  # told twice
        report("berg@kelp.example", "delayed", "4.4.1", day.format(5), "451 later", of=ids[0]),
        report("berg@kelp.example", "failed", "5.2.2", day.format(6), "552 mailbox full", of=ids[1]),
        report("stranger@kelp.example", "failed", "5.1.1", day.format(6), of=ids[0]),  # did not get it
        report("berg@kelp.example", "failed", "5.1.1", day.format(6)),  # forged, or of somebody else's message
        report("ida@kelp.example", "delivered", "2.0.0", day.format(6), of=ids[0]),
        message("Una <berg@kelp.example>", ME, day.format(7), "X-Y: z\n").replace("Keys", "Re: not the keys"),
    ))  # fmt: skip
    found = crew.json("returns", "back")
    assert sorted((m["name"], m["state"], m["why"], m["lists"]) for m in found["marked"]) == [
        ("Bo Lund", "fails", "5.1.1 550 no such user", ["Crew"]),
        ("Per Berg", "deferred", "5.2.2 552 mailbox full (2 messages)", ["Crew"]),
        ("Una Berg", "deferred", "5.2.2 552 mailbox full (2 messages)", ["Crew"]),
    ]
    assert [(u["kind"], u["about"], u["why"]) for u in found["unsure"]] == [
        ("bounce", "stranger@kelp.example", "m1 did not go to this address"),
        ("bounce", "berg@kelp.example", "it does not seem to belong to any message of yours"),
    ]
    before = crew.everything()
    again = crew.json("returns", "back")
    assert (again["marked"], again["already"]) == ([], 6) and crew.everything() == before
    # The address that fails is left out; the person's other one is used where nothing else was chosen.
    assert crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "y")["people"] == 3
    named = crew.json("compose", "--for", "bo@tidewick.example", "una", "--subject", "x", "--text", "y")
    assert [(o["name"], o["reason"]) for o in named["left_out"]] == [
        ("Bo Lund", "the address fails: 5.1.1 550 no such user")
    ]
    assert "Fails" in crew.run("contact", "show", "bo").out
    crew.file(
        "more", mbox(report("berg@kelp.example", "failed", "5.0.0", day.format(9), "550 quota exceeded", of=ids[2]))
    )
    assert {m["state"] for m in crew.json("returns", "more")["marked"]} == {"deferred"}, "full, however often"
    settle = found["unsure"][1]["command"].split()[1:]
    assert crew.json(*settle)["failing"] == ["berg@kelp.example"]
    assert [f["kind"] for f in crew.json("check", "Crew") if f["name"] == "Una Berg"] == ["failing"]
    assert crew.json("returns", "--works-again", "una", "per")["cleared"] == ["Una Berg", "Per Berg"]
    assert crew.json("compose", "--for", "una", "--subject", "x", "--text", "y")["people"] == 1
    # What one has taken away does not come back with old mail; it does where one takes that back.
    again = crew.json("returns", "back", "more")
    assert again["marked"] == [] and "Not marked again" in again["remarks"][0] and "Una Berg" in again["remarks"][0]
    crew.run("undo", str(next(one["number"] for one in crew.told("history") if "Cleared" in one["title"])))
    assert crew.json("returns", "back")["remarks"] == [] and "Fails" in crew.run("contact", "show", "una").out


def test_reports_in_other_forms_find_the_right_one(crew: Office, serve: Callable[..., Mail]) -> None:
    """In plain words, in base64, of a copy for one that was passed on, as a complaint, and passed on by a colleague."""
    serve()
    crew.within("contact", "add", "Zoë <zoë@kelp.example>", "--into", "Crew")
    blind, each = sent(crew, "Crew"), crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "y", "--each")
    crew.run("send", each["message"], "--yes")
    copy = crew.told("preview", each["message"], "--as", "bo")["headers"]["Message-ID"]
    day, head = "Mon, 5 Jan 2026 10:00:00 +0000", "From: MAILER-DAEMON@kelp.example\nTo: maren@tidewick.example\n"
    plain = (
        f"{head}Date: {day}\nSubject: failure notice\n\nHi. I could not deliver your message.\n\n<bo@tidewick.example>:\n"
        f"Sorry, no mailbox here by that name. (#5.1.1)\n\n<berg@kelp.example>:\nSomething odd happened.\n\n"
        f"--- Below this line is a copy of the message.\n\nMessage-ID: {blind}\nTo: maren@tidewick.example\n"
    )
    exim = f"{head}X-Failed-Recipients: berg@kelp.example\nDate: {day}\nSubject: Mail delivery failed\nIn-Reply-To: {blind}\n\n" \
           "  berg@kelp.example\n    mailbox is full: retry timeout exceeded\n"  # fmt: skip
    international = report("zoë@kelp.example", "failed", "5.1.1", day, of=blind)
    fields = (
        international.partition("message/delivery-status\n\n")[2].partition("\n--b")[0].replace("rfc822;", "utf-8;")
    )
    coded = base64.encodebytes(fields.encode()).decode()
    international = international.replace(
        "message/delivery-status\n\n" + international.partition("message/delivery-status\n\n")[2].partition("\n--b")[0],
        f"message/global-delivery-status\nContent-Transfer-Encoding: base64\n\n{coded}",
    )
    passed_on = report("bo-private@gull.example", "failed", "5.1.1", day, of=copy)
    forward = f"From: Per <berg@kelp.example>\nTo: maren@tidewick.example\nDate: {day}\nSubject: Fwd: Undelivered\n" \
              f'MIME-Version: 1.0\nContent-Type: multipart/mixed; boundary="f"\n\n--f\nContent-Type: text/plain\n\nLook.\n--f\n' \
              f"Content-Type: message/rfc822\n\n{report('berg@kelp.example', 'failed', '5.1.1', day, of=blind)}\n--f--\n"  # fmt: skip
    crew.file("a", mbox(plain, exim, international, forward))
    found = crew.json("returns", "a")
    assert {(m["name"], m["state"]) for m in found["marked"]} == {
        ("Bo Lund", "fails"), ("Per Berg", "deferred"), ("Una Berg", "deferred"), ("Zoë", "fails"),
    }  # fmt: skip
    assert [(u["about"], "unclear" in u["why"]) for u in found["unsure"]] == [("berg@kelp.example", True)]
    crew.run("undo")
    crew.file("b", mbox(passed_on))
    assert [(m["name"], m["address"]) for m in crew.json("returns", "b")["marked"]] == [
        ("Bo Lund", "bo@tidewick.example")
    ]
    abuse = (
        f"From: fbl@kelp.example\nTo: maren@tidewick.example\nDate: {day}\nSubject: complaint\nMIME-Version: 1.0\n"
        'Content-Type: multipart/report; report-type=feedback-report; boundary="b"\n\n--b\nContent-Type: text/plain\n\nSpam.\n'
        "--b\nContent-Type: message/feedback-report\n\nFeedback-Type: abuse\nVersion: 1\nOriginal-Rcpt-To: berg@kelp.example\n\n"
        f"--b\nContent-Type: message/rfc822\n\nMessage-ID: {blind}\nSubject: x\n\ny\n--b--\n"
    )
    crew.file("c", mbox(abuse))
    assert {(m["name"], m["state"]) for m in crew.json("returns", "c")["marked"]} == {
        ("Per Berg", "opted out"), ("Una Berg", "opted out"),
    }  # fmt: skip


@pytest.mark.parametrize(
    ("subject", "body", "kind"),
    [
        ("Re: opt-out TOKEN", "Sent from my phone\n", "opted out"),
        ("unsubscribe", "", "opted out"),
        ("Please take me off this list", "Thanks, Bo\n", "opted out"),
        ("Abmeldung", "Bitte austragen. Danke\n", "opted out"),
        ("Re: Slipway", "Kérem, leiratkoznék\n", "opted out"),
        ("Re: Slipway", "Не присылайте мне больше писем о стоянке\n", "opt-out"),
        ("Re: Slipway", "Отпишусь позже\n", None),
        ("Fwd: opt-out TOKEN", "what is that?\n", "opt-out"),
        ("The opt-out deadline for the pension", "It is on Friday.\n", "opt-out"),
        ("Re: Slipway", "Please take me off the crew for Saturday, and can I have the key to berth 4?\n", "opt-out"),
        ("Re: Slipway", "Fine.\n\nOn Monday 5 January 2026 Maren wrote:\n> unsubscribe\n", None),
        ("My new address", "As of May, write to me at bo@gull.example please.\n", "new address"),
        ("Re: Slipway", "Where did you get my address? This is spam.\n", "complaint"),
        ("Re: Slipway", "I shall be there.\n", None),
    ],
)
def test_an_answer_is_taken_at_its_word_only_where_it_is_plain(
    crew: Office, serve: Callable[..., Mail], subject: str, body: str, kind: str | None
) -> None:
    serve()
    token = sent(crew, "Crew")[1:17]
    answer = message("Bo Lund <BO@tidewick.example>", ME, "Mon, 5 Jan 2026 10:00:00 +0000", body=body)
    crew.file("back", mbox(answer.replace("Keys", subject.replace("TOKEN", token))))
    found = crew.json("returns", "back")
    if kind == "opted out":
        assert [(m["name"], m["state"], m["lists"]) for m in found["marked"]] == [("Bo Lund", "opted out", ["Crew"])]
        out = crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "y")["left_out"]
        assert ("Bo Lund", "opted out (asked by mail)") in [(o["name"], o["reason"]) for o in out]
        crew.run("contact", "optin", "bo")
        again = crew.json("returns", "back")
        assert again["marked"] == [] and "Not marked again" in again["remarks"][0], "she is asked for it once"
        return
    assert found["marked"] == [] and [u["kind"] for u in found["unsure"]] == ([kind] if kind else [])
    if kind:
        assert "in back" in found["unsure"][0]["place"] and subject.split()[0] in crew.run("returns", "back").out
    if kind == "new address":
        command = found["unsure"][0]["command"].split()[1:]
        crew.run(*command)
        assert "bo@gull.example" in crew.run("contact", "show", "bo").out


def test_what_is_not_certain_is_walked_through_key_by_key(crew: Office) -> None:
    moved = message(
        "Bo <bo@tidewick.example>", ME, "Mon, 5 Jan 2026 10:00:00 +0000", body="My new address is bo@gull.example\n"
    )
    cross = message("Una <berg@kelp.example>", ME, "Mon, 5 Jan 2026 10:00:00 +0000", body="Is this spam?\n")
    crew.file("back", mbox(moved, cross))
    terminal = pexpect.spawn(str(PROGRAM), ["returns", "back", "--review"], cwd=str(crew.folder), timeout=HANGS,
                             env={**crew.environment, "TERM": "xterm"}, dimensions=(30, 120))  # fmt: skip
    terminal.expect_exact("1 of 2")
    terminal.send("y")
    terminal.expect_exact("Done: Bo Lund also has bo@gull.example.")
    terminal.send("n")
    terminal.send("\x1b")
    terminal.expect_exact("1 message settled, 1 left.")
    terminal.expect(pexpect.EOF)
    assert "bo@gull.example" in crew.run("contact", "show", "bo").out
    assert crew.told("contact", "show", "una")["opted_out"] is False


def test_a_list_gives_only_what_was_asked_for(crew: Office) -> None:
    crew.within("contact", "prefer", "bo", "bo@kelp.example", "--in", "Crew")
    crew.within("contact", "edit", "bo", "--note", "=2+3", "--phone", "07700 900111")
    crew.within("contact", "optout", "una")
    done = crew.json("export", "Crew", "--out", "crew.csv")
    assert (done["people"], done["fields"], done["opted_out"]) == (4, ["name", "address"], 1)
    assert (crew.folder / "crew.csv").stat().st_mode & 0o777 == 0o600
    rows = list(csv.reader((crew.folder / "crew.csv").read_text("utf-8-sig").splitlines()))
    assert rows == [["Name", "Given name", "Family name", "E-mail"], ["Bo Lund", "Bo", "Lund", "bo@kelp.example"],
                    ["Ida Rask", "Ida", "Rask", ""], ["Per Berg", "Per", "Berg", "berg@kelp.example"],
                    ["Una Berg", "Una", "Berg", "berg@kelp.example"]]  # fmt: skip
    assert "exists already" in crew.run("export", "Crew", "--out", "crew.csv", code=2).err
    pasted = crew.run("export", "Crew", "--as", "line")
    assert pasted.out == "Bo Lund <bo@kelp.example>\n"
    assert "Left out: Per Berg: shares this address with Una Berg, who opted out." in pasted.err
    crew.run("export", "Crew", "--out", "crew.csv", "--fields", "name,phone,note", "--yes")
    assert "Bo Lund,Bo,Lund,07700 900111,'=2+3" in (crew.folder / "crew.csv").read_text()
    card = crew.run("export", "Crew", "--as", "vcard").out
    assert "UID" not in card and "NOTE" not in card and "TEL" not in card and "FN:Crew" not in card
    assert "no field `secret`" in crew.run("export", "Crew", "--as", "csv", "--fields", "secret", code=2).err


JSCONTACT = """[
 {"@type": "Card", "uid": "urn:uuid:a-1", "name": {"full": "Ada Brine"}, "emails": {"e": {"address": "ada@kelp.example"}},
  "phones": {"p": {"number": "tel:+44-1632-960001", "features": {"mobile": true}}, "q": {"number": "by the quay"}}},
 {"@type": "Card", "uid": "b-2", "name": {"full": "Cy\\u0007 Dale"},
  "emails": {"e": {"address": "cy@kelp"}, "f": {"address": "cy@kelp.example"}}},
 {"@type": "Card", "kind": "group", "name": {"full": "Night pilots"}, "members": {"a-1": true, "urn:uuid:b-2": true, "c-3": false}},
 {"@type": "Card", "kind": "group", "name": {"full": " "}}, {"@type": "Task"}, 7]"""


VCARDS = """BEGIN:VCARD\nVERSION:3.0\nFN:Una\a Berg\nEMAIL:una@kelp\nEMAIL;TYPE=HOME:una@kelp.example\nTEL:by the quay
NOTE:one\nNOTE:two\nEND:VCARD\nBEGIN:VCARD\nVERSION:3.0\nORG:;;\nEND:VCARD\nBEGIN:VCARD\nVERSION:4.0\nKIND:group\nFN:\t
END:VCARD\nBEGIN:VCARD\nVERSION:4.0\nFN:Cy Dale\nEMAIL;PREF=2:cy@kelp.example\nEMAIL;PREF=1:cy@pier.example\nEND:VCARD\n"""


def test_what_is_wrong_in_a_card_is_told_and_the_rest_of_it_is_taken(office: Office) -> None:
    office.file("cards.vcf", VCARDS)
    report = office.json("import", "cards.vcf", code=1)
    assert report["added"] == 2 and [(r["row"], r["column"], r["value"]) for r in report["refused"]] == [
        (1, "EMAIL", "una@kelp"), (2, "", ""), (3, "FN", ""),
    ]  # fmt: skip
    una, cy = office.told("contact", "show", "una"), office.told("contact", "show", "cy")
    assert una["name"] == "Una Berg" and una["notes"] == "one; two" and una["phones"] == []
    assert [a["address"] for a in una["addresses"]] == ["una@kelp.example"]
    assert [a["address"] for a in cy["addresses"]] == ["cy@pier.example", "cy@kelp.example"], "the preferred one first"
    assert "TEL:by the quay" in office.run("export", "all", "--as", "vcard").out, "kept as it came"


def test_groups_of_jscontact_are_lists_and_bad_entries_cost_no_good_one(office: Office) -> None:
    office.file("cards.json", JSCONTACT)
    report = office.json("import", "cards.json", code=1)
    assert report["lists"] == [{"title": "Night pilots", "new": True, "came": 2}] and report["added"] == 2
    assert [(r["row"], r["value"]) for r in report["refused"]] == [
        (2, "cy@kelp"), (4, ""), (5, '{"@type": "Task"}'), (6, "7"),
    ]  # fmt: skip
    assert office.members("Night pilots") == ["Ada Brine", "Cy Dale"]
    assert office.told("contact", "show", "ada")["phones"] == [{"number": "+44-1632-960001", "kind": "mobile"}]


def test_everything_goes_out_and_comes_into_another_book_with_its_list(crew: Office, tmp_path: Path) -> None:
    crew.file("in.vcf", "BEGIN:VCARD\nVERSION:4.0\nUID:x-1\nFN:Ada Brine\nEMAIL;X-A=b:ada@kelp.example\nX-BOAT:Dunlin\nEND:VCARD\n"
              "BEGIN:VCARD\nVERSION:4.0\nKIND:group\nFN:Boats\nMEMBER:x-1\nMEMBER:mailto:bo@kelp.example\nMEMBER:x-9\nEND:VCARD\n")  # fmt: skip
    report = crew.json("import", "in.vcf")
    assert report["lists"] == [{"title": "Boats", "new": True, "came": 2}] and [
        d["value"] for d in report["doubtful"]
    ] == ["x-9"]
    before = crew.told("find")
    for form in ("vcard", "jcard", "jscontact", "csv"):
        crew.run("export", "all", "--as", form, "--out", form)
        other = Office(tmp_path / f"other-{form}")
        other.folder.mkdir()
        other.within("setup", "--me", ME)
        assert other.json("import", str(crew.folder / form))["added"] == len(before)
        after = other.told("find")
        assert [{k: v for k, v in c.items() if k != "lists"} for c in after] == [
            {k: v for k, v in c.items() if k != "lists"} for c in before
        ]
        back = crew.json("import", form)
        assert back["added"] == 0, "its own people are known by their uid"
    other.run("export", "all", "--as", "vcard", "--out", "again")
    assert "X-BOAT:Dunlin" in (crew.folder / "vcard").read_text() and "X-A=b" in (crew.folder / "vcard").read_text()
    crew.run("export", "Boats", "--as", "vcard", "--as-list", "--out", "boats.vcf")
    boats = (crew.folder / "boats.vcf").read_text().replace("\n ", "")
    members = [line.partition(":")[2] for line in boats.splitlines() if line.startswith("MEMBER:")]
    assert sorted(members) == sorted(line.partition(":")[2] for line in boats.splitlines() if line.startswith("UID:"))
    assert len(members) == 2 and "x-1" in members
    assert "Only --as vcard" in crew.run("export", "Boats", "--as", "csv", "--as-list", code=2).err
    (bare,) = json.loads(crew.run("export", "Boats", "--as", "jscontact", "--fields", "name").out)[:1]
    assert len(bare["uid"]) == 45 and "emails" not in bare
    assert json.loads((crew.folder / "jcard").read_text())[0][0] == "vcard"


def test_a_mail_that_is_made_so_that_it_cannot_be_read_costs_that_mail_alone(crew: Office) -> None:
    def mail(n: int, sender: str, more: str = "", body: str = "x") -> str:
        return f"From a@b Mon Nov  2 10:00:00 2026\nFrom: {sender}\nTo: maren@tidewick.example\nDate: Mon, 2 Nov 2026 10:0{n}:00 +0000\n{more}\n{body}\n\n"

    nested = "".join(f"Content-Type: multipart/mixed; boundary=b{n}\n\n--b{n}\n" for n in range(2000))
    bounce = (
        "Subject: Undelivered Mail Returned to Sender\nContent-Type: multipart/report; report-type=delivery-status; boundary=r\n",
        "--r\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; x\n\nFinal-Recipient: rfc822; bo@tidewick.example\n"
        "Action: failed\nStatus: 5.1.1\n\n--r--",
    )
    crew.file("box", "".join((
        mail(0, "Ada <ada@kelp.example>"), mail(1, "(" * 3000 + "<x@kelp.example>"), mail(2, "g:" * 3000 + "<y@kelp.example>;"),
        mail(3, "=?utf-8?q?a? " * 20_000 + "<z@kelp.example>"), mail(4, "Deep <deep@kelp.example>", nested),
        mail(5, "Eve <eve@kelp.example>"), mail(6, "MAILER-DAEMON@x.example", *bounce),
    )))  # fmt: skip
    told = crew.told("gather", "box")
    assert {"ada@kelp.example", "eve@kelp.example", "deep@kelp.example"} <= {one["address"] for one in told["people"]}
    assert [one.partition(":")[0] for one in told["unread"][:2]] == ["message 2 in box", "message 3 in box"]
    told = crew.told("returns", "box")
    assert told["messages"] == 7 and [one["about"] for one in told["unsure"]] == ["bo@tidewick.example"]
    assert any("message 5 in box: its parts stand too deep" in one for one in told["unread"])
    # In front of the first message, between messages, and where the first line is missing.
    whole = mail(0, "Ada <ada@kelp.example>") + mail(1, "Bo <bo@kelp.example>") + mail(2, "Cy <cy@kelp.example>")
    for text, lost in ((whole.partition("\n")[2], 0), ("some junk\n" + whole, 0), ("\0" * 5000 + whole, 0),
                       (whole.replace("From a@b", "\0" * 5000 + "From a@b"), 0), (whole.replace("\n\nFrom ", "\nFrom "), 0)):  # fmt: skip
        crew.file("box", text)
        assert len(crew.told("gather", "box")["people"]) == 3 - lost, text[:80]
