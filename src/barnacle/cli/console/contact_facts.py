"""A contact in lines: what is known of it, one thing a line."""

from __future__ import annotations

from barnacle.cli.console.screen import local_time
from barnacle.core.card_fields import OPT_IN, OPT_OUT
from barnacle.core.contact import Contact
from barnacle.core.contact_fields import FIELDS, PLAIN
from barnacle.core.own_fields import own_fields, title_of
from barnacle.core.text import count


def facts(one: Contact) -> list[tuple[str, str]]:
    """What is known of somebody, each with its title: how to reach them, the fields, the list of labels."""
    found: list[tuple[str, str]] = []
    for number, address in enumerate(one.addresses):
        remarks = [address.kind, "preferred" if number == 0 and len(one.addresses) > 1 else ""]
        found.append(("Address", _remarked(address.address, remarks)))
    found += [("Phone", _remarked(p.number, [p.kind])) for p in one.phones]
    found += [(field.title, getattr(one, field.name)) for field in PLAIN]
    found += own_fields(one).items()
    found.append(("Labels", ", ".join(one.labels)))
    return [(title, value) for title, value in found if value]


def history(one: Contact) -> list[tuple[str, str]]:
    """What happened to somebody: failing addresses, an opt-out, where the contact came from."""
    found: list[tuple[str, str]] = []
    for f in one.failing:
        state = "Fails" if f.for_good else "Was deferred"
        found.append((state, f"{f.address} · {f.why} · {count(f.times, 'report')}, last {local_time(f.last)}"))
    if one.opt_out:
        found.append(("Opted out", " · ".join(p for p in (local_time(one.opt_out.since), one.opt_out.why) if p)))
    found.append(("In the book", " · ".join(p for p in (local_time(one.added), one.source) if p)))
    if not one.addresses:
        found.append(("uid", one.uid))
    if kept := _kept_besides(one):
        found.append(("Also kept", f"{kept}: as they came, for the file's own format"))
    return [(title, value) for title, value in found if value]


# What says how a file's entry was written, and what the lines above show.
_SHOWN = {"n", "dn", "objectclass", *(field.vcard.lower() for field in FIELDS)}


def _kept_besides(one: Contact) -> str:
    """The names of what was kept of a card or an entry of a directory, and is no field."""
    keys = [extra.key for extra in one.extra if not title_of(extra.key) and extra.key not in (OPT_IN, OPT_OUT)]
    names = dict.fromkeys(key.partition(":")[2].partition("#")[0] for key in keys)
    return ", ".join(name for name in names if name.lower() not in _SHOWN)


def in_lines(some: list[tuple[str, str]], indent: str = "  ") -> str:
    """Titles and values under each other."""
    width = max([13, *(min(len(title), 30) for title, _ in some)])
    return "\n".join(f"{indent}{title:<{width}} {value}" for title, value in some)


def _remarked(value: str, remarks: list[str]) -> str:
    kept = ", ".join(r for r in remarks if r)
    return f"{value} ({kept})" if kept else value
