"""House lists with real servers: from mail program to mailbox; killed, cut off and restarted; their pages in a browser."""

from __future__ import annotations

import base64
import json
import os
import random
import signal
import smtplib
import subprocess
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

import dkim
import httpx
from conftest import HANGS, Mail, Office, disk
from houses import OWN, TRUSTED, House, house_in, link, posting, read
from hubs import RunningHub, postgresql
from imapclient import IMAPClient
from servers import free_port, imap_server, mail_server, need, postfix, wait

KEEPER = "maren@tidewick.example"
_BACK = """
127.0.0.1:{back} inet n - n - - smtpd
  -o smtpd_client_restrictions=permit_mynetworks,reject
  -o smtpd_recipient_restrictions=permit_mynetworks,reject
lmtp unix - - n - - lmtp
"""


def keys() -> tuple[bytes, bytes]:
    """A key of a domain, and what the DNS says of it."""
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric import rsa

    key = rsa.generate_private_key(65537, 2048)
    secret = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.TraditionalOpenSSL, serialization.NoEncryption()
    )
    public = key.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    return secret, b"v=DKIM1; k=rsa; p=" + base64.b64encode(public)


def test_from_a_mail_program_to_each_mailbox_and_back(office: Office) -> None:
    """Handed to Postfix, by LMTP to the hub, back to Postfix, and read in the mailboxes by IMAP."""
    secret, record = keys()
    door, back = free_port(), free_port()
    members = ["ada@tidewick.example", "bo@kelp.example", "cy@kelp.example"]
    vouch = f"Authentication-Results: {TRUSTED}; auth=pass; dkim=pass header.d=tidewick.example"
    with (
        imap_server() as (imap, boxes),
        postfix(
            [*members, KEEPER],
            services=_BACK.format(back=back),
            mail=boxes,
            relay_domains=f"{OWN} gull.example",
            transport_maps=f"inline:{{ {{{OWN} = lmtp:inet:127.0.0.1:{door}}}, {{gull.example = error:5.1.1 no such user}} }}",
            smtpd_recipient_restrictions=f"check_client_access static:{{PREPEND {vouch}}}, permit_mynetworks, reject",
            header_checks=f"regexp:{{ {{/^Authentication-Results: {TRUSTED}; dmarc/ IGNORE}} }}",
            recipient_delimiter="",
            virtual_transport="virtual",
        ) as (smtp, _),
    ):
        hub = RunningHub(
            office, ["--data", str(office.folder / "hub")], "--lmtp", f"127.0.0.1:{door}", "--mail",
            f"smtp://127.0.0.1:{back}", "--own-domain", OWN, "--house-domain", "tidewick.example", "--trust-results", TRUSTED,
            "--public-url", "https://lists.tidewick.example/",
        )  # fmt: skip
        house = object.__new__(House)
        house.office, house.hub = office, hub
        keeper = hub.person(KEEPER, "Maren Holt")
        made = house.open(
            keeper, "Ferry crews", "ferry-crews", *members, "gone@gull.example", writers="staff", outsiders=True
        )
        raw = posting(
            "Ada Holm <ada@tidewick.example>", f"ferry-crews@{OWN}", "The tide table,\r\n.with a dot.\r\n", "",
            Date="Sun, 29 Nov 2026 10:00:00 +0000", Authentication_Results=f"{TRUSTED}; dmarc=pass header.from=kelp.example",
        )  # fmt: skip
        signature = dkim.sign(
            raw, b"s", b"tidewick.example", secret, include_headers=[b"from", b"to", b"subject", b"date", b"message-id"]
        )
        server = smtp.removeprefix("smtp://")
        with smtplib.SMTP(*server.split(":")) as line:  # type: ignore[arg-type]
            line.sendmail("ada@tidewick.example", [f"ferry-crews@{OWN}"], signature + raw)

        def in_mailbox(address: str, number: int = 1) -> list[bytes]:
            host, _, port = imap.rpartition(":")
            end = time.monotonic() + 60
            while True:
                with IMAPClient(host, int(port), ssl=False) as box:
                    box.login(address, "flood-gate")
                    box.select_folder("INBOX", readonly=True)
                    found = [one[b"BODY[]"] for one in box.fetch(box.search(), ["BODY.PEEK[]"]).values()]
                if len(found) >= number or time.monotonic() > end:
                    assert len(found) == number, (address, len(found), (office.folder / "hub.log").read_text()[-2000:])
                    return found
                time.sleep(0.2)

        ways, returns = set(), set()
        for member in members:
            (copy,) = in_mailbox(member)
            assert dkim.verify(copy, dnsfunc=lambda name, timeout=5: record), "the writer's signature holds"
            message = read(copy)
            head = copy.partition(b"\r\n\r\n")[0].decode()
            assert message["From"] == "Ada Holm <ada@tidewick.example>" and TRUSTED not in head.partition("List-Id")[2]
            others = [one for one in (*members, "gone@gull.example") if one not in (member, "ada@tidewick.example")]
            assert not any(one in copy.decode() for one in others)
            returns.add(str(message["Return-Path"]))
            ways.add(link(message, "leave"))
        assert len(ways) == len(returns) == 3 and all("bounce+" in one for one in returns)
        # Postfix took the copy for somebody who is not there, and reports it by itself.
        path = f"api/house/{made}/members"

        def state() -> str:
            return next(m["state"] for m in keeper.ask("GET", path).json() if m["address"] == "gone@gull.example")

        wait(lambda: state() == "paused", lambda: str(keeper.ask("GET", path).json()), 60)
        assert b"no such user" in in_mailbox(KEEPER)[0]
        # An outsider is told by the mail server at once, and nothing comes of it.
        with smtplib.SMTP(*server.split(":")) as line:  # type: ignore[arg-type]
            line.sendmail(
                "bo@kelp.example", [f"ferry-crews@{OWN}"], posting("bo@kelp.example", f"ferry-crews@{OWN}", head="")
            )
        assert b"only the staff of the house write to it" in in_mailbox("bo@kelp.example", 2)[-1]
        assert len(in_mailbox("cy@kelp.example")) == 1
        hub.stop()


