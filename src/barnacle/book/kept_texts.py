"""Texts that are kept to be used again."""

from __future__ import annotations

import json

from barnacle.book.store import Book
from barnacle.core.errors import NotFoundError
from barnacle.core.text import fold, listed, visible
from barnacle.core.typed import Any, NamedTuple


class KeptText(NamedTuple):
    """A text with its name, and what it was kept with: subject, text, and whether that is Markdown."""

    id: int
    name: str
    subject: str
    text: str
    markdown: bool
    created: str


def _text(row: tuple[Any, ...]) -> KeptText:
    doc = json.loads(row[2])
    return KeptText(row[0], row[1], doc["subject"], doc["text"], doc["markdown"], row[3])


def keep(book: Book, name: str, subject: str, text: str, markdown: bool) -> bool:
    """Keep a text, over the one of that name if there is one. Returns whether there was."""
    book.need_action()
    doc = json.dumps({"subject": subject, "text": text, "markdown": markdown}, ensure_ascii=False)
    known = book.db.execute("SELECT id FROM kept_text WHERE name_key = ?", (fold(name),)).fetchone()
    if known:
        book.db.execute("UPDATE kept_text SET name = ?, doc = ? WHERE id = ?", (name, doc, known[0]))
        return True
    book.db.execute(
        "INSERT INTO kept_text(name, name_key, doc, created) VALUES(?, ?, ?, ?)",
        (name, fold(name), doc, book.running.at),
    )
    return False


def every(book: Book) -> list[KeptText]:
    """All of them, by name."""
    return [_text(row) for row in book.db.execute("SELECT id, name, doc, created FROM kept_text ORDER BY name_key")]


def need(book: Book, name: str) -> KeptText:
    """The text of that name, or the only one that begins so. Raises NotFoundError."""
    some = every(book)
    found = [one for one in some if fold(one.name) == fold(name)]
    found = found or [one for one in some if name and fold(one.name).startswith(fold(name))]
    if len(found) != 1:
        have = f"You have {listed([visible(one.name, 60) for one in found or some], 12)}." if some else (
            "`barnacle text keep NAME mN` keeps that of a message."
        )  # fmt: skip
        raise NotFoundError(f"There is no text {visible(name, 60)}. {have}")
    return found[0]


def remove(book: Book, one: KeptText) -> None:
    """Forget a text."""
    book.need_action()
    book.db.execute("DELETE FROM kept_text WHERE id = ?", (one.id,))
