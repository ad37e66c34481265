"""LDIF (RFC 2849): entries of a directory, with the attributes of RFC 2798 and RFC 4519."""

from __future__ import annotations

import base64
import binascii
import json
import re
import uuid
from collections.abc import Iterable, Iterator
from pathlib import Path

from barnacle.core.addresses import check_address, plain_address, suggest
from barnacle.core.contact import Address, Contact, Extra, Phone
from barnacle.core.contact_fields import BY_NAME, PLAIN, TEXTS
from barnacle.core.errors import BadAddressError, UnclearError
from barnacle.core.names import display_name
from barnacle.core.phones import check_phone
from barnacle.core.text import fold, has_unsafe, tidy, visible
from barnacle.core.typed import TextIO
from barnacle.files.drafts import Defect, Draft, ListDraft, Values, cleaned, was_cut
from barnacle.files.encoding import Encoding

KEY = "ldif:"
# Attribute to field: the first value of each fills it, what is left is kept.
_FIELDS = {"displayname": BY_NAME["name"], **{field.ldif.lower(): field for field in TEXTS if field.ldif}}
_PHONES = {"telephonenumber": "work", "mobile": "mobile", "homephone": "home"}
_MAILS = ("mail", "rfc822mailbox", "mailalternateaddress")
_GROUPS = frozenset(("groupofnames", "groupofuniquenames"))
_ENTRY_LIMIT = 4 << 20
_LINE_LIMIT = 1 << 20
_SAFE = re.compile(r"(?![ :<])[\x01-\x09\x0b\x0c\x0e-\x7f]*(?<! )")


class _Entry:
    def __init__(self, number: int, line: int, first: str) -> None:
        self.number = number
        self.line = line
        self.first = first
        self.size = 0
        self.values: list[tuple[str, str | bytes]] = []
        self.odd = 0


def read(path: Path, encoding: Encoding) -> Iterator[Draft]:
    """The people and groups of a file."""
    with path.open(encoding=encoding.codec, errors=encoding.errors) as file:
        yield from read_entries(file)


def read_entries(file: TextIO) -> Iterator[Draft]:
    """The people and groups of a text. Entries that are neither (the branches of the tree) are passed over."""
    people: dict[str, str] = {}
    for entry in _entries(file):
        draft = _draft(entry, people)
        if draft is not None:
            yield draft


def _entries(file: TextIO) -> Iterator[_Entry]:
    entry: _Entry | None = None
    number = 0
    for line_number, line in _logical(file):
        if not line:
            if entry is not None:
                yield entry
            entry = None
            continue
        if line.startswith("#") or (entry is None and line.lower().startswith("version:")):
            continue
        if entry is None:
            number += 1
            entry = _Entry(number, line_number, line[:200])
        name, colon, rest = line.partition(":")
        if colon and name.strip().lower() == "dn" and entry.values:
            yield entry  # the blank line between the two was lost
            number += 1
            entry = _Entry(number, line_number, line[:200])
        entry.size += len(line)
        if not colon or entry.size > _ENTRY_LIMIT:
            entry.odd = entry.odd or line_number
        elif rest.startswith(":"):
            try:
                value = _decoded(rest[1:].strip())
            except (binascii.Error, ValueError):
                entry.odd = entry.odd or line_number
                continue
            if isinstance(value, bytes) and _is_text(name):
                entry.odd = entry.odd or line_number
            else:
                entry.values.append((name.strip(), value))
        elif rest.startswith("<"):
            # A value in another file (section 2, value-spec): this one file is all that is read.
            entry.odd = entry.odd or line_number
        else:
            entry.values.append((name.strip(), rest.lstrip(" ")))
    if entry is not None:
        yield entry


def _logical(file: TextIO) -> Iterator[tuple[int, str]]:
    """Lines with their continuations joined; an empty one ends an entry."""
    current: str | None = None
    begun = number = 0
    while raw := file.readline(_LINE_LIMIT):
        number += 1
        line = raw.rstrip("\r\n")
        if line.startswith("\0"):
            line = line.lstrip("\0")  # a disk that failed leaves zeros
        if line.startswith(" ") and current:
            # What is too long is cut a little behind the limit, and refused with its entry.
            current += line[1:] if len(current) <= _ENTRY_LIMIT else ""
            continue
        if current is not None:
            yield begun, current
        current, begun = line, number
    if current is not None:
        yield begun, current


