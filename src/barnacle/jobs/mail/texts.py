"""Texts that come back every month: kept from a message, and used again."""

from __future__ import annotations

from barnacle.book import kept_texts, outbox
from barnacle.book.kept_texts import KeptText as KeptText
from barnacle.core.errors import UnclearError
from barnacle.core.text import plain_title
from barnacle.jobs.desk.desk import Desk


def keep(desk: Desk, name: str, number: str) -> bool:
    """Keep subject and text of a message under a name. Returns whether another one had it, which is gone. Raises
    NotFoundError, UnclearError."""
    name = plain_title(name)
    with desk.open() as book, book.action("text keep") as action:
        message = outbox.get(book, number)
        content = message.content
        if not content.text.strip():
            raise UnclearError(f"{message.number} has no text.")
        was_there = kept_texts.keep(book, name, message.subject, content.text, content.markdown)
        action.title = f"Kept the text of {message.number} as {name}"
        return was_there


def every(desk: Desk) -> list[KeptText]:
    """All of them, by name."""
    with desk.open() as book:
        return kept_texts.every(book)


def need(desk: Desk, name: str) -> KeptText:
    """The text of that name. Raises NotFoundError."""
    with desk.open() as book:
        return kept_texts.need(book, name)


def remove(desk: Desk, name: str) -> KeptText:
    """Forget a text. Raises NotFoundError."""
    with desk.open() as book, book.action("text remove") as action:
        one = kept_texts.need(book, name)
        kept_texts.remove(book, one)
        action.title = f"Removed the text {one.name}"
        return one
