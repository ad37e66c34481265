"""Exchanging shared lists with a hub on loopback, on SQLite and, where it is installed, on PostgreSQL with three processes.

    python benchmarks/hub.py [--runs 3] [--large 10000] [--clients 20] [--seconds 10] [--lists 300] [--people 200]

Prints how long `barnacle sync` takes with 10 changes of a list of 100 and of a large one (target: at most 1.5 times);
how long the cards of a first exchange of the large list take over the wire beside fetching the same cards as one file
from the same hub (at most 3 times), and the whole command beside a whole script that fetches that file; and for a
number of clients at once, each editing and synchronising over CardDAV for a while: requests a second, the 95th
percentile of their times and of each PUT, and whether an edit was lost or a request failed (targets: none).

For many lists: how long, and in how many requests, they are offered, first exchanged, exchanged with ten changes, and
with nothing new (target: one request). For many people whose program asks every 15 minutes, an hour's requests, played
in one minute: their 95th percentile, and what share of an hour the hub's processes were at work.
"""

from __future__ import annotations

import argparse
import csv
import json
import os
import random
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
from made_up import SEED, word
from postgres import postgresql

from barnacle.book import contacts, lists
from barnacle.core.contact import Address, Contact, Phone
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.sharing import connection

PROGRAM = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or "barnacle"


class Hub:
    """A hub with processes on one database."""

    def __init__(self, where: list[str], processes: int = 1, options: Sequence[str] = ()) -> None:
        self.where = where
        self.processes = []
        for _ in range(processes):
            limits = ["--most-requests", "1000000", "--most-tokens", "1000", "--processes", str(processes)]
            command = [PROGRAM, "hub", "serve", "--listen", "127.0.0.1:0", *limits, *where, *options]
            process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
            assert process.stdout is not None
            self.processes.append((process, process.stdout.readline().strip().removeprefix("listening on ")))
        self.url = self.processes[0][1]

    def token(self, address: str) -> str:
        code = json.loads(barnacle(None, "hub", "person", "add", address, "--json", *self.where))["code"]
        return str(httpx.post(f"{self.url}api/connect", json={"address": address, "code": code}).json()["token"])

    def tokens(self, addresses: list[str]) -> list[str]:
        """Those of many people, who are let in together."""
        with tempfile.TemporaryDirectory() as folder:
            file, codes = Path(folder) / "people.csv", Path(folder) / "codes.csv"
            file.write_text("E-mail\n" + "\n".join(addresses) + "\n")
            barnacle(None, "hub", "person", "import", str(file), "--codes", str(codes), *self.where)
            code_of = {row["Address"]: row["Code"] for row in csv.DictReader(codes.read_text().splitlines())}
        docs = [{"address": one, "code": code_of[one]} for one in addresses]
        with httpx.Client(base_url=self.url) as client:
            return [str(client.post("api/connect", json=doc).json()["token"]) for doc in docs]

    def connect(self, home: Path, address: str) -> None:
        code = json.loads(barnacle(None, "hub", "person", "add", address, "--json", *self.where))["code"]
        barnacle(home, "hub", "connect", self.url, "--as", address, "--code", code)

    def cpu(self) -> float:
        """Seconds for which the processes were at work so far."""
        ticks = os.sysconf("SC_CLK_TCK")
        found = (
            Path(f"/proc/{process.pid}/stat").read_text().rpartition(")")[2].split() for process, _ in self.processes
        )
        return sum((int(parts[11]) + int(parts[12])) / ticks for parts in found)

    def stop(self) -> None:
        for process, _ in self.processes:
            process.terminate()
            process.wait()


ONE_FILE = """
import sys, httpx
with httpx.Client(auth=("tor@tidewick.example", sys.argv[2]), timeout=120, verify=False) as client:
    open(sys.argv[3], "wb").write(client.get(sys.argv[1]).content)
"""


def barnacle(home: Path | None, *argv: str) -> str:
    environment = {**os.environ, "PYTHON_KEYRING_BACKEND": "keyring.backends.null.Keyring"}
    if home:
        environment["BARNACLE_HOME"] = str(home)
    return subprocess.run([PROGRAM, *argv], env=environment, check=True, capture_output=True, text=True).stdout


def timed(home: Path, *argv: str) -> float:
    begun = time.perf_counter()
    barnacle(home, *argv)
    return time.perf_counter() - begun