DOCS = Path(__file__).parent.parent / "docs" / "house-lists.md"


def test_exim_hands_over_with_the_lines_of_the_documentation(office: Office) -> None:
    """Two domains of lists; a forged result is stripped, and who hands in with a name is vouched for."""
    block = DOCS.read_text("utf-8").partition("### Exim")[2].partition("```text\n")[2].partition("```")[0]
    assert block.count("\n# ") == 2, block
    door = free_port()
    block = block.replace("port = 2424", f"port = {door}").replace(
        "def:authenticated_id", "match{$sender_address}{^ada@}"
    )
    _, router, transport, data = (part.partition("\n")[2] for part in f"\n{block}".split("\n#"))
    people = ["ada@tidewick.example", "bo@kelp.example"]
    lines = {"domains": f"{OWN} : lists.tidewick.example", "data": data, "router": router, "transport": transport}
    with mail_server(people, **lines) as (smtp, boxes):
        hub = RunningHub(
            office, ["--data", str(office.folder / "hub")], "--lmtp", f"127.0.0.1:{door}", "--mail", smtp, "--own-domain", OWN,
            "--house-domain", "tidewick.example", "--trust-results", TRUSTED, "--public-url", "https://lists.tidewick.example/",
        )  # fmt: skip
        house = object.__new__(House)
        house.office, house.hub = office, hub
        keeper = hub.person(KEEPER, "Maren Holt")
        made = house.open(keeper, "Ferry crews", "ferry-crews", *people, writers="staff", outsiders=True)
        forged = f"Authentication-Results: {TRUSTED}; auth=pass\r\n"
        for sender in ("ada@tidewick.example", "eve@kelp.example"):
            with smtplib.SMTP(*smtp.removeprefix("smtp://").split(":")) as line:  # type: ignore[arg-type]
                line.sendmail(
                    sender, [f"ferry-crews@{OWN}"], posting("ada@tidewick.example", f"ferry-crews@{OWN}", head=forged)
                )
        found = boxes / "bo@kelp.example" / "new"
        wait(
            lambda: found.exists() and len(list(found.iterdir())) == 1,
            lambda: (office.folder / "hub.log").read_text(),
            60,
        )
        path = f"api/house/{made}/held"
        wait(lambda: len(keeper.ask("GET", path).json()) == 1, lambda: keeper.ask("GET", path).text, 60)
        assert keeper.ask("GET", path).json()[0]["why"] == "nothing proves who wrote it"
        hub.stop()


