"""The hub as any program sees it over HTTP: who may do what, and what it makes of bad people and bad data."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import stat
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from conftest import ME, Office
from hubs import Person, RunningHub, card, hub_in, postgresql
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from servers import wait

ROLES = ("owner", "editor", "reader", "offered", "ended", "other")


def memory(hub: RunningHub) -> int:
    """The most memory that the hub has had, in MB."""
    status = Path(f"/proc/{hub.process.pid}/status").read_text()
    return int(re.findall(r"VmHWM:\s*(\d+)", status)[0]) // 1024


class World:
    """A hub with a list that has a card, and somebody in every relation to it."""

    def __init__(self, hub: RunningHub) -> None:
        self.hub = hub
        self.people = {
            role: hub.person(f"{role}@tidewick.example", role.title()) for role in (*ROLES, "founder", "second")
        }
        founder, p = self.people["founder"], self.people
        self.made = founder.new_list(
            "Arrears", (p["owner"], "owner"), (p["editor"], "editor"), (p["reader"], "reader"), (p["ended"], "editor")
        )
        founder.ask("PUT", f"api/lists/{self.made}/people/offered@tidewick.example", 200, json={"role": "editor"})
        founder.ask("DELETE", f"api/lists/{self.made}/people/ended@tidewick.example", 204)
        p["other"].new_list("Another list")
        founder.put(self.made, "una")
        self.odd = founder.new_list("For odd requests")
        founder.put(self.odd, "una")
        for person in self.people.values():
            person.ask("GET", "api/lists", 200)  # who is in stays in, however much others guess


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    office = Office(tmp_path_factory.mktemp("hub"))
    office.within("setup", "--me", ME)
    with hub_in(office, "--most-requests", "100000") as hub:
        yield World(hub)


FIND = '<propfind xmlns="DAV:"><prop><displayname/><getetag/></prop></propfind>'
SYNC = '<sync-collection xmlns="DAV:"><sync-token/><sync-level>1</sync-level><prop><getetag/></prop></sync-collection>'
QUERY = '<addressbook-query xmlns="urn:ietf:params:xml:ns:carddav" xmlns:d="DAV:"><d:prop><d:getetag/></d:prop></addressbook-query>'
RENAME = '<propertyupdate xmlns="DAV:"><set><prop><displayname>Arrears</displayname></prop></set></propertyupdate>'
VCARD = {"Content-Type": "text/vcard"}
# Each operation with the status for owner, editor and reader; for everybody else it is 404, the same as for a list that
# is not there.
OPERATIONS: dict[str, tuple[str, str, dict[str, object], tuple[int, int, int]]] = {
    "look at the list": ("PROPFIND", "dav/lists/{}/", {"content": FIND, "headers": {"Depth": "1"}}, (207, 207, 207)),
    "fetch it whole": ("GET", "dav/lists/{}/", {}, (200, 200, 200)),
    "fetch a card": ("GET", "dav/lists/{}/una.vcf", {}, (200, 200, 200)),
    "synchronise": ("REPORT", "dav/lists/{}/", {"content": SYNC}, (207, 207, 207)),
    "search it": ("REPORT", "dav/lists/{}/", {"content": QUERY, "headers": {"Depth": "1"}}, (207, 207, 207)),
    "see who has it": ("GET", "api/lists/{}/people", {}, (200, 200, 200)),
    "put a card": ("PUT", "dav/lists/{}/una.vcf", {"content": card("una"), "headers": VCARD}, (204, 204, 403)),
    "take one off that is gone": ("DELETE", "dav/lists/{}/gone.vcf", {}, (404, 404, 403)),
    "rename it by PROPPATCH": ("PROPPATCH", "dav/lists/{}/", {"content": RENAME}, (207, 403, 403)),
    "rename it": ("PATCH", "api/lists/{}", {"json": {"title": "Arrears"}}, (204, 403, 403)),
    "offer it": ("PUT", "api/lists/{}/people/second@tidewick.example", {"json": {"role": "reader"}}, (200, 403, 403)),
    "end a role": ("DELETE", "api/lists/{}/people/nobody@tidewick.example", {}, (404, 403, 403)),
    "stop it by DELETE": ("DELETE", "dav/lists/{}/", {}, (403, 403, 403)),
    "change rights by ACL": ("ACL", "dav/lists/{}/", {}, (403, 403, 403)),
    "ask for changes": ("POST", "api/lists/{}/changes", {"json": {}}, (200, 200, 200)),
    "put many": ("POST", "api/lists/{}/cards", {"json": {"cards": []}}, (200, 200, 403)),
    "mark an opt-out": ("POST", "api/lists/{}/opt-outs", {"json": {"card": "none.vcf", "since": "x"}}, (404, 404, 404)),
}


@pytest.mark.parametrize("operation", OPERATIONS)
def test_every_role_operation_and_caller_is_answered_as_the_table_says(world: World, operation: str) -> None:
    method, path, more, allowed = OPERATIONS[operation]
    expected = {**dict(zip(ROLES[:3], allowed, strict=True)), **dict.fromkeys(ROLES[3:], 404)}
    nowhere = {}
    for role, person in world.people.items():
        if role in expected:
            answer = person.ask(method, path.format(world.made), **more)
            assert answer.status_code == expected[role], (operation, role, answer.text)
            if role in ROLES[3:]:
                nowhere[role] = person.ask(method, path.format("0" * 24), **more)
                assert (nowhere[role].status_code, nowhere[role].content) == (404, answer.content), "tells nothing"
                assert b"Arrears" not in answer.content and b"una" not in answer.content
    for headers in (
        {},
        {"Authorization": "Bearer wrong"},
        {"Authorization": "Basic !"},
        {"Authorization": "Basic bm9ib2R5"},
    ):
        mixed = {**more, "headers": {**(more.get("headers") or {}), **headers}}  # type: ignore[dict-item]
        answer = httpx.request(method, f"{world.hub.url}{path.format(world.made)}", **mixed)  # type: ignore[arg-type]
        # Wrong tries are slowed down from the fifth on.
        assert answer.status_code in ((401,) if not headers else (401, 429)) and "Arrears" not in answer.text
        if answer.status_code == 401:
            assert "Basic" in answer.headers["www-authenticate"] and "Bearer" in answer.headers["www-authenticate"]


def test_what_is_offered_shows_no_more_than_an_offer_tells(world: World) -> None:
    (seen,) = world.people["offered"].ask("GET", "api/lists", 200).json()
    assert set(seen) == {"id", "title", "role", "state", "from", "since"} and seen["state"] == "offered"
    home = world.people["offered"].ask("PROPFIND", "dav/lists/", 207, headers={"Depth": "1"}).text
    assert "Arrears" not in home and world.made not in home
    assert world.people["ended"].ask("GET", "api/lists", 200).json() == []


def test_offers_roles_and_the_last_owner(world: World) -> None:
    founder, second, other = (world.people[name] for name in ("founder", "second", "other"))
    made = founder.new_list("Crew")

    def role(address: str, role: str, status: int = 200) -> None:
        founder.ask("PUT", f"api/lists/{made}/people/{address}", status, json={"role": role})

    role("stranger@tidewick.example", "reader", 409)
    role(second.address, "captain", 400)
    role(second.address, "reader")
    second.ask("POST", f"api/lists/{made}/decline", 204)
    second.ask("POST", f"api/lists/{made}/accept", 404)
    assert founder.ask("GET", f"api/lists/{made}/people").json()[1]["state"] == "declined"
    role(second.address, "owner")
    role(founder.address, "reader", 409)
    founder.ask("DELETE", f"api/lists/{made}/people/{founder.address}", 409)
    second.ask("POST", f"api/lists/{made}/accept", 204)
    founder.ask("DELETE", f"api/lists/{made}/people/{founder.address}", 204)
    founder.ask("GET", f"api/lists/{made}/people", 404)
    second.ask("DELETE", f"api/lists/{made}/people/{second.address}", 409)
    second.ask("DELETE", f"api/lists/{made}", 204)
    second.ask("GET", f"api/lists/{made}/people", 404)
    other.ask("DELETE", f"api/lists/{made}", 404)


def test_a_role_that_changes_counts_from_the_next_request(world: World) -> None:
    founder, second = world.people["founder"], world.people["second"]
    made = founder.new_list("Crew", (second, "editor"))
    second.put(made, "bo")
    founder.ask("PUT", f"api/lists/{made}/people/{second.address}", 200, json={"role": "reader"})
    second.put(made, "bo", 403, card("bo", "Bo Lund"))
    founder.ask("DELETE", f"api/lists/{made}/people/{second.address}", 204)
    second.ask("GET", f"dav/lists/{made}/bo.vcf", 404)


def test_codes_and_tokens(office: Office) -> None:
    with hub_in(office) as hub:
        _codes_and_tokens(hub)


def _codes_and_tokens(hub: RunningHub) -> None:
    old, code = hub.code("tor@tidewick.example", "Tor"), hub.code("tor@tidewick.example")
    url, doc = f"{hub.url}api/connect", {"address": "tor@tidewick.example", "code": old}
    assert httpx.post(url, json=doc).status_code == 401, "a new code ends the old one"
    token = httpx.post(url, json={**doc, "code": code}).json()["token"]
    assert httpx.post(url, json={**doc, "code": code}).status_code == 401, "once"
    tor = Person(hub.url, "tor@tidewick.example", token)
    phone = tor.ask("POST", "api/tokens", 201, json={"name": "phone"}).json()["token"]
    tor.ask("POST", "api/tokens", 409, json={"name": "phone"})
    mobile = Person(hub.url, "tor@tidewick.example", phone)
    mobile.ask("GET", "api/lists", 200)
    assert [t["last_used"] is not None for t in tor.ask("GET", "api/tokens").json() if t["name"] == "phone"] == [True]
    assert httpx.get(f"{hub.url}api/lists", headers={"Authorization": f"Bearer {phone}"}).status_code == 200
    mobile.ask("POST", "api/tokens", 403, json={"name": "more"})
    mobile.ask("POST", "api/lists", 403, json={"title": "Crew"})
    made = tor.ask("POST", "api/lists", 201, json={"title": "Crew"}).json()["id"]
    mobile.put(made, "una")
    mobile.ask("PUT", f"api/lists/{made}/people/tor@tidewick.example", 403, json={"role": "owner"})
    renames = "<d:propertyupdate xmlns:d='DAV:'><d:set><d:prop><d:displayname>X</d:displayname></d:prop></d:set></d:propertyupdate>"
    mobile.ask("PROPPATCH", f"dav/lists/{made}/", 403, content=renames)
    # Whatever a token is called, that one ends and no other.
    names = ["phone/tablet", "a%2fb", "a/b", ".", "..", "a b", "revoke"]
    for name in names:
        assert tor.ask("POST", "api/tokens", 201, json={"name": name}).headers["cache-control"] == "no-store"
    for name in names:
        tor.ask("POST", "api/tokens/revoke", 204, json={"name": name})
        assert name not in [t["name"] for t in tor.ask("GET", "api/tokens").json()]
    (seen,) = [t for t in tor.ask("GET", "api/tokens").json() if t["name"] == "phone"]
    assert (seen["last_from"], seen["scope"]) == ("127.0.0.1", "cards")
    tor.ask("DELETE", "api/tokens/phone", 204)
    mobile.ask("GET", "api/lists", 401)
    tor.ask("DELETE", f"api/lists/{made}", 204)
    statuses = [tor.ask("POST", "api/tokens", json={"name": f"n{n}"}).status_code for n in range(50)]
    assert statuses == [201] * 49 + [507], "a bounded number"
    held = hub.office.folder / "hub" / "hub.sqlite"
    stored = b"".join(path.read_bytes() for path in held.parent.iterdir())
    assert all(secret.encode() not in stored for secret in (old, code, token, phone)), "hashed"
    assert stat.S_IMODE(held.stat().st_mode) == 0o600
    hub.office.run("hub", "person", "remove", "tor@tidewick.example", *hub.where)
    tor.ask("GET", "api/lists", 401)


def test_guessing_is_slowed_and_locks_nobody_out_who_is_in(office: Office) -> None:
    with hub_in(office, "--most-requests", "20") as hub:
        una = hub.person("una@tidewick.example")
        una.ask("GET", "api/lists", 200)
        url, guess = f"{hub.url}api/connect", {"address": "una@tidewick.example", "code": "000000-000000-000000-000000"}
        tries = [(httpx.post(url, json=guess), time.monotonic()) for _ in range(8)]
        statuses = [answer.status_code for answer, _ in tries]
        assert statuses[:6] == [401] * 5 + [429]
        wait_for, told = int(tries[5][0].headers["retry-after"]), tries[5][1]
        # On a slow machine the next one may have waited as long as it was told.
        assert wait_for >= 1 and all(
            s == 429 or at - told >= wait_for - 1 for s, (_, at) in zip(statuses[6:], tries[6:], strict=True)
        )
        wrong = Person(hub.url, "una@tidewick.example", "wrong")
        wrong.ask("GET", "api/lists", 429)
        una.ask("GET", "api/lists", 200)
        waits, begun = int(wrong.ask("GET", "api/lists", 429).headers["retry-after"]), time.monotonic()
        hub.stop()
        hub.start()
        still = wrong.ask("GET", "api/lists").status_code
        assert still == 429 or time.monotonic() - begun >= waits - 1
        una.ask("GET", "api/lists", 200)  # a token that is good never waits, also in a process that never saw it
        code = hub.code("una@tidewick.example")
        assert httpx.post(url, json={**guess, "code": code}).status_code == 200
        assert 429 in {una.ask("GET", "api/lists").status_code for _ in range(60)}, "more in a second than one may"
        wait(lambda: una.ask("GET", "api/lists").status_code == 200, lambda: "a limit that never ends")
        hub.stop()
        log = (office.folder / "hub.log").read_text().splitlines()
        lines = [json.loads(line) for line in log]
        assert {line["status"] for line in lines} >= {200, 401, 429} and "una" not in "".join(log)
        assert una.token not in "".join(log)


BAD_CARDS = {
    "not a vCard": ("hello", 403), "no FN": ("BEGIN:VCARD\r\nVERSION:4.0\r\nUID:x\r\nEND:VCARD\r\n", 403),
    "no UID": ("BEGIN:VCARD\r\nVERSION:4.0\r\nFN:x\r\nEND:VCARD\r\n", 403),
    "two versions": (card("x", more="VERSION:3.0\r\n"), 403), "old version": (card("x").replace("4.0", "2.1"), 403),
    "cut off": (card("x")[:-12], 403), "two cards": (card("x") + card("y"), 403),
    "one inside another": (card("x", more=card("y")), 403), "control characters": (card("x", "U\x00na\x1b[2J"), 403),
    "no property": (card("x", more="this is no property\r\n"), 403),
    "a little too large": (card("x", more=f"NOTE:{'x' * 256_000}\r\n"), 413),
    "10 MB": (card("x", more=f"NOTE:{'x' * 10_000_000}\r\n"), 413),
}  # fmt: skip


@pytest.mark.parametrize("what", BAD_CARDS)
def test_a_bad_card_changes_nothing_and_says_why(world: World, what: str) -> None:
    data, status = BAD_CARDS[what]
    before = world.people["founder"].ask("GET", f"dav/lists/{world.made}/").content
    answer = world.people["editor"].put(world.made, "x", status, data)
    assert "reason>" in answer.text and len(answer.text) < 1000
    assert world.people["founder"].ask("GET", f"dav/lists/{world.made}/").content == before


HUGE = SYNC.replace("<prop>", f"<limit><nresults>{'9' * 5000}</nresults></limit><prop>")
BOMB = '<!DOCTYPE a [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><propfind xmlns="DAV:"><prop><displayname>&b;</displayname></prop></propfind>'
FILE = '<!DOCTYPE a [<!ENTITY f SYSTEM "file:///etc/hostname">]><propfind xmlns="DAV:"><prop>&f;</prop></propfind>'
MANY = (
    '<c:addressbook-multiget xmlns:c="urn:ietf:params:xml:ns:carddav" xmlns="DAV:"><prop/>{}</c:addressbook-multiget>'
)


ODD = [
    "", "<", "{}", "[]", '{"title": null, "role": [], "since": 5, "name": 7}', '{"fields": []}', '{"name": "\\ud800"}', "\xff",
    '{"cards": [{"name": "a.vcf", "data": "x", "etag": null}]}', '{"card": 5, "since": "2026"}', card("una")[:40],
    "<?xml version='1.0' encoding='utf-16'?><a/>", FIND, SYNC, SYNC.replace("1</sync", "infinite</sync"), QUERY, RENAME,
    RENAME.replace("Arrears", "New&#x7f;"), RENAME.replace("set>", "remove>"), "<propertyupdate xmlns='DAV:'><set/></propertyupdate>",
    MANY.format("<href>http://[::1</href><href/><href>%zz</href><href>//</href><href>/dav/lists/x/y.vcf</href>"),
    QUERY.replace("/>", '><c:filter test="x"><c:prop-filter name="TEL" test="y"><c:text-match match-type="z">a</c:text-match>'
                  "<c:param-filter/></c:prop-filter><c:prop-filter/></c:filter>", 1),
    "<principal-property-search xmlns='DAV:'><property-search/></principal-property-search>",
    "<expand-property xmlns='DAV:'><property/></expand-property>",
]  # fmt: skip
HEADS = [
    {"Depth": "x"}, {"Depth": "1"}, {"If-Match": '"'}, {"If-Match": '"x", W/"y"'}, {"If-None-Match": "x"}, {"Range": "bytes=0-1"},
    VCARD, {"Content-Type": "text/vcard; version=9"}, {"Accept": "text/vcard;version=4.0;q=x, */*"}, {"If": "(<x>)"},
    {"X-Forwarded-For": "no address"}, {"Destination": "/dav/lists/x"},
]  # fmt: skip


@settings(max_examples=250, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    method=st.sampled_from("GET HEAD OPTIONS PUT POST PATCH PROPFIND PROPPATCH REPORT MKCOL MOVE LOCK ACL".split()),
    path=st.sampled_from(["", "dav", "dav/people/x/", "dav/lists/", "dav/lists/{}/", "dav/lists/{}/una.vcf", "dav/lists/{}/%ff.vcf",
                          "dav/lists/{}/una.vcf/x", "api", "api/lists", "api/lists/{}", "api/lists/{}/people/%ff", "api/lists/{}/changes",
                          "api/lists/{}/cards", "api/lists/{}/opt-outs", "api/tokens", "api/lists/%00/changes"]),
    body=st.sampled_from(ODD), heads=st.lists(st.sampled_from(HEADS), max_size=2),
)  # fmt: skip
@example(method="REPORT", path="dav/lists/{}/", body=ODD[-4], heads=[])
def test_whatever_is_asked_is_answered(
    world: World, method: str, path: str, body: str, heads: list[dict[str, str]]
) -> None:
    head = {name: value for one in heads for name, value in one.items()}
    founder = world.people["founder"]
    answer = founder.ask(method, path.format(world.odd), content=body.encode("latin-1"), headers=head)
    assert answer.status_code < 500 and "Traceback" not in answer.text


@pytest.mark.parametrize(
    ("method", "path", "body", "headers", "status"),
    [
        ("PROPFIND", "dav/lists/{}/", BOMB, {"Depth": "0"}, 400),
        ("PROPFIND", "dav/lists/{}/", FILE, {"Depth": "0"}, 400),
        ("PROPFIND", "dav/lists/{}/", "<a>" * 5000 + "</a>" * 5000, {"Depth": "0"}, 400),
        ("PROPFIND", "dav/lists/{}/", "<propfind xmlns='DAV:'", {"Depth": "0"}, 400),
        ("PROPFIND", "dav/lists/{}/", "x" * 5_000_000, {"Depth": "0"}, 413),
        ("PROPFIND", "dav/lists/{}/", FIND, {"Depth": "infinity"}, 403),
        ("REPORT", "dav/lists/{}/", MANY.format("<href>/x</href>" * 5001), {}, 403),
        ("REPORT", "dav/lists/{}/", "<unheard-of xmlns='DAV:'/>", {}, 403),
        ("REPORT", "dav/lists/{}/", SYNC.replace("<sync-token/>", "<sync-token>urn:x</sync-token>"), {}, 403),
        ("GET", "dav/lists/{}/..%2f..%2fetc%2fpasswd", "", {}, 404),
        ("GET", "dav/lists/{}/%2e%2e", "", {}, 404),
        ("PUT", "dav/lists/{}/a%00b.vcf", card("x"), {}, 404),
        ("GET", "dav/people/founder@tidewick.example/", "", {}, 404),
        ("MKCOL", "dav/lists/{}/sub/", "", {}, 404), ("LOCK", "dav/lists/{}/", "", {}, 405),
        ("PUT", "dav/lists/{}/x.vcf", card("x"), {"Content-Type": "text/html"}, 415),
        ("PUT", "dav/lists/{}/x.vcf", card("x"), {"If-Match": '"none"'}, 412),
        ("PUT", "dav/lists/{}/una.vcf", card("una"), {"If-None-Match": "*"}, 412),
        ("PUT", "dav/lists/{}/twin.vcf", card("una"), {}, 409), ("DELETE", "dav/lists/{}/una.vcf", "", {"If-Match": '"x"'}, 412),
        ("POST", "api/lists", '{"title": "a\\u0000b\\nc"}', {}, 400), ("POST", "api/lists", "[1]", {}, 400),
        ("POST", "api/lists", '{"title": "x", "fields": ["secrets"]}', {}, 400), ("GET", "api/../hub.sqlite", "", {}, 404),
        ("POST", "api/lists", "x" * 100_000, {}, 413), ("POST", "api/lists/{}/cards", "x" * 4_000_001, {}, 413),
        ("POST", "api/lists/{}/cards", '{"cards": [{"name": "../x.vcf", "data": ""}]}', {}, 400),
        ("POST", "api/lists/{}/cards", '{"cards": [{"name": "x.vcf", "data": 1}]}', {}, 400),
        ("POST", "api/lists/{}/cards", json.dumps({"cards": [{"name": "x.vcf", "data": ""}] * 2}), {}, 400),
        ("POST", "api/lists/{}/cards", json.dumps({"cards": [{}] * 201}), {}, 400),
        ("POST", "api/lists/{}/changes", '{"since": "urn:x"}', {}, 409),
        ("POST", "api/lists", '{"title": "Sent by a page"}', {"Content-Type": "text/plain"}, 415),
        ("POST", "api/many", '{"requests": [{"method": "POST", "path": "api/many"}]}', {}, 400),
        ("POST", "api/many", '{"requests": [{"method": "GET", "path": "dav/"}]}', {}, 400),
        ("POST", "api/many", json.dumps({"requests": [{"method": "GET", "path": "api/lists"}] * 501}), {}, 400),
    ],
)  # fmt: skip
def test_bad_requests_get_the_right_status(
    world: World, method: str, path: str, body: str, headers: dict[str, str], status: int
) -> None:
    editor = world.people["editor"]
    before = editor.ask("GET", f"dav/lists/{world.made}/").content
    headers = {"Content-Type": "application/json", **headers} if path.startswith("api/") else headers
    answer = editor.ask(method, path.format(world.made), status, content=body.encode(), headers=headers)
    assert b"Traceback" not in answer.content and b"root:" not in answer.content and len(answer.content) < 2000
    assert editor.ask("GET", f"dav/lists/{world.made}/").content == before


def test_a_limit_beyond_all_bounds_is_none_and_a_wrong_report_is_named_by_its_standard(world: World) -> None:
    founder = world.people["founder"]
    assert "una.vcf" in founder.ask("REPORT", f"dav/lists/{world.made}/", 207, content=HUGE).text
    refused = founder.ask("REPORT", f"dav/lists/{world.made}/", 403, content="<unheard-of xmlns='DAV:'/>")
    assert "<d:supported-report" in refused.text


def test_many_requests_of_one_person_at_once_are_all_answered(world: World) -> None:
    founder = world.people["founder"]
    answers: list[int] = []

    def work() -> None:
        answers.extend([founder.ask("GET", "api/lists").status_code for _ in range(10)])

    threads = [threading.Thread(target=work) for _ in range(12)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert answers == [200] * 120


def test_two_deletes_and_many_writers_at_once(world: World) -> None:
    founder, editor = world.people["founder"], world.people["editor"]
    made = founder.new_list("Crew", (editor, "editor"))
    etag = founder.put(made, "bo").headers["etag"]
    answers: list[int] = []

    def work(person: Person, number: int) -> None:
        client = Person(world.hub.url, person.address, person.token)
        answers.append(client.ask("DELETE", f"dav/lists/{made}/bo.vcf", headers={"If-Match": etag}).status_code)
        answers.append(client.put(made, f"p{number}", None).status_code)

    threads = [threading.Thread(target=work, args=(person, n)) for n, person in enumerate([founder, editor] * 4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(answers) == [201] * 8 + [204] + [404] * 7
    assert founder.ask("GET", f"dav/lists/{made}/").text.count("BEGIN:VCARD") == 8


def test_many_cards_at_once_are_each_taken_or_refused_by_itself(office: Office) -> None:
    with hub_in(office, "--most-cards", "4") as hub:
        una = hub.person("una@tidewick.example")
        made = una.new_list("Small")

        def keep(*cards: tuple[str, str] | tuple[str, str, str]) -> list[dict[str, Any]]:
            doc = {"cards": [dict(zip(("name", "data", "etag"), one, strict=False)) for one in cards]}
            return list(una.ask("POST", f"api/lists/{made}/cards", 200, json=doc).json()["cards"])

        new = keep(
            ("a.vcf", card("a")), ("b.vcf", "hello"), ("c.vcf", card("a")), ("d.vcf", card("d")), ("e.vcf", card("e"))
        )
        assert [one["status"] for one in new] == [201, 403, 409, 201, 201]
        assert "not a vCard" in new[1]["error"] and "has that UID" in new[2]["error"]
        again = keep(("a.vcf", card("a")), ("d.vcf", card("d", "Dora Lund"), new[3]["etag"]), ("e.vcf", card("e"), "old"),
                     ("f.vcf", card("f")), ("g.vcf", card("g")))  # fmt: skip
        assert [one["status"] for one in again] == [412, 204, 412, 201, 507] and "full" in again[4]["error"]
        text = una.ask("GET", f"dav/lists/{made}/", 200).text
        assert sorted(re.findall("UID:(.)", text)) == ["a", "d", "e", "f"] and text.count("Dora Lund") == 2
        assert una.ask("GET", f"dav/lists/{made}/d.vcf").headers["etag"] == f'"{again[1]["etag"]}"'
        una.ask("DELETE", f"dav/lists/{made}/a.vcf", 204)
        assert keep(("a.vcf", card("a")))[0]["status"] == 201, "it may come back"
        assert "full" in una.put(made, "h", 507).text


def test_a_list_as_long_as_can_be_is_told_in_parts_that_fit_in_memory(office: Office) -> None:
    number, note = 100_000, "NOTE:" + "x" * 300 + "\r\n"
    with hub_in(office) as hub:
        una = hub.person("una@tidewick.example")
        made = una.new_list("Everybody")
        db = sqlite3.connect(office.folder / "hub" / "hub.sqlite")
        row = (made, "by", "2026-01-01T00:00:00Z", "2026-01-01T00:00:00Z")
        columns = "name, uid, etag, data, seq, gone, list, by, added, changed"
        db.executemany(
            f"INSERT INTO card({columns}) VALUES(?, ?, ?, ?, ?, 0, ?, ?, ?, ?)",
            ((f"u{n}.vcf", f"u{n}", f"e{n}", card(f"u{n}", more=note), n, *row) for n in range(1, number + 1)),
        )
        db.executemany(
            "INSERT INTO change(list, seq, mark) VALUES(?, ?, ?)", ((made, n, f"m{n}") for n in range(1, number + 1))
        )
        db.execute("UPDATE shared_list SET seq = ? WHERE id = ?", (number, made))
        db.commit()
        db.close()
        assert "full" in una.put(made, "one-more", 507).text
        before = memory(hub)
        ask = SYNC.replace("<getetag/>", "<getetag/><c:address-data xmlns:c='urn:ietf:params:xml:ns:carddav'/>")
        seen: list[str] = []
        token = ""
        while True:
            body = ask.replace("<sync-token/>", f"<sync-token>{token}</sync-token>")
            text = una.ask("REPORT", f"dav/lists/{made}/", 207, content=body).text
            assert len(text) < 8_000_000 and text.count("<card:address-data>") > 1000
            seen += re.findall(r"UID:(u\d+)", text)
            token = re.findall("<d:sync-token>(.*)</d:sync-token>", text)[0]
            if " 507 " not in text:
                break
        assert seen == [f"u{n}" for n in range(1, number + 1)], "each once, in order"
        assert memory(hub) < before + 60


def test_the_hub_stays_on_this_machine_unless_told(office: Office) -> None:
    refused = office.run("hub", "serve", "--listen", "0.0.0.0:0", "--data", "hub", code=2)
    assert "--tls-cert" in refused.err and "--plain-http" in refused.err
    half = office.run("hub", "serve", "--listen", "127.0.0.1:0", "--tls-cert", "hub.pem", "--data", "hub", code=2)
    assert "needs both" in half.err
    assert "not HOST:PORT" in office.run("hub", "serve", "--listen", "harbour", "--data", "hub", code=2).err
    for host in ("hub.tidewick.example", "localhost.tidewick.example", "127.tidewick.example"):
        connect = ("hub", "connect", f"http://{host}/", "--as", "a@b.example", "--code", "x")
        assert "would be sent unencrypted" in office.run(*connect, code=2).err
    with hub_in(office) as hub:
        assert (
            "in use" in office.run("hub", "serve", "--listen", f"127.0.0.1:{hub.port}", "--data", "other", code=2).err
        )
        assert httpx.get(f"{hub.url}health").json() == {"ok": True}
        assert httpx.get(f"{hub.url}.well-known/carddav").headers["location"] == "/dav/"


def test_a_backup_put_back_is_the_hub_as_it_was_and_old_tokens_of_later_days_are_none(
    office: Office, tmp_path: Path
) -> None:
    with hub_in(office) as hub:
        una = hub.person("una@tidewick.example", "Una Berg")
        made = una.new_list("Crew")
        una.put(made, "a")
        office.run("hub", "backup", "copy.sqlite", *hub.where)
        assert stat.S_IMODE((office.folder / "copy.sqlite").stat().st_mode) == 0o600
        una.put(made, "b")
        token = (
            una.ask("REPORT", f"dav/lists/{made}/", 207, content=SYNC)
            .text.partition("sync-token>")[2]
            .partition("<")[0]
        )
    assert "already a hub where" in office.run("hub", "restore", "copy.sqlite", *hub.where, code=2).err
    with postgresql() as database:
        url = database.url
        office.run("hub", "restore", "copy.sqlite", "--database", url)
        again = RunningHub(office, ["--database", url])
        try:
            una = Person(again.url, una.address, una.token)
            assert una.ask("GET", f"dav/lists/{made}/").text == card("a")
            una.put(made, "c")
            old = SYNC.replace("<sync-token/>", f"<sync-token>{token}</sync-token>")
            assert "valid-sync-token" in una.ask("REPORT", f"dav/lists/{made}/", 403, content=old).text
            hub_two = RunningHub(office, ["--database", url])
            other = Person(hub_two.url, una.address, una.token)
            other.put(made, "d")
            assert una.ask("GET", f"dav/lists/{made}/d.vcf", 200).text == card("d"), "two processes, one hub"
            hub_two.stop()
            assert "Una Berg" in office.run("hub", "person", "--database", url).out
            newcomer = again.person("per@tidewick.example")
            assert newcomer.ask("GET", "api/lists", 200).json() == []
        finally:
            again.stop()


def test_a_database_that_is_restarted_under_load_loses_nothing(office: Office) -> None:
    """PostgreSQL is stopped and started again while people write: each request is done or refused, and what was done is there."""
    with postgresql() as database:
        hub = RunningHub(office, ["--database", database.url])
        una = hub.person("una@tidewick.example")
        made = una.new_list("Crew")
        answers: dict[str, int] = {}
        done = threading.Event()

        def write(name: str) -> None:
            for n in range(2000):
                if done.is_set():
                    return
                answers[f"{name}{n}"] = una.put(made, f"{name}{n}", None).status_code

        threads = [threading.Thread(target=write, args=(name,)) for name in "abc"]
        for thread in threads:
            thread.start()
        wait(lambda: len(answers) > 10, lambda: "nothing is answered")
        database.restart()
        before = list(answers.values()).count(201)
        wait(lambda: list(answers.values()).count(201) > before + 10, lambda: str(answers))
        done.set()
        for thread in threads:
            thread.join()
        text = una.ask("GET", f"dav/lists/{made}/", 200).text
        assert set(answers.values()) <= {201, 500, 503} and list(answers.values()).count(201) > 10
        assert all(f"UID:{uid}\r\n" in text for uid, status in answers.items() if status == 201)
        assert una.put(made, "after").status_code == 201
        # What PostgreSQL cannot hold is the request's fault, not the hub's.
        for path in ("api/lists/%00/people", "api/lists/x/people/%00", f"dav/lists/{made}/%00.vcf"):
            statuses = {una.ask(method, path).status_code for method in ("GET", "DELETE")}
            assert statuses <= {400, 404}, (path, statuses)
        doc = {"address": "a\x00b@kelp.example", "code": "x"}
        assert httpx.post(f"{hub.url}api/connect", json=doc).status_code == 400
        hub.stop()


def test_codes_end_after_a_week_and_a_clock_that_is_wrong_opens_nothing(office: Office) -> None:
    with hub_in(office) as hub:
        code = hub.code("una@tidewick.example")
        book = sqlite3.connect(office.folder / "hub" / "hub.sqlite")
        book.execute("UPDATE person SET code_until = ?", (time.time() - 1,))
        book.commit()
        doc = {"address": "una@tidewick.example", "code": code}
        assert httpx.post(f"{hub.url}api/connect", json=doc).status_code == 401
        una = hub.person("una@tidewick.example")
        # Tries that seem to lie in the future (the clock was set back) make nobody wait for ever.
        book.execute(
            "INSERT OR REPLACE INTO attempt(key, count, last) VALUES('caller 127.0.0.1', 90, ?)",
            (time.time() + 10 * 86_400,),
        )
        book.commit()
        book.close()
        wait = Person(hub.url, una.address, "wrong").ask("GET", "api/lists", 429).headers["retry-after"]
        assert int(wait) <= 3601


def test_a_hub_that_is_killed_or_full_has_nothing_half(office: Office) -> None:
    with hub_in(office) as hub:
        una = hub.person("una@tidewick.example")
        made = una.new_list("Crew")
        kept: list[str] = []

        def write() -> None:
            for n in range(500):
                try:
                    if una.put(made, f"p{n}", None).status_code == 201:
                        kept.append(f"p{n}")
                except httpx.HTTPError:
                    return

        thread = threading.Thread(target=write)
        thread.start()
        wait(lambda: len(kept) > 20, lambda: "nothing is taken")
        hub.stop(9)
        thread.join()
        hub.start()
        una = Person(hub.url, una.address, una.token)
        text = una.ask("GET", f"dav/lists/{made}/", 200).text
        assert kept and all(f"UID:{uid}\r\n" in text for uid in kept), "what was answered is there"
        assert len(kept) <= text.count("BEGIN:VCARD") <= len(kept) + 1 and text.count("BEGIN") == text.count("END")
        hub.stop()
        data = office.folder / "hub"
        size = max(p.stat().st_size for p in data.iterdir())
        hub.process = office.start(
            "hub", "serve", "--listen", f"127.0.0.1:{hub.port}", *hub.where, preexec_fn=_limit(size + 40_000)
        )
        assert hub.process.stdout is not None and hub.process.stdout.readline()
        statuses = [
            una.put(made, f"q{n}", None, card(f"q{n}", more=f"NOTE:{'x' * 5000}\r\n")).status_code for n in range(40)
        ]
        assert statuses[0] == 201 and statuses[-1] in (500, 503) and set(statuses) <= {201, 500, 503}
        assert una.ask("GET", f"dav/lists/{made}/", 200).text.count("UID:q") == statuses.count(201)


def _limit(octets: int) -> object:
    def limit() -> None:
        import resource

        resource.setrlimit(resource.RLIMIT_FSIZE, (octets, octets))

    assert os.name == "posix"
    return limit


def test_whoever_runs_the_hub_shuts_out_hands_over_and_lets_many_in(office: Office) -> None:
    with hub_in(office) as hub:

        def told(*words: str) -> Any:
            return office.told("hub", *words, *hub.where)

        founder, editor, reader = (hub.person(f"{name}@tidewick.example", name.title()) for name in ("f", "e", "r"))
        shared, alone = founder.new_list("Crew", (reader, "reader"), (editor, "editor")), founder.new_list("Alone")
        founder.put(shared, "una")
        (row,) = [one for one in told("list") if one["id"] == shared]
        assert row["cards"] == 1 and {p["address"][0]: p["role"] for p in row["people"]} == {
            "e": "editor",
            "f": "owner",
            "r": "reader",
        }
        gone = told("person", "remove", founder.address)
        assert {p["list"]: p["owner"] for p in gone["passed_on"]} == {"Crew": editor.address, "Alone": None}
        founder.ask("GET", "api/lists", 401)
        editor.ask("PUT", f"api/lists/{shared}/people/{reader.address}", 200, json={"role": "editor"})
        assert told("list", "hand-over", alone, reader.address, "--book", "none")["owner"] == reader.address
        assert reader.ask("GET", f"api/lists/{alone}/people", 200).json()[0]["role"] == "owner"
        (token,) = told("person", "tokens", reader.address)
        assert token["last_used"] and token["last_from"] == "127.0.0.1"
        told("person", "revoke", reader.address, token["name"])
        reader.ask("GET", "api/lists", 401)
        for _ in range(7):
            Person(hub.url, "new@tidewick.example", "wrong").ask("GET", "api/lists")
        people = office.file(
            "staff.csv", "Name,E-mail\nNew Hand,new@tidewick.example\n=Odd,odd@tidewick.example\nNobody,\n"
        )
        done = office.json("hub", "person", "import", str(people), "--codes", "codes.csv", *hub.where, code=1)
        assert done["people"] == 2 and len(done["refused"]) == 1 and "staff.csv, 4" in done["refused"][0]
        codes = office.folder / "codes.csv"
        assert stat.S_IMODE(codes.stat().st_mode) == 0o600 and "'=Odd" in codes.read_text()
        code = next(line.split(",")[2] for line in codes.read_text().splitlines() if line.startswith("new@"))
        told("person", "unlock", "new@tidewick.example")
        doc = {"address": "new@tidewick.example", "code": code}
        assert httpx.post(f"{hub.url}api/connect", json=doc).status_code == 200
        assert (
            "exists already"
            in office.run("hub", "person", "import", str(people), "--codes", "codes.csv", *hub.where, code=2).err
        )


def test_a_restore_revives_nobody_in_silence(office: Office, tmp_path: Path) -> None:
    with hub_in(office) as hub:
        founder, second, third = (hub.person(f"{name}@tidewick.example") for name in ("f", "s", "t"))
        made = founder.new_list("Crew", (second, "editor"), (third, "editor"))
        phone = second.ask("POST", "api/tokens", 201, json={"name": "phone"}).json()["token"]
        office.run("hub", "backup", "then.sqlite", *hub.where)
        second.ask("DELETE", "api/tokens/phone", 204)
        founder.ask("DELETE", f"api/lists/{made}/people/{third.address}", 204)
        office.run("hub", "person", "remove", third.address, *hub.where)
        hub.stop()
        assert "--over" in office.run("hub", "restore", "then.sqlite", *hub.where, code=2).err
        done = office.json("hub", "restore", "then.sqlite", "--over", *hub.where)
        assert done["ended"] == [third.address, f"the token phone of {second.address}"]
        hub.start()
        Person(hub.url, second.address, phone).ask("GET", "api/lists", 401)
        third.ask("GET", "api/lists", 401)
        second.ask("GET", f"api/lists/{made}/people", 200)
        # Into an empty place: which tokens are good again is said, or none is.
        fresh = ["--data", str(tmp_path / "fresh")]
        assert f"phone of {second.address}" in office.json("hub", "restore", "then.sqlite", *fresh)["valid"]
        bare = ["--data", str(tmp_path / "bare")]
        done = office.json("hub", "restore", "then.sqlite", "--without-tokens", *bare)
        assert {one["address"] for one in done["codes"]} == {founder.address, second.address, third.address}
        assert office.told("hub", "person", "tokens", founder.address, *bare) == []
