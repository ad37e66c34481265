"""The hub as others meet it: behind a proxy with several processes, under a flood, and as whoever runs it looks at it."""

from __future__ import annotations

import json
import shutil
import signal
import socket
import ssl
from contextlib import ExitStack, closing, suppress
from pathlib import Path

import httpx
import trustme
from conftest import Office
from hubs import RunningHub, card, hub_in, postgresql
from servers import free_port, nginx, wait

FIND = """<propfind xmlns="DAV:"><prop><current-user-principal/><displayname/></prop></propfind>"""
MANY = """<c:addressbook-multiget xmlns="DAV:" xmlns:c="urn:ietf:params:xml:ns:carddav"><prop><getetag/></prop><href>{}</href></c:addressbook-multiget>"""


def certificate(folder: Path) -> tuple[trustme.CA, Path, Path, Path]:
    """An office's own certificate authority, and what it says of this machine: authority, certificate, key."""
    authority = trustme.CA()
    paths = folder / "ca.pem", folder / "cert.pem", folder / "key.pem"
    authority.cert_pem.write_to_path(paths[0])
    renew(authority, *paths[1:])
    return authority, *paths


def renew(authority: trustme.CA, cert: Path, key: Path) -> None:
    made = authority.issue_cert("localhost", "127.0.0.1")
    made.private_key_pem.write_to_path(key)
    made.cert_chain_pems[0].write_to_path(cert)
    for pem in made.cert_chain_pems[1:]:
        pem.write_to_path(cert, append=True)


def test_three_processes_behind_a_proxy_below_a_path(office: Office, tmp_path: Path) -> None:
    _, ca, cert, key = certificate(tmp_path)
    with postgresql() as database, ExitStack() as stack:
        more = ["--path", "/lists", "--proxy", "127.0.0.1", "--most-connections", "9", "--processes", "3"]
        hubs = []
        for number in range(3):
            place = Office(tmp_path / f"hub{number}")
            place.folder.mkdir()
            hubs.append(RunningHub(place, ["--database", database.url], *more))
            stack.callback(hubs[-1].stop)
        url = stack.enter_context(nginx([hub.port for hub in hubs], cert, key))
        maren, tor = (Office(tmp_path / name) for name in ("maren", "tor"))
        for one, name in ((maren, "maren"), (tor, "tor")):
            one.folder.mkdir()
            one.within("setup", "--me", f"{name.title()} <{name}@tidewick.example>")
            code = hubs[0].code(f"{name}@tidewick.example", name.title())
            if one is maren:
                err = one.run("hub", "connect", url, "--code", code, code=2).err
                assert "hub.ca_file" in err
            one.within("settings", "hub.authority", str(ca))  # as it was called earlier
            assert one.told("settings")["hub.ca_file"] == str(ca)
            one.run("hub", "connect", url, "--code", "-", stdin=f"{code}\n")
        rows = "".join(f"Holder Nr{n},h{n}@kelp.example,{'x' * 3000}\n" for n in range(600))
        maren.run("import", str(maren.file("many.csv", "Name,E-mail,Organisation\n" + rows)), "--into", "Crew")
        for title in ("Pilots", "Quay"):
            maren.within("list", "new", title, "h1@kelp.example")
        maren.run("share", "offer", "Crew", "Pilots", "Quay", "--with", "tor@tidewick.example", "--role", "editor")
        assert [one["list"] for one in tor.told("share", "waiting")] == ["Crew", "Pilots", "Quay"]
        for title in ("Crew", "Pilots", "Quay"):
            tor.run("share", "accept", title, code=None)
        assert len(tor.members("Crew")) == 600, "more than the proxy takes at once, so in parts"
        tor.within("contact", "edit", "h7@kelp.example", "--job", "Pilot")
        tor.run("sync", code=None)
        assert maren.json("sync")["lists"][0]["changed"] == 1
        # Another program finds everything below the path.
        token = maren.json("hub", "token", "new", "--for", "phone")["token"]
        auth, trust = ("maren@tidewick.example", token), ssl.create_default_context(cafile=str(ca))
        with httpx.Client(auth=auth, verify=trust, base_url=url) as phone:
            found = phone.get("https://" + url.split("/")[2] + "/.well-known/carddav")
            assert (found.status_code, found.headers["location"]) == (
                301,
                f"https://{url.split('/')[2]}/lists/dav/",
            ) or found.headers["location"].endswith("/lists/dav/")
            text = phone.request("PROPFIND", "dav/", content=FIND, headers={"Depth": "1"}).text
            assert "<d:href>/lists/dav/lists/</d:href>" in text and "<d:href>/lists/dav/people/maren" in text
            text = phone.request("PROPFIND", "dav/lists/", content=FIND, headers={"Depth": "1"}).text
            (shelf, *_) = [
                part.split("<")[0]
                for part in text.split("<d:href>")[1:]
                if part.startswith("/lists/dav/lists/") and len(part.split("<")[0]) > 20
            ]
            names = phone.request("PROPFIND", shelf.removeprefix("/lists/"), content=FIND, headers={"Depth": "1"}).text
            one = next(
                part.split("<")[0] for part in names.split("<d:href>")[1:] if part.split("<")[0].endswith(".vcf")
            )
            assert one.startswith(shelf)
            assert (
                phone.request("REPORT", shelf.removeprefix("/lists/"), content=MANY.format(one)).text.count("getetag")
                == 2
            )
        logs = "".join((hub.office.folder / "hub.log").read_text() for hub in hubs)
        callers = {json.loads(line)["caller"] for line in logs.splitlines()}
        assert callers == {"127.0.0.1"} and all((hub.office.folder / "hub.log").stat().st_size for hub in hubs)
        with closing(Database(database.url)) as db:
            assert db.connections() <= 9 + 3


