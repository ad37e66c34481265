"""Hostile input by the thousand: a mutator, seeds, and what each reader and each parser of answers must hold.

Whatever comes in, a reader ends in good time, raises nothing but errors with a sentence for the user, and loses nothing
in silence: of three entries of which only the middle one is touched the others are there, or it is said that something
is not. `tests/test_fuzz.py` runs a little of this, `scripts/fuzz.py` as much as one likes.
"""

from __future__ import annotations

import contextlib
import io
import os
import random
import re
import signal
import socket
import tempfile
import threading
import zipfile
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path
from types import FrameType
from typing import NamedTuple, TypeVar

import compound
import httpx
import ldap3

from barnacle.book import settings
from barnacle.core import rules, rules_meant
from barnacle.core.errors import BarnacleError
from barnacle.core.mail import invitation, markdown, returned
from barnacle.files import delivery_reports, free_text, ldif, mailbox, written_document, written_text
from barnacle.files.cards import json_cards, vcard
from barnacle.files.contents import search
from barnacle.files.drafts import Draft
from barnacle.files.encoding import Encoding, find_encoding
from barnacle.files.opening import open_source
from barnacle.files.pasted import lines_of
from barnacle.files.source import Options
from barnacle.files.tables import document, formulas, hidden, links, number_formats, sheet_stream, struck
from barnacle.hub import davxml, query
from barnacle.hub.refusals import WrongError
from barnacle.net import answers, imap, ldap, oauth
from barnacle.net.credentials import Credentials
from barnacle.net.server import Server
from barnacle.net.smtp import Submission
from barnacle.net.smtp_line import LineLostError, SenderRefusedError
from barnacle.net.tls import Trust

T = TypeVar("T")
SECONDS = 5  # of processor time for one input; none is larger than some 100 KB
_TOKENS = (
    b"\0", b"\r", b"\n", b"\r\n", b" ", b"\t", b"\x1b[2J", b"\xff", b"\xc3", b"\xed\xa0\x80", b"\xef\xbb\xbf", b"\xe2\x80\xae",
    b"9" * 5000, b"-1", b"1e999", b"NaN", b'"', b"'", b"\\", b"<", b">", b"(" * 500, b"[" * 500, b"{" * 500, b"<" * 500, b"@",
    b"=?utf-8?q?=ff?=", b"=?x?b?%?=", b"%00", b"\\ud800", b"&#0;", b"&a;", b"]]>", b"<!--", b"<![CDATA[", b"--b", b"From ", b"::",
    b": ", b";" * 300, b"," * 300, b"=\r\n", b"a" * 3000, b"a@" * 300, b"BEGIN:VCARD\r\n", b"END:VCARD\r\n", b"dn: ", b"null",
    b"xn--", b"\xf0\x9f\x98\x80", b"e\xcc\x81" * 200,
)  # fmt: skip


def mutated(seed: bytes, pick: random.Random, others: list[bytes]) -> bytes:
    """A seed with some things changed in it."""
    data = bytearray(seed)
    for _ in range(pick.choice((1, 1, 2, 3, 6))):
        at = pick.randrange(len(data) + 1)
        end = min(len(data), at + pick.choice((1, 2, 8, 40, 200)))
        kind = pick.randrange(8)
        if kind == 0 and data:
            data[at % len(data)] ^= 1 << pick.randrange(8)
        elif kind == 1:
            data[at:at] = pick.choice(_TOKENS)
        elif kind == 2:
            del data[at:end]
        elif kind == 3:
            data[at:at] = data[at:end] * pick.choice((1, 3, 50, 300))
        elif kind == 4:
            data[at:end] = pick.choice(_TOKENS)
        elif kind == 5:
            other = pick.choice(others)
            begin = pick.randrange(len(other) + 1)
            data[at:at] = other[begin : begin + pick.choice((3, 20, 200))]
        elif kind == 6:
            del data[at:]
        else:
            number = re.search(rb"\d+", bytes(data[at:]))
            if number:
                value = pick.choice((b"0", b"-1", b"99999999999", b"2147483648", b"9" * 400))
                data[at + number.start() : at + number.end()] = value
        if len(data) > 100_000:
            del data[100_000:]
    return bytes(data)


