"""A hub that is none, that is cut off, or that forgets; and what is undone or removed between two exchanges."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread

import httpx
import pytest
from conftest import HANGS, Office
from hubs import RunningHub, hub_in

HTML = b"<html>Sign in to the quayside network</html>"


class Between(ThreadingHTTPServer):
    """Stands before a hub and passes everything on, but for requests whose path ends with `spoiled[0]`: they are
    answered with that status, and with that body, of which half goes missing where it is None."""

    def __init__(self, hub: str) -> None:
        self.hub = hub
        self.spoiled: tuple[str, int, bytes | None] = ("none", 0, b"")
        super().__init__(("127.0.0.1", 0), Passing)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}/"


class Passing(BaseHTTPRequestHandler):
    server: Between

    def _pass(self) -> None:
        body = self.rfile.read(int(self.headers.get("content-length", 0)))
        path, status, instead = self.server.spoiled
        spoiled = self.path.endswith(path)
        if spoiled and instead is not None:
            self._say(status, "application/json", instead, len(instead))
            return
        head = {
            name: self.headers[name] for name in ("authorization", "content-type", "if-match") if name in self.headers
        }
        url = self.server.hub + self.path.lstrip("/")
        answer = httpx.request(self.command, url, content=body, headers=head, timeout=HANGS)
        whole, kind = answer.content, answer.headers.get("content-type", "text/html")
        self._say(answer.status_code, kind, whole[: len(whole) // 2] if spoiled else whole, len(whole))

    def _say(self, status: int, kind: str, content: bytes, length: int) -> None:
        self.send_response(status)
        for name, value in (("Content-Type", kind), ("Retry-After", "\x1b[31m7"), ("Content-Length", str(length))):
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(content)
        self.close_connection = True

    do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = _pass

    def log_message(self, *_: object) -> None:
        pass


@contextmanager
def before(hub: RunningHub) -> Iterator[Between]:
    with Between(hub.url) as server:
        Thread(target=server.serve_forever, daemon=True).start()
        yield server
        server.shutdown()


@pytest.fixture
def hub(office: Office) -> Iterator[RunningHub]:
    with hub_in(office) as hub:
        yield hub


@pytest.fixture
def tor(office: Office, hub: RunningHub, tmp_path: Path) -> Office:
    """A colleague, beside the office, whose list Crew he may change; both are connected to the hub."""
    tor = Office(tmp_path / "tor")
    tor.folder.mkdir()
    tor.within("setup", "--me", "Tor Vik <tor@tidewick.example>")
    tor.within("hub", "connect", hub.url, "--code", hub.code("tor@tidewick.example", "Tor Vik"))
    office.within("hub", "connect", hub.url, "--code", hub.code("maren@tidewick.example", "Maren Holt"))
    office.within("contact", "add", "Una Berg <una@kelp.example>", "--into", "Crew")
    office.within("share", "offer", "Crew", "--with", "tor@tidewick.example", "--role", "editor")
    tor.within("share", "accept", "Crew")
    return tor


# What answers to which question, with which status and body; what is said of it, and the exit code: where something of one
# list makes no sense, that is this list's trouble.
STRANGE = [
    ("lists", 200, HTML, "is not a hub", 2),
    ("lists", 200, None, "peer closed connection", 2),
    ("lists", 200, b'["a"]', "is not a hub", 2),
    ("lists", 404, HTML, "is not a hub (status 404)", 2),
    ("lists", 200, b'[{"id": "../x", "title": "a", "role": "owner", "state": "offered", "from": "", "since": ""}]', "is not a hub", 2),
    ("lists", 200, b'[{"id": "a1", "title": "a", "role": "captain", "state": "offered", "from": "", "since": ""}]', "is not a hub", 2),
    ("lists", 200, b'[{"id": "a1", "title": "a", "role": "reader", "state": "joined", "from": "", "since": ""}]', "is not a hub", 2),
    ("changes", 200, None, "peer closed connection", 2),
    ("changes", 200, b'{"cards": [], "token": "x", "more": true}', "does not end", 1),
    ("changes", 200, b'{"cards": [["a.vcf", "e", null, "", ""]], "token": "x", "more": true}', "does not end", 1),
    ("changes", 409, b'{"error": "none of this list"}', "makes no sense", 1),
    ("changes", 413, HTML, "answered 413", 1),
    ("changes", 302, HTML, "redirects elsewhere (status 302)", 2),
    ("changes", 500, b'{"error": "\\u001b[31mno disk"}', "is having problems: [31mno disk", 2),
    ("cards", 200, b'{"cards": [{"status": 201}]}', "is not a hub", 1),
    ("cards", 200, b'{"cards": []}', "is not a hub", 1),
    ("cards", 413, HTML, "Dot Fly: The hub refuses: status 413", 1),
    ("cards", 507, HTML, "The hub refuses: status 507", 1),
    ("cards", 403, HTML, "The hub refuses: status 403", 1),
    ("cards", 429, b"", "asks to wait \N{REPLACEMENT CHARACTER}[31m7 seconds", 2),
    ("cards", 401, b"{}", "does not let you in", 2),
]  # fmt: skip


def test_a_hub_that_is_none_gets_a_sentence_and_changes_nothing(office: Office, hub: RunningHub, tor: Office) -> None:
    with before(hub) as between:
        tor.within("hub", "connect", between.url, "--code", hub.code("tor@tidewick.example"), "--moved")
        tor.within("sync")
        between.spoiled = ("people", 200, b'[{"address": 7}]')
        assert "is not a hub" in tor.within("share", "who", "Crew", code=2).err
        between.spoiled = ("none", 0, b"")
        tor.within("contact", "add", "Dot Fly <dot@kelp.example>", "--into", "Crew")
        known = tor.told("find"), tor.members("Crew")
        for number, (*spoiled, sentence, code) in enumerate(STRANGE):
            if spoiled[0] == "changes":
                office.within("contact", "edit", "Una Berg", "--job", f"Mate {number}")
                office.run("sync")
            between.spoiled = tuple(spoiled)  # type: ignore[assignment]
            err = tor.within("sync", code=code).err
            assert sentence in err and "\x1b" not in err, (spoiled, err)
            between.spoiled = ("cards", 429, b"")
            if spoiled[0] == "changes":
                tor.within("sync", code=None)  # what came in is in; what goes out still waits
            assert (tor.told("find"), tor.members("Crew")) == known or spoiled[0] == "changes", spoiled
            known = tor.told("find"), tor.members("Crew")
        between.spoiled = ("none", 0, b"")
        assert tor.json("sync")["lists"][0]["sent"] == 1
    office.run("sync")
    assert sorted(office.members("Crew")) == ["Dot Fly", "Una Berg"]


def test_an_opt_out_of_somebody_whom_a_list_has_only_met_goes_out_however_often_that_fails(
    office: Office, hub: RunningHub, tor: Office
) -> None:
    def waits(what: str) -> bool:
        return what in tor.within("list", "show", "Crew").out

    with before(hub) as between:
        tor.within("contact", "add", "Bo Strand <bo@kelp.example>")
        office.within("contact", "add", "Bo Strand <bo@kelp.example>", "--into", "Crew")
        office.run("sync")
        tor.within("hub", "connect", between.url, "--code", hub.code("tor@tidewick.example"), "--moved")
        tor.within("sync")
        tor.within("contact", "edit", "Bo Strand", "--phone", "+44 1632 960077")
        assert waits("nothing waiting"), "what stays here does not go out"
        assert "your changes to Bo Strand stay with you" in tor.run("sync").out
        tor.within("contact", "optout", "bo@kelp.example")
        between.spoiled = ("cards", 500, b"{}")
        for _ in range(2):
            tor.within("sync", code=None)
            assert waits("1 change waits") and not office.told("contact", "show", "Bo Strand")["opted_out"]
        between.spoiled = ("none", 0, b"")
        assert "stays with you" not in tor.run("sync").out and waits("nothing waiting")
    office.run("sync")
    there = office.told("contact", "show", "Bo Strand")
    assert there["opted_out"] and not there["phones"]


def test_an_offer_that_is_taken_back_while_it_is_accepted_is_told(office: Office, hub: RunningHub, tor: Office) -> None:
    office.within("list", "new", "Board", "Una Berg")
    office.within("share", "offer", "Board", "--with", "tor@tidewick.example")
    with before(hub) as between:
        tor.within("hub", "connect", between.url, "--code", hub.code("tor@tidewick.example"), "--moved")
        between.spoiled = ("accept", 204, b"")  # said to be accepted, and it is not
        assert "Board has just been withdrawn" in tor.run("share", "accept", "Board", code=2).err
    assert [one["title"] for one in tor.told("list")] == ["Crew"]


def put_back(hub: RunningHub) -> None:
    hub.stop()
    shutil.rmtree(hub.office.folder / "hub")
    hub.office.within("hub", "restore", "copy.sqlite", *hub.where)
    hub.start()


def test_what_only_its_sender_has_of_a_hub_put_back_goes_there_again(
    office: Office, hub: RunningHub, tor: Office
) -> None:
    office.within("hub", "backup", "copy.sqlite", *hub.where)
    tor.within("contact", "add", "Dot Fly <dot@kelp.example>", "--into", "Crew")
    assert tor.json("sync")["lists"][0]["sent"] == 1
    put_back(hub)
    assert tor.json("sync")["lists"][0]["sent"] == 1
    office.run("sync")
    assert sorted(office.members("Crew")) == ["Dot Fly", "Una Berg"]


def test_what_a_hub_put_back_from_a_backup_has_lost_goes_there_again(
    office: Office, hub: RunningHub, tor: Office
) -> None:
    edit = ("contact", "edit", "Una Berg")
    office.within(*edit, "--org", "Kelp")
    office.within("sync")
    office.within("hub", "backup", "copy.sqlite", *hub.where)
    tor.within("sync")
    tor.within("contact", "add", "Dot Fly <dot@kelp.example>", "--into", "Crew")
    tor.within(*edit, "--job", "Mate", "--phone", "+44 1632 960001", "--org", "Kelp & Co")
    for one in (tor, office):
        one.within("sync")
    put_back(hub)
    assert "1 conflict" in office.run("sync", code=1).out
    (clash,) = office.told("share", "conflicts")
    assert (clash["field"], clash["mine"], clash["theirs"]) == ("org", "Kelp & Co", "Kelp")
    office.within("share", "conflicts", "--keep", "mine", str(clash["number"]))
    for one in (office, tor, office):
        one.run("sync")
        una = one.told("contact", "show", "Una Berg")
        assert (una["job"], una["org"], una["phones"][0]["number"]) == ("Mate", "Kelp & Co", "+44 1632 960001")
        assert sorted(one.members("Crew")) == ["Dot Fly", "Una Berg"] and one.told("share", "conflicts") == []
    new = Office(tor.folder.parent / "new")
    new.folder.mkdir()
    new.within("setup", "--me", "Tor Vik <tor@tidewick.example>")
    new.within("hub", "connect", hub.url, "--code", hub.code("tor@tidewick.example"))
    new.within("sync")
    assert new.told("contact", "show", "Una Berg")["job"] == "Mate", "it is at the hub"


def test_a_card_goes_with_its_contact_into_one_that_was_on_no_list(
    office: Office, hub: RunningHub, tor: Office
) -> None:
    """The colleague's contact stays the same one, with all that is his own of her."""
    tor.within("contact", "edit", "Una Berg", "--note", "sings")
    office.within("contact", "add", "U. Berg <una.berg@kelp.example>")
    office.within("contact", "merge", "una.berg@kelp.example", "una@kelp.example")
    office.run("sync")
    tor.run("sync")
    assert len(tor.told("find", "berg")) == len(tor.members("Crew")) == 1
    assert tor.told("contact", "show", "una@kelp.example")["notes"] == "sings"