class Database:
    """Looks at the database by itself."""

    def __init__(self, url: str) -> None:
        import psycopg

        self.line = psycopg.connect(url.replace("postgresql+psycopg", "postgresql"))

    def connections(self) -> int:
        row = self.line.execute("SELECT count(*) FROM pg_stat_activity WHERE datname = 'hub'").fetchone()
        assert row is not None
        return int(row[0])

    def close(self) -> None:
        self.line.close()


def test_lines_that_nobody_uses_keep_nobody_out(office: Office) -> None:
    with (
        hub_in(office, "--most-lines", "300", "--most-lines-each", "200", "--most-seconds", "1") as hub,
        ExitStack() as stack,
    ):
        una = hub.person("una@tidewick.example")
        made = una.new_list("Crew")
        silent = []
        for number in range(1_300):
            line = stack.enter_context(socket.create_connection(("127.0.0.1", hub.port)))
            line.sendall(b"GET / HT" if number % 2 else b"")
            silent.append(line)
            if number % 200 == 0:
                una.put(made, f"u{number}")
        una.ask("GET", f"dav/lists/{made}/", 200)
        # Whoever begins a request and does not end it is cut off, whatever it is.
        head = (
            b"POST /api/connect HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{"
        )
        slow = stack.enter_context(socket.create_connection(("127.0.0.1", hub.port)))
        slow.sendall(head)
        slow.settimeout(60)
        assert slow.recv(1000).startswith(b"HTTP/1.1 408")
        wait(lambda: all(_is_cut(line) for line in silent[-150:]), lambda: "a line that stays")
        hub.stop()
        log = (office.folder / "hub.log").read_text()
        assert "Traceback" not in log and sum("trouble" in line for line in log.splitlines()) < 5


def test_handshakes_that_nobody_ends_are_lines_too(office: Office, tmp_path: Path) -> None:
    _, ca, cert, key = certificate(tmp_path)
    tls = "--tls-cert", str(cert), "--tls-key", str(key)
    with (
        hub_in(office, *tls, "--most-lines", "40", "--most-lines-each", "60", "--most-seconds", "60") as hub,
        ExitStack() as stack,
    ):
        silent = []
        for number in range(200):
            line = stack.enter_context(socket.create_connection(("127.0.0.1", hub.port)))
            line.sendall(b"\x16\x03\x01\x02" if number % 2 else b"")  # how a handshake begins
            silent.append(line)
        wait(lambda: all(_is_cut(line) for line in silent[:150]), lambda: "a handshake that stays")
        context = ssl.create_default_context(cafile=str(ca))
        raw = stack.enter_context(socket.create_connection(("localhost", hub.port), timeout=60))
        with context.wrap_socket(raw, server_hostname="localhost") as agreed:
            agreed.sendall(b"GET /api/nothing HTTP/1.1\r\nHost: x\r\n\r\n")
            assert agreed.recv(1000).startswith(b"HTTP/1.1 40")
        for _ in range(100):  # what is no handshake leaves its place at once
            with socket.create_connection(("127.0.0.1", hub.port), timeout=60) as wrong, suppress(ConnectionResetError):
                wrong.sendall(b"GET / HTTP/1.1\r\n\r\n")
                while wrong.recv(1000):
                    pass
        assert not _is_cut(silent[-1])
        hub.stop()
        log = (office.folder / "hub.log").read_text()
        assert "Traceback" not in log and sum("trouble" in line for line in log.splitlines()) < 5
    shutil.copy(ca, key)
    said = office.run("hub", "serve", "--data", "other", "--listen", "127.0.0.1:0", *tls, code=2)
    assert "not a certificate and its key" in said.err


