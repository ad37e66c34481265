"""Addresses as people and programs write, wrap and hide them: the makers of the adversarial messages.

`WRITTEN` are ways to write an address in a text, `FILES` kinds of files that hold a text. Whatever is made from a seed is
the same each time.
"""

from __future__ import annotations

import base64
import bz2
import gzip
import io
import json
import lzma
import quopri
import random
import sqlite3
import struct
import tarfile
import unicodedata
import zipfile
import zlib
from collections.abc import Callable
from email.message import EmailMessage
from html import escape
from urllib.parse import quote

import openpyxl
from openpyxl.cell.rich_text import CellRichText, TextBlock
from openpyxl.cell.text import InlineFont
from openpyxl.comments import Comment

Written = Callable[[str, random.Random], str]
UNSEEN = "\u00ad\u034f\u061c\u115f\u180e\u200b\u200c\u200d\u200e\u200f\u202a\u202c\u2060\u2063\u2066\u2069\u3164\ufe0f\ufeff\U000e0041"


def sprinkled(address: str, pick: random.Random) -> str:
    return "".join(letter + (pick.choice(UNSEEN) if pick.random() < 0.4 else "") for letter in address)


def wide(address: str, pick: random.Random) -> str:
    return "".join(chr(ord(c) + 0xFEE0) if "!" <= c <= "~" and pick.random() < 0.7 else c for c in address)


def in_tags(address: str, pick: random.Random) -> str:
    cuts = sorted(pick.sample(range(1, len(address)), 3))
    tags = [
        "<b></b>",
        "<!-- x@y -->",
        "<span style='color:red'>",
        "<wbr>",
        "<i>",
        '<span style="display:none">zz</span>',
        "<br/>"[:0],
    ]
    pieces = [address[a:b] for a, b in zip([0, *cuts], [*cuts, len(address)], strict=True)]
    return "<p>" + "".join(piece + pick.choice(tags) for piece in pieces) + "</p>"


def in_base64(address: str, pick: random.Random) -> str:
    text = f"{'x' * pick.randrange(7)} {address} {'y' * pick.randrange(9)}"
    octets = base64.b64encode(text.encode()).decode()
    width = pick.choice([4, 8, 19, 20, 60, 76, 500])
    return "\n".join(octets[n : n + width] for n in range(0, len(octets), width))


def with_comments(address: str, pick: random.Random) -> str:
    local, _, domain = address.rpartition("@")
    return pick.choice(
        [f"{local}(her desk)@{domain}", f"{local}@(the old one){domain}", f"(to) {local}@{domain} (work)"]
    )


def marked(address: str, pick: random.Random) -> str:
    local, _, domain = address.rpartition("@")
    return pick.choice([
        f"**{local}**@{domain}", f"_{address}_", f"`{address}`", f"{local}\\@{domain}", f"*{local}*@**{domain}**",
        f"[{local}@{domain}](https://harbour.example)", f"~~{address}~~", f"{local}@{domain.replace('.', chr(92) + '.')}",
    ])  # fmt: skip


def other_domain(address: str, pick: random.Random) -> str:
    local, _, domain = address.rpartition("@")
    return f"{local}@{domain.encode('idna').decode() if not domain.isascii() else domain.encode().decode('idna')}"


def escaped(address: str, pick: random.Random) -> str:
    how = pick.choice(["\\u{:04x}", "\\u{:04X}", "\\x{:02x}"]) if address.isascii() else "\\u{:04x}"
    return "".join(how.format(ord(c)) if c == "@" or pick.random() < 0.3 else c for c in address)


def entities(address: str, pick: random.Random) -> str:
    how = pick.choice(["&#{};", "&#x{:x};", "&#X{:X};", "&#0{};", "&#{}"])
    some = [how.format(ord(c)) if c == "@" or pick.random() < 0.5 else c for c in address]
    if how == "&#{}":  # without its semicolon an entity ends where digits do
        some = [f"{piece};" if piece.startswith("&#") and pick.random() < 2 else piece for piece in some]
    return "".join(some)


def percent(address: str, pick: random.Random) -> str:
    coded = "".join(quote(c, safe="") if c == "@" or pick.random() < 0.3 else c for c in address)
    coded = "".join(f"%{ord(c):02X}" if c.isalpha() and c.isascii() and pick.random() < 0.0 else c for c in coded)
    return f"mailto:{quote(coded, safe='@%') if pick.random() < 0.3 else coded}?subject=hello"


