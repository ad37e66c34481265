"""Write the demo data of Tidewick Harbour into src/barnacle/demo/data, the same files for the same seed.

    python scripts/demo_data.py

Everybody and everything in it is made up. Addresses use the reserved domain `.example` (RFC 2606), phone numbers
the ranges that Ofcom keeps free for drama: 01632 960000 to 960999 and 07700 900000 to 900999.
"""

from __future__ import annotations

import base64
import csv
import io
import random
import re
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

import openpyxl

SEED = 1912
OUT = Path(__file__).parents[1] / "src" / "barnacle" / "demo" / "data"
GIVEN = """
Ada Agnes Aidan Alma Amos Anneke Arlo Astrid Basil Beatrix Bram Brigid Callum Cerys Clem Cora Dafydd Dagny Della
Dinah Doran Edda Edwin Elin Elowen Emrys Enid Esme Ewan Fenna Fergus Flora Freya Gareth Gilda Greta Gwen Hamish
Hanne Hattie Hector Hilde Hugo Ida Ines Iona Isak Ivor Jago Jasper Jorun Kasia Keir Kerensa Kit Lars Leif Linnea
Lorna Lowen Mabel Magnus Malin Marek Mattias Merryn Mina Mirren Morag Morwen Nadia Nils Nora Odile Olaf Orla
Otis Oskar Pascoe Per Petroc Philippa Quill Ragna Rhona Roald Rowan Ruben Rufus Saskia Selma Signe Silas Sinead
Solveig Stellan Sunniva Tamsin Tegan Thora Tobias Torben Ulla Una Ursel Vera Vidar Wenna Wilf Yara Yestin Zelda
Zoltan
""".split()
FAMILY = """
Ackroyd Andvik Bellweather Berg Birchall Bjelke Blackwood Borlase Brackenbury Brandt Brine Carrow Castell
Chenoweth Clode Corran Cragg Dahlin Deeping Draycott Eddowes Ekman Ellery Fairweather Fenwick Fiskerud Flint
Galt Garrick Gillow Goss Greave Gullan Haddock Hallgrim Harkness Hartnoll Hathersage Hauge Heron Hollis
Holmqvist Jelbert Keel Kestle Kilbride Kittow Lambourne Landry Larkin Lindahl Lockyer Lunn Mallory Marlowe
Meakin Merrick Mossop Nankervis Nesbo Norrington Oakshott Oland Orchard Paling Pascall Penhallow Pike Polglase
Quayle Quint Rask Redfern Rosevear Rudd Saltmarsh Sandvik Scarfe Selkirk Skagen Sorley Stannard Strand Tangye
Tarrant Thorne Tolley Trevanion Tuftin Uren Vasey Vinter Wadham Wainfleet Westerby Wick Wolde Yarrow Zennor
""".split()
HOMES = ("kelp.example", "saltpost.example", "gullmail.example", "quayside.example", "northpier.example")
YARDS = (
    "Brine & Daughters", "Kittow Rope Works", "Halyard Sailmakers", "Ebb Chandlery", "Lantern Marine Engines",
    "Skerry Timber", "Windlass Rigging", "Cormorant Diving", "Saltmarsh Paints", "Tallow Lane Foundry",
    "Bollard Insurance Brokers", "Fathom Surveys", "Gannet Fuel", "Slack Tide Electrics", "Northpier Crane Hire",
)  # fmt: skip
BOATS = """
Dunlin Petrel Whimbrel Sandpiper Curlew Kittiwake Fulmar Turnstone Guillemot Plover Teal Shearwater
""".split()


@dataclass(slots=True)
class Person:
    given: str
    family: str
    address: str
    phone: str
    home: str = ""

    @property
    def name(self) -> str:
        return f"{self.given} {self.family}"


class Harbour:
    """Everybody of the demo, each once."""

    def __init__(self) -> None:
        self.random = random.Random(SEED)
        self.names: set[str] = set()
        self.phones = [f"01632 960{n:03d}" for n in range(1000)] + [f"07700 900{n:03d}" for n in range(1000)]
        self.random.shuffle(self.phones)

    def phone(self) -> str:
        return self.phones.pop()

    def person(self, domain: str | None = None, family: str | None = None) -> Person:
        while True:
            given, last = self.random.choice(GIVEN), family or self.random.choice(FAMILY)
            if f"{given} {last}" not in self.names:
                break
        self.names.add(f"{given} {last}")
        where = domain or self.random.choice(HOMES)
        local = self.random.choice((f"{given}.{last}", f"{given[0]}{last}", f"{last}.{given[0]}", f"{given}{last}"))
        return Person(given, last, f"{local.lower()}@{where}", self.phone())