def _is_cut(line: socket.socket) -> bool:
    line.setblocking(False)
    try:
        return line.recv(100) == b""
    except BlockingIOError:
        return False
    except OSError:
        return True


def test_what_one_reader_asks_for_is_bounded_and_a_large_card_is_read(office: Office) -> None:
    with hub_in(office) as hub:
        una = hub.person("una@tidewick.example")
        made = una.new_list("Crew")
        una.put(made, "una")
        many = "".join(f"<x{n}/>" for n in range(20_000))
        wish = f"<propfind xmlns='DAV:'><prop>{many}</prop></propfind>"
        una.ask("PROPFIND", f"dav/lists/{made}/", 400, content=wish, headers={"Depth": "1"})
        tests = "<c:prop-filter name='FN'/>" * 1000
        query = f"<c:addressbook-query xmlns='DAV:' xmlns:c='urn:ietf:params:xml:ns:carddav'><prop/><c:filter>{tests}</c:filter></c:addressbook-query>"
        una.ask("REPORT", f"dav/lists/{made}/", 403, content=query)
        addresses = "".join(f"EMAIL:a{n}@kelp.example\r\n" for n in range(9_000))
        una.put(made, "large", data=card("large", more=addresses))
        tor = Office(office.folder / "tor")
        tor.folder.mkdir()
        tor.within("setup", "--me", "Una <una@tidewick.example>")
        tor.within("hub", "connect", hub.url, "--code", hub.code("una@tidewick.example"))
        tor.within("sync")
        assert len(tor.members("Crew")) == 2


def test_metrics_a_new_certificate_and_a_proxy_of_the_environment(office: Office, tmp_path: Path) -> None:
    authority, ca, cert, key = certificate(tmp_path)
    place = f"127.0.0.1:{free_port()}"
    options = ["--tls-cert", str(cert), "--tls-key", str(key), "--metrics", place, "--most-seconds", "2"]
    with hub_in(office, *options) as hub:

        def serial() -> str:
            context = ssl.create_default_context(cafile=str(ca))
            with (
                socket.create_connection(("localhost", hub.port)) as raw,
                context.wrap_socket(raw, server_hostname="localhost") as line,
            ):
                return str(line.getpeercert()["serialNumber"])  # type: ignore[index]

        with socket.create_connection(("localhost", hub.port), timeout=60) as silent:  # no handshake
            assert silent.recv(100) == b""
        before = serial()
        renew(authority, cert, key)
        hub.process.send_signal(signal.SIGHUP)
        wait(lambda: serial() != before, lambda: "the old certificate")
        text = httpx.get(f"http://{place}/metrics").text
        assert "barnacle_lines " in text and "barnacle_people 0.0" in text
    with hub_in(office, "--metrics", place) as hub:
        office.environment |= {
            "HTTP_PROXY": "http://127.0.0.1:9",
            "http_proxy": "http://127.0.0.1:9",
            "ALL_PROXY": "http://127.0.0.1:9",
        }
        office.run("hub", "connect", hub.url, "--code", hub.code("maren@tidewick.example"))
        assert office.json("sync") == {"lists": [], "offered": []}
        text = httpx.get(f"http://{place}/metrics").text
        assert 'barnacle_requests_total{status="2xx",what="api/lists"} 1.0' in text and "barnacle_people 1.0" in text
        shutil.rmtree(office.home, ignore_errors=True)