def make_list(home: Path, title: str, number: int) -> None:
    pick = random.Random(SEED)
    with Desk(home=home).open() as book, book.action("benchmark", "Made a list"):
        made = lists.new(book, title)
        for n in range(number):
            given, family = word(pick, 2), word(pick, 3)
            one = Contact(f"{given} {family}", addresses=[Address(f"{given}.{family}{n}@{title.lower()}.example".lower())],
                          phones=[Phone(f"+44 1632 {n:06}")], org=word(pick, 2))  # fmt: skip
            lists.add_member(book, made.id, contacts.add(book, one), "benchmark")


def change(home: Path, title: str, number: int, value: str) -> None:
    with Desk(home=home).open() as book, book.action("benchmark", "Changed some"):
        row = lists.by_exact_title(book, title)
        assert row is not None
        for member in lists.members(book, row.id)[:number]:
            member.contact.job = value
            contacts.save(book, member.id, member.contact)


def exchanges(scratch: Path, runs: int, large: int) -> None:
    hub = Hub(["--data", str(scratch / "hub")])
    try:
        homes = {}
        for name in ("maren", "tor"):
            homes[name] = scratch / name
            barnacle(homes[name], "setup", "--me", f"{name.title()} <{name}@tidewick.example>")
            hub.connect(homes[name], f"{name}@tidewick.example")
        took: dict[str, list[float]] = {}
        token = hub.token("tor@tidewick.example")
        # A book for each list, since `sync` exchanges all that it finds.
        for title, number in (("Small", 100), ("Large", large)):
            shutil.copytree(homes["maren"], scratch / f"maren-{title}")
            shutil.copytree(homes["tor"], scratch / f"tor-{title}")
            maren, tor = scratch / f"maren-{title}", scratch / f"tor-{title}"
            make_list(maren, title, number)
            offered = timed(maren, "share", "offer", title, "--with", "tor@tidewick.example", "--role", "editor")
            fetched = timed(tor, "share", "accept", title)
            if title == "Large":
                first_exchange(hub, token, scratch, runs, number)
                print(f"handing them over: {offered:.2f} s; taking them in when the offer is accepted: {fetched:.2f} s")
            for run in range(runs):
                change(maren, title, 10, f"Master {run}")
                took.setdefault(title, []).append(timed(maren, "sync"))
                took.setdefault(f"{title} received", []).append(timed(tor, "sync"))
        for what in ("", " received"):
            small, big = (statistics.median(took[f"{title}{what}"]) for title in ("Small", "Large"))
            print(f"sync with 10 changes{what or ' sent'}: 100 members {small:.2f} s, {large:,} {big:.2f} s, "
                  f"{big / small:.2f} times (at most 1.5)", flush=True)  # fmt: skip
    finally:
        hub.stop()


def first_exchange(hub: Hub, token: str, scratch: Path, runs: int, number: int) -> None:
    """A list that a book has nothing of yet: its cards alone, and the whole command, beside the same cards as one file.
    Turn by turn, since the machine's speed changes from minute to minute."""
    bare = httpx.Client(auth=("tor@tidewick.example", token), timeout=120)
    one = next(o for o in bare.get(f"{hub.url}api/lists").json() if o["title"] == "Large")
    url = f"{hub.url}dav/lists/{one['id']}/"
    with (
        Desk(home=scratch / "tor-Large").open() as book,
        connection.client_of(Desk(home=scratch / "tor-Large"), book) as client,
    ):
        told, files, commands, scripts = [], [], [], []
        for run in range(max(runs, 5)):
            begun = time.perf_counter()
            assert len(client.changes(one["id"], "")[0]) == number
            told.append(time.perf_counter() - begun)
            begun = time.perf_counter()
            size = len(bare.get(url).content)
            files.append(time.perf_counter() - begun)
            home = scratch / f"again-{run}"
            shutil.copytree(scratch / "tor", home)
            commands.append(timed(home, "sync"))
            begun = time.perf_counter()
            subprocess.run([sys.executable, "-c", ONE_FILE, url, token, str(scratch / "one.vcf")], check=True)
            scripts.append(time.perf_counter() - begun)

    def ratio(ours: list[float], theirs: list[float]) -> str:
        ratios = sorted(a / b for a, b in zip(ours, theirs, strict=True))
        return f"{statistics.median(ratios):.1f} times ({ratios[0]:.1f} to {ratios[-1]:.1f})"

    median = statistics.median
    print(
        f"first exchange of {number:,}, its cards with who added them, read: {median(told):.2f} s; the same cards as one "
        f"file of {size / 1e6:.1f} MB: {median(files):.2f} s; {ratio(told, files)} (at most 3)\n"
        f"the whole command, until all are in the book: {median(commands):.2f} s; a whole script that fetches the file and "
        f"writes it: {median(scripts):.2f} s; {ratio(commands, scripts)}",
        flush=True,
    )


