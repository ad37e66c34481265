"""A contact as a card of plain lines, to be changed in a text editor."""

from __future__ import annotations

from barnacle.core.addresses import check_address
from barnacle.core.contact import KINDS, PHONE_KINDS, Address, Contact, Phone, check_label
from barnacle.core.contact_fields import BY_NAME, FIELDS
from barnacle.core.errors import UnclearError
from barnacle.core.own_fields import check_own_title, own_fields, set_own
from barnacle.core.phones import check_phone
from barnacle.core.text import plain_value

# As they stand on the card: a line for each address and phone, one for all labels.
_NAMES = tuple(field.one if field.one in ("address", "phone") else field.name for field in FIELDS)
_HELP = """\
# Change what you like, then save and close. Lines that begin with # are ignored.
# One line for each address and phone; you may put a kind first: work, home, mobile, other.
# The first address is the preferred one. Labels are separated by commas.
# A line that begins with a star is a field of your own, such as `* Voice: alto`.
"""


def write_card(contact: Contact) -> str:
    """The card of a contact: one `field: value` a line, empty fields too, so that one sees what there is."""
    lines: list[str] = []
    for name in _NAMES:
        if name == "address":
            lines += [f"address: {f'{a.kind} ' if a.kind else ''}{a.address}" for a in contact.addresses] or [
                "address:"
            ]
        elif name == "phone":
            lines += [f"phone: {f'{p.kind} ' if p.kind else ''}{p.number}" for p in contact.phones] or ["phone:"]
        elif name == "labels":
            lines.append(f"labels: {', '.join(contact.labels)}".rstrip())
        else:
            lines.append(f"{name}: {getattr(contact, name)}".rstrip())
    lines += [f"* {title}: {value}" for title, value in own_fields(contact).items()]
    return _HELP + "\n".join(lines) + "\n"


def read_card(text: str) -> Contact:
    """The contact of a card. Raises UnclearError with the number of the line that cannot be read."""
    contact = Contact()
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        name, colon, value = line.partition(":")
        try:
            _take(contact, name.strip(), colon, plain_value(value, "The value"))
        except UnclearError as error:
            raise UnclearError(f"Line {number}: {error}") from None
    if contact.title == "(no name)":
        raise UnclearError("The card has no name, organisation or address; a contact needs at least one of them.")
    return contact


def _take(contact: Contact, name: str, colon: str, value: str) -> None:
    if not colon:
        raise UnclearError("a colon is missing after the field's name.")
    own, name = name, name.lower()
    if name in BY_NAME and BY_NAME[name].is_text:
        setattr(contact, name, value)
    elif name == "address":
        if value:
            kind, rest = _kind(value, KINDS)
            contact.addresses.append(Address(check_address(rest), kind))
    elif name == "phone":
        if value:
            kind, rest = _kind(value, PHONE_KINDS)
            contact.phones.append(Phone(check_phone(rest), kind))
    elif name == "labels":
        contact.labels = [check_label(part) for part in value.split(",") if part.strip()]
    elif own.startswith("*"):
        set_own(contact, check_own_title(own[1:].strip()), value)
    else:
        known = ", ".join(_NAMES)
        raise UnclearError(
            f"`{own}` is not a field. Fields are {known}; one of your own begins with a star: `* {own}: …`."
        )


def _kind(value: str, kinds: tuple[str, ...]) -> tuple[str, str]:
    first, _, rest = value.partition(" ")
    return (first.lower(), rest.strip()) if first.lower() in kinds and rest else ("", value)
