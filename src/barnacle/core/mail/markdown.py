"""Markdown as HTML, for the alternative that goes along with a text (CommonMark; no HTML of the writer's own)."""

from __future__ import annotations

import re
from functools import cache

from barnacle.core.typed import TYPE_CHECKING

if TYPE_CHECKING:
    from markdown_it import MarkdownIt


_ESCAPED = re.compile(r"\\([!-/:-@\[-`|~])")
_SIGNS = re.compile(r"([\\`*_{}\[\]()#+\-.!<>&~|])")


@cache
def _reader() -> MarkdownIt:
    from markdown_it import MarkdownIt

    return MarkdownIt("commonmark", {"html": False, "breaks": True}).enable("table")


def as_html(text: str) -> str:
    """The text as an HTML document. Markup of HTML in it stands there as text."""
    body = _reader().render(text)
    return f'<!DOCTYPE html>\n<html><head><meta charset="utf-8"></head><body>\n{body}</body></html>\n'


def words_of(text: str) -> str:
    """What a paragraph says, without its marks and the breaks of its lines."""
    return "".join(part.content for line in _reader().parseInline(text) for part in line.children or ())


def as_plain(text: str) -> str:
    """The text as it goes beside the HTML: without the strokes that only say that a sign is no markup."""
    return _ESCAPED.sub(r"\1", text)


def quoted(value: str) -> str:
    """A value as Markdown that says just that: a name with a star in it is no emphasis."""
    return _SIGNS.sub(r"\\\1", value)