def many(name: str, hub: Hub, clients: int, seconds: float) -> None:
    """Clients that edit one list at once, each over its own connection, with conditions on every write."""
    tokens = [hub.token(f"person{n}@tidewick.example") for n in range(clients)]
    first = httpx.Client(auth=("person0@tidewick.example", tokens[0]), timeout=60)
    made = first.post(f"{hub.url}api/lists", json={"title": "Crew"}).json()["id"]
    for n in range(1, clients):
        person = f"person{n}@tidewick.example"
        first.put(f"{hub.url}api/lists/{made}/people/{person}", json={"role": "editor"})
        httpx.post(f"{hub.url}api/lists/{made}/accept", auth=(person, tokens[n]), json={})
    times: list[float] = []
    puts: list[float] = []
    kept: dict[str, int] = {}
    trouble: list[str] = []
    end = time.perf_counter() + seconds

    def work(number: int) -> None:
        url = hub.processes[number % len(hub.processes)][1]
        client = httpx.Client(auth=(f"person{number}@tidewick.example", tokens[number]), timeout=60)
        pick = random.Random(SEED + number)

        def ask(good: tuple[int, ...], *args: str, **more: object) -> httpx.Response:
            begun = time.perf_counter()
            answer = client.request(*args, **more)  # type: ignore[arg-type]
            times.append(time.perf_counter() - begun)
            if args[0] == "PUT":
                puts.append(times[-1])
            if answer.status_code not in good:
                trouble.append(f"{args} {answer.status_code}")
            return answer

        round_ = 0
        while time.perf_counter() < end:
            round_ += 1
            own = f"own{number}-{pick.randrange(20)}"
            _add_one(ask, f"{url}dav/lists/{made}/", own, kept)
            _add_one(ask, f"{url}dav/lists/{made}/", f"shared{pick.randrange(5)}", kept)
            sync = ('<sync-collection xmlns="DAV:"><sync-token/><sync-level>1</sync-level><prop><getetag/></prop>'
                    "</sync-collection>")  # fmt: skip
            ask((207,), "REPORT", f"{url}dav/lists/{made}/", content=sync)

    threads = [threading.Thread(target=work, args=(n,)) for n in range(clients)]
    begun = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    spent = time.perf_counter() - begun
    text = first.get(f"{hub.url}dav/lists/{made}/").text
    lost = [uid for uid, count in kept.items() if f"UID:{uid}\r\n" not in text or f"NOTE:{uid} {count}\r\n" not in text]
    print(
        f"{name}: {clients} clients for {spent:.0f} s: {len(times) / spent:.0f} requests a second, 95th percentile "
        f"{_p95(times)} ms (PUT {_p95(puts)} ms), {len(trouble)} failed, {len(lost)} of {sum(kept.values())} edits lost",
        flush=True,
    )


def _p95(times: list[float]) -> str:
    return f"{statistics.quantiles(times, n=20)[-1] * 1000:.0f}"


