"""Many people who may use the hub: from a file, and their codes into one."""

from __future__ import annotations

import csv
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.files.people import read_people as read_people
from barnacle.files.tables.csv_writer import harmless

Write = Callable[[str, str, str], None]


@contextmanager
def write_codes(path: Path) -> Iterator[Write]:
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
