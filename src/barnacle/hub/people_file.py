"""Many people who may use the hub: from a file or a directory, and their codes into a file."""

from __future__ import annotations

import csv
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from barnacle.core.addresses import address_key
from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.files.people import read_people as read_people
from barnacle.files.tables.csv_writer import harmless
from barnacle.hub.people import People

Write = Callable[[str, str, str], None]


def newcomers_and_leavers(keeper: People, staff: Sequence[tuple[str, str]]) -> tuple[list[tuple[str, str]], list[str]]:
    """Who of the staff, by address and name, is not at the hub yet; and the addresses at the hub that are nobody's of
    the staff."""
    known = {address_key(one["address"]): one["address"] for one in keeper.people() if one["address"]}
    there = {address_key(address) for address, _ in staff}
    new = [(address, name) for address, name in staff if address_key(address) not in known]
    return new, sorted(address for key, address in known.items() if key not in there)


def give_codes(keeper: People, people: Sequence[tuple[str, str]], path: Path) -> None:
    """Let people use the hub, each with a code in a file that is made first, so that it is sure that it can be kept.
    Raises FileError."""
    with _write_codes(path) as write:
        for address, name in people:
            person, code = keeper.add_person(address, name or None)
            write(person.address, person.name, code)


@contextmanager
def _write_codes(path: Path) -> Iterator[Write]:
    """A CSV file for codes, a row at a time, which only its owner may read. Raises FileError where there is one already
    or it cannot be written."""
    try:
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        raise FileError(f"{visible(str(path))} exists already. Name another file for the codes.") from None
    except OSError as error:
        raise FileError(f"{visible(str(path))} cannot be written: {error.strerror}.") from error
    with os.fdopen(descriptor, "w", encoding="utf-8", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(("Address", "Name", "Code"))

        def write(address: str, name: str, code: str) -> None:
            # A name that a spreadsheet would take for a formula is one no more.
            rows.writerow((harmless(address), harmless(name), code))
            file.flush()

        yield write