def many_lists(scratch: Path, number: int) -> None:
    """Lists by the hundred, of one person and a colleague."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        place = f"127.0.0.1:{one.getsockname()[1]}"
    hub = Hub(["--data", str(scratch / "lists")], options=["--metrics", place])

    def asked() -> int:
        text = httpx.get(f"http://{place}/metrics").text
        return sum(
            int(float(line.split()[-1])) for line in text.splitlines() if line.startswith("barnacle_requests_total")
        )

    def told(what: str, home: Path, *argv: str) -> None:
        before = asked()
        took = timed(home, *argv)
        print(f"{number} lists, {what}: {took:.2f} s, {asked() - before} requests", flush=True)

    try:
        maren, tor = scratch / "maren-lists", scratch / "tor-lists"
        for home, name in ((maren, "maren"), (tor, "tor")):
            barnacle(home, "setup", "--me", f"{name.title()} <{name}@tidewick.example>")
            hub.connect(home, f"{name}@tidewick.example")
        titles = [f"List{n}" for n in range(number)]
        for title in titles:
            make_list(maren, title, 5)
        told("offered", maren, "share", "offer", *titles, "--with", "tor@tidewick.example", "--role", "editor")
        token = hub.token("tor@tidewick.example")
        with httpx.Client(auth=("tor@tidewick.example", token), timeout=60) as client:
            for one in client.get(f"{hub.url}api/lists").json():
                client.post(f"{hub.url}api/lists/{one['id']}/accept", json={})
        told("first exchange", tor, "sync")
        told("nothing new", tor, "sync")
        for title in titles[:10]:
            change(maren, title, 1, "Master")
        told("ten changes, sent", maren, "sync")
        told("ten changes, received", tor, "sync")
    finally:
        hub.stop()


def an_hour(name: str, hub: Hub, people: int, lists_: int) -> None:
    """People who each ask for news every 15 minutes, an hour of it in one minute."""
    tokens = hub.tokens([f"poll{n}@tidewick.example" for n in range(people)])
    pick = random.Random(SEED)

    def together(number: int, wishes: list[dict[str, object]]) -> list[dict[str, dict[str, str]]]:
        found: list[dict[str, dict[str, str]]] = []
        with httpx.Client(auth=(f"poll{number}@tidewick.example", tokens[number]), timeout=120) as client:
            for start in range(0, len(wishes), 400):
                answer = client.post(f"{hub.url}api/many", json={"requests": wishes[start : start + 400]})
                found += answer.json()["answers"]
        return found

    made = together(0, [{"method": "POST", "path": "api/lists", "body": {"title": f"List {n}"}} for n in range(lists_)])
    on: dict[int, list[str]] = {}
    for one in made:
        for other in pick.sample(range(1, people), 20):
            on.setdefault(other, []).append(one["body"]["id"])
    role = {"role": "editor"}
    offers = [
        {"method": "PUT", "path": f"api/lists/{one}/people/poll{other}@tidewick.example", "body": role}
        for other, some in on.items()
        for one in some
    ]
    together(0, offers)
    for other, some in on.items():
        together(other, [{"method": "POST", "path": f"api/lists/{one}/accept", "body": {}} for one in some])
    moments = sorted((pick.uniform(0, 60), n) for n in range(people) for _ in range(4))
    times: list[float] = []
    bad: list[int] = []

    def ask(number: int) -> None:
        url = hub.processes[number % len(hub.processes)][1]
        begun = time.perf_counter()
        answer = httpx.get(f"{url}api/lists", auth=(f"poll{number}@tidewick.example", tokens[number]), timeout=60)
        times.append(time.perf_counter() - begun)
        if answer.status_code != 200:
            bad.append(answer.status_code)

    before, begun = hub.cpu(), time.perf_counter()
    with ThreadPoolExecutor(32) as pool:
        for moment, number in moments:
            time.sleep(max(0.0, begun + moment - time.perf_counter()))
            pool.submit(ask, number)
    spent = hub.cpu() - before
    print(
        f"{name}: {people} people on {lists_} lists ask {len(times)} times in an hour (played in a minute, "
        f"{len(times) / 60:.0f} requests a second): 95th percentile {_p95(times)} ms, {len(bad)} failed; the hub's "
        f"processes were at work for {spent:.1f} s, {spent / 36:.2f} % of an hour",
        flush=True,
    )


_LOCK = threading.Lock()


def _add_one(ask: Callable[..., httpx.Response], base: str, uid: str, kept: dict[str, int]) -> None:
    """Count one up in a card, under the condition that nobody else did meanwhile; each success is an edit to keep."""
    path = f"{base}{uid}.vcf"
    while True:
        now = ask((200, 404), "GET", path)
        count = int(now.text.partition(f"NOTE:{uid} ")[2].partition("\r\n")[0]) if now.status_code == 200 else 0
        text = f"BEGIN:VCARD\r\nVERSION:4.0\r\nUID:{uid}\r\nFN:{uid}\r\nNOTE:{uid} {count + 1}\r\nEND:VCARD\r\n"
        condition = {"If-Match": now.headers["etag"]} if count else {"If-None-Match": "*"}
        answer = ask((201, 204, 412), "PUT", path, content=text, headers={"Content-Type": "text/vcard", **condition})
        if answer.status_code != 412:
            if answer.status_code in (201, 204):
                with _LOCK:
                    kept[uid] = kept.get(uid, 0) + 1
            return


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--large", type=int, default=10_000)
    parser.add_argument("--clients", type=int, default=20)
    parser.add_argument("--seconds", type=float, default=10.0)
    parser.add_argument("--lists", type=int, default=300)
    parser.add_argument("--people", type=int, default=200)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        scratch = Path(name)
        exchanges(scratch, args.runs, args.large)
        many_lists(scratch, args.lists)
        hub = Hub(["--data", str(scratch / "many")])
        try:
            many("SQLite", hub, args.clients, args.seconds)
            an_hour("SQLite", hub, args.people, args.lists)
        finally:
            hub.stop()
        with postgresql() as database:
            hub = Hub(["--database", database], 3)
            try:
                many("PostgreSQL, three processes", hub, args.clients, args.seconds)
                an_hour("PostgreSQL, three processes", hub, args.people, args.lists)
            finally:
                hub.stop()


if __name__ == "__main__":
    main()
