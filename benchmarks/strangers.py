"""Books by other assumptions than those of people.py: the second and the third generator.

`Registry` is tuned on; `Bureau` is only ever reported. They take names from two packages that have nothing to do with
each other or with our tables (Faker; the given names by Jörg Michael that gender-guesser carries, with pet names of
some thirty countries), and have other shares, families and mechanisms of error. The kinds of error are those of the
literature on record linkage: Damerau (A technique for computer detection and correction of spelling errors, 1964),
Kukich (Techniques for automatically correcting words in text, 1992), Christen and Pudjijono (Accurate synthetic
generation of realistic personal information, 2009), Tran, Vatsalan and Christen (GeCo, 2013): keyboard, scanner, ear,
abbreviation, fields that change places, moves, marriages, transliteration. Addresses and phones are of reserved ranges.
"""

from __future__ import annotations

import unicodedata
from dataclasses import dataclass, field
from functools import cache
from importlib import import_module, resources
from typing import ClassVar

from people import Village

from barnacle.core.contact import Address, Contact, Extra, Phone

CYRILLIC = "абвгдезийклмнопрстуфхцчшщъыьэюяїієґ"
# The same letters by two ways of transliterating: as on English maps (BGN/PCGN), and as in passports (ICAO 9303).
ON_MAPS = dict(zip(CYRILLIC, "a b v g d e z i y k l m n o p r s t u f kh ts ch sh shch . y . e yu ya yi i ye g".split(), strict=True))  # fmt: skip
ON_MAPS |= {"ж": "zh", "ё": "yo"}
IN_PASSPORTS = {**ON_MAPS, "й": "i", "ъ": "ie", "ю": "iu", "я": "ia", "х": "kh", "ё": "e", "ї": "i", "є": "ie"}
AS_SPOKEN = {**ON_MAPS, "х": "h", "ц": "c", "ю": "ju", "я": "ja", "й": "j", "щ": "sch", "ж": "j", "ё": "jo"}
GREEK = dict(zip("αβγδεζηθικλμνξοπρστυφχψωςάέήίόύώϊϋΐ", "a v g d e z i th i k l m n x o p r s t y f ch ps o s a e i i o y o i y i".split(), strict=True))  # fmt: skip
GREEK_AS_SPOKEN = {**GREEK, "χ": "h", "υ": "i", "ύ": "i", "θ": "t", "ξ": "ks", "β": "b"}
ARABIC = {
    "محمد": "Mohammed", "أحمد": "Ahmed", "علي": "Ali", "حسن": "Hassan", "حسين": "Hussein", "فاطمة": "Fatima", "خالد": "Khaled",
    "يوسف": "Youssef", "سمير": "Samir", "ليلى": "Layla", "نور": "Nour", "عمر": "Omar", "إبراهيم": "Ibrahim", "كريم": "Karim",
    "مريم": "Maryam", "سعيد": "Saeed", "طارق": "Tariq", "هدى": "Huda", "زينب": "Zaynab", "رشيد": "Rashid", "منصور": "Mansour",
    "الحداد": "Al-Haddad", "الشامي": "Al-Shami", "نجار": "Najjar", "خوري": "Khoury", "صالح": "Saleh", "بركات": "Barakat",
    "حمدان": "Hamdan", "قاسم": "Qassem", "درويش": "Darwish", "عثمان": "Othman", "سلمان": "Salman", "ناصر": "Nasser",
}  # fmt: skip


def transliterated(text: str, letters: dict[str, str]) -> str:
    plain = "".join(letters.get(c, c) for c in text.casefold()).replace(".", "")
    return " ".join("-".join(piece.capitalize() for piece in word.split("-")) for word in plain.split())


def plain(text: str) -> str:
    for a, b in (
        ("ß", "ss"),
        ("ø", "o"),
        ("Ø", "O"),
        ("ł", "l"),
        ("Ł", "L"),
        ("æ", "ae"),
        ("đ", "d"),
        ("ı", "i"),
        ("þ", "th"),
    ):
        text = text.replace(a, b)
    return "".join(c for c in unicodedata.normalize("NFKD", text) if not unicodedata.combining(c))


def ascii_only(text: str) -> str:
    return "".join(c for c in plain(text).lower() if c.isascii() and c.isalnum())