def write(name: str, data: bytes) -> None:
    (OUT / name).write_bytes(data)
    print(f"{name}: {len(data):,} bytes")


def berths(harbour: Harbour) -> list[Person]:
    """The berth-holder sheet: owner and co-owner in one row, a pontoon column."""
    pick = harbour.random
    out = io.StringIO(newline="")
    sheet = csv.writer(out)
    sheet.writerow(
        ["Pontoon", "Berth", "Boat", "Owner", "Owner e-mail", "Phone", "Co-owner", "Co-owner e-mail", "Remarks"]
    )
    owners: list[Person] = []
    for number in range(116):
        pontoon = "ABCD"[number % 4]
        owner = harbour.person()
        co_name, co_address, remark = "", "", ""
        if number % 9 == 3:
            partner = harbour.person(family=owner.family)
            co_name = partner.name
            co_address = owner.address if number % 2 else partner.address  # couples who share one address
        if number == 20:
            owner = Person("Tom", "Pike", "pike.family@kelp.example", harbour.phone())
            co_name, co_address = "Tom Pike jun.", "pike.family@kelp.example"  # father and son of one name
        if number in (24, 26):  # two different people of one name, on pontoons A and C
            owner = Person("Rowan", "Thorne", ("rowan@kelp.example", "thorne.r@gullmail.example")[number == 26],
                           harbour.phone())  # fmt: skip
        address, name = owner.address, owner.name
        if number == 31:
            address = address.replace(address.partition("@")[2], "kelp.exmaple")  # mistyped, but an address
        if number == 47:
            address = f"{owner.given.lower()} at saltpost.example"
        if number == 63:
            address = f"{owner.given.lower()}.{owner.family.lower()}@saltpost"
        if number == 70:
            address = f"{owner.address}; {owner.given.lower()}@work.example"
        if number == 88:
            name = f"{owner.family}, {owner.given}"
        if pick.random() < 0.08:
            remark = pick.choice(("wants shore power", "laid up for the winter", "key 14", "pays by quarter"))
        boat = f"{pick.choice(BOATS)} {pick.choice(('', 'II', 'of Tidewick'))}".strip()
        sheet.writerow([pontoon, f"{pontoon}{number // 4 + 1}", boat, name, address, owner.phone, co_name, co_address,
                        remark])  # fmt: skip
        owners.append(owner)
    write("berth-holders.csv", out.getvalue().encode("utf-8"))
    return owners


def sign_up(harbour: Harbour, owners: list[Person]) -> list[Person]:
    """A form's export: semicolons, Windows-1252, a time column, some people of the sheet typed again by hand."""
    pick = harbour.random
    out = io.StringIO(newline="")
    sheet = csv.writer(out, delimiter=";")
    sheet.writerow(["Timestamp", "Your name", "E-mail address", "Mobile", "Which Saturdays?", "Anything else?"])
    people = [harbour.person() for _ in range(46)]
    special = Person("Zoë", "Fjällgren", "zoe.fjallgren@saltpost.example", harbour.phone())
    people[5] = special
    at = datetime(2026, 3, 2, 8, 15)
    again = [owners[n] for n in (2, 9, 17, 33, 52)]
    rows = [*people, *again]
    pick.shuffle(rows)
    for person in rows:
        at += timedelta(minutes=pick.randint(7, 900))
        name, address = person.name, person.address
        if person in again:
            name = pick.choice((f"{person.given[0]}. {person.family}", person.name.upper(), person.name))
            address = address.upper() if pick.random() < 0.4 else address
        sheet.writerow(
            [
                at.strftime("%d/%m/%Y %H:%M"),
                name,
                address,
                person.phone,
                pick.choice(("first", "second and last", "all", "whenever I am needed")),
                pick.choice(("", "", "", "I can bring a winch", "not before ten – children", "café at noon?")),
            ]
        )
    sheet.writerow([at.strftime("%d/%m/%Y %H:%M"), "Wilf Oland", "wilf.oland(at)kelp.example", "", "all", ""])
    write("slipway-sign-up.csv", out.getvalue().encode("cp1252"))
    return people


def fold_line(line: str) -> str:
    """RFC 6350 section 3.2: no line over 75 octets."""
    octets, result = line.encode(), []
    while len(octets) > 73:
        cut = 73
        while octets[cut] & 0xC0 == 0x80:
            cut -= 1
        result.append(octets[:cut].decode())
        octets = octets[cut:]
    return "\r\n ".join([*result, octets.decode()])


