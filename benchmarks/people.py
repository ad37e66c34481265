"""Books of made-up people with a seed: everyone typed in once, one in ten of the contacts somebody again, otherwise; and
the hard cases that are not the same person. Two worlds: weights were chosen on `usual`; `other` has
other names, other families and other mess, and was looked at late, for errors."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

from barnacle.core.contact import Address, Contact, Phone

GIVEN = """
Ada Adam Agnes Alice Anders Andrea Andrew Anna Anthony Arne Arthur Astrid Barbara Beatrice Benjamin Bente Bernard Birgit Bjørn
Catherine Charles Charlotte Christine Christopher Clara Colin Daniel David Deborah Denise Diana Dorothy Edith Edward Eleanor
Elizabeth Ellen Emma Eric Erika Eva Fatima Fiona Frances Frederick Gabriel George Gerald Gillian Grace Gregory Hannah Harald
Harriet Helen Henry Ian Ida Inger Ingrid Irene Isla Ivan Jacob James Jan Jane Janet Jean Jennifer Joan John Jonas Jonathan
José Joseph Joyce Judith Julia Jürgen Karen Karin Kari Katharina Kenneth Kevin Kirsten Knut Lars Laura Leonard Linda Louise Lucy
Magnus Marcus Margaret Maria Marie Marianne Mark Marit Martin Mary Matthew Michael Mohammed Nadia Nicholas Nina Nora Ola Olga
Oliver Pamela Patricia Patrick Paul Paula Peter Philip Rachel Rebecca René Richard Robert Roland Ronald Rosa Ruth Samuel Sandra
Sarah Sigrid Simon Sofia Søren Stephen Susan Sven Theresa Thomas Timothy Tobias Ursula Valerie Victor Victoria Walter William
Yasmin Yusuf Zara Zoë
""".split()
SHORT = {
    "Andrew": "Andy", "Anthony": "Tony", "Barbara": "Barb", "Benjamin": "Ben", "Catherine": "Cathy", "Charles": "Charlie",
    "Christine": "Chris", "Christopher": "Chris", "Daniel": "Dan", "David": "Dave", "Deborah": "Debbie", "Edward": "Ted",
    "Elizabeth": "Liz", "Frederick": "Fred", "Gerald": "Gerry", "Gregory": "Greg", "James": "Jim", "Jennifer": "Jenny", "Joseph": "Joe",
    "Kenneth": "Ken", "Leonard": "Len", "Margaret": "Peggy", "Matthew": "Matt", "Michael": "Mike", "Nicholas": "Nick", "Pamela": "Pam",
    "Patricia": "Trish", "Patrick": "Pat", "Peter": "Pete", "Philip": "Phil", "Rebecca": "Becky", "Richard": "Dick", "Robert": "Bob",
    "Ronald": "Ron", "Samuel": "Sam", "Stephen": "Steve", "Susan": "Sue", "Theresa": "Terry", "Thomas": "Tom", "Timothy": "Tim",
    "Victoria": "Vicky", "Walter": "Walt", "William": "Bill", "Jürgen": "Jurgen",
}  # fmt: skip
OTHER_GIVEN = """
Aisha Akira Aleksei Amina Ana Anatoly Arjun Boris Carmen Chen Dmitri Elif Emre Esteban Farid Francisco Gabriela Giulia Giuseppe
Hanako Hassan Hiroshi Igor Imran Ines Ji-woo Joaquín José-Luis Juan-Carlos Kaito Keiko Lakshmi Leila Li Lucía Ludmila María-José
Marek Mei Mehmet Mikhail Min-jun Miguel Nadezhda Natalia Omar Oksana Paolo Pilar Priya Rafael Rahul Ravi Sana Sergei Siddharth
Sunita Svetlana Tariq Tatiana Teresa Vladimir Wei Xiu Yuki Zainab Zoran
""".split()
OTHER_SHORT = {
    "Aleksei": "Alyosha", "Dmitri": "Dima", "Francisco": "Paco", "Gabriela": "Gabi", "Giuseppe": "Beppe", "Mikhail": "Misha",
    "Natalia": "Natasha", "Sergei": "Seryozha", "Svetlana": "Sveta", "Tatiana": "Tanya", "Vladimir": "Volodya", "Teresa": "Tere",
}  # fmt: skip
HEADS = """
Ash Beck Birch Black Bram Brook Carl Clay Cole Cran Dal Dun East Eld Elm Fair Fal Fen Gold Gran Hal Ham Hart Hazel Hol Hurst
Kel Kirk Lang Lind Lun Mal Mar Mor Nor Oak Os Pen Ram Rose Row Sand Sel Stan Strand Sund Thorn Tor Wal West White Wind Wold Wren
""".split()
TAILS = """
bank berg borough bridge brook by combe croft dale den field ford gate ham hurst ing land ley lin low man mark mere mond ness
quist ridge sen ser shaw son stad sted strom ström thorpe ton vik wall ward water way well wick wood worth
""".split()
MIDDLES = ("en", "er", "el", "ing", "ar", "is", "on", "um")
MAIL = ("gull.example", "kelp.example", "ebb.example", "tern.test", "home.test", "skerry.example")
CRAFT = ("Yard", "Ropes", "Sails", "Chandlers", "Dredging", "Pilots", "Towage", "Marine Services", "Boatworks")


@dataclass
class Person:
    """Somebody, with everything that may be written down of them."""

    given: str
    family: str
    middle: str
    suffix: str
    org: str
    work: str
    home: str
    mobile: str
    landline: str
    org_phone: str
    kind: str = "chance"
    short: str = ""
    record: set[str] = field(default_factory=set)


class Village:
    """Where people have names as skewed as names are, and addresses and phones that nobody else has."""

    def __init__(self, seed: str, number: int) -> None:
        self.pick = random.Random(seed)
        self.number = number
        self.numbers = iter(range(1, 10**8))
        self.taken: set[str] = set()

    def skewed(self, names: list[str], lean: float = 0.5) -> str:
        """A name as they occur: a few often, most seldom (Zipf and Mandelbrot; the first has some 1 to 3 in a
        hundred)."""
        start = len(names) ** lean
        return names[min(int(start * (1 + len(names) / start) ** self.pick.random() - start), len(names) - 1)]

    def phone(self) -> str:
        """A number of an area that does not exist (01632), or beyond a million of a country that does not (+999)."""
        number = next(self.numbers)
        return f"01632{number:06d}" if number < 900_000 else f"+999{number:09d}"

    def free(self, local: str, domain: str) -> str:
        """An address that nobody has yet."""
        number, address = 2, f"{local}@{domain}"
        while address in self.taken:
            number, address = number + 1, f"{local}{number}@{domain}"
        self.taken.add(address)
        return address


class World(Village):
    """Makes a book of one seed."""

    def __init__(self, seed: int, number: int, other: bool = False) -> None:
        super().__init__(f"{seed} {other}", number)
        self.other = other
        self.given = self.pick.sample(OTHER_GIVEN if other else GIVEN, len(OTHER_GIVEN if other else GIVEN))
        self.short = OTHER_SHORT if other else SHORT
        self.families = self._families()

    def _families(self) -> list[str]:
        pick = self.pick
        if self.other:
            many = int(4000 * (self.number / 5000) ** 0.5)
            sounds = "ka ke ko la le lo ma mi mo na ne ni ra re ri ro sa se so ta te ti va ve vi za zo du dra".split()
            names = {
                "".join(pick.choice(sounds) for _ in range(pick.choice((2, 3, 3, 4)))).title() for _ in range(many)
            }
            names |= {f"{n}ov" for n in sorted(names)[::12]} | {f"{n}ez" for n in sorted(names)[5::12]}
        else:
            # The larger a place, the more family names it has, though not in proportion.
            names = {head + tail for head in HEADS for tail in TAILS}
            longer = sorted({head + middle + tail for head in HEADS for middle in MIDDLES for tail in TAILS})
            names |= (
                set(pick.sample(longer, min(int(2400 * (self.number / 5000) ** 0.5) - 2400, len(longer))))
                if self.number > 5000
                else set()
            )
            names |= {f"{pick.choice(('van', 'de', 'von', 'di'))} {n}" for n in sorted(names)[::23]}
            names |= {f"{n}-{pick.choice(TAILS).title()}er" for n in sorted(names)[::31] if " " not in n}
        result = sorted(names)
        pick.shuffle(result)
        return result

    def people(self, number: int) -> list[Person]:
        pick = self.pick
        orgs = [(f"{self.skewed(self.families)} {pick.choice(CRAFT)}", f"{n:05d}") for n in range(max(number // 12, 2))]
        result: list[Person] = []
        while len(result) < number:
            one = self._person(*pick.choice(orgs))
            result.append(one)
            chance = pick.random()
            if chance < 0.06:  # a couple on one address and one phone
                result.append(self._relative(one, "couple", home=True))
            elif chance < 0.08:  # siblings on one phone
                result.append(self._relative(one, "siblings", home=pick.random() < 0.3))
            elif chance < 0.09:
                child = self._relative(one, "parent and child", home=pick.random() < 0.5)
                child.given, child.short, child.suffix = one.given, one.short, pick.choice(("jun.", "jr", "junior"))
                result.append(child)
            elif chance < 0.11:
                twin = self._person(*pick.choice(orgs))
                twin.given, twin.short, twin.family, twin.kind = one.given, one.short, one.family, "namesakes"
                twin.work = self._work(twin.given, twin.family, twin.org)
                result.append(twin)
        return result[:number]

    def _person(self, org: str, number: str) -> Person:
        pick = self.pick
        given, family = self.skewed(self.given), self.skewed(self.families)
        middle = self.skewed(self.given) if pick.random() < 0.12 else ""
        style = pick.random()
        bare = _plain(given), _plain(family).replace(" ", "")
        n = next(self.numbers)
        home = (
            f"{bare[0]}.{bare[1]}{n % 89}"
            if style < 0.5
            else f"{bare[0][0]}{bare[1]}{n % 977}"
            if style < 0.8
            else f"{pick.choice(CRAFT).split()[0].lower()}{n}"
        )
        return Person(
            given, family, middle if middle != given else "", "", org, self._work(given, family, org + number),
            self.free(home, pick.choice(MAIL)), self.phone(), self.phone(), f"01632{900_000 + int(number) % 100_000:06d}",
            short=self.short.get(given, ""),
        )  # fmt: skip

    def _work(self, given: str, family: str, org: str) -> str:
        domain = _plain(org).replace(" ", "") + ".example"
        if self.pick.random() < 0.07:
            return f"office@{domain}"
        return self.free(f"{_plain(given)}.{_plain(family).replace(' ', '')}", domain)

    def _relative(self, one: Person, kind: str, home: bool) -> Person:
        other = self._person(one.org, "1")
        while other.given == one.given:
            other = self._person(one.org, "1")
        other.family, other.landline, other.kind = one.family, one.landline, kind
        if home:
            other.home = one.home
        other.org, other.work, other.org_phone = "", "", ""
        return other

    def book(self) -> tuple[list[Contact], list[tuple[int, str]]]:
        """Contacts in any order, and of each the number of its person and what relation that one has to another."""
        number = self.number
        people = self.people(number - number // 10)
        rows = [(n, one) for n, one in enumerate(people)]
        again = [(n, people[n]) for n in self.pick.choices(range(len(people)), k=number // 10)]
        records = [(n, one.kind, self.record(one, n, False)) for n, one in rows]
        first = {n: c for n, _, c in records}
        for n, one in again:
            contact = self.record(one, n, True)
            for _ in range(20):  # what nothing but a name connects nobody could tell
                if self._connected(first[n], contact) or self.pick.random() < 0.02:
                    break
                contact = self.record(one, n, True)
            records.append((n, one.kind, contact))
        self.pick.shuffle(records)
        for place, (_, _, contact) in enumerate(records):
            contact.uid = f"{self.pick.getrandbits(64):016x}-{place}"
        return [c for _, _, c in records], [(n, kind) for n, kind, _ in records]

    def _connected(self, one: Contact, other: Contact) -> bool:
        digits = [{p.number[-6:].replace(" ", "") for p in c.phones} for c in (one, other)]
        locals_ = [{a.address.lower().partition("@")[0].partition("+")[0] for a in c.addresses} for c in (one, other)]
        return bool(digits[0] & digits[1] or locals_[0] & locals_[1] - {"office"} or (one.org and one.org == other.org))

    def record(self, one: Person, number: int, again: bool) -> Contact:
        """What somebody typed in of a person; the second time with more mess."""
        pick = self.pick
        has_work = bool(one.work)
        addresses = [one.work] if has_work and pick.random() < 0.6 else [one.home]
        if has_work and pick.random() < 0.15:
            addresses = [one.work, one.home]
        phones = [
            p
            for p, chance in ((one.mobile, 0.5), (one.landline, 0.3), (one.org_phone, 0.2))
            if p and pick.random() < chance
        ]
        org = one.org if pick.random() < 0.5 else ""
        name = self._name(one, again)
        if again:
            addresses = [self._address(a) for a in addresses]
            org = self._org(org) if org else ""
            if pick.random() < 0.02:
                name = ""
            elif pick.random() < 0.05 and phones:
                addresses = []
        phones = [self._phone(p) for p in phones]
        return Contact(name, addresses=[Address(a) for a in addresses], phones=[Phone(p) for p in phones], org=org)

    def _name(self, one: Person, again: bool) -> str:
        pick = self.pick
        given, family, middle = one.given, one.family, one.middle if pick.random() < 0.6 else ""
        mess = pick.random() if again else pick.random() * 3
        if mess < 0.10 and one.short:
            given = one.short
        elif mess < 0.14:
            given, middle = given[0] + ".", middle[:1]
        elif mess < 0.20:
            family = self.slip(family)
        elif mess < 0.24:
            given = self.slip(given)
        elif mess < 0.28:
            given, family = _plain(given).title(), _plain(family).title()
        elif mess < 0.32 and "-" in family:
            family = family.split("-")[0]
        elif mess < 0.34 and again:
            family = self.skewed(self.families)
        elif mess < 0.38:
            given = f"{pick.choice(('Dr', 'Mr', 'Ms', 'Capt.', 'Prof.'))} {given}"
        elif self.other and mess < 0.46:
            given = f"{given} {pick.choice(('Ivanovich', 'Petrovna', 'Kumar', 'bin Omar'))}"
        elif self.other and mess < 0.52 and one.short:
            given = f'{given} "{one.short}"'
        whole = " ".join(p for p in (given, middle, family) if p)
        order = pick.random()
        if order < (0.12 if again else 0.05):
            whole = f"{family}, {given}"
        elif order < (0.22 if self.other else 0.14 if again else 0.03):
            whole = f"{family} {given}"
        if one.suffix:
            whole += f" {one.suffix}"
        case = pick.random()
        return whole.upper() if case < 0.04 else whole.lower() if case < 0.08 else whole

    def slip(self, word: str) -> str:
        """The word with one slip of the fingers."""
        pick, at = self.pick, self.pick.randrange(len(word))
        kind = pick.randrange(4)
        if kind == 0 and len(word) > 3:
            return word[:at] + word[at + 1 :]
        if kind == 1 and at + 1 < len(word):
            return word[:at] + word[at + 1] + word[at] + word[at + 2 :]
        letter = pick.choice("abcdefghijklmnoprstuvwy")
        return word[:at] + letter + word[at + (kind == 2) :]

    def _address(self, address: str) -> str:
        pick, (local, _, domain) = self.pick, address.partition("@")
        mess = pick.random()
        if mess < 0.04:
            return f"{local}@{self.slip(domain.partition('.')[0])}.{domain.partition('.')[2]}"
        if mess < 0.07 and len(local) > 4:
            return f"{self.slip(local)}@{domain}".lower()
        if mess < 0.11:
            return f"{local}+harbour@{domain}"
        if mess < 0.20:
            return address.upper() if pick.random() < 0.3 else address.title()
        if self.other and mess < 0.26:
            return f"{local}@{pick.choice(MAIL)}"
        return address

    def _phone(self, number: str) -> str:
        style = self.pick.random()
        if number.startswith("+"):
            return number if style < 0.5 else f"{number[:4]} {number[4:8]} {number[8:]}"
        if style < 0.25:
            return f"+44 {number[1:5]} {number[5:]}"
        if style < 0.4:
            return f"+44 (0){number[1:5]} {number[5:8]} {number[8:]}"
        if style < 0.6:
            return f"{number[:5]} {number[5:]}"
        if style < 0.7:
            return f"({number[:5]}) {number[5:8]}-{number[8:]}"
        return number

    def _org(self, org: str) -> str:
        mess = self.pick.random()
        if mess < 0.2:
            return f"{org} {self.pick.choice(('Ltd', 'Limited', 'GmbH', 'plc'))}"
        if mess < 0.3:
            return self.slip(org)
        if mess < 0.35:
            return org.upper()
        return org


_LETTERS = str.maketrans("øöäüåéëíóáñØÖÄÜ", "ooauaeeioanOOAU")


def _plain(text: str) -> str:
    return "".join(c for c in text.translate(_LETTERS).lower() if c.isalnum() or c == " ")
