"""The JSON shapes that several commands share; the keys are fixed, more may be added."""

from __future__ import annotations

from typing import Any

from barnacle.core.contact import Contact


def contact(one: Contact, lists: list[str]) -> dict[str, Any]:
    """A contact as `find --json` gives it."""
    return {
        "uid": one.uid,
        "name": one.name,
        "addresses": [
            {"address": a.address, "kind": a.kind, "preferred": number == 0} for number, a in enumerate(one.addresses)
        ],
        "phones": [{"number": p.number, "kind": p.kind} for p in one.phones],
        "org": one.org,
        "job": one.job,
        "web": one.web,
        "labels": one.labels,
        "lists": lists,
        "notes": one.note,
        "opted_out": one.opt_out is not None,
        "failing": [f._asdict() for f in one.failing],
    }
