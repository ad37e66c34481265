"""Where the data of a hub are, for whoever runs it."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from barnacle.core.typed import TYPE_CHECKING
from barnacle.jobs.desk.desk import Desk

if TYPE_CHECKING:
    from sqlalchemy import Engine


def where(parser: argparse.ArgumentParser) -> None:
    """The options that say where."""
    group = parser.add_mutually_exclusive_group()
    # Without defaults, so that what is said before a verb is not overwritten after it.
    absent = argparse.SUPPRESS
    group.add_argument("--data", metavar="DIR", type=Path, default=absent, help="the folder of its data")
    group.add_argument(
        "--database", metavar="URL", default=absent, help="a PostgreSQL database: postgresql+psycopg://USER@HOST/NAME"
    )


def place_of(args: argparse.Namespace, desk: Desk) -> tuple[Path, str | None]:
    """The folder of the data, and the URL of a database in its place."""
    return getattr(args, "data", None) or desk.path.with_name("hub"), getattr(args, "database", None)


@contextmanager
def database(args: argparse.Namespace, desk: Desk, connections: int = 4) -> Iterator[Engine]:
    """The hub's database, open for the length of the block."""
    from barnacle.hub.schema import open_engine

    engine = open_engine(*place_of(args, desk), connections)
    try:
        yield engine
    finally:
        engine.dispose()
