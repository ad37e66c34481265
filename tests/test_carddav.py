"""A CardDAV program that knows the standards alone (RFC 6764, 5397, 6352, 6578, 4918) and nothing of Barnacle."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import quote, urljoin
from xml.etree import ElementTree

import httpx
import pytest
from conftest import ME, Office
from hubs import Person, card, hub_in

D, C = "{DAV:}", "{urn:ietf:params:xml:ns:carddav}"
XML = {"Content-Type": "application/xml; charset=utf-8"}


def props(*names: str) -> str:
    return "".join(f"<d:{n}/>" if ":" not in n else f"<{n}/>" for n in names)


def body(kind: str, inner: str) -> str:
    return f'<?xml version="1.0"?><{kind} xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:carddav">{inner}</{kind}>'


class Phone:
    """Finds one's address books from a host name alone, and keeps in step with one of them."""

    def __init__(self, url: str, user: str, password: str) -> None:
        self.url = url
        self.auth = (user, password)
        self.cards: dict[str, tuple[str, str]] = {}
        self.token = ""

    def ask(self, method: str, path: str, content: str = "", **headers: str) -> httpx.Response:
        head = {key.replace("_", "-"): value for key, value in headers.items()}
        return httpx.request(
            method, urljoin(self.url, path), content=content.encode(), headers=head, auth=self.auth, follow_redirects=True,
            verify=False,
        )  # fmt: skip

    def find(self, path: str, depth: str, *names: str) -> dict[str, dict[str, ElementTree.Element]]:
        """The properties that were found, by path and tag."""
        answer = self.ask("PROPFIND", path, body("d:propfind", f"<d:prop>{props(*names)}</d:prop>"), Depth=depth, **XML)
        assert answer.status_code == 207 and answer.headers["content-type"].startswith("application/xml")
        result = {}
        for one in ElementTree.fromstring(answer.content).findall(f"{D}response"):
            good = [p for p in one.findall(f"{D}propstat") if " 200 " in p.findtext(f"{D}status", "")]
            result[one.findtext(f"{D}href", "")] = {e.tag: e for p in good for e in p.find(f"{D}prop")}  # type: ignore[union-attr]
        return result

    def href(self, found: dict[str, dict[str, ElementTree.Element]], tag: str) -> str:
        (one,) = found.values()
        return one[tag].findtext(f"{D}href", "")

    def discover(self) -> dict[str, str]:
        """The address books by title (RFC 6764 section 6)."""
        principal = self.href(
            self.find("/.well-known/carddav", "0", "current-user-principal"), f"{D}current-user-principal"
        )
        home = self.href(self.find(principal, "0", "c:addressbook-home-set"), f"{C}addressbook-home-set")
        found = self.find(
            home, "1", "resourcetype", "displayname", "current-user-privilege-set", "supported-report-set"
        )
        books = {
            path: one for path, one in found.items() if one[f"{D}resourcetype"].find(f"{C}addressbook") is not None
        }
        return {one[f"{D}displayname"].text or "": path for path, one in books.items()}

    def sync(self, book: str, limit: int = 0) -> None:
        """Take in what has changed since the last time (RFC 6578 section 3)."""
        while True:
            bound = f"<d:limit><d:nresults>{limit}</d:nresults></d:limit>" if limit else ""
            wish = f"<d:sync-token>{self.token}</d:sync-token><d:sync-level>1</d:sync-level>{bound}<d:prop><d:getetag/></d:prop>"
            answer = self.ask("REPORT", book, body("d:sync-collection", wish), Depth="0", **XML)
            if answer.status_code == 403 and b"valid-sync-token" in answer.content:
                self.token, self.cards = "", {}
                continue
            assert answer.status_code == 207, answer.text
            root = ElementTree.fromstring(answer.content)
            changed, more = [], False
            for one in root.findall(f"{D}response"):
                path, status = one.findtext(f"{D}href", ""), one.findtext(f"{D}status", "")
                if " 404 " in status:
                    self.cards.pop(path, None)
                elif " 507 " in status:
                    more = True
                else:
                    changed.append(path)
            self.fetch(book, changed)
            self.token = root.findtext(f"{D}sync-token", "")
            if not more:
                return

    def fetch(self, book: str, paths: list[str]) -> None:
        if not paths:
            return
        wish = f"<d:prop>{props('getetag', 'c:address-data')}</d:prop>" + "".join(
            f"<d:href>{p}</d:href>" for p in paths
        )
        answer = self.ask("REPORT", book, body("c:addressbook-multiget", wish), Depth="1", **XML)
        assert answer.status_code == 207
        for one in ElementTree.fromstring(answer.content).findall(f"{D}response"):
            prop = one.find(f"{D}propstat/{D}prop")
            assert prop is not None
            data = prop.findtext(f"{C}address-data", "").replace("\r\n", "\n").replace("\n", "\r\n")
            self.cards[one.findtext(f"{D}href", "")] = (prop.findtext(f"{D}getetag", ""), data)