class Target(NamedTuple):
    """A reader: its seeds, and what is done with an input. Where inputs stand between two good entries, `around` has
    these, and `read` gives what of them was read and whether anything was told."""

    name: str
    seeds: list[bytes]
    read: Callable[[bytes], object]
    around: tuple[bytes, bytes] | None = None


GOOD = {"first@kelp.example", "last@kelp.example"}


class SilenceError(AssertionError):
    """Something good was lost, and nothing was said."""


class TooSlowError(AssertionError):
    """It took too long."""


def addresses(drafts: Iterator[Draft]) -> tuple[set[str], bool]:
    found: set[str] = set()
    told = False
    for draft in drafts:
        found |= {one.address for person in draft.people for one in person.addresses}
        told = told or bool(draft.refused or draft.cleaned or draft.left_out or draft.doubtful)
    return found, told


def in_file(data: bytes, ending: str, read: Callable[[Path], T]) -> T:
    handle, name = tempfile.mkstemp(ending)
    try:
        os.write(handle, data)
        os.close(handle)
        return read(Path(name))
    finally:
        Path(name).unlink()


def by_encoding(reader: Callable[[Path, Encoding], Iterator[Draft]]) -> Callable[[bytes], tuple[set[str], bool]]:
    def read(path: Path) -> tuple[set[str], bool]:
        return addresses(reader(path, find_encoding(path)))

    return lambda data: in_file(data, "", read)


def whole_file(path: Path) -> tuple[set[str], bool]:
    """As `import` reads a file whose kind it finds out."""

    source = open_source(path, Options())
    doubts = source.unseen or source.skipped or any(sheet.columns.doubts for sheet in source.sheets)

    def drafts() -> Iterator[Draft]:
        for table in source.tables():
            yield from table.drafts()

    found, told = addresses(drafts())
    return found, told or bool(doubts)


def workbook(data: bytes) -> bytes:
    """A workbook of one sheet, whose XML this is."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        if b"table:table" in data:
            archive.writestr("content.xml", data)
        else:
            relations = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
            archive.writestr(
                "xl/workbook.xml",
                f'<workbook xmlns:r="{relations}"><sheets><sheet name="A" sheetId="1" r:id="r1"/></sheets></workbook>',
            )
            archive.writestr(
                "xl/_rels/workbook.xml.rels",
                '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
                f'<Relationship Id="r1" Type="{relations}/worksheet" Target="worksheets/sheet1.xml"/></Relationships>',
            )
            archive.writestr("xl/worksheets/sheet1.xml", data)
            archive.writestr("xl/sharedStrings.xml", data)
            archive.writestr("xl/styles.xml", data)
    return out.getvalue()


def sheet(data: bytes) -> None:
    """A sheet's XML in a workbook, read cell by cell."""

    def read(path: Path) -> None:
        hidden.hidden_parts(path)
        links.links_of(path)
        struck.struck_rows(path)
        formulas.unworked(path)
        for title, _ in sheet_stream.sheets(path):
            for _, shown in number_formats.shown_numbers(path, title):
                assert all(isinstance(shows(7.0), str) for shows in shown.values())
            for _ in sheet_stream.read_rows(path, title):
                pass

    in_file(workbook(data), ".xlsx", read)