WRITTEN: dict[str, Written] = {
    "plain": lambda a, r: a,
    "in capitals": lambda a, r: a.upper(),
    "with a name": lambda a, r: f'"Goss, Della" <{a}>',
    "in punctuation": lambda a, r: r.choice(
        [f"({a})", f"'{a}'.", f"–{a}–", f"to={a}&x=1", f"mail:{a};", f"“{a}”", f"{a}…"]
    ),
    "unseen characters": sprinkled,
    "reversed by direction": lambda a, r: f"\u202e{a[::-1]}\u202c",
    "full width": wide,
    "accents apart": lambda a, r: unicodedata.normalize("NFD", a),
    "Markdown": marked,
    "spaces around @": lambda a, r: a.replace("@", r.choice([" @ ", " @", "@ ", "  @  "])),
    "a line break at @": lambda a, r: a.replace("@", r.choice(["@\n", "\n@", "@\r\n "])),
    "spaces at dots": lambda a, r: a.replace(".", r.choice([" . ", ". ", " ."])),
    "letter by letter": lambda a, r: " ".join(a),
    "quoted local part": lambda a, r: '"{}"@{}'.format(*a.rsplit("@", 1)),
    "comments": with_comments,
    "mailto with escapes": percent,
    "entities": entities,
    "tags between": in_tags,
    "the other domain": other_domain,
    "Base64": in_base64,
    "quoted-printable": lambda a, r: (
        quopri.encodestring(a.replace("@", "=40").encode() if r.random() < 0 else a.encode(), quotetabs=True)
        .decode()
        .replace("@", "=40")
    ),
    "an encoded word": lambda a, r: f"=?utf-8?{r.choice('bB')}?{base64.b64encode(a.encode()).decode()}?=",
    "script escapes": escaped,
    "strings joined": lambda a, r: '"{}" + "@{}"'.format(*a.rsplit("@", 1)),
    "among other scripts": lambda a, r: f"連絡先は{a}です",
}
# What only a reader who guesses would take for an address: warned of.
GUESSED: dict[str, Written] = {
    "(at)": lambda a, r: a.replace("@", r.choice([" (at) ", "[at]", " at ", "{at}"])),
    "(at) and (dot)": lambda a, r: a.replace("@", " (at) ").replace(".", " (dot) "),
    "a plus": lambda a, r: a.replace("@", "+berths@"),
}

Made = Callable[[str, random.Random], tuple[str, bytes]]
_NS = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main" xmlns:a="http://schemas.openxmlformats.org/drawingml/2006/main"'