@pytest.fixture(scope="module")
def hub(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Person, Person]]:
    office = Office(tmp_path_factory.mktemp("dav"))
    office.within("setup", "--me", ME)
    with hub_in(office, "--most-requests", "10000") as running:
        yield running.person("maren@tidewick.example", "Maren Holt"), running.person("tor@tidewick.example", "Tor Vik")


def test_a_phone_finds_the_lists_and_keeps_in_step(hub: tuple[Person, Person]) -> None:
    maren, tor = hub
    made = maren.new_list("Ferry crews & more", (tor, "editor"))
    maren.new_list("Maren's own")
    for uid in ("una", "bo", "ida"):
        maren.put(made, uid)
    phone = Phone(tor.url, tor.address, tor.token)
    books = phone.discover()
    assert list(books) == ["Ferry crews & more"]
    book = books["Ferry crews & more"]
    phone.sync(book, limit=2)
    assert len(phone.cards) == 3 and {data for _, data in phone.cards.values()} == {
        card(uid) for uid in ("una", "bo", "ida")
    }
    # Add, change, remove, each only as it is known; then another phone takes that in by its token.
    other = Phone(tor.url, tor.address, tor.token)
    other.sync(book)
    assert (
        phone.ask("PUT", f"{book}new.vcf", card("new"), Content_Type="text/vcard", If_None_Match="*").status_code == 201
    )
    assert (
        phone.ask("PUT", f"{book}new.vcf", card("new"), Content_Type="text/vcard", If_None_Match="*").status_code == 412
    )
    path = next(p for p in phone.cards if p.endswith("una.vcf"))
    etag = phone.cards[path][0]
    changed = card("una", "Una Berg Holt", "X-BOAT:Kittiwake\r\nNICKNAME:Nan\r\n")
    put = phone.ask("PUT", path, changed, Content_Type="text/vcard", If_Match=etag)
    assert put.status_code == 204 and put.headers["etag"] not in (etag, "")
    assert phone.ask("PUT", path, changed, Content_Type="text/vcard", If_Match=etag).status_code == 412
    gone = next(p for p in phone.cards if p.endswith("bo.vcf"))
    assert phone.ask("DELETE", gone, If_Match=phone.cards[gone][0]).status_code == 204
    before = dict(other.cards)
    other.sync(book)
    assert set(other.cards) == set(before) - {gone} | {f"{book}new.vcf"} and other.cards[path] == (
        put.headers["etag"],
        changed,
    )
    fresh = Phone(tor.url, tor.address, tor.token)
    fresh.sync(book)
    assert fresh.cards == other.cards
    other.token = other.token[:-1] + ("0" if other.token[-1] != "0" else "1")
    other.sync(book)
    assert other.cards == fresh.cards, "a token that is none: all over again"


@pytest.mark.parametrize(
    ("wish", "found"),
    [
        ('<c:prop-filter name="FN"><c:text-match match-type="starts-with">una</c:text-match></c:prop-filter>', {"una"}),
        ('<c:prop-filter name="FN"><c:text-match match-type="equals" negate-condition="yes">Bo Lund</c:text-match></c:prop-filter>', {"una", "ida"}),
        ('<c:prop-filter name="X-BOAT"><c:is-not-defined/></c:prop-filter>', {"bo", "ida"}),
        ('<c:prop-filter name="X-BOAT"/>', {"una"}),
        ('<c:prop-filter name="TEL"><c:param-filter name="TYPE"><c:text-match match-type="equals">home</c:text-match></c:param-filter></c:prop-filter>', {"bo"}),
        ('<c:prop-filter name="FN"><c:text-match collation="i;octet" match-type="contains">una</c:text-match></c:prop-filter>', set()),
        ('<c:prop-filter name="FN"><c:text-match>berg</c:text-match></c:prop-filter><c:prop-filter name="EMAIL"><c:text-match>bo@</c:text-match></c:prop-filter>', {"una", "bo"}),
    ],
)  # fmt: skip
def test_searches(hub: tuple[Person, Person], wish: str, found: set[str]) -> None:
    maren, _ = hub
    made = maren.new_list("Searched")
    maren.put(made, "una", data=card("una", "Una Berg", "X-BOAT:Kittiwake\r\n"))
    maren.put(made, "bo", data=card("bo", "Bo Lund", "TEL;TYPE=home:+441632960001\r\n"))
    maren.put(made, "ida", data=card("ida", "Ida Rask"))
    text = body("c:addressbook-query", f"<d:prop>{props('getetag')}</d:prop><c:filter>{wish}</c:filter>")
    answer = maren.ask("REPORT", f"dav/lists/{made}/", 207, content=text, headers={"Depth": "1"}).text
    assert set(re.findall(r"/(\w+)\.vcf<", answer)) == found


