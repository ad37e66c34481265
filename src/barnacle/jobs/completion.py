"""What the shell may complete: titles, names, labels and messages that begin as typed."""

from __future__ import annotations

from barnacle.book import contacts, directory_links, lists, outbox
from barnacle.book.store import now
from barnacle.core.text import fold, has_unsafe
from barnacle.jobs.desk.desk import Desk

MOST = 60


def lists_beginning(desk: Desk, prefix: str) -> list[str]:
    """Titles of lists, capitals and accents aside."""
    with desk.open() as book:
        return _fitting(lists.titles(book), prefix)


def labels_beginning(desk: Desk, prefix: str) -> list[str]:
    """Labels."""
    with desk.open() as book:
        return _fitting(list(contacts.labels(book)), prefix)


def people_beginning(desk: Desk, prefix: str) -> list[str]:
    """Names of contacts, and their addresses once an @ is typed."""
    with desk.open() as book:
        return _safe(contacts.beginning(book, prefix, MOST))


def anything_beginning(desk: Desk, prefix: str) -> list[str]:
    """What a message can be for: lists, labels (`label:NAME`), people."""
    with desk.open() as book:
        if prefix.lower().startswith("directory:"):
            names = directory_links.seen_beginning(book, now())
            return _fitting([f"directory:{name}" for name in names], prefix)
        if prefix.lower().startswith("label:"):
            return _fitting([f"label:{label}" for label in contacts.labels(book)], prefix)
        return _fitting(lists.titles(book), prefix) + _safe(contacts.beginning(book, prefix, MOST))


def directory_beginning(desk: Desk, prefix: str) -> list[str]:
    """Names that were seen in the organisation's directory within the last day."""
    with desk.open() as book:
        return _fitting(directory_links.seen_beginning(book, now()), prefix)


def messages_beginning(desk: Desk, prefix: str) -> list[str]:
    """Numbers of messages."""
    with desk.open() as book:
        return [m.number for m in outbox.every(book) if m.number.startswith(prefix.lower())]


def _fitting(texts: list[str], prefix: str) -> list[str]:
    key = fold(prefix)
    return _safe([text for text in texts if fold(text).startswith(key)][:MOST])


def _safe(texts: list[str]) -> list[str]:
    return [text for text in dict.fromkeys(texts) if not has_unsafe(text)]