def zipped(parts: dict[str, str | bytes], method: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", method) as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    return out.getvalue()


def sheet(text: str, r: random.Random) -> tuple[str, bytes]:
    """A workbook with the text in a cell, in pieces, a comment, a hidden sheet, a property, a header or a link."""
    book = openpyxl.Workbook()
    first = book.active
    for row in range(20):
        first.append([f"Berth {row}", row, r.random()])
    legal = "".join(c for c in text if c >= " " or c in "\n\t")
    where = r.choice(["cell", "pieces", "comment", "hidden", "property", "header", "link", "formula"])
    if where == "cell":
        first["B3"] = legal
    elif where == "pieces":
        cut = r.randrange(1, max(2, len(legal)))
        first["B3"] = CellRichText(legal[:cut], TextBlock(InlineFont(b=True), legal[cut:]))
    elif where == "comment":
        first["A1"].comment = Comment(legal, "the office")
    elif where == "hidden":
        other = book.create_sheet("Old")
        other["C9"] = legal
        other.sheet_state = r.choice(["hidden", "veryHidden"])
    elif where == "property":
        book.properties.creator = legal
    elif where == "header":
        first.oddHeader.center.text = legal.replace("&", "+")[:200] if "&" not in legal else ""
        first["Z1"] = legal if "&" in legal else None
    elif where == "link":
        first["A1"].hyperlink = "mailto:x@harbour.example?cc=" + quote(legal)
    else:
        first["A1"] = '=CONCATENATE("' + legal.replace('"', "'") + '","")'
    out = io.BytesIO()
    book.save(out)
    return "berths.xlsx", out.getvalue()


def runs_of(text: str, r: random.Random, tag: str) -> str:
    """A text in runs, as text programs cut it up while one types."""
    cuts = sorted({r.randrange(1, len(text)) for _ in range(3)}) if len(text) > 3 else []
    pieces = [text[a:b] for a, b in zip([0, *cuts], [*cuts, len(text)], strict=True)]
    return "".join(
        f'<{tag}:r><{tag}:rPr><{tag}:lang {tag}:val="en"/></{tag}:rPr><{tag}:t xml:space="preserve">{escape(p)}</{tag}:t></{tag}:r>'
        for p in pieces
    )


def letter(text: str, r: random.Random) -> tuple[str, bytes]:
    legal = "".join(c for c in text if c >= " " or c in "\n\t")
    body = runs_of(legal, r, "w")
    where = r.choice(["text", "deleted", "comment", "header", "property", "cells", "field"])
    plain = "<w:p><w:r><w:t>Dear all</w:t></w:r></w:p>"
    shown = {
        "text": f"<w:p>{body}</w:p>",
        "deleted": f'<w:p><w:del w:author="x">{body.replace("w:t", "w:delText")}</w:del></w:p>',
        "cells": f"<w:tbl><w:tr><w:tc><w:p><w:r><w:t>Della Goss</w:t></w:r></w:p></w:tc><w:tc><w:p>{body}</w:p></w:tc></w:tr></w:tbl>",
        "field": f'<w:p><w:r><w:instrText> HYPERLINK "mailto:{escape(legal, quote=True)}" </w:instrText></w:r></w:p>',
    }.get(where, plain)
    parts: dict[str, str | bytes] = {
        "[Content_Types].xml": "<Types/>",
        "word/document.xml": f"<w:document {_NS}><w:body>{shown}</w:body></w:document>",
    }
    if where == "comment":
        parts["word/comments.xml"] = f"<w:comments {_NS}><w:comment><w:p>{body}</w:p></w:comment></w:comments>"
    if where == "header":
        parts["word/header1.xml"] = f"<w:hdr {_NS}><w:p>{body}</w:p></w:hdr>"
    if where == "property":
        parts["docProps/core.xml"] = f"<cp:coreProperties><dc:creator>{escape(legal)}</dc:creator></cp:coreProperties>"
    return "letter.docx", zipped(parts)


def slides(text: str, r: random.Random) -> tuple[str, bytes]:
    part = r.choice(["ppt/slides/slide1.xml", "ppt/notesSlides/notesSlide1.xml", "ppt/comments/comment1.xml"])
    legal = "".join(c for c in text if c >= " " or c in "\n\t")
    content = f"<p:sld {_NS}><a:p>{runs_of(legal, r, 'a')}</a:p></p:sld>"
    return "slides.pptx", zipped({"[Content_Types].xml": "<Types/>", part: content})


def open_document(text: str, r: random.Random) -> tuple[str, bytes]:
    legal = escape("".join(c for c in text if c >= " " or c in "\n\t"))
    cut = len(legal) // 2
    if "&" in legal:
        cut = legal.find("&")
    spans = f'<text:span text:style-name="T1">{legal[:cut]}</text:span><text:span text:style-name="T2">{legal[cut:]}</text:span>'
    where = r.choice(["text", "cell", "note", "meta", "tracked"])
    inner = {
        "text": f"<text:p>{spans}</text:p>",
        "cell": f'<table:table-cell office:value-type="string"><text:p>Della</text:p></table:table-cell><table:table-cell><text:p>{spans}</text:p></table:table-cell>',
        "note": f"<office:annotation><text:p>{spans}</text:p></office:annotation>",
        "tracked": f"<text:tracked-changes><text:changed-region><text:deletion><text:p>{spans}</text:p></text:deletion></text:changed-region></text:tracked-changes>",
    }.get(where, "<text:p>Dear all</text:p>")
    parts: dict[str, str | bytes] = {
        "mimetype": "application/vnd.oasis.opendocument.text",
        "content.xml": f"<office:document-content><office:body>{inner}</office:body></office:document-content>",
        "meta.xml": f"<office:meta><dc:creator>{legal if where == 'meta' else 'office'}</dc:creator></office:meta>",
    }
    return r.choice(["letter.odt", "sheet.ods"]), zipped(parts)


def pdf(text: str, r: random.Random) -> tuple[str, bytes]:
    from reportlab.pdfgen.canvas import Canvas

    legal = "".join(c for c in text if c >= " ")
    out = io.BytesIO()
    canvas = Canvas(out, pageCompression=r.choice([0, 1]))
    canvas.drawString(72, 800, "Berths of the harbour")
    where = r.choice(["text", "columns", "link", "title"]) if legal.isascii() else r.choice(["title", "link"])
    if where == "text":
        canvas.drawString(72, 700, legal[:400])
    elif where == "columns":
        canvas.drawString(72, 700, "Della Goss")
        canvas.drawString(200, 700, legal[:400])
        canvas.drawString(72, 680, "Nils Berg")
    elif where == "link":
        canvas.linkURL("mailto:" + quote(legal), (72, 690, 300, 710))
    else:
        canvas.setTitle(legal)
    canvas.save()
    return "berths.pdf", out.getvalue()


def calendar(text: str, r: random.Random) -> tuple[str, bytes]:
    line = f"DESCRIPTION:{text}".replace("\r", "").replace("\n", "\\n")
    octets = line.encode()
    folded = b"\r\n ".join(octets[n : n + 60] for n in range(0, len(octets), 60))
    return (
        "entry.ics",
        b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\n" + folded + b"\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
    )


def card(text: str, r: random.Random) -> tuple[str, bytes]:
    flat = text.replace("\r", "").replace("\n", " ")
    if r.random() < 0.5:
        coded = quopri.encodestring(flat.encode(), quotetabs=True).decode()
        return (
            "card.vcf",
            f"BEGIN:VCARD\r\nVERSION:2.1\r\nN:Goss\r\nEMAIL;ENCODING=QUOTED-PRINTABLE:{coded}\r\nEND:VCARD\r\n".encode(),
        )
    octets = f"EMAIL;TYPE=work:{flat}".encode()
    folded = b"\r\n ".join(octets[n : n + 30] for n in range(0, len(octets), 30))
    return "card.vcf", b"BEGIN:VCARD\r\nVERSION:3.0\r\nFN:D\r\n" + folded + b"\r\nEND:VCARD\r\n"


def kept_message(text: str, r: random.Random) -> tuple[str, bytes]:
    message = EmailMessage()
    message["From"] = "office@harbour.example"
    message["Subject"] = "Kept"
    cte = r.choice(["base64", "quoted-printable"])
    message.set_content(text.replace("\r", ""), cte=cte)
    for _ in range(r.randrange(3)):
        outer = EmailMessage()
        outer["From"] = "office@harbour.example"
        outer["Subject"] = "Fwd"
        outer.set_content("see below")
        outer.add_attachment(message)
        message = outer
    return r.choice(["kept.eml", "message"]), message.as_bytes()


def database(text: str, r: random.Random) -> tuple[str, bytes]:
    db = sqlite3.connect(":memory:")
    db.execute(f"PRAGMA encoding = '{r.choice(['UTF-8', 'UTF-16le'])}'")
    db.execute("CREATE TABLE boats(name, owner)")
    db.executemany("INSERT INTO boats VALUES(?, ?)", [(f"boat {n}", "nobody") for n in range(50)])
    db.execute("INSERT INTO boats VALUES('Kestrel', ?)", ((" " * r.choice([0, 4000])) + text,))
    return "boats.sqlite", db.serialize()


def rich(text: str, r: random.Random) -> tuple[str, bytes]:
    coded = "".join(
        c if c.isascii() and c not in "\\{}\n" else "\\par\n" if c == "\n" else f"\\'{ord(c):02x}" if ord(c) < 256
        else "".join(f"\\u{unit if unit < 32768 else unit - 65536}?" for unit in struct.unpack(f"<{len(c.encode('utf-16-le')) // 2}H", c.encode("utf-16-le")))
        for c in text
    )  # fmt: skip
    cut = r.randrange(len(coded)) if "\\" not in coded else 0
    return (
        "letter.rtf",
        f"{{\\rtf1\\ansi{{\\fonttbl{{\\f0 Sans;}}}}\\f0 {coded[:cut]}{{\\b {coded[cut:]}}}\\par}}".encode(),
    )


def picture(text: str, r: random.Random) -> tuple[str, bytes]:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    note = text.encode()
    which = r.choice(
        [
            chunk(b"tEXt", b"Comment\0" + note),
            chunk(b"zTXt", b"Comment\0\0" + zlib.compress(note)),
            chunk(b"iTXt", b"XML:com.adobe.xmp\0\1\0en\0\0" + zlib.compress(note)),
            chunk(b"iTXt", b"Description\0\0\0en\0\0" + note),
        ]
    )
    pixels = zlib.compress(b"".join(b"\0" + bytes(r.randrange(256) for _ in range(30)) for _ in range(10)))
    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 10, 10, 8, 2, 0, 0, 0))
    return "plan.png", b"\x89PNG\r\n\x1a\n" + head + which + chunk(b"IDAT", pixels) + chunk(b"IEND", b"")


