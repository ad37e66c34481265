"""What goes along with a message is searched: files of all kinds, addresses in every disguise, and what cannot be opened."""

from __future__ import annotations

import gzip
import io
import random
import zipfile
from email.message import EmailMessage

import py7zr
import pypdf
import pytest
from conftest import Office
from disguises import FILES, GUESSED, WRITTEN, fits, letter, pdf, sheet, zipped
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.addresses import address_key
from barnacle.core.mail import privacy
from barnacle.core.mail.privacy import Guard
from barnacle.files.contents.search import Searched, search
from barnacle.files.contents.words import runs

ADDRESSES = ["della.goss@tidewick.example", "zoë.lund@kelp.example", "nils@bücher.example", "o'brien@harbour.example",
             "x_y-z@deep.sea.example"]  # fmt: skip
GUARDED = {address_key(one): "Della Goss" for one in ADDRESSES}


def looked_at(text: str, *files: tuple[str, bytes]) -> Searched:
    message = EmailMessage()
    message["Subject"] = "Tides"
    message.set_content(text)
    for name, data in files:
        message.add_attachment(data, maintype="application", subtype="octet-stream", filename=name)
    return search(message.as_bytes(), GUARDED)


def certain(found: Searched) -> set[str]:
    return {leak.address for leak in found.leaks if leak.certain}


@pytest.mark.parametrize("kind", [None, *FILES])
def test_an_address_is_found_in_every_disguise_in_every_kind_of_file(kind: str | None) -> None:
    for name, write in WRITTEN.items():
        pick = random.Random(f"{kind} {name}")
        if kind and not fits(name, kind):
            continue
        address = pick.choice(ADDRESSES)
        written = write(address, pick)
        found = looked_at("See.", FILES[kind](written, pick)) if kind else looked_at(f"Ask\n{written}\nplease.")
        assert address_key(address) in certain(found), (name, kind, written)


def test_what_must_be_guessed_is_told_and_stops_nothing() -> None:
    for name, write in GUESSED.items():
        for address in ADDRESSES:
            (leak,) = looked_at(f"Ask {write(address, random.Random(name))} please.").leaks
            assert (leak.address, leak.certain) == (address_key(address), False), name


@given(st.text(max_size=300), st.sampled_from(["gull.example", "example.kelp", "tidewick.example.test", "kelp"]))
def test_no_other_text_is_taken_for_a_member_s_address(text: str, domain: str) -> None:
    apart = " ".join(part for part in text.split() if "@" not in part)
    assert not Guard(GUARDED).hits(f"{apart} someone.else@{domain} {apart}")


def encrypted_pdf() -> bytes:
    writer = pypdf.PdfWriter(clone_from=io.BytesIO(pdf("x", random.Random(1))[1]))
    writer.encrypt("ebb")
    out = io.BytesIO()
    writer.write(out)
    return out.getvalue()


def in_7z(password: str | None) -> bytes:
    out = io.BytesIO()
    with py7zr.SevenZipFile(out, "w", password=password) as archive:
        archive.writestr(f"ask {ADDRESSES[0]}", "note.txt")
    return out.getvalue()


def locked_zip() -> bytes:
    # The flag of an encrypted file (APPNOTE section 4.4.4), in both of the places where it stands.
    data = bytearray(zipped({"note.txt": "x"}, zipfile.ZIP_STORED))
    data[6] |= 1
    data[data.index(b"PK\x01\x02") + 8] |= 1
    return bytes(data)


@pytest.mark.parametrize(
    ("name", "data", "why"),
    [
        ("members.pdf", encrypted_pdf(), "encrypted"),
        ("members.7z", in_7z("ebb"), "encrypted"),
        ("members.zip", locked_zip(), "encrypted"),
        ("members.odt", zipped({"mimetype": "x", "META-INF/manifest.xml": "<m><manifest:encryption-data/></m>"}), "encrypted"),
        ("key.asc", b"-----BEGIN PGP MESSAGE-----\n\nhQEM\n", "encrypted"),
        ("members.rar", b"Rar!\x1a\x07\x01\x00" + b"\x00" * 40, "cannot open"),
        ("plan.dwg", bytes(range(256)) * 9, "unknown kind"),
        ("broken.pdf", b"%PDF-1.7\nnothing", "damaged"),
        ("broken.docx", b"PK\x03\x04nothing at all", "damaged"),
        ("bomb.zip", zipped({"x": b"\0" * 310_000_000}), "unpacks to more"),
        ("bomb.gz", gzip.compress(gzip.compress(b"\0" * 310_000_000)), "unpacks to more"),
        ("deep.eml", b"Content-Type: message/rfc822\r\n\r\n" * 3000 + b"Subject: x\r\n\r\nx", "too deeply"),
    ],
    ids=lambda value: value if isinstance(value, str) and "." in value else "",
)  # fmt: skip
def test_what_cannot_be_opened_is_said(name: str, data: bytes, why: str) -> None:
    found = looked_at("See.", (name, data))
    assert any(why in one.why for one in found.unsearched) and {one.file for one in found.unsearched} == {name}


