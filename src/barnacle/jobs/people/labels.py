"""Labels on people."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from barnacle.book import contacts
from barnacle.book.store import Book
from barnacle.book.stored_contact import StoredContact
from barnacle.core.errors import NotFoundError
from barnacle.core.text import fold, listed, nearest, people, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.resolve import list_or_person, people_meant

# How similar a new label or title must be to an old one to be asked about.
_NEARLY = 0.75


def label(desk: Desk, who: Sequence[str], add: Sequence[str], drop: Sequence[str]) -> list[str]:
    """Put labels on contacts and take labels off. Returns the names of those whose labels changed."""
    with desk.open() as book, book.action("contact label") as action:
        changed = []
        dropped = {fold(text) for text in drop}
        for kept in people_meant(desk, book, who):
            if _relabel(book, kept, lambda labels: [one for one in labels if fold(one) not in dropped], add):
                changed.append(kept.contact.title)
        said = [*(f"+{a}" for a in add), *(f"-{d}" for d in drop)]
        action.title = f"Labels {listed(said)}: {listed(changed)}"
        return changed


def _relabel(
    book: Book, kept: StoredContact, change: Callable[[list[str]], list[str]], add: Sequence[str] = ()
) -> bool:
    labels = change(list(kept.contact.labels))
    labels += [one for one in add if fold(one) not in map(fold, labels)]
    if labels == kept.contact.labels:
        return False
    kept.contact.labels = labels
    contacts.save(book, kept.id, kept.contact)
    return True


def likely_slips(desk: Desk, labels: Sequence[str], titles: Sequence[str]) -> list[str]:
    """Labels, and titles of one's own fields, that nobody has yet, where one that somebody has is nearly so called."""
    if not labels and not titles:
        return []
    told = []
    with desk.open() as book:
        for what, given, have in (
            ("label", labels, contacts.labels(book)),
            ("field", titles, contacts.own_titles(book)),
        ):
            known = {fold(one): one for one in have}
            for one in given:
                if fold(one) not in known and (near := nearest(fold(one), known, _NEARLY)):
                    told.append(f"`{visible(one, 60)}` is a new {what}. Did you mean `{visible(known[near], 60)}`?")
    return told


def labels(desk: Desk) -> dict[str, int]:
    """All labels with how many contacts have each."""
    with desk.open() as book:
        return contacts.labels(book)


def need_label(desk: Desk, text: str) -> str:
    """The label that is called so, as it was first written. Raises NotFoundError with the way on."""
    have = {fold(one): one for one in labels(desk)}
    if fold(text) not in have:
        raise _no_label(text, [*have.values()], _somebody_named(desk, text, [*have.values()]))
    return have[fold(text)]


def _somebody_named(desk: Desk, text: str, have: Sequence[str]) -> str:
    """What to say of a label beside which somebody is named: `una pilot`."""
    said = fold(text)
    for label in have:
        for who in (said.removesuffix(f" {fold(label)}"), said.removeprefix(f"{fold(label)} ")):
            if who != said and list_or_person(desk, who)[0] == "contact":
                import shlex  # only for a mistake: it costs start-up time

                given = f"`barnacle contact label {shlex.quote(who)} --add {shlex.quote(label)}`"
                return f"{given} gives somebody a label. "
    return ""


def _no_label(text: str, have: Sequence[str], instead: str = "") -> NotFoundError:
    near = nearest(text, have)
    instead = instead or (f"Did you mean `{visible(near, 60)}`? " if near else "")
    return NotFoundError(
        f"Nobody has the label `{visible(text, 60)}`. {instead}`barnacle label` shows all labels, "
        "`barnacle contact label WHO --add LABEL` gives somebody one."
    )


def change_label(desk: Desk, old: str, new: str | None) -> int:
    """Rename a label on all contacts, or take it off all (`new` is None). Returns how many had it."""
    with desk.open() as book, book.action("label rename" if new else "label remove") as action:
        having = contacts.by_label(book, old)
        if not having:
            raise _no_label(old, [*contacts.labels(book)])
        for kept in having:
            _relabel(book, kept, lambda have: [o for o in have if fold(o) != fold(old)], [new] if new else [])
        action.title = f"Renamed the label {old} to {new}" if new else f"Took the label {old} off {people(len(having))}"
        return len(having)
