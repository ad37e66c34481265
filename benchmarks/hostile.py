"""Odd, broken and hostile files given to `barnacle import`, by class: what each comes to, how long and how much memory.

    python benchmarks/hostile.py [--only CLASS] [--list]

Writes its files with a seed and gives each to the program on a new book. A file comes out right where the program ends
by itself with one of its exit codes, says no traceback, has everybody whom the file plainly names (`good`), nobody else
where that is known (`exactly`), tells of what it left out where something is wrong (`told`), and keeps within 20
seconds and 300 MB over its start (files here are of 5 MB at most, those of the last class excepted). Prints every file
that does not, and a table by class.
"""

from __future__ import annotations

import argparse
import csv
import io
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

SEED = 20
SECONDS, MEGABYTES = 20.0, 300
MEASURED = """
import resource, subprocess, sys
code = subprocess.run(sys.argv[1:]).returncode
print(f"\\n{code} {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss}", end="", file=sys.stderr)
"""


class Case(NamedTuple):
    """A file: its class, its name, what is in it, who must come in, whether nobody else may, and whether something
    must be told."""

    kind: str
    name: str
    octets: bytes
    good: tuple[str, ...] = ()
    exactly: bool = False
    told: bool = True


def addresses(number: int, at: str = "kelp.example") -> list[str]:
    return [f"person{n}@{at}" for n in range(number)]


# --- workbooks ---------------------------------------------------------------------------------------------------