# Keys beside each other, and what a scanner takes for something else.
ROWS = ("qwertyuiop", "asdfghjkl", "zxcvbnm")
BESIDE = {
    c: "".join(
        ROWS[r][k] for r in range(max(n - 1, 0), min(n + 2, 3)) for k in range(max(at - 1, 0), at + 2)
        if k < len(ROWS[r]) and ROWS[r][k] != c
    )
    for n, row in enumerate(ROWS) for at, c in enumerate(row)
}  # fmt: skip
SCANNED = (("rn", "m"), ("m", "rn"), ("cl", "d"), ("d", "cl"), ("li", "h"), ("h", "b"), ("e", "c"), ("c", "e"), ("l", "i"), ("i", "l"),
           ("u", "ii"), ("nn", "m"), ("vv", "w"), ("w", "vv"), ("t", "f"), ("f", "t"), ("a", "o"), ("g", "q"), ("n", "u"))  # fmt: skip
HEARD = (("ph", "f"), ("f", "ph"), ("ck", "k"), ("k", "c"), ("c", "k"), ("ie", "y"), ("y", "i"), ("ei", "ai"), ("ai", "ay"), ("ey", "y"),
         ("th", "t"), ("t", "th"), ("v", "w"), ("w", "v"), ("tz", "z"), ("z", "s"), ("s", "z"), ("sch", "sh"), ("ss", "s"), ("ll", "l"),
         ("l", "ll"), ("nn", "n"), ("n", "nn"), ("tt", "t"), ("ou", "u"), ("oo", "u"), ("ee", "i"), ("ea", "ee"), ("h", ""), ("dt", "t"))  # fmt: skip
BY_EAR = (("x", "ks"), ("ks", "x"), ("qu", "kw"), ("q", "k"), ("j", "y"), ("y", "j"), ("cz", "ch"), ("sz", "s"), ("ch", "k"), ("gh", "g"),
          ("igh", "y"), ("ough", "o"), ("au", "o"), ("o", "au"), ("er", "ar"), ("ar", "er"), ("en", "an"), ("b", "p"), ("d", "t"), ("g", "k"),
          ("ae", "e"), ("oe", "o"), ("u", "o"), ("e", "i"), ("i", "e"), ("gn", "ny"), ("lh", "l"), ("nh", "ny"), ("rr", "r"), ("r", "rr"))  # fmt: skip

PET = {
    "Andrew": "Drew", "Anthony": "Tony", "Katherine": "Kate", "Charlotte": "Lottie", "Christopher": "Kit", "Elizabeth": "Beth", "Victoria": "Tori",
    "William": "Will", "Robert": "Rob", "Margaret": "Maggie", "Joseph": "Joe", "Rebecca": "Becky", "Nicholas": "Nick", "Samantha": "Sam",
    "Katharina": "Käthe", "Johannes": "Hannes", "Friedrich": "Fritz", "Sebastian": "Basti", "Wolfgang": "Wolf", "Elisabeth": "Elli", "Margarete": "Grete",
    "Guillaume": "Guy", "Christophe": "Tophe", "Frédéric": "Fred", "Alexandre": "Alex", "Dominique": "Dom", "Margaux": "Margo", "Bernard": "Nanard",
    "José": "Pepe", "Francisco": "Paco", "Ignacio": "Nacho", "Dolores": "Lola", "Guadalupe": "Lupe", "Rosario": "Charo", "Manuel": "Manolo",
    "Giuseppe": "Peppe", "Giovanni": "Gianni", "Francesca": "Franca", "Salvatore": "Totò", "Luigi": "Gigi", "Antonella": "Nella", "Alessandra": "Ale",
    "Hendrik": "Henk", "Cornelis": "Kees", "Johanna": "Jo", "Wilhelmina": "Mien", "Maarten": "Tijn", "Gerrit": "Ger", "Małgorzata": "Gosia",
    "Katarzyna": "Kasia", "Agnieszka": "Aga", "Krzysztof": "Krzysiek", "Stanisław": "Staszek", "Aleksandra": "Ola", "Grzegorz": "Grzesiek",
    "Александр": "Саша", "Дмитрий": "Дима", "Михаил": "Миша", "Екатерина": "Катя", "Владимир": "Вова", "Мария": "Маша", "Наталья": "Наташа",
    "Николай": "Коля", "Татьяна": "Таня", "Сергей": "Серёжа", "Анастасия": "Настя", "Евгений": "Женя", "Κωνσταντίνος": "Κώστας", "Γεώργιος": "Γιώργος",
    "Ιωάννης": "Γιάννης", "Δημήτριος": "Μήτσος", "Αικατερίνη": "Κατερίνα", "Margareta": "Greta", "Birgitta": "Gittan", "Lennart": "Lelle",
}  # fmt: skip
ORGS = "Harbour Pilots,Slipway Works,Rope Walk,Lock Keepers,Sail Loft,Dredging,Chandlers,Fish Market,Tide Mill,Lighthouse Trust,Boat School,Ferry Line,Customs House,Net Store,Dive Club".split(
    ","
)
PLACES = "Tidewick Eldermouth Saltmarsh Kelpness Gannet Ebbing Fairlead Sternhaven Windle Mudflat Osprey Halyard Capstan Jetty Quarry Sandhoe".split()