def _decoded(text: str) -> str | bytes:
    octets = base64.b64decode(text, validate=True)
    try:
        return octets.decode("utf-8")
    except UnicodeDecodeError:
        return octets


def _is_text(name: str) -> bool:
    """Whether an attribute has a field here, so that octets that are no text can only be a mistake."""
    key = name.strip().lower().partition(";")[0]
    return key in _FIELDS or key in _PHONES or key in _MAILS or key in ("dn", "member", "uniquemember")


# Attributes that hold passwords, in clear or as hashes.
_SECRET = re.compile(
    r"(?:userpassword|unicodepwd|samba(?:nt|lm)?password|.*password(?:history|hash)?|krbprincipalkey)\b"
)


def _draft(entry: _Entry, people: dict[str, str]) -> Draft | None:
    draft = Draft(entry.number)
    texts: dict[str, list[str]] = {}
    for name, value in entry.values:
        if isinstance(value, str):
            texts.setdefault(name.lower().partition(";")[0], []).append(value)
    if entry.size > _ENTRY_LIMIT:
        draft.refused.append(Defect(entry.number, "", "", f"the entry of line {entry.line} is too large"))
        return draft
    change = next(iter(texts.get("changetype", ())), "add").strip().lower()
    dn = next(iter(texts.get("dn", ())), "")
    if change != "add":
        reason = f"it is a change ({visible(change, 20)}), not a person"
        draft.refused.append(Defect(entry.number, "dn", visible(dn, 80), reason))
        return draft
    classes = {value.lower() for value in texts.get("objectclass", ())}
    if classes & _GROUPS:
        title = tidy(next(iter(texts.get("cn", ())), ""), 120)
        names = texts.get("member", []) + texts.get("uniquemember", [])
        if title:
            draft.group = ListDraft(title, [people.get(fold(name), name[:300]) for name in names])
        return draft if title else None
    contact = _contact(entry, texts, draft)
    is_person = contact.addresses or classes & {"person", "inetorgperson", "organizationalperson"}
    if not is_person and not draft.refused:
        if dn:
            return None  # such as the branch that all people hang from
        reason = f"what begins in line {entry.line} belongs to no entry"
        draft.refused.append(Defect(entry.number, "", tidy(entry.first, 80), reason))
        return draft
    if entry.odd:
        reason = f"line {entry.odd} could not be read and was left out"
        draft.cleaned.append(Defect(entry.number, "", visible(dn, 80), reason))
    if contact.addresses or (contact.called and not draft.refused):
        if not contact.addresses and not contact.uid:
            contact.uid = str(uuid.uuid4())  # by which a group can name its member
        people[fold(dn)] = contact.addresses[0].address if contact.addresses else contact.uid
        draft.people.append(contact)
    elif not draft.refused:
        draft.refused.append(Defect(entry.number, "dn", visible(dn, 80), "the entry has neither a name nor an address"))
    return draft


def _contact(entry: _Entry, texts: dict[str, list[str]], draft: Draft) -> Contact:
    contact = Contact(uid=tidy(next(iter(texts.get("entryuuid", ())), ""), 200))
    kept: dict[str, list[str | dict[str, str]]] = {}
    taken = Values(contact)
    for name, value in entry.values:
        key = name.lower()
        if _SECRET.match(key):
            reason = "a password was left out"
            draft.cleaned.append(Defect(entry.number, visible(name, 30), "", reason))
        elif not isinstance(value, str):
            kept.setdefault(name, []).append({"b64": base64.b64encode(value).decode()})
        elif not _take(taken, key, value, draft) and key not in ("changetype", "entryuuid"):
            kept.setdefault(name, []).append(value)
    contact.name = contact.name or display_name(contact.given, contact.family)
    if contact.family == contact.name and not contact.given:
        contact.family = ""  # the schema wants one of everybody
    if contact.name == contact.org and not (contact.given or contact.family):
        contact.name = ""
    contact.drop_implied_parts()
    if kept.get("dn") == [f"cn={_dn(contact.title)}"]:
        del kept["dn"]
    for name, values in kept.items():
        if name.lower() != "objectclass" or fold(" ".join(map(str, values))) != "inetorgperson":
            contact.extra.append(Extra(f"{KEY}{name}", json.dumps(values, ensure_ascii=False)))
    return contact