def test_what_a_reader_undoes_is_put_right(office: Office, hub: RunningHub, tor: Office) -> None:
    office.within("share", "role", "Crew", "tor@tidewick.example", "reader")
    office.within("contact", "add", "Dot Fly <dot@kelp.example>", "--into", "Crew")
    office.within("list", "take", "Crew", "Una Berg")
    office.within("sync")
    tor.within("sync")
    assert tor.members("Crew") == ["Dot Fly"]
    received = next(one for one in tor.told("history") if one["title"].startswith("Received"))
    undone = tor.run("undo", str(received["number"])).out
    assert tor.members("Crew") == ["Una Berg"] and "is shared" not in undone, "a reader's goes to nobody"
    assert "Dot Fly is on it again" in tor.run("sync").err
    office.run("sync")
    assert tor.members("Crew") == office.members("Crew") == ["Dot Fly"]


def test_whoever_was_removed_here_and_changed_there_is_asked_about(
    office: Office, hub: RunningHub, tor: Office
) -> None:
    office.within("contact", "edit", "Una Berg", "--job", "Mate")
    office.within("sync")
    tor.within("contact", "remove", "Una Berg", "--yes")
    tor.run("sync", code=1)
    (clash,) = tor.told("share", "conflicts")
    assert (clash["field"], clash["mine"], clash["theirs"]) == ("member", None, "Una Berg")
    assert tor.told("contact", "show", "Una Berg")["job"] == "Mate", "nothing is lost until somebody chooses"
    tor.run("share", "conflicts", "--keep", "mine", str(clash["number"]))
    tor.run("sync")
    office.run("sync")
    assert office.members("Crew") == tor.members("Crew") == [] and office.told("find", "una")
