"""People from the organisation's directory, by command: looked up, taken in, looked at again."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from barnacle.book import directory_links, lists
from barnacle.core.contact import Contact
from barnacle.core.text import listed
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk import directory
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.directory import Hit
from barnacle.jobs.desk.resolve import find_list, people_meant
from barnacle.jobs.people.directory_refresh import Refresh, Refreshed


class TakenOne(NamedTuple):
    """Somebody who was taken, and whether the contact is new."""

    contact: Contact
    added: bool


class Taken(NamedTuple):
    """Who was taken in, onto which list, and how many came to it."""

    people: list[TakenOne]
    title: str | None
    members: int


def standing(desk: Desk) -> tuple[int, int, str]:
    """How many contacts came from the directory, how many have left it, and when it was looked at last."""
    with desk.open() as book:
        links = [link for link, _ in directory_links.every(book)]
    return len(links), sum(bool(link.gone) for link in links), max((link.at for link in links), default="")


def need(desk: Desk, words: str) -> Hit:
    """The one whom words mean. Raises NotFoundError, AmbiguousError, DirectoryError."""
    with desk.open() as book:
        return directory.need(desk, book, words)


def take(desk: Desk, who: Sequence[str], into: str | None) -> Taken:
    """Take people into the book, and onto a list that is made where it is not there. Raises NotFoundError,
    AmbiguousError, DirectoryError."""
    with desk.open() as book, book.action("directory take") as action:
        action.facts = True
        hits = [directory.need(desk, book, words) for words in who]
        target = (find_list(desk, book, into) or lists.new(book, into)) if into is not None else None
        taken, members = [], 0
        for hit in hits:
            kept, added = directory.take(desk, book, hit)
            taken.append(TakenOne(kept.contact, added))
            if target is not None:
                members += lists.add_member(book, target.id, kept.id, "directory take")
        names = listed([one.contact.title for one in taken], 3)
        action.title = f"Took {names} from the directory{f' to {target.title}' if target else ''}"
        return Taken(taken, target.title if target else None, members)


def refresh(
    desk: Desk, who: Sequence[str], agree: Callable[[Refreshed], tuple[bool, bool, bool]]
) -> tuple[Refreshed, int, int]:
    """Look at the directory again, for these people or for all. `agree` is asked with what is different: whether to
    take it over, also over one's own edits, and whether to take in whom the filters found. Returns what was found, and
    how many contacts changed and came in. Raises as above."""
    with desk.open() as book, book.action("directory refresh") as action:
        action.facts = True
        one = Refresh(desk, book, [kept.id for kept in people_meant(desk, book, who)] if who else None)
        changed, came = one.apply(*agree(one.result))
        action.title = f"Looked at the directory again: {changed} changed, {came} came in"
        return one.result, changed, came
