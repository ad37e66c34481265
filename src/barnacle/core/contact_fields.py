"""The fields of a contact, each declared once: what it is called, how it is merged, who gets to see it, and where it
stands in each format. What handles contacts field by field takes from this table what it needs.

A new field is a line here, an attribute of `contact.Contact`, and a column of `book.schema` where rules ask for it.
"""

from __future__ import annotations

from enum import StrEnum

from barnacle.core.text import NAME_LIMIT, VALUE_LIMIT
from barnacle.core.typed import NamedTuple


class Shared(StrEnum):
    """Whether colleagues with whom a list is shared see a field of its members."""

    ALWAYS = "always"
    USUALLY = "usually"
    IF_ASKED = "if asked"


class ContactField(NamedTuple):
    """A field. `name` is the attribute of a contact and what the field is called on the command line, `title` what
    people read above it, `one` the name of one value where there are several. `limit` is how many characters a value
    may have, `choosable` says that of two contacts made one either's value can be chosen, `in_letters` that a message
    to each may have it filled in.

    In formats: the property of a vCard (RFC 6350), the attribute of LDIF (RFC 4519, RFC 2798), group and key of
    JSContact (RFC 9553); empty where more than one value must be told apart or put together.
    """

    name: str
    title: str
    shared: Shared
    one: str = ""
    shared_as: str = ""
    limit: int = VALUE_LIMIT
    choosable: bool = False
    in_letters: bool = False
    column: str = ""
    vcard: str = ""
    ldif: str = ""
    jscontact: tuple[str, str] = ("", "")

    @property
    def is_text(self) -> bool:
        """Whether the field has one text; else several values."""
        return not self.one

    @property
    def is_name(self) -> bool:
        """Whether it is the name or a part of it, which goes in ways of its own."""
        return self.name in ("name", "given", "family")


FIELDS = (
    ContactField(
        "name", "Name", Shared.ALWAYS, limit=NAME_LIMIT, choosable=True, in_letters=True, column="Name", vcard="FN",
        ldif="cn",
    ),
    ContactField(
        "given", "Given name", Shared.ALWAYS, limit=NAME_LIMIT, in_letters=True, column="Given name", ldif="givenName"
    ),
    ContactField(
        "family", "Family name", Shared.ALWAYS, limit=NAME_LIMIT, in_letters=True, column="Family name", ldif="sn"
    ),
    ContactField("addresses", "Address", Shared.IF_ASKED, one="address", vcard="EMAIL", ldif="mail"),
    ContactField("phones", "Phone", Shared.USUALLY, one="phone", vcard="TEL"),
    ContactField(
        "org", "Organisation", Shared.USUALLY, limit=NAME_LIMIT, choosable=True, in_letters=True, column="Organisation",
        vcard="ORG", ldif="o", jscontact=("organizations", "name"),
    ),
    ContactField(
        "job", "Job", Shared.USUALLY, limit=NAME_LIMIT, choosable=True, in_letters=True, column="Job title",
        vcard="TITLE", ldif="title", jscontact=("titles", "name"),
    ),
    ContactField(
        "web", "Web", Shared.USUALLY, choosable=True, column="Web", vcard="URL", ldif="labeledURI",
        jscontact=("links", "uri"),
    ),
    ContactField(
        "note", "Note", Shared.IF_ASKED, shared_as="notes", column="Note", vcard="NOTE", ldif="description",
        jscontact=("notes", "note"),
    ),
    ContactField("labels", "Labels", Shared.IF_ASKED, one="label", column="Labels", vcard="CATEGORIES"),
)  # fmt: skip

BY_NAME = {field.name: field for field in FIELDS}
# Fields of one text: all, and those that are no part of the name.
TEXTS = tuple(field for field in FIELDS if field.is_text)
PLAIN = tuple(field for field in TEXTS if not field.is_name)
