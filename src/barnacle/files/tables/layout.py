"""Where the tables of a sheet stand, and their headers: below titles, in two rows, side by side, one below another."""

from __future__ import annotations

from collections.abc import Sequence

from barnacle.core.text import fold
from barnacle.files.drafts import Row
from barnacle.files.tables.columns import Columns, letters_of
from barnacle.files.tables.contact_columns import LISTS
from barnacle.files.tables.content import has_address, look_at
from barnacle.files.tables.csv_writer import unharmed
from barnacle.files.tables.titles import Title, read_title
from barnacle.files.tables.uses import Uses

# A header stands among the first rows; a table below another one among those that are looked at.
_TOP = 40
_SAMPLE = 120
_TITLE_LENGTH = 120
_PEOPLE = frozenset(("name", "given", "family", "both", "email"))


def find_tables(rows: Sequence[Row]) -> list[Columns]:
    """The tables of a sheet, worked out from its first rows; one, perhaps without columns, where there is nothing."""
    filled = [Row(row.number, [unharmed(cell.strip()) for cell in row.cells], row.defect) for row in rows]
    filled = [row for row in filled if any(row.cells)]
    if filled and filled[0].number == 0:  # titles that stand in no row of the file: they need not be looked for
        return [_columns(filled[1:], None, filled[0], 0)]
    tables: list[Columns] = []
    blocks = _blocks(filled)
    for left, right in blocks:
        tables += _stacked(filled, left, right)
    if len(tables) > 1:
        for table in tables:
            table.is_whole = False
    return tables


def _blocks(rows: Sequence[Row]) -> list[tuple[int, int]]:
    """Columns from and up to which tables stand side by side: where an empty column is between, and each has a header
    that names people."""
    width = max((len(row.cells) for row in rows), default=0)
    empty = [all(n >= len(row.cells) or not row.cells[n] for row in rows) for n in range(width)]
    parts: list[tuple[int, int]] = []
    start = None
    for n in range(width + 1):
        if n < width and not empty[n]:
            start = n if start is None else start
        elif start is not None:
            parts.append((start, n))
            start = None
    whole = [(0, width)]
    if len(parts) < 2:
        return whole
    joined: list[tuple[int, int]] = []
    for left, right in parts:
        header = _best(_cut(rows[:_TOP], left, right))
        names = header is not None and any(read_title(c).concept in _PEOPLE for c in header.cells)
        if names or not joined:
            joined.append((left, right))
        else:
            joined[-1] = (joined[-1][0], right)
    first = _best(_cut(rows[:_TOP], *joined[0]))
    if first is None or not any(read_title(c).concept in _PEOPLE for c in first.cells) or len(joined) < 2:
        return whole
    own = [
        {t.concept for c in header.cells if (t := read_title(c)).concept in _PEOPLE}
        for part in joined
        if (header := _best(_cut(rows[:_TOP], *part))) is not None
    ]
    # A gap inside one table leaves each field once; two tables name people and what reaches them twice.
    return joined if all(own[0] & other for other in own[1:]) else whole


def _cut(rows: Sequence[Row], left: int, right: int) -> list[Row]:
    cut = [Row(row.number, row.cells[left:right], row.defect) for row in rows]
    return [row for row in cut if any(row.cells)]


def _stacked(all_rows: Sequence[Row], left: int, right: int) -> list[Columns]:
    """The tables of a block, one below the other: each begins with a header of its own."""
    rows = _cut(all_rows, left, right)
    header = _find_header(rows)
    if header is None:
        return [_columns(rows, None, None, left)]
    found: list[Columns] = []
    above, row = header
    start = rows.index(row)
    while True:
        following = [n for n in range(start + 1, len(rows)) if is_header(rows[n].cells) and not _same(rows[n], row)]
        end = following[0] if following else len(rows)
        columns = _columns(rows[start + 1 : end], above, row, left)
        found.append(columns)
        if not following:
            return _without_false(found, rows)
        columns.until = rows[end].number - 1
        start, row, above = end, rows[end], None
        two = _two_rows(rows, start)
        if two is not None and two[1] is not row:
            above, row = two
            start = rows.index(row)


def _without_false(tables: list[Columns], rows: Sequence[Row]) -> list[Columns]:
    """The tables without those that only look like one: no column of theirs is anybody's, and yet there are addresses
    in them. Their rows belong to the one above."""
    kept = tables[:1]
    for table in tables[1:]:
        last = table.until or rows[-1].number
        inside = [row for row in rows if table.header <= row.number <= last]
        if not table.names_people and any(has_address(cell) for row in inside for cell in row.cells):
            kept[-1].until = table.until
        else:
            kept.append(table)
    return kept


def _same(one: Row, other: Row) -> bool:
    return [fold(cell) for cell in one.cells if cell] == [fold(cell) for cell in other.cells if cell]


def _known(cells: Sequence[str]) -> list[Title]:
    return [title for cell in cells if cell and len(cell) <= _TITLE_LENGTH and (title := read_title(cell)).is_known]


def _weight(row: Row) -> float:
    """How much a row reads like a header: known titles count, those of people's fields more; no data stands in it."""
    if row.defect or any(has_address(cell) for cell in row.cells) or _has_data(row.cells):
        return 0.0
    return sum((1.0 if title.concept else 0.6) * (1.0 if title.is_sure else 0.5) for title in _known(row.cells))


def _has_data(cells: Sequence[str]) -> bool:
    looked = [look_at([cell]) for cell in cells if cell]
    return any(one.phones or one.digits or one.dates for one in looked)


def _best(rows: Sequence[Row]) -> Row | None:
    weights = [(_weight(row), row) for row in rows[:_TOP]]
    best = max((weight for weight, _ in weights), default=0.0)
    return next(row for weight, row in weights if weight == best) if best > 0 else None


