"""A message that a mail program saved as a compound file ([MS-OXMSG] 2.1): who sent it, and to whom."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import product
from pathlib import Path

from barnacle.core.addresses import Mailbox, address_key, check_address, suggest
from barnacle.core.contact import Address, Contact
from barnacle.core.errors import BadAddressError, FileError
from barnacle.core.names import turned
from barnacle.core.text import has_unsafe, tidy, visible
from barnacle.core.typed import Any
from barnacle.files.drafts import Defect, Draft, cleaned
from barnacle.files.encoding import Encoding
from barnacle.files.tables.compound import DAMAGED, has_stream

_PROPERTIES = "__properties_version1.0"
_RECIPIENT = re.compile(r"__recip_version1\.0_#[0-9A-F]{8}")
# Names and addresses, those first that are as mail has them, and the types of text ([MS-OXPROPS] 2.1025 and 2.1018).
_OF_RECIPIENT = (("5FF6", "3001"), ("39FE", "3003"))
_OF_SENDER = (("0C1A", "0042"), ("5D01", "0C1F", "5D02", "0065"))
_WIDE, _NARROW = "001F", "001E"
_MOST, _LONGEST = 10_000, 2000


def is_saved_message(path: Path) -> bool:
    """Whether a compound file is a message."""
    return has_stream(path, _PROPERTIES)


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """Its sender and everybody in its To, Cc and Bcc, as one entry. Raises FileError."""
    import olefile

    try:
        with olefile.OleFileIO(path) as ole:
            found = list(_people(ole))
    except DAMAGED as error:
        raise FileError(f"{visible(path.name)} is damaged, and was not read.") from error
    draft = Draft(1)
    seen: set[str] = set()
    for name, text in found:
        if has_unsafe(name):
            draft.cleaned.append(cleaned(1, "", name))
        if not text:
            draft.left_out.append(Defect(1, "", visible(name, 80), "there is no address beside this name"))
            continue
        try:
            address = check_address(text)
        except BadAddressError as error:
            draft.refused.append(
                Defect(1, "", f"{visible(name, 40)} <{visible(text, 80)}>", error.reason, suggest(text))
            )
            continue
        if address_key(address) not in seen:
            seen.add(address_key(address))
            named = "" if address_key(name) == address_key(address) else turned(tidy(name, 200))
            draft.people.append(Contact(name=named, addresses=[Address(address)]))
    yield draft


def _people(ole: Any) -> Iterator[Mailbox]:
    """The sender and the recipients, with what stands for an address, if anything does."""
    entries = {tuple(one) for one in ole.listdir()[: 20 * _MOST]}

    def text(storage: tuple[str, ...], tags: tuple[str, ...], sign: str) -> str:
        for tag, kind in product(tags, (_WIDE, _NARROW)):
            if (place := (*storage, f"__substg1.0_{tag}{kind}")) in entries:
                with ole.openstream(list(place)) as stream:
                    said = _text(stream.read(2 * _LONGEST), kind)
                if said and sign in said:
                    return said
        return ""

    recipients = sorted({one[0] for one in entries if len(one) == 2 and _RECIPIENT.fullmatch(one[0])})
    for storage, (names, addresses) in [((), _OF_SENDER), *(((one,), _OF_RECIPIENT) for one in recipients[:_MOST])]:
        # What is known within an organisation alone (/o=…/cn=…) is no address.
        name, address = text(storage, names, ""), text(storage, addresses, "@")
        if name or address:
            yield Mailbox(name.strip("'"), address)


def _text(octets: bytes, kind: str) -> str:
    """A stream's text: UTF-16, or in octets whatever the writer's machine had."""
    if kind == _WIDE:
        said = octets.decode("utf-16-le", "replace")
    else:
        try:
            said = octets.decode()
        except UnicodeDecodeError:
            said = octets.decode("cp1252", "replace")
    return said.rstrip("\0").strip()
