"""Markdown as HTML, for the alternative that goes along with a text (CommonMark; no HTML of the writer's own)."""

from __future__ import annotations

import re
from functools import cache

from barnacle.core.typed import TYPE_CHECKING

if TYPE_CHECKING:
    from markdown_it import MarkdownIt


_SIGNS = re.compile(r"([\\`*_{}\[\]()#+\-.!<>&~|])")


@cache
def _reader() -> MarkdownIt:
    from markdown_it import MarkdownIt

    return MarkdownIt("commonmark", {"html": False, "breaks": True}).enable("table")


def as_html(text: str) -> str:
    """The text as an HTML document. Markup of HTML in it stands there as text."""
    body = _reader().render(text)
    return f'<!DOCTYPE html>\n<html><head><meta charset="utf-8"></head><body>\n{body}</body></html>\n'


def quoted(value: str) -> str:
    """A value as Markdown that says just that: a name with a star in it is no emphasis."""
    return _SIGNS.sub(r"\\\1", value)