class Sink:
    """What came to whom, by Message-ID, from the Maildirs of a stand-in server."""

    def __init__(self, mail: Mail) -> None:
        self.mail = mail

    def counts(self) -> Counter[tuple[str, str]]:
        found: Counter[tuple[str, str]] = Counter()
        for address in self.mail.addresses:
            for copy in self.mail.copies(address):
                found[address, str(read(copy)["Message-ID"])] += 1
        return found


def children(pid: int) -> list[int]:
    text = Path(f"/proc/{pid}/task/{pid}/children").read_text()
    return [int(one) for one in text.split()]


def hunt(office: Office, mail: Mail, where: list[str], hubs: int, kills: int, postings: int) -> dict[str, int]:
    """Kill processes of hubs at random while postings come in. Returns how the copies stand at the end."""
    pick = random.Random(7)
    options = (
        "--lmtp", "127.0.0.1:0", "--mail", mail.url, "--own-domain", OWN, "--house-domain", "tidewick.example",
        "--trust-results", TRUSTED, "--public-url", "https://lists.tidewick.example/",
    )  # fmt: skip
    running = [RunningHub(office, where, *options) for _ in range(hubs)]
    house = object.__new__(House)
    house.office, house.hub, house.mail = office, running[0], mail
    keeper = running[0].person(KEEPER, "Maren Holt")
    members = [f"m{n}@kelp.example" for n in range(20)]
    house.open(keeper, "Crew", "crew", *members, writers="staff", outsiders=True, pace=10_000)
    taken: set[str] = set()
    sent = 0
    try:
        for _ in range(kills):
            for _ in range(2):
                if sent < postings:
                    sent += 1
                    identity = f"<p{sent}@kelp.example>"
                    raw = posting("ada@tidewick.example", f"crew@{OWN}", Message_ID=identity)
                    for _ in range(50):  # as a mail server does: again, until it is taken
                        house.hub = pick.choice(running)
                        try:
                            code, said = house.hand_over(raw, f"crew@{OWN}")[0]
                        except (OSError, smtplib.SMTPException):
                            time.sleep(0.05)
                            continue
                        if code == 250:
                            assert "Taken" in said or "before" in said, said
                            taken.add(identity)
                            break
            time.sleep(pick.random() * 0.05)
            victim = pick.choice(running)
            processes = [victim.process.pid, *children(victim.process.pid)]
            whom = pick.choice(processes)
            try:
                os.kill(whom, signal.SIGKILL)
            except ProcessLookupError:
                continue
            if whom == victim.process.pid:
                victim.process.communicate(timeout=HANGS)
                victim.log.close()
                victim.start()
        house.hub = running[0]

        def done() -> bool:
            rows = office.told("hub", "queue", *where)
            return not any(one["waiting"] or one["deferred"] for one in rows)

        wait(done, lambda: str(office.told("hub", "queue", *where)[-3:]), HANGS)
        rows = [one for one in office.told("hub", "queue", *where) if one["from"] != "the hub itself"]
    finally:
        for one in running:
            if one.process.poll() is None:
                one.stop()
    counts = Sink(mail).counts()
    assert not [key for key, times in counts.items() if times > 1], "nobody twice"
    doubtful = sum(one["doubtful"] for one in rows)
    missing = len(taken) * len(members) - len(counts)
    assert len(taken) == postings and 0 <= missing <= doubtful, (missing, doubtful)
    assert sum(one["accepted"] for one in rows) + doubtful == len(taken) * len(members)
    return {"kills": kills, "doubtful": doubtful, "missing": missing, "accepted": sum(one["accepted"] for one in rows)}


def test_hubs_that_are_killed_send_nobody_twice_and_lose_nobody(office: Office) -> None:
    mail = Mail(office)
    try:
        hunt(office, mail, ["--data", str(office.folder / "hub")], 1, 12, 20)
    finally:
        mail.stop()


def test_two_hubs_on_one_postgresql_that_are_killed_send_nobody_twice(office: Office) -> None:
    mail = Mail(office)
    try:
        with postgresql() as database:
            hunt(office, mail, ["--database", database.url], 2, 12, 20)
    finally:
        mail.stop()