@dataclass
class Somebody:
    """A person and everything that may be written down."""

    given: str
    family: str
    middle: str
    letters: dict[str, str] | None
    pets: tuple[str, ...]
    org: str = ""
    work: str = ""
    home: str = ""
    second: str = ""
    mobile: str = ""
    landline: str = ""
    desk: str = ""
    born: str = ""
    kind: str = "chance"
    renamed: str = ""
    old_home: str = ""
    old_work: tuple[str, str] = ("", "")
    lists: list[int] = field(default_factory=list)


@cache
def _faker_names(locale: str) -> tuple[list[str], list[str]]:
    provider = import_module(f"faker.providers.person.{locale}").Provider
    result = []
    for kinds in (
        ("first_names_male", "first_names_female", "first_names"),
        ("last_names", "last_names_male", "last_names_female"),
    ):
        found: dict[str, None] = {}
        for kind in kinds:
            found.update(dict.fromkeys(getattr(provider, kind, ()) or ()))
        names = [n for n in found if len(n) > 1 and "." not in n]
        result.append(names)
    return result[0], result[1]


@cache
def _michaels_names() -> tuple[dict[int, list[str]], dict[str, tuple[str, ...]]]:
    """Given names by the column of the country, the more frequent the earlier; and pet names by name."""
    raw = (resources.files("gender_guesser") / "data" / "nam_dict.txt").read_text("utf-8")
    by_country: dict[int, list[tuple[int, str]]] = {}
    pets: dict[str, list[str]] = {}
    for line in raw.splitlines():
        if line.startswith("#") or len(line) < 80:
            continue
        if line.startswith("="):
            short, _, long = line[2:30].strip().partition(" ")
            if short and long.strip():
                pets.setdefault(long.strip(), []).append(short)
            continue
        name = line[3:30].strip()
        if "+" in name or len(name) < 3:
            continue
        for column, digit in enumerate(line[30:85]):
            if digit in "123456789ABCD":
                by_country.setdefault(column, []).append((-int(digit, 16), name))
    return {c: [n for _, n in sorted(names)] for c, names in by_country.items()}, {n: tuple(p) for n, p in pets.items()}


class _Book(Village):
    """What both generators do alike: how people come together to a book."""

    again = 0.1  # of all contacts
    domains = ("gull.example", "kelp.example", "ebb.example", "tern.test", "home.test", "skerry.example")

    def __init__(self, seed: int, number: int) -> None:
        super().__init__(f"{type(self).__name__} {seed}", number)
        self.names = self.name_source()

    # What each generator does in its own way.
    def name_source(self) -> object:
        raise NotImplementedError

    def somebody(self) -> Somebody:
        raise NotImplementedError

    def families(self, one: Somebody) -> list[Somebody]:
        raise NotImplementedError

    def record(self, one: Somebody, again: bool) -> Contact:
        raise NotImplementedError

    def chance(self, share: float) -> bool:
        return self.pick.random() < share

    def card(self, contact: Contact, addresses: list[str], phones: list[str], born: str) -> Contact:
        """The contact with how it is reached, as somebody writes that down."""
        contact.extra = [Extra("csv:Birthday", born)] if born else []
        contact.addresses = [Address(address) for address in addresses]
        contact.phones = [Phone(self.written(number)) for number in phones]
        return contact

    def book(self) -> tuple[list[Contact], list[tuple[int, str]]]:
        """Contacts in any order, and of each the number of its person and what relation that one has to another."""
        people: list[Somebody] = []
        again = int(self.number * self.again)
        while len(people) < self.number - again:
            one = self.somebody()
            people += [one, *self.families(one)]
        people = people[: self.number - again]
        records = [(n, one.kind, self.record(one, False)) for n, one in enumerate(people)]
        for n in self.pick.choices(range(len(people)), k=again):
            other = self.record(people[n], True)
            for _ in range(20):
                if self.connected(records[n][2], other, people[n]) or self.chance(0.04):
                    break
                other = self.record(people[n], True)
            records.append((n, people[n].kind, other))
        self.pick.shuffle(records)
        for place, (_, _, contact) in enumerate(records):
            contact.uid = f"{self.pick.getrandbits(64):016x}-{place}"
        return [c for _, _, c in records], [(n, kind) for n, kind, _ in records]

    def connected(self, one: Contact, other: Contact, who: Somebody) -> bool:
        """Whether anybody could tell: something of theirs that few have is in both, if misspelt."""
        digits = [{"".join(filter(str.isdigit, p.number))[-6:] for p in c.phones} for c in (one, other)]
        locals_ = [
            {a.address.lower().partition("@")[0].partition("+")[0][:4] for a in c.addresses} for c in (one, other)
        ]
        return bool(
            digits[0] & digits[1]
            or locals_[0] & locals_[1] - {"offi", "info", "kont"}
            or (one.org and other.org and one.org[:6] == other.org[:6])
        )

    def key(self, word: str) -> str:
        """Another key than was meant: left out, twice, one beside it, two in the wrong order."""
        if len(word) < 3:
            return word
        at = self.pick.randrange(1 if self.chance(0.85) else 0, len(word))
        how = self.pick.random()
        if how < 0.3:
            return word[:at] + word[at + 1 :]
        if how < 0.45:
            return word[: at + 1] + word[at] + word[at + 1 :]
        if how < 0.65 and at + 1 < len(word):
            return word[:at] + word[at + 1] + word[at] + word[at + 2 :]
        beside = BESIDE.get(word[at].lower())
        return word[:at] + self.pick.choice(beside) + word[at + (how < 0.9) :] if beside else word

    def replaced(self, word: str, table: tuple[tuple[str, str], ...]) -> str:
        low = word.lower()
        fitting = [(a, b, at) for a, b in table if (at := low.find(a, 1)) > 0]
        if not fitting:
            return word
        a, b, at = self.pick.choice(fitting)
        return word[:at] + b + word[at + len(a) :]

    def written(self, number: str) -> str:
        style = self.pick.random()
        if number.startswith("+"):
            return number if style < 0.5 else f"{number[:4]}-{number[4:7]}-{number[7:]}"
        forms = (
            number,
            f"+44{number[1:]}",
            f"{number[:5]} {number[5:]}",
            f"0044 {number[1:5]} {number[5:]}",
            f"{number[:5]}/{number[5:8]} {number[8:]}",
        )
        return forms[int(style * len(forms))]