def card_file(harbour: Harbour, owners: list[Person], volunteers: list[Person]) -> None:
    """The old harbour office's card file: vCard 3.0, some cards without an address, some people met before."""
    pick = harbour.random
    cards: list[list[str]] = []

    def card(given: str, family: str, lines: list[str]) -> None:
        cards.append(["BEGIN:VCARD", "VERSION:3.0", f"N:{family};{given};;;", f"FN:{given} {family}".strip(), *lines,
                      "END:VCARD"])  # fmt: skip

    pilots = [("Sten", "Kilbride"), ("Morag", "Skagen"), ("Yestin", "Carrow"), ("Ragna", "Quayle"), ("Bram", "Uren")]
    for given, family in pilots:
        home = f"{given.lower()}@{pick.choice(HOMES)}"
        card(given, family, [f"EMAIL;TYPE=INTERNET,WORK:{given.lower()}.{family.lower()}@pilots.tidewick.example",
                             f"EMAIL;TYPE=INTERNET,HOME:{home}", f"TEL;TYPE=CELL:{harbour.phone()}",
                             "ORG:Tidewick Harbour Trust;Pilotage", "CATEGORIES:pilot,crew"])  # fmt: skip
    # Three spellings of one yard.
    for yard in ("Brine & Daughters", "Brine and Daughters Ltd", "BRINE + DAUGHTERS"):
        cards.append(["BEGIN:VCARD", "VERSION:3.0", "N:;;;;", f"FN:{yard}", f"ORG:{yard}",
                      "EMAIL;TYPE=INTERNET:office@brine.example", f"TEL;TYPE=WORK:{harbour.phone()}",
                      "END:VCARD"])  # fmt: skip
    for number in range(120):
        person = harbour.person()
        lines = [f"TEL;TYPE={pick.choice(('HOME', 'WORK', 'CELL'))}:{person.phone}"]
        if number % 8:
            lines.insert(0, f"EMAIL;TYPE=INTERNET:{person.address}")
        if number % 11 == 4:
            lines.append("NOTE:From the old card file\\, box 3; berth let until 2019")
        if number % 17 == 5:
            lines.append(f"X-TIDEWICK-BOX:{pick.randint(1, 9)}")
        card(person.given, person.family, lines)
    for person in [owners[n] for n in (4, 11, 40)] + volunteers[:3]:
        card(person.given, person.family, [f"TEL;TYPE=HOME:{person.phone}"])
    typed_again(harbour, owners, volunteers, card)
    text = "\r\n".join(fold_line(line) for lines in cards for line in lines) + "\r\n"
    write("card-file.vcf", text.encode("utf-8"))


def typed_again(
    harbour: Harbour, owners: list[Person], volunteers: list[Person], card: Callable[[str, str, list[str]], None]
) -> None:
    """People whom the card file has in another spelling, or with an address that the import does not know them by."""
    tagged, turned, slipped, short, moved = (owners[n] for n in (14, 6, 29, 58, 92))
    local, _, domain = tagged.address.partition("@")
    card(tagged.given, tagged.family, [f"EMAIL;TYPE=INTERNET:{local}+boat@{domain}", f"TEL;TYPE=CELL:{tagged.phone}"])
    card(turned.family, turned.given, [f"EMAIL;TYPE=INTERNET:{turned.family.lower()}@oldpost.example",
                                       f"TEL;TYPE=HOME:+44 {turned.phone[1:]}", "CATEGORIES:mooring"])  # fmt: skip
    wrong = slipped.family[:2] + slipped.family[3] + slipped.family[2] + slipped.family[4:]
    card(slipped.given, wrong, [f"EMAIL;TYPE=INTERNET:{slipped.given.lower()}@oldpost.example",
                                f"TEL;TYPE=HOME:{slipped.phone}"])  # fmt: skip
    initial = short.given[0]
    card(initial, short.family, [f"EMAIL;TYPE=INTERNET:{short.family.lower()}.{initial.lower()}@oldpost.example",
                                 f"TEL;TYPE=HOME:{short.phone}"])  # fmt: skip
    local, _, domain = moved.address.partition("@")
    card(moved.given, moved.family, [f"EMAIL;TYPE=INTERNET:{local}@{domain[0] + domain[2:]}"])
    phone = harbour.phone()
    card("Elizabeth", "Rosevear", ["EMAIL;TYPE=INTERNET:elizabeth.rosevear@quayside.example", f"TEL;TYPE=HOME:{phone}",
                                   "NOTE:Secretary of the rowing club"])  # fmt: skip
    card("Liz", "Rosevear", ["EMAIL;TYPE=INTERNET:liz@rowing.example", f"TEL;TYPE=CELL:{phone}",
                             "ORG:Tidewick Rowing Club"])  # fmt: skip
    for person in volunteers[10:12]:
        local, _, domain = person.address.partition("@")
        card(person.given, person.family, [f"EMAIL;TYPE=INTERNET:{local}+slipway@{domain}"])


