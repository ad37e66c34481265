"""The answers of a form, among whose rows somebody may stand more than once."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Iterator

from barnacle.core.contact import Contact, said_by
from barnacle.core.typed import NamedTuple
from barnacle.jobs.imports.report import LATER_ROW, Differing

# The first and the last of no numbers.
_NEVER = sys.maxsize, -1


class Answer(NamedTuple):
    """A row of a form's answers that says something else in a field than the book: by which number, whether the row
    changed anything else, the difference, and whom the row describes."""

    number: int
    changed: bool
    differing: Differing
    person: Contact


class Answers:
    """Who stands more than once in a form's answers: the last answer counts. Where the book has what an earlier one
    says, it takes the last one's place; what the book has besides was put there by somebody, and stays. All of that is
    known when the file ends. `stamp` is the title of the column that says when each answer was given, empty where a
    file holds none."""

    def __init__(self) -> None:
        self.stamp = ""
        self._open: dict[tuple[int, str], Answer] = {}  # by contact and field
        self._said: defaultdict[int, set[tuple[str, str]]] = defaultdict(set)  # by each contact further up
        self._agreed: dict[int, tuple[int, int]] = {}  # the first and the last row that the book has just so

    def agreed(self, contact: int, number: int) -> None:
        """A contact is in the book just as this row says."""
        if self.stamp:
            first, last = self._agreed.get(contact, _NEVER)
            self._agreed[contact] = min(first, number), max(last, number)

    def hear(self, contact: int, person: Contact, answers: list[Answer]) -> None:
        """What a row says of a contact, and where that is not what the book has."""
        said, (first, _) = self._said[contact], self._agreed.get(contact, _NEVER)
        for field, _ in said_by(person):
            self._open.pop((contact, field), None)
        for one in answers:
            if first < one.number or (one.differing.what.field, one.differing.what.book) in said:
                one = one._replace(differing=one.differing._replace(kept=LATER_ROW))
            self._open[contact, one.differing.what.field] = one
        said.update(said_by(person))

    def end(self) -> Iterator[tuple[int, Answer]]:
        """The last answers of the file that ends, each with its contact; those that the book has are none of them."""
        for (contact, _), one in self._open.items():
            if one.number > self._agreed.get(contact, _NEVER)[1]:
                yield contact, one
        for some in (self._open, self._said, self._agreed):
            some.clear()
