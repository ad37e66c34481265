"""Who is in a file of any kind: addresses and names, and nothing else."""

from __future__ import annotations

from pathlib import Path

from barnacle.core.addresses import address_key
from barnacle.core.text import visible
from barnacle.files.opening import open_source
from barnacle.files.source import Options


def read_people(path: Path) -> tuple[list[tuple[str, str]], list[str]]:
    """The people of a file that Barnacle can import, each once: address and name; and what was not taken, with its
    place and why. Raises FileError."""
    people: dict[str, tuple[str, str]] = {}
    refused: list[str] = []
    for table in open_source(path, Options()).tables():
        for draft in table.drafts():
            refused += [
                f"{visible(path.name)}, {one.place}: {one.value} {one.reason}"
                for one in (*draft.refused, *draft.left_out)
            ]
            for person in draft.people:
                if person.preferred is None:
                    refused.append(f"{visible(path.name)}, {draft.row}: {visible(person.called)} has no address")
                else:
                    people.setdefault(address_key(person.preferred), (person.preferred, person.called))
    return list(people.values()), refused