def web_page(text: str, r: random.Random) -> tuple[str, bytes]:
    if r.random() < 0.3:
        inner = base64.b64encode(text.encode()).decode()
        return "page.html", f'<html><a href="data:text/plain;base64,{inner}">here</a></html>'.encode()
    return "page.html", f"<html><body><div>{text}</div></body></html>".encode()


def encoded_text(text: str, r: random.Random) -> tuple[str, bytes]:
    codec = r.choice(["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "utf-32", "utf-32-le", "utf-32-be"])
    return "note.txt", f"Rota of the week\n{text}\nThe office\n".encode(codec)


def table(text: str, r: random.Random) -> tuple[str, bytes]:
    return "rota.csv", ('Name;Berth;Mail\nNils;4;\nDella;7;"' + text.replace('"', '""') + '"\n').encode()


def script(text: str, r: random.Random) -> tuple[str, bytes]:
    if r.random() < 0.5:
        return "data.json", json.dumps({"owner": text}, ensure_ascii=r.random() < 0.5).encode()
    return "page.js", f"var owner = {json.dumps(text)};".encode()


PLAIN_FILES: dict[str, Made] = {
    "text": encoded_text, "table": table, "web page": web_page, "script": script, "calendar": calendar, "card": card,
    "message": kept_message, "workbook": sheet, "letter": letter, "slides": slides, "OpenDocument": open_document,
    "PDF": pdf, "database": database, "Rich Text": rich, "picture": picture,
}  # fmt: skip


def archive(text: str, r: random.Random) -> tuple[str, bytes]:
    """One of the others in an archive, or in an archive in an archive."""
    kinds = [k for k in PLAIN_FILES if k not in ("PDF", "database")] if r.random() < 0.8 else list(PLAIN_FILES)
    name, data = PLAIN_FILES[r.choice(kinds)](text, r)
    for _ in range(r.choice([1, 1, 2])):
        how = r.choice(["zip", "stored", "lzma", "gz", "bz2", "xz", "tar"])
        if how in ("zip", "stored", "lzma"):
            method = {"zip": zipfile.ZIP_DEFLATED, "stored": zipfile.ZIP_STORED, "lzma": zipfile.ZIP_LZMA}[how]
            name, data = "files.zip", zipped({"read me.txt": "hello", f"lists/{name}": data}, method)
        elif how == "tar":
            out = io.BytesIO()
            with tarfile.open(fileobj=out, mode="w") as tar:
                info = tarfile.TarInfo(name)
                info.size = len(data)
                tar.addfile(info, io.BytesIO(data))
            name, data = "files.tar", out.getvalue()
        else:
            squeeze = {"gz": gzip.compress, "bz2": bz2.compress, "xz": lzma.compress}[how]
            name, data = f"{name}.{how}", squeeze(data)
    return name, data


FILES: dict[str, Made] = {**PLAIN_FILES, "archive": archive}


def fits(written: str, kind: str) -> bool:
    """Whether that way of writing stays what it is in that kind of file."""
    if kind in ("calendar", "card", "PDF", "workbook", "picture", "table") and written in (
        "a line break at @",
        "Base64",
    ):
        return False
    if (
        kind in ("PDF", "Rich Text", "web page", "workbook", "letter", "slides", "OpenDocument")
        and written == "quoted-printable"
    ):
        return False  # no reader decodes it there
    return not (kind == "PDF" and written in ("tags between", "an encoded word"))