def xlsx(rows: str, *, strings: str = "", dtd: str = "", name: str = "Crew") -> bytes:
    """A workbook of one sheet with these rows as XML."""
    out = io.BytesIO()
    ns = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'
    rel = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    types = "application/vnd.openxmlformats-officedocument.spreadsheetml"
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(
            "[Content_Types].xml",
            '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
            '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
            f'<Override PartName="/xl/workbook.xml" ContentType="{types}.sheet.main+xml"/>'
            f'<Override PartName="/xl/worksheets/sheet1.xml" ContentType="{types}.worksheet+xml"/></Types>',
        )
        archive.writestr(
            "_rels/.rels",
            '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
            f'<Relationship Id="r1" Type="{rel}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        )
        archive.writestr(
            "xl/workbook.xml",
            f'<workbook {ns} xmlns:r="{rel}"><sheets><sheet name="{name}" sheetId="1" r:id="rId1"/></sheets></workbook>',
        )
        archive.writestr(
            "xl/_rels/workbook.xml.rels",
            '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
            f'<Relationship Id="rId1" Type="{rel}/worksheet" Target="worksheets/sheet1.xml"/>'
            f'<Relationship Id="rId2" Type="{rel}/sharedStrings" Target="sharedStrings.xml"/></Relationships>',
        )
        if strings:
            archive.writestr("xl/sharedStrings.xml", f"{dtd}<sst {ns}>{strings}</sst>")
        archive.writestr("xl/worksheets/sheet1.xml", f"{dtd}<worksheet {ns}><sheetData>{rows}</sheetData></worksheet>")
    return out.getvalue()


def cell(place: str, text: str) -> str:
    return f'<c r="{place}" t="inlineStr"><is><t>{text}</t></is></c>'


def crew(people: list[str], first: int = 2) -> str:
    """A header, and people."""
    rows = [f'<row r="1">{cell("A1", "Name")}{cell("B1", "E-mail")}</row>']
    for n, one in enumerate(people, first):
        rows.append(f'<row r="{n}">{cell(f"A{n}", f"Ada Holm{n}")}{cell(f"B{n}", one)}</row>')
    return "".join(rows)


def workbooks() -> Iterator[Case]:
    some = addresses(5)
    base = crew(some)

    def case(name: str, octets: bytes, good: list[str] = some, told: bool = True) -> Case:
        return Case("workbook", f"{name}.xlsx", octets, tuple(good), told=told)

    yield case("plain", xlsx(base), told=False)
    for kind, value in (
        ("e", "#REF!"), ("e", "nonsense"), ("b", "1"), ("b", "maybe"), ("d", "2026-11-29"), ("d", "the day"),
        ("n", "1e999"), ("n", "-1e308"), ("n", "abc"), ("n", ""), ("s", "7"), ("s", "-1"), ("s", "x"), ("zz", "1"),
        ("str", "text"), ("n", "NaN"), ("n", "1" * 400), ("s", "99999999999999999999"),
    ):  # fmt: skip
        odd = f'<row r="9">{cell("A9", "Bo Brekke")}{cell("B9", "bo@kelp.example")}<c r="C9" t="{kind}"><v>{value}</v></c></row>'
        yield case(f"cell-{kind}-{value[:12].strip('#!')}", xlsx(base + odd), [*some, "bo@kelp.example"], told=False)
    for style in ("0", "99999", "-1", "x"):
        odd = f'<row r="9">{cell("A9", "Bo Brekke")}{cell("B9", "bo@kelp.example")}<c r="C9" s="{style}"><v>45000</v></c></row>'
        yield case(f"style-{style}", xlsx(base + odd), [*some, "bo@kelp.example"], told=False)
    for place in ("XFD1048576", "A1048576", "XFD1", "ZZZ9", "A0", "9A", "A99999999999", "ÄÖ1", "", "A1:B2", "AAAAAAA1"):
        yield case(f"far-{place}", xlsx(base + f'<row r="9">{cell(place, "far away")}</row>'), told=False)
    yield case(
        "far-apart",
        xlsx(base + "".join(f'<row r="{n}">{cell(f"XFD{n}", "x")}</row>' for n in range(100, 1000000, 5000))),
        told=False,
    )
    yield case("empty-rows", xlsx(base + "".join(f'<row r="{n}"/>' for n in range(100, 200_000))), told=False)
    yield case("out-of-order", xlsx(crew(some[::-1]).replace('<row r="3">', '<row r="2">')), [], told=False)
    backwards = crew(some).split("<row")
    yield case("backwards", xlsx("<row" + "<row".join([backwards[1], *backwards[:1:-1]])), told=False)
    yield case(
        "same-cell-twice",
        xlsx(base + f'<row r="9">{cell("A9", "Bo")}{cell("A9", "Bob Brekke")}{cell("B9", "bo@kelp.example")}</row>'),
        [*some, "bo@kelp.example"],
        told=False,
    )
    yield case("no-references", xlsx(base.replace(' r="', ' q="')), told=False)
    bomb = (
        '<!DOCTYPE s [<!ENTITY a "'
        + "x" * 100
        + '">'
        + "".join(f'<!ENTITY {chr(98 + n)} "{f"&{chr(97 + n)};" * 10}">' for n in range(9))
        + "]>"
    )
    yield case("entity-bomb", xlsx(base + f'<row r="9">{cell("A9", "&j;")}</row>', dtd=bomb), [])
    yield case(
        "entity-file",
        xlsx(
            base + f'<row r="9">{cell("A9", "&x;")}</row>', dtd='<!DOCTYPE s [<!ENTITY x SYSTEM "file:///etc/passwd">]>'
        ),
        [],
    )
    yield case(
        "entity-unknown",
        xlsx(base + f'<row r="9">{cell("A9", "Bo &unknown; B")}{cell("B9", "bo@kelp.example")}</row>'),
        [],
    )
    yield case(
        "entity-number",
        xlsx(base + f'<row r="9">{cell("A9", "Bo &#x41; &#0; &#xD800; B")}{cell("B9", "bo@kelp.example")}</row>'),
        [],
    )
    long = "long " * 200_000
    shared = f"<si><t>{long}</t></si>"
    rows = "".join(
        f'<row r="{n}"><c r="A{n}" t="s"><v>0</v></c>{cell(f"B{n}", f"p{n}@kelp.example")}</row>'
        for n in range(9, 5009)
    )
    yield case("long-strings-repeated", xlsx(base + rows, strings=shared), [])
    row = "".join(f'<c r="{chr(65 + n)}9" t="s"><v>0</v></c>' for n in range(2, 26))
    yield case("long-strings-in-a-row", xlsx(base + f'<row r="9">{row}</row>', strings=shared))
    yield case(
        "long-cell", xlsx(base + f'<row r="9">{cell("A9", "x" * 4_000_000)}{cell("B9", "bo@kelp.example")}</row>')
    )
    yield case("wide-row", xlsx(base + '<row r="9">' + "".join(f"<c><v>{n}</v></c>" for n in range(60_000)) + "</row>"))
    deep = "<g>" * 20_000
    yield case("deep-tags", xlsx(base + f'<row r="9"><c r="A9" t="inlineStr"><is>{deep}</is></c></row>'), [])
    yield case("broken-by-the-million", xlsx(base + "<row<" * 900_000))
    merged = "".join(f'<mergeCell ref="A{n}:XFD1048576"/>' for n in range(10, 400))
    out = xlsx(base)
    yield case(
        "merged-all",
        remade(
            out,
            "xl/worksheets/sheet1.xml",
            lambda x: x.replace(b"</worksheet>", f"<mergeCells>{merged}</mergeCells></worksheet>".encode()),
        ),
        told=False,
    )
    dims = remade(
        out,
        "xl/worksheets/sheet1.xml",
        lambda x: x.replace(b"<sheetData>", b'<dimension ref="A1:XFD1048576"/><sheetData>'),
    )
    yield case("dimension-all", dims, told=False)
    yield case(
        "dimension-none",
        remade(
            out,
            "xl/worksheets/sheet1.xml",
            lambda x: x.replace(b"<sheetData>", b'<dimension ref="nonsense"/><sheetData>'),
        ),
        told=False,
    )
    for part in ("xl/workbook.xml", "xl/worksheets/sheet1.xml", "xl/_rels/workbook.xml.rels"):
        yield case(f"cut-{Path(part).name}", remade(out, part, lambda x: x[: len(x) // 2]), [])
        yield case(f"empty-{Path(part).name}", remade(out, part, lambda x: b""), [])
    pick = random.Random(SEED)
    for n in range(40):
        octets = bytearray(out)
        for _ in range(pick.choice((1, 3, 10))):
            octets[pick.randrange(len(octets))] = pick.randrange(256)
        yield case(f"flipped-{n}", bytes(octets), [], told=False)
    for n in range(10):
        yield case(f"cut-{n}", out[: len(out) * (n + 1) // 11], [])
    yield from (one._replace(kind="workbook") for one in ods_cases(some))


def remade(octets: bytes, part: str, change: Callable[[bytes], bytes]) -> bytes:
    """A zip archive with one part changed."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(octets)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for info in old.infolist():
            data = old.read(info)
            new.writestr(info.filename, change(data) if info.filename == part else data)
    return out.getvalue()


def ods(rows: str) -> bytes:
    out = io.BytesIO()
    names = " ".join(
        f'xmlns:{short}="urn:oasis:names:tc:opendocument:xmlns:{short}:1.0"' for short in ("office", "table", "text")
    )
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr(
            "content.xml",
            f'<office:document-content {names} office:version="1.3"><office:body><office:spreadsheet>'
            f'<table:table table:name="Crew">{rows}</table:table></office:spreadsheet></office:body></office:document-content>',
        )
        archive.writestr(
            "META-INF/manifest.xml",
            '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">'
            '<manifest:file-entry manifest:full-path="/" manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/>'
            '<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>',
        )
    return out.getvalue()


def ods_cases(some: list[str]) -> Iterator[Case]:
    def line(*texts: str, more: str = "") -> str:
        cells = "".join(
            f'<table:table-cell office:value-type="string"><text:p>{t}</text:p></table:table-cell>' for t in texts
        )
        return f"<table:table-row{more}>{cells}</table:table-row>"

    base = line("Name", "E-mail") + "".join(line(f"Ada Holm{n}", one) for n, one in enumerate(some))

    def case(name: str, rows: str, good: list[str] = some, told: bool = False) -> Case:
        return Case("workbook", f"{name}.ods", ods(rows), tuple(good), told=told)

    yield case("plain", base)
    yield case("rows-repeated", base + line("", "", more=' table:number-rows-repeated="1048000"'))
    yield case(
        "rows-repeated-full", base + line("Bo Brekke", "bo@kelp.example", more=' table:number-rows-repeated="1048000"')
    )
    yield case("rows-repeated-huge", base + line("", "", more=' table:number-rows-repeated="99999999999"'))
    yield case(
        "columns-repeated",
        base + '<table:table-row><table:table-cell table:number-columns-repeated="16384"/></table:table-row>',
    )
    yield case(
        "columns-repeated-full",
        base
        + '<table:table-row><table:table-cell office:value-type="string" table:number-columns-repeated="99999999"><text:p>x</text:p></table:table-cell></table:table-row>',
    )
    yield case(
        "both-repeated",
        base
        + '<table:table-row table:number-rows-repeated="1000000"><table:table-cell table:number-columns-repeated="16384" office:value-type="string"><text:p>x</text:p></table:table-cell></table:table-row>',
        [],
        told=True,
    )
    yield case(
        "odd-values",
        base
        + '<table:table-row><table:table-cell office:value-type="date" office:date-value="someday"/><table:table-cell office:value-type="float" office:value="x"/></table:table-row>',
    )
    yield case(
        "spans",
        base
        + '<table:table-row><table:table-cell table:number-columns-spanned="99999" table:number-rows-spanned="9999999"><text:p>x</text:p></table:table-cell></table:table-row>',
    )


# --- vCards ------------------------------------------------------------------------------------------------------


def vcard(name: str, *addresses: str, more: str = "", version: str = "3.0") -> str:
    mails = "".join(f"EMAIL:{one}\r\n" for one in addresses)
    return f"BEGIN:VCARD\r\nVERSION:{version}\r\nN:{name};Ada;;;\r\nFN:Ada {name}\r\n{mails}{more}END:VCARD\r\n"


def vcards() -> Iterator[Case]:
    one, two, three = (vcard(f"Holm{n}", f"p{n}@kelp.example") for n in range(3))
    ends = ["p0@kelp.example", "p2@kelp.example"]
    all3 = [ends[0], "p1@kelp.example", ends[1]]

    def case(name: str, text: str | bytes, good: list[str] = ends, told: bool = True) -> Case:
        octets = text if isinstance(text, bytes) else text.encode("utf-8", "surrogatepass")
        return Case("vcard", f"{name}.vcf", octets, tuple(good), told=told)

    yield case("plain", one + two + three, all3, told=False)
    yield case("thousands-of-addresses", one + vcard("Many", *addresses(50_000)) + three, told=False)
    yield case(
        "thousands-of-labels",
        one + vcard("Many", "p1@kelp.example", more="".join(f"CATEGORIES:l{n}\r\n" for n in range(50_000))) + three,
        told=False,
    )
    yield case(
        "thousands-of-phones",
        one
        + vcard("Many", "p1@kelp.example", more="".join(f"TEL:+44 1632 9{n:05}\r\n" for n in range(50_000)))
        + three,
        told=False,
    )
    yield case(
        "thousands-of-notes",
        one + vcard("Many", "p1@kelp.example", more="".join(f"NOTE:note {n}\r\n" for n in range(100_000))) + three,
        told=False,
    )
    yield case(
        "thousands-of-urls",
        one
        + vcard("Many", "p1@kelp.example", more="".join(f"URL:https://kelp.example/{n}\r\n" for n in range(50_000)))
        + three,
        told=False,
    )
    yield case(
        "thousands-of-members",
        "BEGIN:VCARD\r\nVERSION:4.0\r\nKIND:group\r\nFN:Crew\r\n"
        + "".join(f"MEMBER:mailto:m{n}@kelp.example\r\n" for n in range(50_000))
        + "END:VCARD\r\n"
        + one
        + three,
        told=False,
    )
    for charset in (
        "UTF-7",
        "NOTHING",
        "utf-16",
        "idna",
        "punycode",
        "hex",
        "rot13",
        "unicode_escape",
        "zip",
        "undefined",
        "mbcs",
        "base64",
    ):
        yield case(
            f"charset-{charset}",
            one
            + f"BEGIN:VCARD\r\nVERSION:2.1\r\nN;CHARSET={charset};ENCODING=QUOTED-PRINTABLE:H=C3=B6lm;Ada\r\nEMAIL:p1@kelp.example\r\nEND:VCARD\r\n"
            + three,
            all3,
            told=False,
        )
    for domain in (
        "xn--a.example",
        "xn--\u00fc.example",
        "\u00df\u200d.example",
        "a" * 64 + ".example",
        "\u0627a.example",
        "xn--99999999.example",
        "\ud83d\ude00.example".encode("utf-16", "surrogatepass").decode("utf-16"),
        "-.example",
        "\u2024.example",
        "\u1e9e.example",
        "xn--zca.example",
    ):
        yield case(f"domain-{domain[:8].encode().hex()}", one + vcard("Odd", f"p1@{domain}") + three, told=False)
    for name, junk in (
        ("nul", "\x00" * 30),
        ("controls", "\x01\x02\x03\x04\x05\x06\x07" * 20),
        ("escape", "\x1b[2J" * 10),
        ("ff", "\x0c" * 10),
        ("nel", "\x85" * 5),
        ("ls", "\u2028" * 5),
    ):
        yield case(
            f"binary-{name}", one + vcard(f"O{junk}dd", "p1@kelp.example") + three, told=name not in ("nel", "ff", "ls")
        )
    yield case(
        "bytes",
        (
            one.encode()
            + b"BEGIN:VCARD\r\nVERSION:3.0\r\nFN:"
            + bytes(range(128, 256))
            + b"\r\nEMAIL:p1@kelp.example\r\nEND:VCARD\r\n"
            + three.encode()
        ),
        all3,
        told=False,
    )
    yield case("nul-block", one.encode() + b"\0" * 4096 + three.encode())
    yield case("fold-first", " folded\r\n" + one + three)
    yield case("fold-in-front", "\t\r\n \r\n" + one + three, told=False)
    yield case("junk-first", "Contacts exported on Sunday\r\n\r\n" + one + three)
    yield case("junk-between", one + "some junk\r\nmore: junk\r\n" + three)
    yield case("junk-after", one + three + "some junk\r\nmore: junk\r\n")
    yield case("no-end", one + two.replace("END:VCARD\r\n", "") + three)
    yield case("no-begin", one + two.replace("BEGIN:VCARD\r\n", "") + three)
    yield case("no-last-end", one + three + two.replace("END:VCARD\r\n", ""))
    yield case("cut", (one + three + two)[:-40])
    yield case("nested", one + "BEGIN:VCARD\r\n" * 5000 + three)
    yield case(
        "nested-agent",
        one
        + "BEGIN:VCARD\r\nVERSION:2.1\r\nN:Holm;Ada\r\nEMAIL:p1@kelp.example\r\nAGENT:\r\nBEGIN:VCARD\r\nVERSION:2.1\r\nN:Agent;Bo\r\nEMAIL:bo@kelp.example\r\nEND:VCARD\r\nEND:VCARD\r\n"
        + three,
        told=False,
    )
    yield case("no-colon", one + vcard("Odd", "p1@kelp.example", more="NOTE without a colon\r\n") + three, told=True)
    yield case("long-line", one + vcard("Odd", "p1@kelp.example", more="NOTE:" + "x" * 4_500_000 + "\r\n") + three)
    yield case(
        "long-folded",
        one + vcard("Odd", "p1@kelp.example", more="NOTE:" + "x\r\n " * 1_000_000 + "\r\n") + three,
        told=False,
    )
    yield case(
        "many-params",
        one + vcard("Odd", "p1@kelp.example", more="TEL" + ";TYPE=a" * 100_000 + ":1\r\n") + three,
        told=False,
    )
    yield case(
        "many-commas",
        one + vcard("Odd", "p1@kelp.example", more="TEL;TYPE=" + "a," * 200_000 + ":1\r\n") + three,
        told=False,
    )
    yield case(
        "open-quotes",
        one + vcard("Odd", "p1@kelp.example", more='TEL;X="' + 'a"b' * 100_000 + ":1\r\n") + three,
        told=False,
    )
    yield case("semicolons", one + vcard(";" * 500_000, "p1@kelp.example") + three, told=False)
    yield case("backslashes", one + vcard("\\" * 500_001, "p1@kelp.example") + three, told=False)
    yield case(
        "qp-soft",
        one
        + "BEGIN:VCARD\r\nVERSION:2.1\r\nN;ENCODING=QUOTED-PRINTABLE:=\r\n"
        + "=41=\r\n" * 200_000
        + "\r\nEMAIL:p1@kelp.example\r\nEND:VCARD\r\n"
        + three,
        told=False,
    )
    yield case(
        "base64-broken",
        one + vcard("Odd", "p1@kelp.example", more="PHOTO;ENCODING=b;TYPE=JPEG:%%%not base64\r\n") + three,
        told=False,
    )
    yield case("uid-same", one.replace("FN", "UID:1\r\nFN") + three.replace("FN", "UID:1\r\nFN"), told=False)
    yield case(
        "pref-huge",
        one + vcard("Odd", more="EMAIL;PREF=" + "9" * 5000 + ":p1@kelp.example\r\nTEL;PREF=²:1234567\r\n") + three,
        told=False,
    )
    yield case("versions", one.replace("3.0", "9.9") + three.replace("3.0", ""), told=False)
    yield case("mac-ends", (one + two + three).replace("\r\n", "\r"), all3, told=False)
    yield case("odd-ends", (one + two + three).replace("\r\n", "\n\r"), all3, told=False)
    yield case("utf-16", (one + two + three).encode("utf-16"), all3, told=False)
    yield case("bidi", one + vcard("\u202egro.lave", "p1@kelp.example") + three, all3, told=True)
    yield case("header", one + vcard("Odd\\nBcc: all@kelp.example", "p1@kelp.example") + three, all3, told=True)


# --- JSON --------------------------------------------------------------------------------------------------------


def json_files() -> Iterator[Case]:
    def card(n: int, **more: object) -> dict[str, object]:
        return {
            "@type": "Card",
            "version": "1.0",
            "uid": f"u{n}",
            "name": {"full": f"Ada Holm{n}"},
            "emails": {"1": {"address": f"p{n}@kelp.example"}},
            **more,
        }

    ends = ["p0@kelp.example", "p2@kelp.example"]
    first, last = json.dumps(card(0)), json.dumps(card(2))

    def case(name: str, text: str, good: list[str] = ends, told: bool = True, exactly: bool = False) -> Case:
        return Case("json", f"{name}.json", text.encode("utf-8", "surrogatepass"), tuple(good), exactly, told)

    yield case("plain", f"[{first},{last}]", told=False)
    middles = {
        "digits": '{"@type":"Card","name":{"full":"Bo"},"x":' + "9" * 6000 + "}",
        "digits-in-address": '{"@type":"Card","emails":{"1":{"address":' + "9" * 6000 + "}}}",
        "float": '{"@type":"Card","name":{"full":"Bo"},"x":1e99999}',
        "nan": '{"@type":"Card","name":{"full":"Bo"},"x":NaN}',
        "surrogate": '{"@type":"Card","name":{"full":"B\\ud800o"},"emails":{"1":{"address":"p1@kelp.example"}}}',
        "surrogate-key": '{"@type":"Card","name":{"full":"Bo"},"\\udfff":"x","emails":{"1":{"address":"p1@kelp.example"}}}',
        "surrogate-keyword": '{"@type":"Card","name":{"full":"Bo"},"keywords":{"\\udfff":true},"emails":{"1":{"address":"p1@kelp.example"}}}',
        "surrogate-uid": '{"@type":"Card","uid":"\\ud900","name":{"full":"Bo"},"emails":{"1":{"address":"p1@kelp.example"}}}',
        "null": "null", "number": "7", "text": '"Ada"', "list": "[]", "true": "true", "nothing": "{}",
        "null-name": '{"@type":"Card","name":null,"emails":{"1":{"address":"p1@kelp.example"}}}',
        "name-number": '{"@type":"Card","name":7,"emails":{"1":{"address":"p1@kelp.example"}}}',
        "name-list": '{"@type":"Card","name":["x"],"emails":{"1":{"address":"p1@kelp.example"}}}',
        "full-list": '{"@type":"Card","name":{"full":["x",{"y":1}]},"emails":{"1":{"address":"p1@kelp.example"}}}',
        "components-text": '{"@type":"Card","name":{"components":"x"},"emails":{"1":{"address":"p1@kelp.example"}}}',
        "components-null": '{"@type":"Card","name":{"components":[null,1,{"kind":[],"value":{}}]},"emails":{"1":{"address":"p1@kelp.example"}}}',
        "emails-list": '{"@type":"Card","name":{"full":"Bo"},"emails":["p1@kelp.example"]}',
        "emails-text": '{"@type":"Card","name":{"full":"Bo"},"emails":"p1@kelp.example"}',
        "emails-null": '{"@type":"Card","name":{"full":"Bo"},"emails":{"1":null}}',
        "pref-text": '{"@type":"Card","name":{"full":"Bo"},"emails":{"1":{"address":"p1@kelp.example","pref":"x"},"2":{"address":"q@kelp.example","pref":1}}}',
        "contexts-list": '{"@type":"Card","name":{"full":"Bo"},"emails":{"1":{"address":"p1@kelp.example","contexts":["work"]}}}',
        "keywords-list": '{"@type":"Card","name":{"full":"Bo"},"keywords":["a"],"emails":{"1":{"address":"p1@kelp.example"}}}',
        "notes-text": '{"@type":"Card","name":{"full":"Bo"},"notes":"hello","emails":{"1":{"address":"p1@kelp.example"}}}',
        "type-list": '{"@type":["Card"]}', "kind-list": '{"@type":"Card","kind":["group"]}',
        "group-members-list": '{"@type":"Card","kind":"group","name":{"full":"G"},"members":["a"]}',
        "uid-object": '{"@type":"Card","uid":{"a":1},"name":{"full":"Bo"}}',
        "deep": '{"@type":"Card","name":{"full":"Bo"},"x":' + "[" * 900 + "]" * 900 + "}",
        "deeper": '{"@type":"Card","name":{"full":"Bo"},"x":' + "[" * 100_000 + "]" * 100_000 + "}",
        "twice": '{"@type":"Card","name":{"full":"Bo"},"name":{"full":"Ann"},"emails":{"1":{"address":"p1@kelp.example"}}}',
        "line-break": json.dumps(card(1, name={"full": "Bo\r\nEMAIL:evil@kelp.example"})),
    }  # fmt: skip
    for name, middle in middles.items():
        quiet = name in ("twice", "float", "digits", "nan", "surrogate-key")
        yield case(name, f"[{first},{middle},{last}]", told=not quiet)
    for name in (
        "null",
        "7",
        '"x"',
        "[]",
        "{}",
        "[null]",
        "[[]]",
        '[["vcard"]]',
        '["vcard",null]',
        '["vcard",[]]',
        '["vcard",[null]]',
    ):
        yield case(f"top-{name.encode().hex()}", name, [], exactly=True)
    yield case(
        "many-addresses",
        f'[{first},{{"@type":"Card","name":{{"full":"Bo"}},"emails":{{'
        + ",".join(f'"{n}":{{"address":"q{n}@kelp.example"}}' for n in range(50_000))
        + f"}}}},{last}]",
        told=False,
    )
    yield case("cut", f"[{first},{last}"[:-20], ends[:1])
    yield case("cut-early", f"[{first},{last}]"[:150], [])
    yield case("bad-by-the-million", f"[{first}," + "x," * 2_400_000 + f"{last}]")
    yield case("two-documents", f"{first}\n{last}", told=False)
    yield case("comma", f"[{first},{last},]", told=False)
    yield case("junk-after", f"[{first},{last}] and more")
    yield case("bom", "\ufeff" + f"[{first},{last}]", told=False)
    jcard = '["vcard",[["version",{},"text","4.0"],["fn",{},"text","Ada Holm0"],["email",{},"text","p0@kelp.example"]]]'
    yield case(
        "jcard-break",
        '["vcard",[["version",{},"text","4.0"],["fn",{},"text","Ada\\r\\nEMAIL:evil@kelp.example"],["email",{},"text","p0@kelp.example"],["x-a",{"x\\r\\nb":"c\\nEMAIL:evil@kelp.example"},"uri","https://kelp.example/\\r\\nEMAIL:evil@kelp.example"]]]',
        ends[:1],
        exactly=True,
    )
    for n, prop in enumerate(
        (
            "[]",
            "null",
            '["email"]',
            '["email",{},"text"]',
            '["email",{},"text",null]',
            '["email",{},"text",{"a":1}]',
            '["email",[],"text","q@kelp.example"]',
            '[1,{},"text","x"]',
            '["tel",{"type":{"a":1}},"uri","tel:1"]',
            '["n",{},"text",["a",["b",["c"]],null]]',
            '["n",{},"text",' + "9" * 6000 + "]",
        )
    ):
        yield case(
            f"jcard-{n}",
            f"[{jcard}," + jcard.replace("]]]", f"],{prop}]]").replace("p0@", "p1@") + "]",
            ends[:1],
            told=n not in (4, 8, 9),
        )


# --- LDIF --------------------------------------------------------------------------------------------------------


def ldif() -> Iterator[Case]:
    def entry(n: int, more: str = "") -> str:
        return f"dn: cn=Ada Holm{n},dc=kelp,dc=example\nobjectClass: inetOrgPerson\ncn: Ada Holm{n}\nsn: Holm{n}\nmail: p{n}@kelp.example\n{more}\n"

    ends = ["p0@kelp.example", "p2@kelp.example"]

    def case(name: str, text: str | bytes, good: list[str] = ends, told: bool = True) -> Case:
        return Case("ldif", f"{name}.ldif", text if isinstance(text, bytes) else text.encode(), tuple(good), told=told)

    one, three = "version: 1\n\n" + entry(0), entry(2)
    yield case("plain", one + three, told=False)
    for name, line in (
        ("bad", "cn:: %%%"),
        ("cut", "mail:: cDFAa2VscC5leGFtcG"),
        ("padding", "mail:: cDFAa2VscC5leGFtcGxl="),
        ("short", "description:: YQ"),
        ("binary", "jpegPhoto:: /9j/4AAQ"),
        ("not-utf8", "description:: /////w=="),
        ("spaces", "description:: aGV sbG8="),
        ("url", "jpegPhoto:< file:///etc/passwd"),
        ("name", "mail:: //8="),
        ("many-colons", "description::: x"),
    ):
        yield case(
            f"base64-{name}",
            one + entry(1, line + "\n") + three,
            told=name not in ("binary", "not-utf8", "spaces", "padding"),
        )
    yield case("junk-between", one + "this is junk\nand more junk\n\n" + three)
    yield case("junk-first", "Directory of Kelp\n\n" + one + three)
    yield case("junk-in", one + entry(1, "junk without colon\n") + three)
    yield case("junk-colon", one + "some: thing\nother: thing\n\n" + three)
    yield case("no-blank", one.rstrip("\n") + "\n" + three, told=False)
    yield case("no-dn", one + entry(1).partition("\n")[2] + three, told=False)
    yield case("fold-first", " folded\n" + one + three)
    yield case("fold-long", one + entry(1, "description: x\n" + " x\n" * 500_000) + three, told=False)
    yield case("long", one + entry(1, "description: " + "x" * 4_900_000 + "\n") + three)
    yield case(
        "many-mails", one + entry(1, "".join(f"mail: m{n}@kelp.example\n" for n in range(50_000))) + three, told=False
    )
    yield case(
        "many-values", one + entry(1, "".join(f"description: d{n}\n" for n in range(50_000))) + three, told=False
    )
    yield case("many-names", one + entry(1, "".join(f"a{n}: d{n}\n" for n in range(50_000))) + three, told=False)
    yield case(
        "group-many",
        one
        + three
        + "dn: cn=All\nobjectClass: groupOfNames\ncn: All\n"
        + "".join(f"member: cn=X{n}\n" for n in range(50_000))
        + "\n",
        told=False,
    )
    yield case("change", one + "dn: cn=Bo\nchangetype: modify\nadd: mail\nmail: bo@kelp.example\n-\n\n" + three)
    yield case("delete", one + "dn: cn=Bo\nchangetype: delete\n\n" + three)
    yield case("nul", one.encode() + entry(1, "description: a\0b\n").encode() + three.encode())
    yield case(
        "latin", one.encode() + entry(1, "description: M\xfcller\n").encode("latin-1") + three.encode(), told=False
    )
    yield case("cut-end", one + three + entry(1)[:-30], told=False)
    yield case("crlf", (one + three).replace("\n", "\r\n"), told=False)
    yield case("version", one.replace("version: 1", "version: 7") + three, told=False)


# --- mail --------------------------------------------------------------------------------------------------------


def message(n: int, extra: str = "", body: str = "Hello\n") -> str:
    return f"From: Ada Holm{n} <p{n}@kelp.example>\nTo: Harbour <office@tidewick.example>\nSubject: Hello\nDate: Mon, 2 Nov 2026 10:00:00 +0000\nMessage-ID: <m{n}@kelp.example>\n{extra}\n{body}"


def mbox(*messages: str) -> str:
    return "".join(f"From p@kelp.example Mon Nov  2 10:00:00 2026\n{one}\n" for one in messages)


def hostile_mails() -> dict[str, str]:
    """Messages that are hard to read, by name."""
    nested = "".join(f"Content-Type: multipart/mixed; boundary=b{n}\n\n--b{n}\n" for n in range(3000))
    inner = "".join("Content-Type: message/rfc822\n\n" for _ in range(3000))
    return {
        "brackets": message(1).replace("Ada Holm1", "(" * 3000),
        "open-angle": message(1).replace("From: Ada Holm1 <", "From: " + "<" * 5000),
        "comments": message(1).replace("Ada Holm1", "(a)" * 20_000),
        "quotes": message(1).replace("Ada Holm1", '"\\' * 20_000),
        "encoded-words": message(1).replace("Ada Holm1", "=?utf-8?q?a?= " * 20_000),
        "encoded-words-broken": message(1).replace("Ada Holm1", "=?utf-8?q?a? " * 20_000),
        "encoded-words-subject": message(1, "Subject: " + "=?utf-8?b?YQ==?= " * 20_000 + "\n"),
        "encoded-charset": message(1).replace("Ada Holm1", "=?idna?q?a?= =?undefined?q?a?= =?utf-7?b?K//8-?="),
        "recipients": message(1, "Cc: " + ", ".join(addresses(50_000, "gull.example")) + "\n"),
        "groups": message(1, "Cc: " + "g:" * 20_000 + ";\n"),
        "nested-parts": message(1, nested),
        "nested-messages": message(1, inner),
        "many-parts": message(1, "Content-Type: multipart/mixed; boundary=b\n", "--b\n\nx\n" * 50_000),
        "huge-header": message(1, "X-Long: " + "x" * 2_000_000 + "\n"),
        "huge-to": message(1, "To: " + "a b c " * 300_000 + " <x@kelp.example>\n"),
        "many-headers": message(1, "X-A: b\n" * 100_000),
        "folded-header": message(1, "X-A: b\n" + " c\n" * 200_000),
        "nul": message(1, "X-A: a\0b\n", "a\0b\n" * 100),
        "bad-date": message(1).replace("Mon, 2 Nov 2026", "Mon, 99 Nov 99999999999999999"),
        "bad-boundary": message(1, 'Content-Type: multipart/mixed; boundary="' + "b" * 5000 + '"\n'),
        "bad-charset": message(1, "Content-Type: text/plain; charset=nothing\nContent-Transfer-Encoding: base64\n", "%%%\n"),
        "bad-transfer": message(1, "Content-Transfer-Encoding: x-uuencode\n", "begin 666 x\n#garbage\nend\n"),
        "params": message(1, "Content-Type: text/plain" + "; a*0*=utf-8''x" * 20_000 + "\n"),
        "control": message(1).replace("Ada Holm1", "\x1b[2J\x07\x85"),
        "prose": "Some prose: nobody here\nI wrote to them: bo@kelp.example, and others.\n\nBye\n",
    }  # fmt: skip


def mails() -> Iterator[Case]:
    ends = ["p0@kelp.example", "p2@kelp.example"]

    def case(name: str, text: str | bytes, good: list[str] = ends, told: bool = True, exactly: bool = False) -> Case:
        octets = text if isinstance(text, bytes) else text.encode("utf-8", "surrogatepass")
        return Case("mail", f"{name}.mbox", octets, tuple(good), exactly, told)

    yield case("plain", mbox(message(0), message(2)), told=False)
    quiet = (
        "open-angle",
        "nul",
        "bad-date",
        "bad-boundary",
        "bad-charset",
        "bad-transfer",
        "params",
        "many-parts",
        "many-headers",
        "folded-header",
        "nested-parts",
        "nested-messages",
        "encoded-words-subject",
        "huge-header",
        "control",
        "encoded-charset",
        "comments",
        "quotes",
        "encoded-words-broken",
        "encoded-words",
    )
    for name, hostile in hostile_mails().items():
        yield case(name, mbox(message(0), hostile, message(2)), told=name not in quiet)
        yield Case("mail", f"{name}.eml", hostile.encode("utf-8", "surrogatepass"), (), told=False)
    whole = mbox(message(0), message(1), message(2))
    yield case("first-line-missing", whole.partition("\n")[2], told=False)
    yield case("junk-first", "some junk\n" + whole)
    yield case("zeros-between", mbox(message(0)).encode() + b"\0" * 8192 + mbox(message(2)).encode())
    yield case("zeros-first", b"\0" * 8192 + mbox(message(0), message(2)).encode())
    yield case("no-blank", whole.replace("\n\nFrom ", "\nFrom "), [ends[0], "p1@kelp.example", ends[1]], told=False)
    yield case("crlf", whole.replace("\n", "\r\n"), told=False)
    yield case("mac", whole.replace("\n", "\r"))
    yield case("cut-header", whole[: whole.rfind("Subject")], [*ends], told=True)
    yield case("cut-in-address", whole[: whole.rfind("p2@kelp") + 6], ends[:1])
    yield Case(
        "mail",
        "cut-header.eml",
        message(0, "Cc: Bo Brekke <bo@kelp.example>, Cy Dahl <cy@kel")[:-8].encode(),
        ("p0@kelp.example",),
        told=True,
    )
    yield case("from-quoted", mbox(message(0, body="x\n\n>From here on\n"), message(2)), told=False)
    yield case(
        "from-in-body",
        mbox(message(0, body="x\n\nFrom here on all is prose: bo@kelp.example\nTo: them\n"), message(2)),
        told=False,
        exactly=False,
    )
    yield Case(
        "mail", "prose.txt", b"Dear all,\nfrom: here we go. To: the moon\nwrite to bo@kelp.example soon.\n", told=True
    )


# --- pasted text and tables --------------------------------------------------------------------------------------


def pasted() -> Iterator[Case]:
    def case(name: str, text: str | bytes, good: list[str], told: bool = True) -> Case:
        octets = text if isinstance(text, bytes) else text.encode("utf-8", "surrogatepass")
        return Case("pasted", f"{name}.txt", octets, tuple(good), told=told)

    many = addresses(100_000)
    yield case("lines", "\n".join(many), many, told=False)
    yield case("commas", ", ".join(many), many, told=False)
    yield case("semicolons", ";".join(many), many, told=False)
    yield case("spaces", " ".join(many), many, told=False)
    yield case("named", ", ".join(f"Ada Holm{n} <{one}>" for n, one in enumerate(many)), many, told=False)
    some = addresses(20)
    for name, bad in (
        ("no-at", "ada.kelp.example"),
        ("space", "ada @ kelp.example"),
        ("two", "ada@@kelp.example"),
        ("open", "Ada <ada@kelp.example"),
        ("close", "Ada ada@kelp.example>"),
        ("word", "hello"),
        ("empty-angle", "Ada <>"),
        ("nul", "a\0da@kelp.example"),
        ("long", "x" * 3000 + "@kelp.example"),
        ("quote", '"Ada <ada@kelp.example>'),
        ("surrogate", "\ud800@kelp.example"),
        ("many-at", "@" * 10_000),
        ("angles", "<" * 20_000),
        ("angle-pairs", "<>" * 20_000),
        ("blanks", " " * 200_000 + "x"),
        ("commas", "," * 200_000 + "x"),
        ("and", " and" * 50_000),
    ):
        for place in (0, 10, 20):
            lines = [*some[:place], bad, *some[place:]]
            yield case(f"{name}-{place}", "\n".join(lines), some)
        yield case(f"{name}-one-line", ", ".join([*some[:10], bad, *some[10:]]), some[:9])
    yield case("bytes", b"\n".join(one.encode() for one in some) + b"\n" + bytes(range(128, 256)) + b"\n", some)
    yield case("random", random.Random(SEED).randbytes(100_000), [])
    yield case("bytes-address", b"\n".join(one.encode() for one in some) + b"\nb\xff\xfe@kelp.example\n", some)


def tables() -> Iterator[Case]:
    def case(name: str, text: str | bytes, good: list[str], told: bool = True) -> Case:
        octets = text if isinstance(text, bytes) else text.encode("utf-8", "surrogatepass")
        return Case("table", f"{name}.csv", octets, tuple(good), told=told)

    some = addresses(20)

    def sheet(middle: str, separator: str = ",") -> str:
        rows = [f"Ada Holm{n}{separator}{one}" for n, one in enumerate(some)]
        return "\n".join([f"Name{separator}E-mail", *rows[:10], middle, *rows[10:]]) + "\n"

    yield case("plain", sheet("Bo Brekke,bo@kelp.example"), some, told=False)
    for name, bad in (
        ("open-quote", '"Bo,bo@kelp.example'),
        ("nul", "B\0o,bo@kelp.example"),
        ("controls", "B\x1b[2Jo,bo@kelp.example"),
        ("wide", ",".join("x" * 5000)),
        ("long-cell", "x" * 200_000 + ",bo@kelp.example"),
        ("long-line", "x" * 2_000_000),
        ("quotes", '"' * 100_001),
        ("quote-pairs", '""' * 100_000),
        ("formula", "=cmd|' /C calc'!A0,bo@kelp.example"),
        ("bidi", "\u202eoB,bo@kelp.example"),
        ("many-in-cell", "Bo," + ";".join(addresses(20_000, "gull.example"))),
        ("many-phones", "Bo,bo@kelp.example," + ";".join(["+44 1632 960010"] * 10_000)),
        ("blank", " " * 200_000),
        ("surrogate", "B\ud800o,bo@kelp.example"),
        ("line-in-cell", '"Bo\nBrekke",bo@kelp.example'),
        ("cr-in-cell", '"Bo\r\rBrekke",bo@kelp.example'),
        ("slashes", "Bo," + "/" * 100_000),
        ("digits", "Bo,bo@kelp.example," + "9" * 100_000),
        ("combining", "Bo" + "\u0301" * 50_000 + ",bo@kelp.example"),
        ("capitals", "B" + "'O" * 50_000 + ",bo@kelp.example"),
        ("brackets", "(" * 100_000 + ",bo@kelp.example"),
        ("names", "von der " * 20_000 + ",bo@kelp.example"),
    ):
        yield case(name, sheet(bad), some, told=name not in ("formula", "line-in-cell", "blank", "surrogate"))
    yield case(
        "many-columns",
        ",".join(["Name", "E-mail", *(f"c{n}" for n in range(50_000))]) + "\nAda,p@kelp.example\n",
        ["p@kelp.example"],
        told=False,
    )
    yield case(
        "same-columns",
        ",".join(["Name"] * 500 + ["E-mail"] * 500) + "\n" + ",".join(["Ada"] * 500 + ["p@kelp.example"] * 500) + "\n",
        [],
        told=False,
    )
    yield case("header-only", "Name,E-mail\n", [])
    yield case(
        "empty-header",
        ",,,\nAda Holm,p@kelp.example,,\nBo Dahl,q@kelp.example,,\n",
        ["p@kelp.example", "q@kelp.example"],
        told=False,
    )
    html = "<table><tr><th>Name<th>E-mail" + "".join(f"<tr><td>Ada Holm{n}<td>{one}" for n, one in enumerate(some))
    for name, bad in (
        ("plain", ""),
        ("span", "<tr><td colspan=99999999 rowspan=99999999>x"),
        ("deep", "<div>" * 100_000),
        ("tables", "<table>" * 50_000),
        ("cells", "<tr>" + "<td>x" * 100_000),
        ("entities", "<tr><td>" + "&#0;&#xd800;&#x110000;&bogus;" * 1000),
        ("comment", "<!--"),
        ("declaration", "<![CDATA[" + "x" * 100),
        ("script", "<script>" + "<" * 100_000),
        ("attributes", "<tr" + " a=b" * 100_000 + ">"),
        ("open-tag", "<" * 200_000),
        ("amp", "&" * 200_000),
    ):
        yield Case("table", f"html-{name}.html", f"{html}{bad}</table>".encode(), tuple(some), told=False)


# --- large -------------------------------------------------------------------------------------------------------


def large() -> Iterator[Case]:
    """Files of 50 MB, which may take longer but no more memory."""
    size = 50_000_000
    yield Case("large", "one-line.txt", b"p@kelp.example," + b"x" * size, told=True)
    yield Case("large", "one-line.csv", b"Name,E-mail\nAda,p@kelp.example\n" + b"x" * size, ("p@kelp.example",))
    card = vcard("Holm", "p@kelp.example").encode()
    yield Case(
        "large",
        "photo.vcf",
        card + vcard("Odd", "q@kelp.example", more="PHOTO:" + "A" * size + "\r\n").encode(),
        ("p@kelp.example",),
    )
    yield Case(
        "large",
        "many.vcf",
        b"".join(vcard(f"Holm{n}", f"p{n}@kelp.example").encode() for n in range(450_000)),
        ("p0@kelp.example",),
        told=False,
    )
    yield Case("large", "folded.vcf", card + b"BEGIN:VCARD\r\nNOTE:" + b"x\r\n " * (size // 4), ("p@kelp.example",))
    yield Case("large", "deep.json", b"[" * size)
    yield Case("large", "string.json", b'["' + b"x" * size)
    one = json.dumps(
        {"@type": "Card", "name": {"full": "Ada"}, "emails": {"1": {"address": "p@kelp.example"}}}
    ).encode()
    yield Case(
        "large", "many.json", b"[" + b",".join([one] * (size // len(one))) + b"]", ("p@kelp.example",), told=False
    )
    yield Case(
        "large",
        "body.mbox",
        mbox(message(0, body="x" * 70 + "\n")).encode() + b"y" * size,
        ("p0@kelp.example",),
        told=False,
    )
    yield Case("large", "header.eml", b"From: p@kelp.example\nX: " + b"y" * size, told=True)
    yield Case("large", "zeros.bin", b"\0" * size)
    yield Case("large", "entry.ldif", b"dn: cn=Ada\nmail: p@kelp.example\ndescription: " + b"x" * size)
    yield Case(
        "large",
        "many.ldif",
        b"".join(
            f"dn: cn=A{n}\nobjectClass: person\ncn: A{n}\nmail: p{n}@kelp.example\n\n".encode() for n in range(650_000)
        ),
        ("p0@kelp.example",),
        told=False,
    )
    yield Case("large", "table.html", b"<table><tr><td>Name<td>E-mail<tr><td>" + b"x" * size)
    rows = crew(addresses(5)) + f'<row r="9">{cell("A9", "y" * 250_000_000)}</row>'
    yield Case("large", "cell.xlsx", xlsx(rows))
    rows = crew(addresses(200_000))
    yield Case("large", "many.xlsx", xlsx(rows), ("person0@kelp.example",), told=False)
    shared = "".join(f"<si><t>{n}{'z' * 1000}</t></si>" for n in range(200_000))
    yield Case("large", "strings.xlsx", xlsx(crew(addresses(5)), strings=shared))


CLASSES: dict[str, Callable[[], Iterator[Case]]] = {
    "workbook": workbooks, "vcard": vcards, "json": json_files, "ldif": ldif, "mail": mails, "pasted": pasted,
    "table": tables, "large": large,
}  # fmt: skip


def judged(case: Case, folder: Path, program: list[str]) -> tuple[list[str], float, float]:
    """What is wrong with how a file comes out; the seconds and the MB it took."""
    path = folder / case.name
    path.write_bytes(case.octets)
    book = folder / "book.barnacle"
    for old in folder.glob("book.barnacle*"):
        old.unlink()
    shutil.copy(folder / "empty.barnacle", book)
    out, err = folder / "out", folder / "err"
    command = [*program, "--book", str(book), "--json", "--yes", "import", str(path)]
    begin = time.monotonic()
    with out.open("wb") as o, err.open("wb") as e:
        # By a small process in between, since what this one holds would be counted to whatever it starts.
        process = subprocess.Popen(
            [sys.executable, "-S", "-c", MEASURED, *command], stdout=o, stderr=e, start_new_session=True
        )
        try:
            process.wait(120 if case.kind == "large" else 60)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            path.unlink()
            return ["does not end"], time.monotonic() - begin, 0.0
    took = time.monotonic() - begin
    wrong = []
    said, _, figures = err.read_text(errors="replace").rpartition("\n")
    code, kib = map(int, figures.split())
    memory = kib / 1024
    if code not in (0, 1, 2):
        wrong.append(f"exit {code}")
    if "Traceback" in said:
        wrong.append("traceback: " + said.strip().splitlines()[-1][:150])
    if took > SECONDS and case.kind != "large":
        wrong.append(f"{took:.0f} s")
    if memory > MEGABYTES + 40:
        wrong.append(f"{memory:.0f} MB")
    if not wrong:
        wrong += content(case, out, said, book, program, code)
    path.unlink()
    return wrong, took, memory


def content(case: Case, out: Path, said: str, book: Path, program: list[str], code: int) -> list[str]:
    wrong = []
    try:
        told = json.loads(out.read_text() or "null")
    except ValueError as error:
        return [f"the answer is no JSON: {error}"]
    sentence = isinstance(told, dict) and "error" in told
    if case.good or case.exactly:
        found = subprocess.run(
            [*program, "--book", str(book), "export", "all", "--as", "csv", "--out", "-"],
            capture_output=True,
            text=True,
        )
        lacking = [one for one in case.good if one not in found.stdout]
        if lacking:
            wrong.append(f"lost: {len(lacking)} of {len(case.good)}")
        rows = list(csv.DictReader(io.StringIO(found.stdout)))
        others = {v for row in rows for k, v in row.items() if k and "mail" in k.lower() and v} - set(case.good)
        if case.exactly and (others or len(rows) > len(case.good)):
            wrong.append(f"made up: {sorted(others) or rows[-1]}")
    keys = ("refused", "left_out", "cleaned", "doubtful", "doubts", "unseen", "skipped")
    odd = "damaged" in str(told.get("files"))
    if case.told and code == 0 and not sentence and not odd and not any(told.get(key) for key in keys):
        wrong.append("nothing told")
    return wrong


def main() -> None:
    csv.field_size_limit(1 << 30)
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--only", choices=tuple(CLASSES), help="one class")
    parser.add_argument("--like", default="", help="only files whose name has this in it")
    parser.add_argument("--program", default="barnacle", help="what to run")
    args = parser.parse_args()
    totals: Counter[str] = Counter()
    right: Counter[str] = Counter()
    slowest: dict[str, float] = {}
    largest: dict[str, float] = {}
    with tempfile.TemporaryDirectory() as temporary:
        program = args.program.split()
        empty = str(Path(temporary, "empty.barnacle"))
        subprocess.run(
            [*program, "--book", empty, "setup", "--me", "Una Berg <una@tidewick.example>"],
            check=True,
            capture_output=True,
        )
        for kind, make in CLASSES.items():
            for case in make() if args.only in (None, kind) else ():
                if args.like not in case.name:
                    continue
                wrong, took, memory = judged(case, Path(temporary), program)
                totals[kind] += 1
                right[kind] += not wrong
                slowest[kind] = max(slowest.get(kind, 0.0), took)
                largest[kind] = max(largest.get(kind, 0.0), memory)
                if wrong:
                    print(f"{kind:9} {case.name:28} {took:5.1f} s {memory:4.0f} MB  {'; '.join(wrong)}", flush=True)
    print(f"{'class':9} {'files':>6} {'right':>6} {'slowest':>9} {'most memory':>12}")
    for kind, number in totals.items():
        print(f"{kind:9} {number:6} {right[kind]:6} {slowest[kind]:7.1f} s {largest[kind]:9.0f} MB")
    print(f"{'all':9} {totals.total():6} {right.total():6}")
    sys.exit(0 if right.total() == totals.total() else 1)


if __name__ == "__main__":
    main()