def is_header(cells: Sequence[str]) -> bool:
    """Whether a row further down is the header of a table: several titles, and nothing that is none."""
    filled = [cell for cell in cells if cell]
    if len(filled) < 2 or any(has_address(cell) or cell[0].isdigit() for cell in filled):
        return False
    known = [title for title in _known(filled) if title.is_sure]
    return sum(bool(title.concept) for title in known) >= 2 and len(known) >= 0.6 * len(filled)


def _find_header(rows: Sequence[Row]) -> tuple[Row | None, Row] | None:
    """The row of the header, and the one above that has titles over several columns."""
    best = _best(rows)
    if best is not None and _weight(best) >= 0.5:
        place = rows.index(best)
        two = _two_rows(rows, place)
        return two or (None, best)
    for row in rows[:20]:
        filled = [cell for cell in row.cells if cell]
        if any(has_address(cell) for cell in filled) or _has_data(filled):
            return None
        if len(filled) > 1:
            return None if _is_like(row, rows[rows.index(row) + 1 :]) else (None, row)
    return None


def _is_like(row: Row, below: Sequence[Row]) -> bool:
    """Whether a row holds what the rows below it hold, so that it is none above them: names where they have names."""
    for n, cell in enumerate(row.cells):
        cells = [one.cells[n] for one in below[:20] if n < len(one.cells) and one.cells[n]]
        if cell and cells and look_at([cell]).names and look_at(cells).names >= 0.8:
            return True
    return False


def _two_rows(rows: Sequence[Row], place: int) -> tuple[Row, Row] | None:
    """The two rows of a header where the best row is one of two: above it stand whose or what several columns are, or
    below it their kinds."""
    row = rows[place]
    gains = []
    for upper, lower in ((place - 1, place), (place, place + 1)):
        if upper < 0 or lower >= len(rows) or rows[lower].number != rows[upper].number + 1:
            continue
        one, other = rows[upper], rows[lower]
        if not _may_be_above(one, other, is_best=upper == place):
            continue
        gain = len(_speaking(_joined(one.cells, other.cells))) - len(_speaking(row.cells))
        if gain > 0 or (gain == 0 and _roles(one.cells)):
            gains.append((gain, one, other))
    if not gains:
        return None
    _, one, other = max(gains, key=lambda each: each[0])
    return one, other


def _may_be_above(one: Row, other: Row, is_best: bool) -> bool:
    """Whether titles of one row may stand over columns of the row below it. Where there are as many above as below, one
    of the two is a row of the table, or the header once more in another language."""
    above, below = (sum(map(bool, row.cells)) for row in (one, other))
    if not (_mostly_known(one) and _mostly_known(other)) or max(above, below) < 2:
        return False
    if above == 1 and not is_best and (one.cells[0] or not _roles(one.cells)):
        return False  # what the sheet is called
    width = len(other.cells)
    return any(not cell and other.cells[n] for n, cell in enumerate(_padded(one.cells, width)[:width])) or (
        not is_best and above < below
    )


def _padded(cells: Sequence[str], width: int) -> list[str]:
    return [*cells, *[""] * (width - len(cells))]


def _roles(cells: Sequence[str]) -> bool:
    return any(title.role and title.role != "somebody" for title in _known(cells))


def _mostly_known(row: Row) -> bool:
    filled = [cell for cell in row.cells if cell]
    if row.defect or not filled or any(has_address(cell) for cell in filled) or _has_data(filled):
        return False
    return len(_known(filled)) >= 0.5 * len(filled)


def _speaking(cells: Sequence[str]) -> set[tuple[str, str, str, int]]:
    """The different things that titles say of people's data."""
    titles = [read_title(cell) for cell in cells if cell]
    return {(t.concept, t.role, t.kind, t.number) for t in titles if t.concept or t.role}


def _joined(upper: Sequence[str], lower: Sequence[str]) -> list[str]:
    """The titles of a header in two rows: what stands above several columns is said of each of them."""
    width = max(len(upper), len(lower))
    above, below = _padded(upper, width), _padded(lower, width)
    titles = []
    group = ""
    for n in range(width):
        if above[n]:
            group = above[n] if below[n] else ""
            titles.append(f"{above[n]} {below[n]}".strip())
        else:
            titles.append(f"{group} {below[n]}".strip() if below[n] else "")
    return titles


def _columns(body: Sequence[Row], above: Row | None, header: Row | None, left: int) -> Columns:
    cells = [row.cells for row in body[:_SAMPLE] if not row.defect]
    own = list(header.cells) if header else []
    if header and above:
        own = _joined(above.cells, own)
    width = max([len(own), *map(len, cells)], default=0)
    raw = [" ".join(title.split()) for title in _padded(own, width)]
    shown: list[str] = []
    for n, title in enumerate(raw):
        title = title or f"column {letters_of(n + left)}"
        shown.append(title if title not in shown else f"{title} ({letters_of(n + left)})")
    found = Uses(raw, shown, cells)
    uses = found.work_out()
    # Which lists somebody is on stands in a table of a book for people to read.
    of_book = any(use and use.field == "version" for use in uses)
    return Columns(
        shown, uses, header.number if header else 0, left=left, people=found.people, doubts=found.doubts,
        family_first=found.family_first(uses),
        spare_names=tuple(found.spare_names),
        kind_from=found.kind_from,
        family_of_all=found.family_of_all,
        kinds=found.kinds(uses),
        dropped=frozenset(
            title for n, title in enumerate(shown) if n in found.groups or (of_book and fold(title) == fold(LISTS))
        ),
    )  # fmt: skip