def test_versions_parts_and_what_the_principal_tells(hub: tuple[Person, Person]) -> None:
    maren, tor = hub
    made = maren.new_list("Versions", (tor, "reader"))
    maren.put(made, "una", data=card("una", "Una Berg", "TEL;TYPE=home:+441632960001\r\nNOTE:sings\r\n"))
    get = tor.ask("GET", f"dav/lists/{made}/una.vcf", 200, headers={"Accept": "text/vcard; version=3.0"})
    assert "VERSION:3.0\r\n" in get.text and "TEL;TYPE=home:+441632960001" in get.text
    part = '<d:prop><c:address-data version="3.0"><c:prop name="EMAIL"/></c:address-data></d:prop>'
    text = body(
        "c:addressbook-multiget",
        f"{part}<d:href>/dav/lists/{made}/una.vcf</d:href><d:href>/dav/lists/{made}/no.vcf</d:href>",
    )
    answer = tor.ask("REPORT", f"dav/lists/{made}/", 207, content=text).text
    assert "una@kelp.example" in answer and "sings" not in answer and "404" in answer
    phone = Phone(tor.url, tor.address, tor.token)
    (one,) = phone.find(f"/dav/lists/{made}/", "0", "current-user-privilege-set", "supported-report-set", "owner",
                        "c:supported-address-data", "sync-token", "acl").values()  # fmt: skip
    privileges = ElementTree.tostring(one[f"{D}current-user-privilege-set"]).decode()
    assert "read" in privileges and "write" not in privileges and f"{D}acl" in one
    assert {e.get("version") for e in one[f"{C}supported-address-data"]} == {"3.0", "4.0"}
    options = tor.ask("OPTIONS", f"dav/lists/{made}/", 200)
    assert {"1", "3", "access-control", "addressbook"} <= {p.strip() for p in options.headers["dav"].split(",")}
    search = "<d:property-search><d:prop><d:displayname/></d:prop><d:match>{}</d:match></d:property-search><d:prop><d:displayname/></d:prop>"
    for wish, found in (("Tor", True), ("Maren", False)):
        text = body("d:principal-property-search", search.format(wish))
        assert ("Tor Vik" in tor.ask("REPORT", "dav/people/", 207, content=text).text) is found, (
            "nobody finds anybody else"
        )
    assert tor.ask(
        "GET",
        f"dav/lists/{made}/una.vcf",
        304,
        headers={"If-None-Match": maren.ask("GET", f"dav/lists/{made}/una.vcf").headers["etag"]},
    )


def test_what_a_program_leaves_out_of_a_card_stays_and_a_card_keeps_its_uid(hub: tuple[Person, Person]) -> None:
    person, _ = hub
    made = person.new_list("Marks")
    more = "X-OPT-OUT:2026-11-28T10:00:00Z asked\r\nX-BOAT:Kittiwake\r\nCATEGORIES:choir\r\nTITLE:Mate\r\nitem1.X-NOTE:her own\r\n"
    person.put(made, "una", data=card("una", more=more))
    kept = person.put(made, "una", 204, card("una", "Una Holt"))
    assert "etag" not in kept.headers, "it is kept otherwise than it was sent"
    text = person.ask("GET", f"dav/lists/{made}/una.vcf", 200).text
    assert all(
        word in text for word in ("FN:Una Holt", "X-OPT-OUT:2026-11-28T10:00:00Z asked", "X-BOAT", "CATEGORIES:choir")
    )
    assert "TITLE" not in text, "what programs show is taken at its word"
    assert person.put(
        made, "una", 204, text.replace("X-OPT-OUT:2026-11-28T10:00:00Z asked", "X-OPT-IN:2026-11-29T10:00:00Z")
    ).headers["etag"]
    text = person.ask("GET", f"dav/lists/{made}/una.vcf", 200).text
    assert "X-OPT-OUT" not in text and "X-OPT-IN" in text
    refused = person.put(made, "una", 409, card("somebody-else"))
    assert "no-uid-conflict" in refused.text and f"/dav/lists/{made}/una.vcf" in refused.text
    assert person.ask("GET", f"dav/lists/{made}/una.vcf", 200).text == text


FILTER = """<c:addressbook-query xmlns="DAV:" xmlns:c="urn:ietf:params:xml:ns:carddav"><prop><getetag/></prop><c:filter>{}</c:filter></c:addressbook-query>"""