def test_what_comes_after_an_overlong_file_is_not_taken_for_searched(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(privacy, "_MOST_WORK", 500_000)
    signs = ("signs.txt", b"a@b " * 200_000)
    short = ("rota.csv", f"Della;{ADDRESSES[0]}\n".encode())
    long = ("log.txt", f"{'tide ' * 9000} {ADDRESSES[1]}\n".encode())
    found = looked_at("See.", signs, short, long)
    assert [(one.file, "takes too long" in one.why) for one in found.unsearched] == [("signs.txt", True)]
    assert certain(found) == {ADDRESSES[0], address_key(ADDRESSES[1])}, (
        "what is short around a sign is read all the same"
    )


def test_archives_in_archives_are_opened_so_deep_and_no_deeper() -> None:
    data = letter(f"Ask {ADDRESSES[0]}", random.Random(2))[1]
    for _ in range(5):
        data = zipped({"inner.zip" if data[:2] == b"PK" else "x": data})
    assert certain(looked_at("See.", ("files.zip", data))) == {ADDRESSES[0]}
    assert certain(looked_at("See.", ("files.7z", in_7z(None)))) == {ADDRESSES[0]}
    for _ in range(9):
        data = zipped({"inner.zip": data})
    (deep,) = looked_at("See.", ("files.zip", data)).unsearched
    assert "deep" in deep.why


@given(
    st.sampled_from(["Grüße an {}, alle", "Привет {} пока", "Γειά σας {}", "låt {}", "x{}y", "日本語 {} です", "{}"]),
    st.sampled_from(["latin-1", "utf-8", "utf-16-le", "utf-16-be", "cp1251", "koi8-r", "cp1253", "shift_jis", "cp437"]),
    st.sampled_from([" ada@kelp.example ", " ada%40kelp.example ", " ada&#64;kelp.example ", "=?utf-8?Q?ada=40kelp.example?="]),
    st.integers(0, 1 << 32),
)  # fmt: skip
def test_an_address_among_octets_of_any_kind_is_found_and_little_is_left_of_what_is_no_text(
    words: str, charset: str, address: str, seed: int
) -> None:
    pick = random.Random(seed)
    noise = pick.randbytes(pick.randrange(60))
    data = noise + words.format(address).encode(charset, "replace") + noise[::-1]
    guard = Guard({"ada@kelp.example": "Ada Holm"})
    assert any(guard.hits(text) for text in runs(data))
    assert sum(map(len, runs(pick.randbytes(20_000)))) < 2_500


def test_a_workbook_of_members_stops_the_message_and_a_locked_one_needs_its_name(crew: Office) -> None:
    given = ("compose", "--for", "Crew", "--subject", "Rota", "--text", "See the rota.")
    for number, (content, seed) in enumerate((("Bo@kelp.example", 1), ("berg@kelp.example", 4)), 1):
        crew.file("rota.xlsx", sheet(content, random.Random(seed))[1])
        held = crew.json(*given, "--attach", "rota.xlsx", code=2)["error"]
        assert f"m{number} would show {content.lower()}" in held and "in rota.xlsx" in held
    crew.file("tariff.pdf", encrypted_pdf())
    crew.file("names.csv", "Lund;Bo;berth 4\nBerg;Per;berth 5\nNesbo;Jago;berth 6\n")
    held = crew.json(*given, "--attach", "tariff.pdf", "names.csv", code=2)["error"]
    assert "tariff.pdf (encrypted)" in held and "`barnacle send m3 --allow-file tariff.pdf`" in held
    shown = crew.told("preview", "m3")
    assert [(f["name"], f["unsearched"]) for f in shown["files"]] == [("tariff.pdf", "encrypted"), ("names.csv", "")]
    assert "names of at least 2 people" in shown["warnings"][0] and shown["held"]
    said = crew.run("preview", "m3").out
    assert "tariff.pdf, 2 kB: could not be searched (encrypted)" in said and "1 file; 1 file could not" in " ".join(
        said.split()
    )
    made = crew.json(*given, "--attach", "tariff.pdf", "--allow-file", "tariff.pdf")
    assert made["message"] == "m4" and crew.told("preview", "m4")["held"] is None
    literal = crew.json("compose", "--for", "Crew", "--subject", "x", "--text", "Dear {given}, the plan is attached.")
    assert "Did you mean --each" in literal["warnings"][0] and "nothing is attached" in literal["warnings"][1]
    for text in ("Plán je v příloze.", "План во вложении.", "表を添付します。"):
        literal = crew.json("compose", "--for", "Crew", "--subject", "x", "--text", text)
        assert "nothing is attached" in literal["warnings"][0], text
