"""People in a text that is no table: a line for each, a few lines for each below each other, or several in one line."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import chain, islice, pairwise

from barnacle.core.asides import taken_apart
from barnacle.core.names import is_organisation, may_be_several
from barnacle.core.text import tidy, visible
from barnacle.files.drafts import Defect, Draft, Line
from barnacle.files.pasted import in_parts
from barnacle.files.tables.columns import Columns, Use
from barnacle.files.tables.content import looks_like_name
from barnacle.files.tables.rows import PLAINLY, Reading, RowReader
from barnacle.files.tables.text_line import Written, fits, may_reach, people_of

# Lines without an empty one between are looked at together, up to so many characters.
_TOGETHER = 1 << 18
# A line below a name that has no more words may be a job or a street, and goes into the note.
_FEW_WORDS = 8
# Text of so few lines with one address may be all about one person.
_FEW_LINES = 15
_FIELDS = ("name", "address", "phone", "org", "note")


def read(lines: Iterable[Line], how: Reading = PLAINLY, all_people: bool = False) -> Iterator[Draft]:
    """Everybody in some lines of text; `row` is the line. One that is nobody's is left out, and told; refused, where
    they are `all_people`."""
    for draft in people_in(lines, how):
        if all_people:
            draft.refused += draft.left_out
            draft.left_out = []
        yield draft


def people_in(lines: Iterable[Line], how: Reading = PLAINLY) -> Iterator[Draft]:
    """The people of some lines, and what of them is nobody's."""
    readers = _reader(_FIELDS, how), _reader((None, "address", "phone", None, "note"), how)
    lines = iter(lines)
    first = list(islice(lines, _FEW_LINES + 1))
    if len(first) <= _FEW_LINES and sum(may_reach(line.text) for line in first) == 1:
        yield from _Lines(first, *readers).drafts()  # a signature has empty lines in it
        return
    for together in _together(chain(first, lines)):
        yield from _Lines(together, *readers).drafts()


def _together(lines: Iterable[Line]) -> Iterator[list[Line]]:
    """Lines with none that is empty between them; a paragraph of several is by itself."""
    found: list[Line] = []
    length = 0
    for line, following in pairwise(chain(lines, [None])):
        if line is None:
            break
        begins = following is not None and following.goes_on and looks_like_name(line.text)
        starts = not line.goes_on and (begins or (found and found[-1].goes_on))
        if found and (starts or line.number > found[-1].number + 1 or length > _TOGETHER):
            yield found
            found, length = [], 0
        found.append(line)
        length += len(line.text)
    if found:
        yield found


class _Person:
    """Somebody who is being put together from one line or several; `below` where more stands below the name."""

    def __init__(self, line: Line, told: Written, below: bool) -> None:
        self.name, self.org = told.name, told.org
        self.addresses = _addresses(told)
        self.phones, self.rest = list(told.phones), list(told.rest)
        self.lines = [line]
        self.below = below
        self.doubts: list[tuple[str, str]] = []
        if told.address and told.is_prose:
            reason = "what stands beside it reads like a sentence, and was left out"
            self.doubts.append((told.name or told.address, reason))
            self.org, self.phones, self.rest = "", [], []
        elif _may_be_a_sentence(told.name):
            self.doubts.append((told.name, "it may be a part of a sentence rather than a name"))

    def add(self, line: Line, told: Written) -> None:
        """Take what another line says of the same person."""
        self.lines.append(line)
        self.name = self.name or told.name
        self.addresses += _addresses(told)
        self.phones += told.phones
        if told.org and not self.org:
            self.org = told.org
            self.rest += told.rest
        elif told.address or told.phones or told.name == self.name:
            self.rest += [told.name] * (told.name != self.name and bool(told.name)) + [*told.rest]
        else:
            self.rest.append(line.text)

    def cells(self) -> list[str]:
        """What is known of them, field by field."""
        phones = [f"{one.number} ({one.kind})" if one.kind else one.number for one in self.phones]
        return [self.name, "; ".join(self.addresses), "; ".join(phones), self.org, ", ".join(self.rest)]


