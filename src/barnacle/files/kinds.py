"""What kind of file it is, by what stands in it."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path

from barnacle.core.addresses import parse_mailbox, split_pasted
from barnacle.core.errors import BadAddressError, FileError
from barnacle.core.text import visible
from barnacle.files.encoding import Encoding
from barnacle.files.mail_heads import is_mailbox, is_message

# Every kind that is read, with its name for people.
KINDS = {
    "csv": "a table of text",
    "xlsx": "a workbook",
    "html": "tables of a web page",
    "document": "tables of a document",
    "text": "text of a document",
    "vcard": "vCards",
    "jcard": "jCards",
    "jscontact": "JSContact cards",
    "ldif": "LDIF entries",
    "line": "pasted addresses",
    "mail": "a message",
    "mbox": "a mailbox",
}


def kind_by_octets(head: bytes) -> str | None:
    """What kind of file begins so, a key of KINDS, where that can be told without knowing its encoding."""
    if head.startswith((b"PK\x03\x04", b"\xd0\xcf\x11\xe0")):
        return "xlsx"
    if is_mailbox(head):
        return "mbox"
    return "mail" if is_message(head) else None


def kind_by_text(path: Path, found: Encoding) -> str:
    """What kind of text file it is, by its content; a key of KINDS. Raises FileError for one that is none of them."""
    with path.open(encoding=found.codec, errors="replace") as file:
        text = file.read(64 * 1024).lstrip("\ufeff \t\r\n")
    begin = text[:200].upper()
    if begin.startswith("BEGIN:VCARD") or re.search(r"(?im)^[\s\0]*BEGIN:VCARD[ \t\r]*$", text):
        return "vcard"
    if re.match(r'\[\s*(?:\[\s*)?"vcard"', begin, re.IGNORECASE):
        return "jcard"
    if begin.startswith("{") or re.match(r"\[\s*\{", begin):
        return "jscontact"
    if begin.startswith("<") and re.search(r"<table[\s>]", text, re.IGNORECASE):
        return "html"
    if begin.startswith("<?XML"):
        raise FileError(f"{visible(path.name)} is XML, which is not read. Save the table as CSV and import that.")
    if _is_ldif(text):
        return "ldif"
    return "line" if _is_pasted(text) else "csv"


def _is_ldif(text: str) -> bool:
    """Whether the first line that is no remark (RFC 2849) nor its continuation names a version or an entry, or what
    follows is plainly entries."""
    for line in text.splitlines():
        if line.strip() and not line.startswith(("#", " ")):
            if re.match(r"version\s*:\s*\d+\s*$|dn:", line, re.IGNORECASE):
                return True
            break
    return re.search(r"(?im)^dn::? .*\n(?: .*\n)*(?:objectclass|changetype|cn|mail):", text) is not None


def _is_pasted(text: str) -> bool:
    """Whether the text is nothing but addresses, with names or without, from its first line on."""
    lines = [line for line in text[:8000].splitlines()[:50] if line.strip()]
    if len(text) > 8000 and len(lines) > 1:
        lines.pop()  # it may have been cut
    if not lines or "@" not in lines[0]:
        return False
    pieces = [piece for line in lines for piece in split_pasted(line)]
    good = 0
    for number, piece in enumerate(pieces):
        try:
            good += bool(parse_mailbox(piece))
        except BadAddressError:
            if number == 0 and "@" not in piece:
                return False
    # Where the lines are cut into the same number of cells, it is a table with something wrong in it.
    return good >= 0.7 * len(pieces) or (good >= 0.3 * len(pieces) and not _is_cut_alike(lines))


def _is_cut_alike(lines: list[str]) -> bool:
    """Whether most lines have the same separators in them, as often."""
    counts = [tuple(line.count(separator) for separator in ",;\t|") for line in lines]
    usual, times = Counter(counts).most_common(1)[0]
    return any(usual) and len(lines) > 1 and times >= 0.8 * len(lines)