class Registry(_Book):
    """The second generator: a house in the west and north of Europe, with slips of keys and of the ear."""

    LOCALES: ClassVar = {
        "en_GB": 42,
        "de_DE": 14,
        "fr_FR": 9,
        "es_ES": 8,
        "it_IT": 7,
        "nl_NL": 6,
        "sv_SE": 5,
        "pl_PL": 4,
        "ru_RU": 3,
        "el_GR": 2,
    }
    ROLE = ("office", "info", "kontakt", "secretariat", "buero", "ufficio", "crew", "administracion", "kassa")

    def name_source(self) -> dict[str, tuple[list[str], list[str]]]:
        result = {}
        for locale in self.LOCALES:
            given, family = (list(n) for n in _faker_names(locale))
            if len(family) < 20:
                family = [
                    f"{a}{b}"
                    for a in "Kowal Nowak Wiśn Wójc Zieliń Szymań Dąbrow Kozłow Jankow Mazur".split()
                    for b in ("ski", "czyk", "icki", "ak", "ek")
                ]
            self.pick.shuffle(given)
            self.pick.shuffle(family)
            # The larger the book, the more family names there are: made of two there are.
            more = int(self.number * self.LOCALES[locale] / 100 / 4) - len(family)
            if more > 0 and locale not in ("ru_RU", "el_GR"):
                cut = [f[: max(len(f) // 2, 2)] for f in family]
                tails = [f[max(len(f) // 2, 2) :] for f in family]
                made = {self.pick.choice(cut) + self.pick.choice(tails).lower() for _ in range(more * 2)}
                family += sorted(m for m in made if len(m) > 3 and " " not in m)[:more]
            result[locale] = given, family
        return result

    def somebody(self) -> Somebody:
        pick = self.pick
        locale = pick.choices(list(self.LOCALES), list(self.LOCALES.values()))[0]
        givens, families = self.names[locale]  # type: ignore[index]
        given, family = self.skewed(givens), self.skewed(families)
        if locale == "es_ES" and self.chance(0.7):
            family += f" {self.skewed(families)}"
        elif self.chance(0.04):
            family += f"-{self.skewed(families)}"
        letters = {"ru_RU": ON_MAPS, "el_GR": GREEK}.get(locale)
        middle = self.skewed(givens) if self.chance(0.15) and not letters else ""
        one = Somebody(given, family, "" if middle == given else middle, letters, (PET[given],) if given in PET else ())
        self.reach(one)
        return one

    def reach(self, one: Somebody) -> None:
        pick = self.pick
        latin = [
            ascii_only(transliterated(n, one.letters) if one.letters else n) for n in (one.given, one.family.split()[0])
        ]
        one.born = f"{pick.randrange(1940, 2006)}-{pick.randrange(1, 13):02d}-{pick.randrange(1, 29):02d}"
        if self.chance(0.65):
            place, craft = self.skewed(PLACES), pick.choice(ORGS)
            unit = pick.randrange(max(self.number // 150, 3))
            one.org = f"{place} {craft}" + (f" {unit}" if unit > 2 else "")
            domain = f"{ascii_only(place)}-{ascii_only(craft)}{unit if unit > 2 else ''}.example"
            one.work = (
                f"{pick.choice(self.ROLE)}@{domain}"
                if self.chance(0.08)
                else self.free(f"{latin[0]}.{latin[1]}", domain)
            )
            one.desk = f"01632{800_000 + (len(place) * 7919 + len(craft) * 104_729 + unit * 31) % 90_000:06d}"
        style = pick.random()
        year = one.born[2:4]
        local = (
            f"{latin[0]}.{latin[1]}" if style < 0.25 else f"{latin[0]}{latin[1]}{year}" if style < 0.45 else f"{latin[0][0]}{latin[1]}" if style < 0.6
            else f"{latin[1]}{one.born[:4]}" if style < 0.7 else f"{latin[0]}_{pick.randrange(1000)}" if style < 0.85
            else f"{pick.choice(('sea', 'gull', 'red', 'old', 'salt', 'wind'))}{pick.choice(('dog', 'fox', 'star', 'knot', 'rose'))}{pick.randrange(2000)}"
        )  # fmt: skip
        one.home = self.free(local, pick.choice(self.domains))
        one.mobile, one.landline = self.phone(), self.phone()

    def families(self, one: Somebody) -> list[Somebody]:
        share = self.pick.random()
        if share < 0.06:
            return [self.relative(one, "couple", shares_home=self.chance(0.6), shares_phone=True)]
        if share < 0.09:
            return [self.relative(one, "siblings", shares_home=self.chance(0.2), shares_phone=True)]
        if share < 0.105:
            child = self.relative(one, "parent and child", shares_home=self.chance(0.3), shares_phone=True)
            if self.chance(0.15):
                child.given, child.pets, child.middle = one.given, one.pets, "jr."
                # Of two with one name and one address, nobody could tell whose it is where "jr." is left out.
                self.reach(child)
                child.org = child.work = child.desk = ""
                child.landline = one.landline
            return [child]
        if share < 0.115:
            other = self.somebody()
            other.given, other.family, other.letters, other.pets, other.kind = (
                one.given,
                one.family,
                one.letters,
                one.pets,
                "namesakes",
            )
            self.reach(other)
            return [other]
        return []

    def relative(self, one: Somebody, kind: str, shares_home: bool, shares_phone: bool) -> Somebody:
        other = self.somebody()
        while other.letters is not one.letters or other.given == one.given:
            other = self.somebody()
        other.family, other.kind, other.middle = one.family, kind, ""
        self.reach(other)
        other.org = other.work = other.desk = ""
        if shares_home:
            other.home = one.home
        if shares_phone:
            other.landline = one.landline
        return other

    def record(self, one: Somebody, again: bool) -> Contact:
        name, given, family = self.name(one, again)
        addresses = []
        if one.work and self.chance(0.55):
            addresses.append(one.work)
        if not addresses or self.chance(0.25):
            addresses.append(one.home)
        phones = [
            p for p, share in ((one.mobile, 0.45), (one.landline, 0.3), (one.desk, 0.2)) if p and self.chance(share)
        ]
        org = one.org if self.chance(0.5) else ""
        if again:
            addresses = [self.address(a) for a in addresses]
            org = self.org(org)
            if self.chance(0.04) and phones:
                addresses = []
            if self.chance(0.02):
                name = given = family = ""
            if self.chance(0.05) and phones:
                phones[0] = self.wrong_digit(phones[0])
        return self.card(
            Contact(name, given=given, family=family, org=org), addresses, phones, one.born if self.chance(0.15) else ""
        )

    def name(self, one: Somebody, again: bool) -> tuple[str, str, str]:
        pick = self.pick
        given, family, middle = one.given, one.family, one.middle if self.chance(0.5) or one.middle == "jr." else ""
        mess = pick.random() if again else pick.random() * 4
        if mess < 0.09 and one.pets:
            given = pick.choice(one.pets)
        if one.letters and self.chance(0.6):
            letters = one.letters if self.chance(0.6) else AS_SPOKEN if "а" in one.letters else GREEK_AS_SPOKEN
            given, family = transliterated(given, letters), transliterated(family, letters)
        if 0.09 <= mess < 0.15:
            family = self.key(family)
        elif mess < 0.15:
            pass
        elif mess < 0.19:
            given = self.key(given)
        elif mess < 0.22:
            given, family = self.key(given), self.key(family)
        elif mess < 0.25:
            family = self.key(self.key(family))
        elif mess < 0.31:
            family = self.replaced(family, HEARD)
        elif mess < 0.35:
            given = self.replaced(given, HEARD)
        elif mess < 0.40:
            given = f"{given[0]}."
        elif mess < 0.46 and (" " in family or "-" in family):
            family = pick.choice(family.replace("-", " ").split())
        elif mess < 0.48 and again:
            family = one.renamed = one.renamed or self.skewed(self.names["en_GB"][1])  # type: ignore[index]
        elif mess < 0.52:
            given, family = plain(given), plain(family)
        elif mess < 0.55:
            given = f"{pick.choice(('Dr', 'Mr', 'Mrs', 'Herr', 'Mme', 'Ing.'))} {given}"
        whole = " ".join(p for p in ((given, family, middle) if middle == "jr." else (given, middle, family)) if p)
        style = pick.random()
        if style < 0.06:
            whole = f"{family}, {given}"
        elif style < 0.10:
            whole = f"{family} {given}"
        elif style < 0.15:
            whole = whole.upper()
        elif style < 0.20:
            whole = whole.lower()
        elif style < 0.40 and middle != "jr.":
            return whole, " ".join(p for p in (given, middle) if p), family
        return whole, "", ""

    def address(self, address: str) -> str:
        local, _, domain = address.partition("@")
        mess = self.pick.random()
        if mess < 0.05:
            return f"{self.key(local)}@{domain}"
        if mess < 0.08:
            name, _, top = domain.rpartition(".")
            return f"{local}@{self.key(name)}.{top}".lower()
        if mess < 0.10:
            return f"{local}@{self.pick.choice(self.domains)}"
        if mess < 0.12:
            return f"{local}+news@{domain}"
        return address.upper() if mess < 0.16 else address

    def wrong_digit(self, number: str) -> str:
        at = self.pick.randrange(5, len(number) - 1)
        if self.chance(0.5):
            return number[:at] + number[at + 1] + number[at] + number[at + 2 :]
        return number[:at] + str(self.pick.randrange(10)) + number[at + 1 :]

    def org(self, org: str) -> str:
        mess = self.pick.random()
        if not org or mess > 0.5:
            return org
        return (
            f"{org} Ltd"
            if mess < 0.15
            else self.key(org)
            if mess < 0.28
            else "".join(w[0] for w in org.split())
            if mess < 0.34
            else f"The {org}"
            if mess < 0.4
            else org.upper()
        )


class Bureau(_Book):
    """The third: forms on paper that were scanned, people of the south and east, moves and marriages. Not tuned on."""

    again = 0.14
    domains = (
        "pelican.example",
        "marsh.example",
        "brine.test",
        "oyster.example",
        "cockle.test",
        "shoal.example",
        "wrack.test",
        "dune.example",
    )
    ROLE = (
        "info",
        "secretaria",
        "recepcja",
        "ured",
        "iroda",
        "toimisto",
        "kancelar",
        "bestuur",
        "ekonomi",
        "team",
        "office",
    )
    # Faker's family names, and the columns of the given names by Jörg Michael that go with them.
    PARTS = (
        ("en_US", (2,), 24), ("en_IE", (1,), 10), ("pt_BR", (5,), 9), ("da_DK", (16,), 7), ("fi_FI", (19,), 6), ("no_NO", (17,), 6), ("cs_CZ", (24,), 6),
        ("hu_HU", (26,), 6), ("ro_RO", (27,), 5), ("tr_TR", (46,), 5), ("hr_HR", (30,), 4), ("de_AT", (13,), 5),
    )  # fmt: skip

    def name_source(self) -> dict[str, tuple[list[str], list[str]]]:
        by_country, self.pets = _michaels_names()
        result = {}
        for locale, columns, _ in self.PARTS:
            given = [n for c in columns for n in by_country.get(c, [])] or _faker_names(locale)[0]
            family = list(_faker_names(locale)[1])
            self.pick.shuffle(family)
            more = int(self.number / 30) - len(family)
            if more > 0:
                family += sorted(
                    {self.pick.choice(family)[:3] + self.pick.choice(family)[-4:].lower() for _ in range(more * 2)}
                )[:more]
            result[locale] = given[:600], family
        for locale in ("uk_UA", "bg_BG"):
            given, family = (list(n) for n in _faker_names(locale))
            self.pick.shuffle(given)
            self.pick.shuffle(family)
            result[locale] = given, family
        arabic = list(ARABIC)
        result["ar"] = arabic[:21], arabic[21:] + arabic[:21]
        return result

    def somebody(self) -> Somebody:
        pick = self.pick
        weights = [share for _, _, share in self.PARTS]
        locale = pick.choices([*(p for p, _, _ in self.PARTS), "uk_UA", "bg_BG", "ar"], [*weights, 3, 2, 3])[0]
        givens, families = self.names[locale]  # type: ignore[index]
        given, family = self.skewed(givens, 0.6), self.skewed(families, 0.7)
        letters = IN_PASSPORTS if locale in ("uk_UA", "bg_BG") else ARABIC if locale == "ar" else None
        if self.chance(0.08) and not letters:
            family = f"{family}{pick.choice(' -')}{self.skewed(families, 0.7)}"
        middle = self.skewed(givens, 0.6) if self.chance(0.1) and not letters else ""
        one = Somebody(
            given,
            family,
            "" if middle == given else middle,
            letters,
            tuple(p for p in self.pets.get(given, ()) if p != given),
        )
        self.reach(one)
        return one

    def latin(self, one: Somebody) -> tuple[str, str]:
        if one.letters is ARABIC:
            return ARABIC[one.given], ARABIC[one.family]
        if one.letters:
            return transliterated(one.given, one.letters), transliterated(one.family, one.letters)
        return one.given, one.family

    def reach(self, one: Somebody) -> None:
        given, family = (ascii_only(n) for n in self.latin(one))
        one.born = (
            f"{self.pick.randrange(1935, 2008)}-{self.pick.randrange(1, 13):02d}-{self.pick.randrange(1, 29):02d}"
        )
        one.org, one.work, one.desk = self.job(given, family)
        if self.chance(0.1):
            one.old_work = self.job(given, family)[:2]
        styles = (f"{family}.{given}", f"{given}{family}", f"{given[:3]}{family[:4]}", f"{family}{given[0]}{one.born[2:4]}", f"{given}{one.born[:4]}",
                  f"{given[0]}{family}{self.pick.randrange(60)}", f"{self.pick.choice(PLACES).lower()}{self.pick.randrange(3000)}")  # fmt: skip
        one.home = self.free(self.pick.choice(styles), self.pick.choice(self.domains))
        one.second = self.free(one.home.partition("@")[0], self.pick.choice(self.domains))
        one.mobile, one.landline = self.phone(), self.phone()

    def job(self, given: str, family: str) -> tuple[str, str, str]:
        if self.chance(0.4):
            return "", "", ""
        pick, unit = self.pick, self.pick.randrange(max(self.number // 15, 5))
        org = f"{PLACES[unit % 16]} {ORGS[unit // 16 % 15]} {pick.choice(('', '', 'Group')) if unit < 240 else unit}".strip()
        domain = f"{ascii_only(PLACES[unit % 16])}{unit}.example"
        work = (
            f"{pick.choice(self.ROLE)}@{domain}"
            if self.chance(0.12)
            else self.free(f"{given[0]}.{family}" if unit % 2 else f"{family}", domain)
        )
        return org, work, f"01632{700_000 + unit % 99_000:06d}"

    def families(self, one: Somebody) -> list[Somebody]:
        pick, result = self.pick, []
        if self.chance(0.08):
            for _ in range(pick.choice((1, 1, 2, 3))):
                other = self.somebody()
                while other.letters is not one.letters:
                    other = self.somebody()
                child = self.chance(0.4)
                if child and self.chance(0.15):
                    other.given, other.pets, other.middle = one.given, one.pets, "junior" if self.chance(0.6) else ""
                elif other.given == one.given:
                    continue
                other.family, other.kind = one.family, "parent and child" if child else "household"
                if other.middle != "junior":
                    other.middle = ""
                self.reach(other)
                other.org = other.work = other.desk = ""
                if child:
                    other.born = f"{min(int(one.born[:4]) + pick.randrange(22, 38), 2012)}{other.born[4:]}"
                other.landline = one.landline
                # Of two with one name and one address, nobody could tell whose it is.
                if self.chance(0.35) and (other.given != one.given or other.middle):
                    other.home = one.home
                result.append(other)
        elif self.chance(0.012):
            other = self.somebody()
            other.given, other.family, other.letters, other.pets, other.kind = (
                one.given,
                one.family,
                one.letters,
                one.pets,
                "namesakes",
            )
            self.reach(other)
            if self.chance(0.3):
                other.org, other.desk, other.kind = one.org, one.desk, "namesakes in one organisation"
                other.work = self.free(one.work.partition("@")[0], one.work.partition("@")[2]) if one.work else ""
            result.append(other)
        return result

    def record(self, one: Somebody, again: bool) -> Contact:
        name, given, family = self.name(one, again)
        org, work = one.old_work if one.old_work[0] and again and self.chance(0.5) else (one.org, one.work)
        addresses = [a for a, share in ((work, 0.5), (one.home, 0.6), (one.second, 0.06)) if a and self.chance(share)]
        phones = [
            p for p, share in ((one.mobile, 0.5), (one.landline, 0.25), (one.desk, 0.15)) if p and self.chance(share)
        ]
        if not addresses and not phones:
            addresses = [one.home]
        if not self.chance(0.55):
            org = ""
        if again:
            addresses = [self.address(a) for a in addresses]
            phones = [self.digits(p) for p in phones]
            if org and self.chance(0.2):
                org = (
                    self.replaced(org, SCANNED)
                    if self.chance(0.5)
                    else org.split()[0]
                    if self.chance(0.3)
                    else f"{org} AG"
                )
            if self.chance(0.015):
                name = given = family = ""
        return self.card(
            Contact(name, given=given, family=family, org=org), addresses, phones, one.born if self.chance(0.2) else ""
        )

    def name(self, one: Somebody, again: bool) -> tuple[str, str, str]:
        pick = self.pick
        given, family, middle = one.given, one.family, one.middle if self.chance(0.6) or one.middle == "junior" else ""
        mess = pick.random() if again else pick.random() * 5
        if one.letters and self.chance(0.65):
            if one.letters is ARABIC:
                given, family = (self.romanised(ARABIC[n]) for n in (given, family))
            else:
                letters = pick.choice((IN_PASSPORTS, IN_PASSPORTS, ON_MAPS, AS_SPOKEN))
                given, family = transliterated(given, letters), transliterated(family, letters)
        if mess < 0.08:
            given = pick.choice(one.pets) if one.pets else given
        elif mess < 0.14:
            family = self.replaced(family, SCANNED)
        elif mess < 0.18:
            given = self.replaced(given, SCANNED)
        elif mess < 0.24:
            family = self.replaced(family, BY_EAR)
        elif mess < 0.27:
            given = self.replaced(given, BY_EAR)
        elif mess < 0.29:
            given, family = self.replaced(given, BY_EAR), self.replaced(family, SCANNED)
        elif mess < 0.31:
            family = self.replaced(self.replaced(family, BY_EAR), BY_EAR)
        elif mess < 0.34:
            family = self.key(family)
        elif mess < 0.38 and again:  # married
            new = one.renamed = one.renamed or self.skewed(self.names["en_US"][1], 0.7)  # type: ignore[index]
            family = new if self.chance(0.4) else f"{family}-{new}" if self.chance(0.5) else f"{new} {family}"
        elif mess < 0.42:
            given = given[:1] if self.chance(0.5) else f"{given[:3]}."
        elif mess < 0.44:
            family = family[:8]
        elif mess < 0.48:
            family = family.replace("-", " ").split()[0]
        elif mess < 0.50:
            given, family = plain(given), plain(family)
        whole = " ".join(p for p in (given, middle, family) if p) if middle != "junior" else f"{given} {family} junior"
        style = pick.random()
        if style < 0.08:
            return f"{family} {given}", "", ""
        if style < 0.14:
            return f"{family.upper()} {given}", "", ""
        if style < 0.17:
            return f"{family}, {given}", "", ""
        if style < 0.37 and middle != "junior":
            if again and self.chance(0.08):
                return whole, family, given  # in each other's fields
            return whole, given, family
        return whole, "", ""

    def romanised(self, name: str) -> str:
        if name.startswith("Al-"):
            name = self.pick.choice(("Al-", "Al-", "Al ", "El-", "al-", "")) + name[3:]
        for a, b in (
            ("ou", "u"),
            ("ss", "s"),
            ("mm", "m"),
            ("kh", "h"),
            ("q", "k"),
            ("ee", "i"),
            ("ay", "ei"),
            ("h", ""),
        ):
            if a in name[1:] and self.chance(0.25):
                name = name[0] + name[1:].replace(a, b, 1)
        return name

    def address(self, address: str) -> str:
        local, _, domain = address.partition("@")
        mess = self.pick.random()
        if mess < 0.04:
            return f"{self.replaced(local, SCANNED)}@{domain}"
        if mess < 0.06:
            return f"{self.key(local)}@{domain}".lower()
        if mess < 0.09:
            return f"{local}@{self.replaced(domain.rpartition('.')[0], SCANNED)}.{domain.rpartition('.')[2]}"
        if mess < 0.11:
            return f"{local.replace('.', '')}@{domain}" if "." in local else f"{local}@{domain}"
        return address

    def digits(self, number: str) -> str:
        if not self.chance(0.06):
            return number
        at = self.pick.randrange(6, len(number))
        return (
            number[:at]
            + {"0": "8", "1": "7", "5": "6", "6": "5", "8": "3", "3": "8", "7": "1"}.get(number[at], "4")
            + number[at + 1 :]
        )