class _Lines:
    """Lines with none that is empty between them."""

    def __init__(self, lines: list[Line], with_name: RowReader, without: RowReader) -> None:
        self._told = [(line, _told(line)) for line in lines]
        self._with_name, self._without = with_name, without
        with_address = [n for n, (line, _) in enumerate(self._told) if may_reach(line.text)]
        self._last = with_address[-1] if with_address else -1
        self._of_one = len(with_address) == 1
        bare = sum(len(self._told[n][1]) == 1 and not self._told[n][1][0].name for n in with_address)
        names = sum(not may_reach(line.text) and _is_name(told[0]) for line, told in self._told)
        # As many names by themselves as addresses: these are below each other.
        self._in_turn = names == bare

    def drafts(self) -> Iterator[Draft]:
        now: _Person | None = None
        for place, (line, told) in enumerate(self._told):
            first = told[0]
            if now is not None and self._belongs(place, line, told, now):
                if first.address and now.name and not fits(now.name, first.address):
                    now.doubts.append((now.name, f"taken for the name of {first.address}, which stands below it"))
                now.add(line, first)
                continue
            if now is not None:
                yield from self._finished(now)
                now = None
            reaches = may_reach(line.text)
            if not reaches and not (_names_somebody(first) or (first.org and place < self._last)):
                yield _left_out(line)
                continue
            *others, last = told
            for one in others:
                yield from self._finished(_Person(line, one, below=False))
            now = _Person(line, last, below=not reaches and not last.phones)
        if now is not None:
            yield from self._finished(now)

    def _belongs(self, place: int, line: Line, told: list[Written], now: _Person) -> bool:
        """Whether a line says more of the person of the lines above it."""
        one = told[0]
        if may_reach(line.text):
            if len(told) > 1 or not (now.name or now.org):
                return False
            if fits(now.name, one.address) and (not one.name or not fits(one.name, one.address)):
                return now.below and not (one.name and now.addresses)
            if one.name:
                return False
            is_next = now.below and not now.addresses and not one.rest
            return is_next and (line.goes_on or self._of_one or self._in_turn)
        compact = now.below or self._of_one
        if _names_somebody(one):
            if now.addresses and place < self._last:
                return False  # the next one
            below = next(
                (one.address for _, (one, *_) in islice(self._told, place + 1, place + _FEW_LINES) if one.address), ""
            )
            if not now.addresses and fits(one.name, below) and not fits(now.name, below):
                return False  # whose address it is
            if one.phones and (now.phones or now.addresses):
                return False
            return now.below and (not now.name or not one.phones)
        if one.phones:
            return compact and not one.is_prose
        return now.below and len(line.text.split()) <= _FEW_WORDS and line.text[-1] not in ".!?:"

    def _finished(self, person: _Person) -> Iterator[Draft]:
        if not (person.addresses or (person.name and person.phones)):
            yield from map(_left_out, person.lines)
            return
        reader = self._with_name if person.name or person.org else self._without
        draft = reader.take(Draft(person.lines[0].number), person.cells())
        for value, reason in person.doubts:
            draft.doubtful.append(Defect(draft.row, "name", visible(value, 80), reason))
        if not person.addresses:
            draft.doubtful.append(Defect(draft.row, "name", visible(person.name, 80), "no address stands beside it"))
        for value, where in ((person.org, "taken for the organisation"), (", ".join(person.rest), "kept in the note")):
            if value and draft.people:
                draft.cleaned.append(Defect(draft.row, "", visible(value, 80), where))
        yield draft


def _addresses(told: Written) -> list[str]:
    first = f"{told.address} ({told.kind})" if told.kind else told.address
    return [first, *told.more] if told.address else []


def _told(line: Line) -> list[Written]:
    return [one for part in in_parts(line.text) for one in people_of(part)] or [Written()]


def _names_somebody(told: Written) -> bool:
    return looks_like_name(told.name)


def _is_name(told: Written) -> bool:
    return _names_somebody(told) and not told.phones and not told.rest


def _reader(fields: Iterable[str | None], how: Reading) -> RowReader:
    return RowReader(Columns(list(_FIELDS), [Use(field) if field else None for field in fields], 0), how=how)


def _left_out(line: Line) -> Draft:
    draft = Draft(line.number)
    draft.left_out.append(Defect(line.number, "", tidy(line.text, 80), "there is no address in this line"))
    return draft


def _may_be_a_sentence(name: str) -> bool:
    plain, _ = taken_apart(name)
    is_called = looks_like_name(plain) or is_organisation(plain) or may_be_several(plain)
    return len(plain.split()) > 2 and not is_called