def test_mail_waits_for_a_mail_server_that_is_away_and_a_database_that_restarts(office: Office) -> None:
    with postgresql() as database:
        mail = Mail(office, "--defer", "slow@*", "--defer-times", "1", "--refuse", "gone@*")
        where = ["--database", database.url]
        house = House(office, mail, where)
        keeper = house.hub.person(KEEPER, "Maren Holt")
        members = ["bo@kelp.example", "slow@kelp.example", "gone@kelp.example"]
        house.open(keeper, "Crew", "crew", *members, writers="staff", outsiders=True)
        port = mail.url.rpartition(":")[2]
        mail.stop()
        house.post("ada@tidewick.example", f"crew@{OWN}", Subject="One")

        def queue() -> dict[str, Any]:
            return next(one for one in office.told("hub", "queue", *where) if one["from"].startswith("ada@"))

        log = office.folder / "hub.log"
        wait(lambda: "passing on" in log.read_text(), log.read_text, 60)
        assert queue()["waiting"] == 3
        database.restart()
        wait(
            lambda: house.post("ada@tidewick.example", f"crew@{OWN}", Subject="Two")[0] == 250, lambda: "no answer", 60
        )
        mail = Mail(office, "--port", port, "--defer", "slow@*", "--defer-times", "2", "--refuse", "gone@*")
        wait(lambda: queue()["accepted"] == 1 and queue()["refused"] == 1, lambda: str(queue()), 60)
        assert queue()["deferred"] == 1 and "451" in queue()["why"] and len(mail.copies("bo@kelp.example")) == 2
        number = str(queue()["number"])
        office.run("hub", "queue", "retry", number, *where)
        wait(lambda: queue()["accepted"] == 2, lambda: str(queue()), 60)
        other = next(one for one in office.told("hub", "queue", *where) if one["deferred"])
        assert "1 copy is given up" in office.run("hub", "queue", "drop", str(other["number"]), *where).out
        office.run("hub", "queue", "drop", "9999", *where, code=2)
        metrics = house.hub
        assert metrics.process.poll() is None
        house.hub.stop()
        mail.stop()