def of_document(data: bytes) -> None:
    """The text of a document, as a part of its archive."""
    part = "word/document.xml" if b"w:" in data[:2000] else "content.xml"
    kept = io.BytesIO()
    with zipfile.ZipFile(kept, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.text")
        archive.writestr(part, data)
        archive.writestr(
            "word/_rels/document.xml.rels", b'<Relationships><Relationship Id="r1" Target="mailto:a@b.example"/>' + data
        )
    in_file(kept.getvalue(), ".docx", lambda path: list(document.rows(path)))
    in_file(kept.getvalue(), ".docx", lambda path: list(free_text.read(document.lines(path))))


def of_a_message(data: bytes) -> None:
    """The text of a message, whatever it was written with."""
    part = "word/document.xml" if b"w:" in data[:2000] else "content.xml"
    kept = io.BytesIO()
    with zipfile.ZipFile(kept, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.text")
        for name in (part, "word/styles.xml", "word/numbering.xml", "styles.xml", "word/header1.xml"):
            archive.writestr(name, data)
    in_file(kept.getvalue(), ".docx", written_document.from_document)
    with contextlib.suppress(BarnacleError):
        written_text.from_draft(data, "a.eml", 1_000_000)
    written = written_text.from_page(data.decode("utf-8", "replace"))
    markdown.as_html(written.text)


def returns(data: bytes) -> None:
    def read(path: Path) -> None:
        for mail in mailbox.mails(path):
            with contextlib.suppress(ValueError, LookupError, AttributeError, TypeError, RecursionError):
                # As `returns` does: what the library cannot make sense of costs that message.
                report = delivery_reports.read_report(mail.message, mail.automatic)
                text = delivery_reports.text_of(mail.message) if report is None else report.text
                for look in (returned.asks_out, returned.new_address, returned.complains):
                    look("Re: out", text)

    in_file(data, "", read)


def hub_answers(data: bytes) -> None:
    for read in (
        answers.read_page, answers.read_lists, answers.read_people, answers.read_history, answers.read_tokens,
        lambda d: answers.read_value(d, "id"), lambda d: answers.read_outcomes(d, 1), lambda d: answers.read_replies(d, 1),
    ):  # fmt: skip
        with contextlib.suppress(BarnacleError):
            read(data)


def hub_bodies(data: bytes) -> None:
    with contextlib.suppress(WrongError):
        root = davxml.read(data)
        davxml.wanted_by(root)
        query.read_filter(root)(vcard_text(b"first@kelp.example"))


def vcard_text(address: bytes) -> str:
    return f"BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Ada\r\nEMAIL:{address.decode()}\r\nEND:VCARD\r\n"


def leaks(data: bytes) -> None:
    search.search(b"From: a@kelp.example\r\n\r\n" + data, {"first@kelp.example": "Ada"})


def spoken(talk: Callable[[int], object], in_lines: bool = True) -> Callable[[bytes], None]:
    """A server that answers line for line, or one piece for another, with what it is given, and then hangs up. TAG
    stands for what a line began with (RFC 9051 section 2.2.1)."""

    def read(data: bytes) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server:

            def serve() -> None:
                tag = b""
                with contextlib.suppress(OSError):
                    connection, _ = server.accept()
                    connection.settimeout(0.2)  # both would wait for each other where a line has no end
                    with connection, connection.makefile("rwb") as line:
                        for part in data.split(b"\n--\n"):
                            line.write(part.replace(b"TAG", tag) if in_lines else part)
                            line.flush()
                            said = line.readline(10_000) if in_lines else connection.recv(10_000)
                            if not said:
                                return
                            tag = said.split(b" ")[0].strip()

            thread = threading.Thread(target=serve, daemon=True)
            thread.start()
            try:
                talk(server.getsockname()[1])
            finally:
                thread.join(5)

    return read


def smtp(port: int) -> None:
    server = Submission(Server("127.0.0.1", port, False, "maren"), Credentials(lambda: "ebb"), seconds=3)
    with contextlib.suppress(LineLostError, SenderRefusedError):  # what comes of them: test_faulty_server
        server.transact("a@kelp.example", ["first@kelp.example"], b"x\r\n", lambda taken: None, lambda: None)
    server.close()


def mailbox_of(port: int) -> None:
    with imap.Mailbox(Server("127.0.0.1", port, False, "maren", "imap"), Credentials(lambda: "ebb")) as box:
        box.in_full("Sent")
        folder = box.open("INBOX")
        for _ in box.headers(folder), box.bodies([7]):
            list(_)
        box.has(box.sent(), "<a@kelp.example>")


def sign_in(data: bytes) -> None:
    ways = oauth.Endpoints("https://kelp.example/token", device="https://kelp.example/device")
    with oauth.SignIn("https://kelp.example", oauth.Program("ebb"), Trust(), ways) as one:
        one._http = httpx.Client(transport=httpx.MockTransport(lambda request: httpx.Response(200, content=data)))
        with contextlib.suppress(BarnacleError):
            one.renewed("r")
        one.by_device(lambda page, code: None, sleep=lambda seconds: None)


def directory(port: int) -> None:
    ldap3.Server._message_counter = 0  # so that the answers are to what was asked
    place = ldap.read_place(f"ldap://127.0.0.1:{port}/dc=kelp,dc=example")
    with ldap.Directory(place, "", lambda: None, "", hurried=True) as line:
        line.search("(mail=*)", ["mail", "cn"], 50)


def _ber(tag: int, *parts: bytes) -> bytes:
    """An element (X.690), of up to 65,535 octets."""
    body = b"".join(parts)
    return bytes([tag, len(body)] if len(body) < 128 else [tag, 0x82, *len(body).to_bytes(2)]) + body


def _ldap(number: int, *parts: bytes) -> bytes:
    return _ber(0x30, _ber(2, bytes([number])), *parts)


def _found(name: str, **values: str) -> bytes:
    texts = [_ber(0x30, _ber(4, k.encode()), _ber(0x31, _ber(4, v.encode()))) for k, v in values.items()]
    return _ber(0x64, _ber(4, name.encode()), _ber(0x30, *texts))


def ldap_page(number: int, cookie: bytes, *entries: bytes) -> bytes:
    """The answer to a search, as that message: entries, and what asks for the next page (RFC 2696)."""
    value = _ber(0x30, _ber(2, b"\0"), _ber(4, cookie))
    more = _ber(0xA0, _ber(0x30, _ber(4, b"1.2.840.113556.1.4.319"), _ber(4, value)))
    return b"".join(_ldap(number, entry) for entry in entries) + _ldap(number, _ber(0x65, _WELL), more)


_WELL = _ber(0x0A, b"\0") + _ber(4) + _ber(4)
LDAP_IS_IN = _ldap(1, _ber(0x61, _WELL))
_LDAP = b"\n--\n".join(
    (
        b"",
        LDAP_IS_IN,
        ldap_page(2, b"more", _found("uid=ada,dc=kelp,dc=example", cn="Ada", mail="ada@kelp.example", entryUUID="u1")),
        ldap_page(3, b"", _found("uid=bo,dc=kelp,dc=example", cn="Bo"), _ber(0x73, _ber(4, b"ldap://kelp.example/"))),
    )
)


def _entries(kind: Callable[[int, str], str]) -> tuple[bytes, bytes, list[bytes]]:
    first, last = kind(0, "first@kelp.example").encode(), kind(2, "last@kelp.example").encode()
    return first, last, [kind(1, "mid@kelp.example").encode()]


def _card(n: int, address: str) -> str:
    return (
        f"BEGIN:VCARD\r\nVERSION:3.0\r\nN:Holm{n};Ada;;;\r\nFN:Ada Holm{n}\r\nitem1.EMAIL;TYPE=INTERNET,WORK;PREF=1:{address}\r\n"
        f"TEL;TYPE=CELL:+44 7700 90000{n}\r\nORG:Kelp;Quay\r\nCATEGORIES:a,b\r\nNOTE;CHARSET=utf-8;ENCODING=QUOTED-PRINTABLE:a=C3=A4=\r\n b\r\n"
        f"PHOTO;ENCODING=b;TYPE=JPEG:/9j/4AAQ\r\nUID:u{n}\r\nEND:VCARD\r\n"
    )


def _json(n: int, address: str) -> str:
    return (
        f'{{"@type":"Card","version":"1.0","uid":"u{n}","name":{{"full":"Ada Holm{n}","components":[{{"kind":"given","value":"Ada"}}]}},'
        f'"emails":{{"1":{{"address":"{address}","contexts":{{"work":true}},"pref":1}}}},"phones":{{"1":{{"number":"+44 1"}}}},'
        f'"keywords":{{"a":true}},"notes":{{"1":{{"note":"x"}}}},"x":[1,2.5,null]}}'
    )


def _entry(n: int, address: str) -> str:
    return (
        f"dn: cn=Ada Holm{n},dc=kelp\nobjectClass: inetOrgPerson\ncn: Ada Holm{n}\nsn:: SG9sbQ==\nmail: {address}\n"
        f"telephoneNumber: +44 1632 96000{n}\ndescription: a\n b\njpegPhoto:: /9j/\n\n"
    )


def _mail(n: int, address: str) -> str:
    return (
        f"From a@kelp.example Mon Nov  2 10:0{n}:00 2026\nFrom: =?utf-8?q?Ada_H=C3=B6lm{n}?= <{address}>\nTo: Crew: bo@gull.example, "
        f'"Holt, M" <m@gull.example>;\nSubject: =?utf-8?b?SGk=?=\nDate: Mon, 2 Nov 2026 10:00:00 +0000\nMessage-ID: <m{n}@kelp.example>\n'
        f'Content-Type: multipart/mixed; boundary="b"\n\n--b\nContent-Type: text/plain; charset=utf-8\n\nplease take me off\n--b--\n\n'
    )


def _row(n: int, address: str) -> str:
    return f'"Holm{n}, Ada";{address};0441/22330{n};12.5.1970;"a\nb"\n'


def _address_line(n: int, address: str) -> str:
    return f"Ada Holm{n} <{address}>\n"


_REPORT = b"""From: MAILER-DAEMON@kelp.example
To: una@tidewick.example
Subject: Undelivered Mail Returned to Sender
Content-Type: multipart/report; report-type=delivery-status; boundary="r"

--r
Content-Type: text/plain

<bo@kelp.example>: host kelp.example said: 550 5.1.1 no such user

--r
Content-Type: message/delivery-status

Reporting-MTA: dns; kelp.example

Final-Recipient: rfc822; bo@kelp.example
Action: failed
Status: 5.1.1
Diagnostic-Code: smtp; 550 5.1.1 no such user

--r
Content-Type: message/rfc822

Message-ID: <0123456789abcdef0123456789abcdef@tidewick.example>
From: una@tidewick.example

hello
--r--
"""
_SHEET = (
    b'<worksheet><cols><col min="2" max="3" hidden="1"/></cols><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>Name</t></is></c>'
    b'<c r="B1" t="s"><v>0</v></c></row><row r="2" hidden="1"><c r="A2" s="1"><v>45000.5</v></c><c r="C2" t="b"><v>1</v></c>'
    b'<c r="D2" s="2"><f>HYPERLINK("mailto:a@kelp.example")</f><v/></c></row></sheetData><si><t>E-mail</t></si><numFmts>'
    b'<numFmt numFmtId="170" formatCode="dd/mm/yy"/><numFmt numFmtId="171" formatCode="[&lt;=9]000;&quot;M-&quot;0\\-00"/>'
    b'</numFmts><cellXfs><xf numFmtId="0"/><xf numFmtId="170"/><xf numFmtId="171"/></cellXfs></worksheet>'
)
_PEOPLE = (
    b'{"n":1,"Resources":[{"name":{"givenName":"Bo"},"emails":[{"value":"a@b.example","type":"work"}],"on":true},'
    b'{"teams":[{"name":"Crew","members":[{"name":"Una","email":"u@b.example"}]}]}],"c@b.example":{"first":"Cy"}}'
)
_ROWS = b"<?xml version='1.0'?><r xmlns='u'><p n='1'><name>Bo</name><mail kind='home'>a@b.example</mail><!-- x --></p><p/></r>"
_FLAT = (
    b"<?xml version='1.0'?><Workbook><Worksheet Name='A'><Table><Column Index='2' Span='3' Hidden='1'/><Row><Cell><Data>E-mail</Data></Cell></Row>"
    b"<Row Index='3'><Cell Index='1' MergeAcross='2'><Data Type='DateTime'>a@b.example</Data></Cell></Row></Table></Worksheet></Workbook>"
)
_SAVED = compound.written(
    {
        "__properties_version1.0": b"x",
        "__recip_version1.0_#00000000": {
            "__substg1.0_3001001E": b"Bo",
            "__substg1.0_39FE001F": "a@b.example".encode("utf-16-le"),
        },
    }
)
_ODS = (
    b'<office:document-content><table:table table:name="A"><table:table-column table:visibility="collapse" table:number-columns-repeated="2"/>'
    b'<table:table-row table:number-rows-repeated="2"><table:table-cell office:value-type="string" table:number-columns-repeated="2"><text:p>a</text:p>'
    b'<office:annotation><text:p>n</text:p></office:annotation></table:table-cell><table:table-cell office:value-type="date" office:date-value="2026-11-29"/>'
    b"</table:table-row></table:table></office:document-content>"
)
_WORD = (
    b'<w:document xmlns:w="w" xmlns:r="r"><w:body><w:p><w:r><w:t>Crew</w:t></w:r></w:p><w:tbl><w:tr><w:tc><w:tcPr><w:gridSpan w:val="2"/></w:tcPr>'
    b'<w:p><w:r><w:t>Name</w:t><w:tab/></w:r></w:p></w:tc><w:tc><w:p><w:hyperlink r:id="r1"><w:r><w:t>write</w:t></w:r></w:hyperlink></w:p></w:tc></w:tr></w:tbl>'
    b"</w:body></w:document>"
)
_TEXT = (
    b'<office:document-content xmlns:office="o" xmlns:table="t" xmlns:text="x" xmlns:xlink="l"><office:text><table:table><table:table-row>'
    b'<table:table-cell table:number-columns-spanned="2"><text:p>Name<text:line-break/></text:p></table:table-cell><table:covered-table-cell/>'
    b'<table:table-cell><text:p><text:a xlink:href="mailto:a@b.example">write</text:a></text:p></table:table-cell></table:table-row></table:table>'
    b"</office:text></office:document-content>"
)
_HUB = [
    b'{"cards":[["n","e","BEGIN:VCARD\\r\\nEND:VCARD\\r\\n","by","2026-11-29T10:00:00Z"]],"token":"t","more":false}',
    b'[{"id":"a1","title":"Crew","role":"editor","state":"joined","from":"una@tidewick.example","since":"2026","fields":["name"]}]',
    b'{"answers":[{"status":200,"body":{"id":"x"}}]}', b'{"cards":[{"status":201,"etag":"e"}]}',
]  # fmt: skip
_DAV = (
    b'<?xml version="1.0"?><C:addressbook-query xmlns:D="DAV:" xmlns:C="urn:ietf:params:xml:ns:carddav"><D:prop><D:getetag/></D:prop>'
    b'<C:filter test="anyof"><C:prop-filter name="FN"><C:text-match collation="i;unicode-casemap" match-type="contains">ada</C:text-match>'
    b'<C:param-filter name="TYPE"><C:is-not-defined/></C:param-filter></C:prop-filter></C:filter></C:addressbook-query>'
)
_ICS = b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART:20261129T100000Z\r\nSUMMARY:Slip\\, way\r\nRRULE:FREQ=DAILY;COUNT=3\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
_TOML = b'[me]\nname = "Una"\nregion = "GB"\n[mail]\npauses = [5, 30]\nper_message = 50\n[columns.form]\nA = "name"\n'
_SMTP = b"220 kelp ESMTP\r\n\n--\n250-kelp\r\n250-SIZE 1000000\r\n250-PIPELINING\r\n250 AUTH PLAIN\r\n\n--\n235 in\r\n\n--\n250 2.1.0 ok\r\n\n--\n250 ok\r\n\n--\n354 go\r\n\n--\n250 kept\r\n\n--\n221 bye\r\n"
_CHALLENGE = _SMTP.replace(b"AUTH PLAIN", b"AUTH CRAM-MD5 LOGIN").replace(
    b"235 in", b"334 PDE4OTZAa2VscD4=\r\n\n--\n235 in"
)
_IMAP = b"\n--\n".join(
    answer if answer.startswith(b"* OK [CAP") else answer + b"TAG OK x\r\n"
    for answer in (
        b"* OK [CAPABILITY IMAP4rev1] hi\r\n",
        b"* CAPABILITY IMAP4rev1 SPECIAL-USE NAMESPACE\r\n",
        b"",
        b'* LIST (\\HasNoChildren) "/" INBOX\r\n* LIST (\\Sent) "/" {4}\r\nSent\r\n* LIST (\\Drafts) "/" "Entw&APw-rfe"\r\n',
        b"* CAPABILITY IMAP4rev1 SPECIAL-USE NAMESPACE\r\n",
        b'* NAMESPACE (("" "/")) NIL (("#public/" "/"))\r\n',
        b"* 2 EXISTS\r\n* FLAGS (\\Seen)\r\n* OK [UIDVALIDITY 5] x\r\n* OK [UIDNEXT 9] x\r\n",
        b"* 1 FETCH (UID 7 BODY[HEADER.FIELDS (FROM)]<0> {17}\r\nFrom: a@b.exa\r\n\r\n)\r\n* 2 FETCH (UID 8 BODY[] NIL)\r\n",
        b'* 1 FETCH (UID 7 BODY[]<0> "To: a@b.exa")\r\n',
        b'* LIST (\\Sent) "/" "Sent"\r\n',
        b"* 2 EXISTS\r\n",
        b"* SEARCH 7\r\n",
        b"",
        b"* BYE\r\n",
    )
)
_SIGN_IN = (
    b'{"access_token": "t", "token_type": "Bearer", "expires_in": "3600", "refresh_token": "r", "scope": "mail",'
    b' "device_code": "d", "user_code": "A-B", "verification_uri": "https://kelp.example/x", "interval": 5}'
)
_HTML = (
    b"<html><table><tr><th colspan=2>Name<th>E-mail<tr><td rowspan=2>Ada &amp; Bo<td>x<td>first@kelp.example</table>"
)


def _between(
    name: str, kind: Callable[[int, str], str], read: Callable[[bytes], tuple[set[str], bool] | None]
) -> Target:
    first, last, seeds = _entries(kind)
    return Target(name, seeds, read, (first, last))


def _in_list(data: bytes) -> tuple[set[str], bool] | None:
    return by_encoding(json_cards.read)(b"[" + data + b"]")


TARGETS = {
    target.name: target
    for target in (
        _between("vcard", _card, by_encoding(vcard.read)),
        _between("jscontact", lambda n, a: _json(n, a) + ("" if n == 2 else ","), _in_list),
        _between("ldif", _entry, by_encoding(ldif.read)),
        _between("mail", _mail, lambda data: in_file(data, "", lambda path: addresses(mailbox.read(path, Encoding("", ""))))),
        _between("pasted", _address_line, by_encoding(lambda path, encoding: free_text.read(lines_of(path, encoding)))),
        _between("csv", lambda n, a: ("Name;E-mail;Phone;Born;Note\n" if n == 0 else "") + _row(n, a),
                 lambda data: in_file(data, ".csv", whole_file)),
        Target("any", [_card(1, "a@b.example").encode(), _mail(1, "a@b.example").encode(), _HTML, _entry(1, "a@b.example").encode(),
                       f"[{_json(1, 'a@b.example')}]".encode(), b"Name\tE-mail\nAda\ta@b.example\n"],
               lambda data: in_file(data, ".txt", whole_file)),
        Target("records", [_PEOPLE, _ROWS, _ICS.replace(b"SUMMARY", b"ATTENDEE;CN=Bo;PARTSTAT=ACCEPTED:mailto:a@b.example\r\nSUMMARY"), _FLAT],
               lambda data: in_file(data, ".txt", whole_file)),
        Target("saved message", [_SAVED], lambda data: in_file(data, ".msg", whole_file)),
        Target("sheet", [_SHEET, _ODS], sheet),
        Target("document", [_WORD, _TEXT], of_document),
        Target("message text", [_WORD, _TEXT, _HTML, _mail(1, "a@b.example").encode()], of_a_message),
        Target("returns", [_REPORT, _mail(1, "a@b.example").encode()], returns),
        Target("hub answers", _HUB, hub_answers),
        Target("hub bodies", [_DAV], hub_bodies),
        Target("leaks", [_REPORT, _HTML, _ICS, _card(1, "first@kelp.example").encode()], leaks),
        Target("invitation", [_ICS], lambda data: invitation.read_invitation(data.decode("utf-8", "replace"), "x.ics")),
        Target("settings", [_TOML], lambda data: settings.parse(data.decode("utf-8", "replace"), Path("x.toml"))),
        Target("rules", [b'label is "crew" and (name starts "A" or not in "Pilots") and field "Voice" has Tenor'],
               lambda data: rules.parse(data.decode("utf-8", "replace"))),
        Target("rules meant", [b'company is Kelp Yard or Brine and (Voice = alto or boat length over 9) and not in "Pilots"'],
               lambda data: rules_meant.meant(data.decode("utf-8", "replace"), ["Voice", "Boat length", 'a "b"'], ["Crew"], date(2026, 12, 1))),
        Target("markdown", [b"# Hi\n\n* a [b](https://kelp.example) `c`\n\n> d\n\n| a | b |\n|---|---|\n| 1 | 2 |\n"],
               lambda data: markdown.as_html(data.decode("utf-8", "replace"))),
        Target("smtp", [_SMTP, _CHALLENGE], spoken(smtp)),
        Target("imap", [_IMAP], spoken(mailbox_of)),
        Target("sign-in", [_SIGN_IN, b'{"error": "slow", "error_description": "not now", "device_code": "d"}'], sign_in),
        Target("ldap", [_LDAP], spoken(directory, in_lines=False)),
    )
}  # fmt: skip


def case(target: Target, seed: int) -> bytes:
    """The input of a seed."""
    pick = random.Random(f"{target.name} {seed}")
    others = [one for other in TARGETS.values() for one in other.seeds]
    return mutated(pick.choice(target.seeds), pick, others)


def tried(target: Target, data: bytes) -> None:
    """Give an input to a target. Raises what it raises, SilenceError, or TooSlowError."""

    def stop(number: int, frame: FrameType | None) -> None:
        raise TooSlowError(f"over {SECONDS} s")

    before = signal.signal(signal.SIGPROF, stop)
    signal.setitimer(signal.ITIMER_PROF, SECONDS)
    try:
        if target.around:
            first, last = target.around
            data = first + data + (b"" if data.endswith(b"\n") or target.name == "jscontact" else b"\n") + last
        read = target.read(data)
        if target.around and isinstance(read, tuple):
            found, told = read
            if GOOD - found and not told:
                raise SilenceError(f"{sorted(GOOD - found)} lost without a word")
    except BarnacleError:
        pass
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.signal(signal.SIGPROF, before)