def directory(harbour: Harbour) -> list[Person]:
    """The trust's directory as LDIF (RFC 2849): staff, crews and board; one value in base64."""
    pick = harbour.random
    staff = [
        ("Maren", "Holt", "Harbour office clerk"), ("Idris", "Vane", "Deputy harbour master"),
        ("Oluchi", "Marsh", "Berthing"), ("Petra", "Lindqvist", "Works and dredging"),
    ]  # fmt: skip
    people = [Person(g, f, f"{g.lower()}@tidewick.example", harbour.phone()) for g, f, _ in staff]
    jobs = [job for *_, job in staff]
    for number in range(34):
        people.append(harbour.person("tidewick.example"))
        jobs.append(("Ferry mate", "Ferry master", "Lock keeper", "Pilot", "Board member")[number % 5])
    special = Person("Åse", "Sandvik", "ase.sandvik@tidewick.example", harbour.phone())
    guest = Person("Dagny", "Fairweather", "dagny.fairweather@tidewick.example", harbour.phone())  # retires soon
    people += [special, guest]
    jobs += ["Ferry master", "Ferry master"]
    lines = ["version: 1", ""]
    for person, job in zip(people, jobs, strict=True):
        uid = person.address.partition("@")[0]
        lines += [f"dn: uid={uid},ou=people,dc=tidewick,dc=example", "objectClass: inetOrgPerson", f"uid: {uid}"]
        for key, value in (("cn", person.name), ("givenName", person.given), ("sn", person.family)):
            safe = value.isascii()
            lines.append(f"{key}: {value}" if safe else f"{key}:: {base64.b64encode(value.encode()).decode()}")
        lines += [f"mail: {person.address}", f"telephoneNumber: {person.phone}", f"title: {job}",
                  "o: Tidewick Harbour Trust", ""]  # fmt: skip
    write("directory.ldif", "\n".join(lines).encode("ascii"))
    crews = io.StringIO(newline="")
    sheet = csv.writer(crews, delimiter="\t")
    sheet.writerow(["Surname", "First name", "Work e-mail", "Private e-mail", "Telephone", "Role"])
    for person, job in zip(people, jobs, strict=True):
        if job.startswith("Ferry"):
            private = f"{person.given}{person.family}@{pick.choice(HOMES)}".lower() if pick.random() < 0.4 else ""
            sheet.writerow([person.family, person.given, person.address, private.encode("ascii", "ignore").decode(),
                            person.phone, job])  # fmt: skip
    sheet.writerow(["Goss", "Della", "della.goss@tidewick.example", "", harbour.phone(), "Ferry mate, left in May"])
    write("ferry-crews.tsv", b"\xff\xfe" + crews.getvalue().encode("utf-16-le"))
    return people


def past_mail(harbour: Harbour, owners: list[Person], volunteers: list[Person], staff: list[Person]) -> None:
    """A year of the office's sent mail as mbox (RFC 4155), and a pasted line from an old message."""
    pick = harbour.random
    at = datetime(2025, 10, 6, 9, 0)
    parts = []
    strangers = [harbour.person() for _ in range(12)]
    for number in range(90):
        at += timedelta(hours=pick.randint(20, 130))
        to = pick.sample([*owners, *volunteers, *staff, *strangers], pick.choice((1, 1, 1, 2, 3)))
        stamp = at.strftime("%a, %d %b %Y %H:%M:%S +0000")
        parts.append(
            f"From maren@tidewick.example {at.strftime('%a %b %d %H:%M:%S %Y')}\n"
            f"From: Maren Holt <maren@tidewick.example>\nTo: "
            + ",\n ".join(f"{p.name} <{p.address}>" for p in to if p.name.isascii())
            + f"\nSubject: {pick.choice(('Your berth', 'Keys', 'Re: the slipway', 'Invoice', 'Tide tables'))}\n"
            f"Date: {stamp}\nMessage-ID: <sent-{number}@tidewick.example>\n\n"
            "Good morning,\n\nsee you at the office.\n\n"
            "Maren\n\n"
        )
    write("sent-mail.mbox", "".join(parts).encode("ascii"))
    line = ", ".join(f"{p.name} <{p.address}>" for p in [*volunteers[:6], *strangers[:4]] if p.name.isascii())
    write("pasted-line.txt", (line + "\n").encode())