class Browser:
    """A browser without a window, told what to do over its pipe (the DevTools protocol)."""

    def __init__(self, folder: Path) -> None:
        program = need("chromium", "chromium")
        told, self.tell = os.pipe()
        self.hear, said = os.pipe()

        def wire() -> None:
            os.dup2(told, 3)
            os.dup2(said, 4)

        self.process = subprocess.Popen(
            [program, "--headless=new", "--no-sandbox", "--disable-gpu", "--remote-debugging-pipe",
             f"--user-data-dir={folder}", "about:blank"],
            preexec_fn=wire, pass_fds=(3, 4), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, close_fds=True,
        )  # fmt: skip
        os.close(told)
        os.close(said)
        self.number, self.rest, self.session = 0, b"", ""
        target = self.do("Target.createTarget", url="about:blank")["targetId"]
        self.session = self.do("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        self.do("Page.enable")

    def do(self, method: str, **params: Any) -> Any:
        self.number += 1
        session = {"sessionId": self.session} if self.session else {}
        os.write(
            self.tell, json.dumps({"id": self.number, "method": method, "params": params, **session}).encode() + b"\0"
        )
        while True:
            while b"\0" not in self.rest:
                part = os.read(self.hear, 1 << 16)
                assert part, "the browser has gone"
                self.rest += part
            one, _, self.rest = self.rest.partition(b"\0")
            answer = json.loads(one)
            if answer.get("id") == self.number:
                assert "error" not in answer, answer
                return answer["result"]

    def say(self, expression: str) -> Any:
        return self.do("Runtime.evaluate", expression=expression, returnByValue=True)["result"].get("value")

    def go(self, url: str) -> None:
        self.do("Page.navigate", url=url)
        wait(
            lambda: self.say("document.readyState") == "complete" and self.say("location.href") == url, lambda: url, 60
        )

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        os.close(self.tell)
        os.close(self.hear)


@contextmanager
def browser(folder: Path) -> Iterator[Browser]:
    with closing(Browser(folder)) as made:
        yield made


def test_the_pages_are_of_use_on_a_phone(office: Office) -> None:
    with house_in(office, ["--data", str(office.folder / "hub")]) as house, browser(office.folder / "browser") as page:
        keeper = house.hub.person(KEEPER, "Maren Holt")
        made = house.open(
            keeper, "Berth holders of pontoon C and everybody else who moors there", "berths", outsiders=True
        )
        people = {"people": [["eve.with.a.rather.long.name@a-long-name-of-a-domain.kelp.example", "Eve"]]}
        keeper.ask("POST", f"api/house/{made}/invite", 200, json=people)
        address = people["people"][0][0]
        page.do("Emulation.setDeviceMetricsOverride", width=360, height=640, deviceScaleFactor=2, mobile=True)

        def fits() -> None:
            assert page.say("document.documentElement.scrollWidth") <= 360
            assert page.say("document.querySelectorAll('script, link, img').length") == 0
            assert float(str(page.say("parseFloat(getComputedStyle(document.body).fontSize)"))) >= 16

        def press() -> None:
            height = page.say("document.querySelector('button').getBoundingClientRect().height")
            assert height >= 44, "a finger hits it"
            page.say("document.querySelector('button').click()")

        page.go(house.hub.url + link(house.last(address), "yes"))
        fits()
        assert "You are invited to this list" in page.say("document.body.innerText")
        press()
        wait(lambda: "You are on the list" in str(page.say("document.body.innerText")), lambda: "not on it", 30)
        fits()
        page.go(house.hub.url + link(house.last(address, 2), "leave"))
        fits()
        press()
        wait(lambda: "You are not on the list" in str(page.say("document.body.innerText")), lambda: "still on it", 30)
        fits()
        page.go(house.hub.url + "house/leave/" + "0" * 32)
        assert "There is nothing here" in page.say("document.body.innerText")


def test_a_full_disk_keeps_mail_at_the_mail_server_and_nothing_is_sent_by_halves(office: Office) -> None:
    """Whoever hands mail over hears 451 and keeps it; with room again it is taken, once."""
    mail = Mail(office)
    listen = f"127.0.0.1:{free_port()}"
    with disk(office.folder / "disk", 16 << 20) as place:
        house = House(office, mail, ["--data", str(place / "hub")], "--metrics", listen)
        keeper = house.hub.person(KEEPER, "Maren Holt")
        house.open(keeper, "Crew", "crew", "bo@tidewick.example", writers="staff")
        filler = place / "filler"
        with suppress(OSError), filler.open("wb", buffering=0) as file:
            while file.write(b"x" * 65_536):
                pass
        raw = posting("ada@tidewick.example", f"crew@{OWN}", "The tide table.\r\n" * 300_000)
        assert house.hand_over(raw, f"crew@{OWN}")[0][0] == 451
        filler.unlink()
        assert "Taken for 1" in house.hand_over(raw, f"crew@{OWN}")[0][1]
        house.come("bo@tidewick.example")
        house.quiet()
        assert len(house.mail.copies("bo@tidewick.example")) == 1
        text = httpx.get(f"http://{listen}/metrics").text
        assert "barnacle_house_held 0.0" in text and "barnacle_house_waiting_seconds" in text
        house.hub.stop()
    mail.stop()


def test_an_invited_colleague_joins_by_command(office: Office) -> None:
    with house_in(office, ["--data", str(office.folder / "hub")]) as house:
        keeper, invited = (
            house.hub.person(KEEPER, "Maren Holt"),
            house.hub.person("idris@tidewick.example", "Idris Vane"),
        )
        made = house.open(keeper, "Board", "board", joining="closed")
        assert invited.ask("POST", f"api/house/{made}/join").status_code == 403
        people = {"people": [["idris@tidewick.example", "Idris Vane"], ["not an address", ""]]}
        done = keeper.ask("POST", f"api/house/{made}/invite", 200, json=people).json()
        assert [one["state"] for one in done] == ["invited", "refused"] and "is not an address" in done[1]["why"]
        assert invited.ask("POST", f"api/house/{made}/join", 200).json() == {"state": "on"}
        assert [one["title"] for one in invited.ask("GET", "api/house", 200).json()["on"]] == ["Board"]
