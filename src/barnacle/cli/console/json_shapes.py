"""The JSON shapes that several commands share; the keys are fixed, more may be added."""

from __future__ import annotations

from barnacle.core.contact import Contact
from barnacle.core.contact_fields import PLAIN
from barnacle.core.own_fields import own_fields
from barnacle.core.typed import Any


def contact(one: Contact, lists: list[str]) -> dict[str, Any]:
    """A contact as `find --json` gives it."""
    return {
        "uid": one.uid,
        "name": one.name,
        "addresses": [
            {"address": a.address, "kind": a.kind, "preferred": number == 0} for number, a in enumerate(one.addresses)
        ],
        "phones": [{"number": p.number, "kind": p.kind} for p in one.phones],
        **{field.shared_as or field.name: getattr(one, field.name) for field in PLAIN},
        "fields": own_fields(one),
        "labels": one.labels,
        "lists": lists,
        "opted_out": one.opt_out is not None,
        "failing": [f._asdict() for f in one.failing],
    }