def returned_mail(owners: list[Person]) -> None:
    """What came back of the tour's fourth message, whose Message-ID the tour fills in: two delivery reports (RFC 3464),
    a reply that asks to be left out, and one that gives a new address."""
    gone, full, asking, moved = owners[0], owners[4], owners[8], owners[10]
    day = "Mon, 16 Nov 2026 07:1{}:00 +0000"
    parts = []
    for number, (person, status, said) in enumerate(
        ((gone, "5.1.1", "550 no such person here"), (full, "5.2.2", "552 the mailbox is full"))
    ):
        parts.append(
            f"From: Mail <MAILER-DAEMON@{person.address.partition('@')[2]}>\nTo: Maren Holt <maren@tidewick.example>\n"
            f"Subject: Not delivered\nDate: {day.format(number)}\nAuto-Submitted: auto-replied\nMIME-Version: 1.0\n"
            'Content-Type: multipart/report; report-type=delivery-status; boundary="tide"\n\n'
            "--tide\nContent-Type: text/plain\n\nYour message could not be delivered.\n\n"
            "--tide\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; mx.example\n\n"
            f"Final-Recipient: rfc822; {person.address}\nAction: failed\nStatus: {status}\n"
            f"Diagnostic-Code: smtp; {said}\n\n"
            "--tide\nContent-Type: text/rfc822-headers\n\nMessage-ID: <message-4@tidewick.example>\n"
            "Subject: Slipway closed on Friday\n\n--tide--\n"
        )
    parts.append(
        f"From: {asking.name} <{asking.address}>\nTo: Maren Holt <maren@tidewick.example>\n"
        f"Subject: Re: Slipway closed on Friday\nDate: {day.format(2)}\n\nPlease take me off this list, thank you.\n"
    )
    parts.append(
        f"From: {moved.name} <{moved.address}>\nTo: Maren Holt <maren@tidewick.example>\n"
        f"Subject: My new address\nDate: {day.format(3)}\n\n"
        f"Hello,\n\nplease write to me at {moved.address.partition('@')[0]}@northpier.example from now on, "
        "my new address.\n"
    )
    write(
        "returned-mail.mbox", "\n".join(f"From mail Mon Nov 16 07:10:00 2026\n{part}" for part in parts).encode("ascii")
    )


def suppliers(harbour: Harbour) -> None:
    """The supplier workbook: two sheets, title rows above the header."""
    book = openpyxl.Workbook()
    book.properties.created = book.properties.modified = datetime(2026, 1, 5)
    for number, title in enumerate(("Chandlers", "Yards")):
        sheet = book.active if number == 0 else book.create_sheet()
        sheet.title = title
        sheet.append(["Tidewick Harbour Trust"])
        sheet.append([f"{title} we buy from, as of January"])
        sheet.append([])
        sheet.append(["Company", "Contact", "E-mail", "Phone", "Since"])
        for yard in YARDS[number::2]:
            person = harbour.person(yard.split()[0].lower() + ".example")
            sheet.append([yard, person.name, person.address, person.phone, harbour.random.randint(1988, 2024)])
    saved, out = io.BytesIO(), io.BytesIO()
    book.save(saved)
    with zipfile.ZipFile(saved) as stamped, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as plain:
        for name in stamped.namelist():  # the same bytes every time: no times of day
            content = re.sub(rb"(<dcterms:modified[^>]*>)[^<]*", rb"\g<1>2026-01-05T00:00:00Z", stamped.read(name))
            plain.writestr(zipfile.ZipInfo(name, (2026, 1, 5, 0, 0, 0)), content)
    write("suppliers.xlsx", out.getvalue())


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    harbour = Harbour()
    owners = berths(harbour)
    volunteers = sign_up(harbour, owners)
    card_file(harbour, owners, volunteers)
    staff = directory(harbour)
    past_mail(harbour, owners, volunteers, staff)
    suppliers(harbour)
    returned_mail(owners)
    print(f"{len(harbour.names)} people")


if __name__ == "__main__":
    main()