def test_conditions_names_filters_and_parts_to_the_letter(hub: tuple[Person, Person]) -> None:
    person, _ = hub
    made = person.new_list("Letter")
    etag = person.put(made, "una", data=card("una", "Zoë Ärla", "TEL;TYPE=Cell:1\r\nNOTE:one two\r\n")).headers["etag"]
    path = f"dav/lists/{made}/una.vcf"
    for condition, value, status in (
        ("If-Match", etag, 200),
        ("If-Match", f'"x", {etag}', 200),
        ("If-Match", f"W/{etag}", 412),
        ("If-Match", "*", 200),
        ("If-Match", f'"{etag[1:-2]}"', 412),
        ("If-None-Match", f"W/{etag}", 304),
        ("If-None-Match", '"x"', 200),
        ("If-None-Match", "*", 304),
    ):
        person.ask("GET", path, status, headers={condition: value})
    person.put(made, "una", 412, card("una"), If_Match=f"W/{etag}")
    person.put(made, "una", 412, card("una"), If_None_Match=etag)
    person.put(made, "una", 400, card("una"), Content_Range="bytes 0-3/10")
    for name in ("ä b", "x;y:z", "%41", "日本", "a&b", "...", "'"):
        quoted = quote(name, safe="")
        person.put(made, quoted, 201, card(f"u-{quoted}", "Other"))
        assert person.ask("GET", f"dav/lists/{made}/{quoted}.vcf", 200).text == card(f"u-{quoted}", "Other")
    find = "<propfind xmlns='DAV:'><prop><supported-report-set/></prop></propfind>"
    answer = person.ask("PROPFIND", path, 207, content=find, headers={"Depth": "0"}).text
    assert "addressbook-multiget" in answer and "sync-collection" not in answer
    for wish, found in (
        ("<c:prop-filter name='fn'><c:text-match>zoë</c:text-match></c:prop-filter>", True),
        ("<c:prop-filter name='FN'><c:text-match match-type='equals'>zoe ärla</c:text-match></c:prop-filter>", False),
        (
            "<c:prop-filter name='FN'><c:text-match match-type='starts-with'>ZOE\u0308</c:text-match></c:prop-filter>",
            True,
        ),
        ("<c:prop-filter name='FN'><c:text-match collation='i;octet'>zoë</c:text-match></c:prop-filter>", False),
        (
            "<c:prop-filter name='FN'><c:text-match collation='i;ascii-casemap' match-type='ends-with'>ÄRLA</c:text-match></c:prop-filter>",
            True,
        ),
        ("<c:prop-filter name='tel'/>", True),
        ("<c:prop-filter name='NICKNAME'/>", False),
        ("<c:prop-filter name='NICKNAME'><c:is-not-defined/></c:prop-filter>", True),
        (
            "<c:prop-filter name='NOTE' test='allof'><c:text-match>one</c:text-match><c:text-match>three</c:text-match></c:prop-filter>",
            False,
        ),
        (
            "<c:prop-filter name='NOTE'><c:text-match>one</c:text-match><c:text-match>three</c:text-match></c:prop-filter>",
            True,
        ),
        (
            "<c:prop-filter name='TEL'><c:param-filter name='type'><c:text-match collation='i;octet'>Cell</c:text-match></c:param-filter></c:prop-filter>",
            True,
        ),
        (
            "<c:prop-filter name='TEL'><c:param-filter name='TYPE'><c:is-not-defined/></c:param-filter></c:prop-filter>",
            False,
        ),
    ):
        text = person.ask("REPORT", f"dav/lists/{made}/", 207, content=FILTER.format(wish).encode()).text
        assert ("una.vcf" in text) is found, wish
    odd = "<c:prop-filter name='FN'><c:text-match match-type='sounds-like'>x</c:text-match></c:prop-filter>"
    assert "supported-filter" in person.ask("REPORT", f"dav/lists/{made}/", 403, content=FILTER.format(odd)).text
    wish = FILTER.format("<c:prop-filter name='TEL'/>").replace(
        "<getetag/>", "<c:address-data><c:prop name='note'/><c:prop name='Tel' novalue='yes'/></c:address-data>"
    )
    text = person.ask("REPORT", f"dav/lists/{made}/", 207, content=wish).text
    assert "NOTE:one two" in text and "TEL:\n" in text.replace("\r", "") and "EMAIL" not in text
    both = "<d:propertyupdate xmlns:d='DAV:'><d:set><d:prop><d:displayname>X</d:displayname><d:getetag/></d:prop></d:set></d:propertyupdate>"
    text = person.ask("PROPPATCH", f"dav/lists/{made}/", 207, content=both).text
    assert "424 Failed Dependency" in text and "403 Forbidden" in text