def _take(values: Values, key: str, value: str, draft: Draft) -> bool:
    """Put a value into its field. False where it has none, or the field is filled."""
    if not value.strip():
        return True
    if key in _MAILS:
        try:
            address = check_address(value.strip())
        except BadAddressError as error:
            draft.refused.append(Defect(draft.row, key, tidy(value, 80), error.reason, suggest(value)))
            return True
        values.add_address(Address(address))
        return key != "mailalternateaddress"
    if key in _PHONES:
        try:
            number = check_phone(value)
        except UnclearError:
            return False
        values.add_phone(Phone(number, _PHONES[key]))
        return number == value
    contact, field = values.contact, _FIELDS.get(key)
    if field is None:
        if "mail" in key and (another := plain_address(value.strip())):  # what programs call a second one
            values.add_address(Address(another))
        return False
    clean = tidy(value, field.limit)
    if len(value) > field.limit and not getattr(contact, field.name):
        draft.cleaned.append(was_cut(draft.row, key, value, field.limit))
    if has_unsafe(" ".join(value.split())):
        draft.cleaned.append(cleaned(draft.row, key, value))
    if getattr(contact, field.name):
        return bool(getattr(contact, field.name) == clean)
    setattr(contact, field.name, clean)
    return clean == value


def write(contacts: Iterable[Contact]) -> Iterator[str]:
    """The text of a file of entries, piece by piece."""
    yield "version: 1\n"
    for contact in contacts:
        kept: dict[str, list[str | dict[str, str]]] = {
            extra.key.removeprefix(KEY): json.loads(extra.value) for extra in contact.extra if extra.key.startswith(KEY)
        }
        lower = {name.lower() for name in kept}
        lines = ["", *_attribute("dn", next(iter(kept.pop("dn", [])), f"cn={_dn(contact.title)}"))]
        if "objectclass" not in lower:
            lines += _attribute("objectClass", "inetOrgPerson")
        if contact.uid:
            lines += _attribute("entryUUID", contact.uid)
        given, family = contact.parts()
        lines += _attribute("cn", contact.title)
        if given:
            lines += _attribute("givenName", given)
        # The schema (RFC 4519 section 3.12) wants a family name of everybody.
        lines += _attribute("sn", family or contact.title)
        for address in contact.addresses:
            lines += _attribute("mail", address.address)
        for phone in contact.phones:
            name = {"mobile": "mobile", "home": "homePhone"}.get(phone.kind, "telephoneNumber")
            lines += _attribute(name, phone.number)
        for field in PLAIN:
            if value := getattr(contact, field.name):
                lines += _attribute(field.ldif, value)
        for name, values in kept.items():
            for one in values:
                lines += _attribute(name, one)
        yield "\n".join(lines) + "\n"


def _dn(text: str) -> str:
    return re.sub(r'([,+"\\<>;=#])', r"\\\1", text)


def _attribute(name: str, value: str | dict[str, str]) -> list[str]:
    """A line with its continuations; in base64 what is not safe in clear (section 2, SAFE-STRING)."""
    if isinstance(value, str) and _SAFE.fullmatch(value):
        line = f"{name}: {value}"
    else:
        encoded = (
            value["b64"] if isinstance(value, dict) else base64.b64encode(value.encode("utf-8", "replace")).decode()
        )
        line = f"{name}:: {encoded}"
    lines = [line[:76]]
    lines += [" " + line[k : k + 75] for k in range(76, len(line), 75)]
    return lines
