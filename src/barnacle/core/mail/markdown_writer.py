"""Formatted text as Markdown (CommonMark 0.31) that reads well as plain text too. It is told by elements of HTML, in
which all that formats a text can be said."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import groupby

from barnacle.core.mail.markdown import words_of
from barnacle.core.patterns import pattern
from barnacle.core.typed import NamedTuple

_BOLD, _ITALIC = frozenset(("b", "strong")), frozenset(("i", "em", "cite"))
_HEADS = {f"h{level}": level for level in range(1, 7)}
# What is a paragraph by itself, and what only a line.
_PARAGRAPHS = frozenset(("p", "pre", "figure", *_HEADS))
_LINES = frozenset(
    "address article aside body caption center dd div dl dt fieldset figcaption footer form header legend main nav "
    "section".split()
)
_TABLE = frozenset(("table", "tr", "td", "th"))
# What nobody sees, and what is no text; and what has no end.
_UNSEEN = frozenset("head script style template title noscript textarea select button".split())
_EMPTY = frozenset("img br hr input meta link wbr col embed source base area".split())
# What ends by itself where such an element begins, unless one of those stands between.
_AROUND_P = ("td", "th", "li", "blockquote", "table")
_ENDED_BY = {
    "li": (("li",), ("ul", "ol")), "dt": (("dt", "dd"), ("dl",)), "dd": (("dt", "dd"), ("dl",)),
    "td": (("td", "th"), ("table", "tr")), "th": (("td", "th"), ("table", "tr")), "tr": (("tr",), ("table",)),
    "ul": (("p",), _AROUND_P), "ol": (("p",), _AROUND_P), "blockquote": (("p",), _AROUND_P),
}  # fmt: skip
_MOST_OPEN = 300
_OTHERS = {
    "img": "picture", "svg": "picture", "video": "video", "audio": "sound", "iframe": "embedded page",
    "object": "object",
}  # fmt: skip
_LINK = pattern(r"(?:https?://|mailto:|tel:)[^\s<>\\]{1,2000}", re.IGNORECASE)
_BOLD_STYLE = pattern(r"font-weight:(?:bold|[6-9]00)")
# What would be read as markup, anywhere and where a line begins; a field of a letter to each is none.
_MARKS = pattern(r"\{[^{}\n]{1,80}\}|[\\`*\[\]<]|!(?=\[|$)|(?<!\w)_|_(?!\w)|&(?=[#\w])")
_AT_START = pattern(r"\A(?:(\d{1,9})([.)])(?=\s|$)|#{1,6}(?=\s|$)|~{3}|>|[-+](?=\s|$)|[-=|:](?=[-=|:\s]*$))")
# An item of a list as word processors write it into mail: its level, the sign that stands in front, and a number.
_ITEM, _SIGN = pattern(r"mso-list:\w{1,20}level(\d)"), "mso-list:ignore"
_NUMBER = pattern(r"(\d{1,4})[.)]")
_SPACES = pattern(r"[^\S\n]+")
_INDENT, _DEEPEST, _WIDEST, _LONGEST = "    ", 6, 200, 20_000


class Written(NamedTuple):
    """A text; whether it is Markdown, or has no format at all; and what of it is not there, with how many."""

    text: str
    is_markdown: bool
    left_out: Mapping[str, int]


class _Run(NamedTuple):
    text: str
    bold: bool
    italic: bool
    link: str


class _Open(NamedTuple):
    """An element that was begun, and what is so within it: by itself, or by those around it."""

    tag: str
    unseen: bool = False
    bold: bool = False
    italic: bool = False
    link: str = ""
    made: int = 0  # how many blocks there were


class _Block(NamedTuple):
    """A paragraph or a line. `first` stands in front of its first line, `further` in front of the others."""

    runs: Sequence[_Run]
    kind: str = "line"
    first: str = ""
    further: str = ""
    gap: bool = False  # whether an empty line was written in front of it


@dataclass(slots=True)
class _List:
    """A list that is open: the number of its last item (-1: it has none), and whether an item was shown yet."""

    number: int
    shown: bool = False


class MarkdownWriter:
    """Collects what is told. With `as_paragraphs`, as in a word processor, a line is a paragraph, unless some of
    them are set apart, by a space or an empty one."""

    def __init__(self, as_paragraphs: bool = False) -> None:
        self.left_out: Counter[str] = Counter()
        self._as_paragraphs = as_paragraphs
        self._open: list[_Open] = []
        self._around: _Open = _Open("")
        self._called: Counter[str] = Counter()  # how many of each name are open
        self._blocks: list[_Block] = []
        self._runs: list[_Run] = []
        self._kind, self._first, self._gap, self._sign = "line", "", False, ""
        self._made = 0
        self._lists: list[_List] = []
        self._quotes = self._tables = 0
        self._rows: list[list[list[_Block]]] = []
        self._before: list[_Block] = []  # what stands in front of the table

    def start(self, tag: str, said: Mapping[str, str | None]) -> None:
        """An element begins; `said` are its attributes."""
        self._end_what_ends_by_itself(tag)
        around = self._around
        if around.unseen:
            if tag not in _EMPTY:
                self._push(around._replace(tag=tag))
            return
        if len(self._open) > _MOST_OPEN:
            return
        style = (said.get("style") or "")[:1000].lower().replace(" ", "")
        hidden = "hidden" in said or "display:none" in style
        if hidden:
            self.left_out["hidden passage"] += 1
        elif tag in _OTHERS and not _is_a_dot(said):
            self.left_out[_OTHERS[tag]] += 1
        if tag in _EMPTY:
            if tag == "br":
                self.say("\n")
            elif tag == "hr":
                self._end_block()
                self._blocks += [_Block((), "rule")] * (not self._lists)
            return
        link = _LINK.fullmatch((said.get("href") or "").strip()) if tag == "a" else None
        bold, italic = _BOLD_STYLE.search(style) is not None, "font-style:italic" in style
        self._push(
            _Open(
                tag, hidden or tag in _UNSEEN or tag in _OTHERS or _SIGN in style, around.bold or tag in _BOLD or bold,
                around.italic or tag in _ITALIC or italic, link[0] if link else around.link, self._made,
            )
        )  # fmt: skip
        if not self._around.unseen:
            self._begin(tag, said)
            if (item := _ITEM.search(style)) and not self._lists:
                self._first, self._sign = _INDENT * (min(int(item[1]), _DEEPEST) - 1) + "- ", ""

    def _push(self, one: _Open) -> None:
        self._open.append(one)
        self._around = one
        self._called[one.tag] += 1

    def _end_what_ends_by_itself(self, tag: str) -> None:
        """What needs no end of its own ends where its like begins (HTML, section 13.1.2.4)."""
        ended, within = _ENDED_BY.get(tag, (("p",), _AROUND_P) if tag in _PARAGRAPHS | _LINES | _TABLE else ((), ()))
        for one in reversed(self._open if any(self._called[name] for name in ended) else ()):
            if one.tag in ended:
                return self.end(one.tag)
            if one.tag in within:
                return None
        return None

    def end(self, tag: str) -> None:
        """An element ends, and what is open in it; nothing where none of that name is."""
        if not self._called[tag]:
            return
        while True:
            one = self._open[-1]
            if not one.unseen:
                self._finish(one)
            self._open.pop()
            self._called[one.tag] -= 1
            self._around = self._open[-1] if self._open else _Open("")
            if one.tag == tag:
                return

    def say(self, text: str) -> None:
        """Text, as it stands between the elements."""
        around = self._around
        if text and not around.unseen:
            bold = around.bold and self._kind not in _HEADS
            self._runs.append(_Run(text, bold, around.italic, around.link))
        elif self._first and len(self._sign) < _WIDEST:
            self._sign += text

    def written(self) -> Written:
        """All that was told."""
        while self._open:
            self.end(self._open[-1].tag)
        self._end_block()
        has_format = any(map(_has_format, self._blocks))
        is_loose = self._as_paragraphs and not any(one.gap or one.kind == "p" for one in self._blocks)
        parts: list[str] = []
        for before, one in zip([None, *self._blocks], self._blocks, strict=False):
            if before is not None:
                is_next = _is_next_line(before, one) and not (is_loose and one.kind == "line")
                # An empty line ends a quotation unless it is one of it.
                within = min(before.further.count(">"), one.further.count(">"))
                parts.append("\n" if is_next else f"\n{'> ' * within}".rstrip(" ") + "\n")
            parts.append(_in_markdown(one) if has_format else _said(one.runs))
        return Written("".join([*parts, "\n"] if parts else ()), has_format, self.left_out)

    def _begin(self, tag: str, said: Mapping[str, str | None]) -> None:
        if tag in _TABLE:
            self._begin_cell(tag)
        elif tag in ("ul", "ol", "li", "blockquote") or tag in _PARAGRAPHS or tag in _LINES:
            self._end_block()
        if tag in ("ul", "ol"):
            start = said.get("start") or ""
            number = int(start) - 1 if start.isdecimal() and len(start) < 5 else 0
            self._lists.append(_List(-1 if tag == "ul" else max(number, 0)))
        elif tag == "li":
            self._begin_item()
        elif tag == "blockquote":
            self._quotes += not self._lists  # within an item it would end the list
        elif tag in _PARAGRAPHS:
            self._kind = tag

    def _begin_item(self) -> None:
        mark = "- "
        if self._lists and self._lists[-1].number >= 0:
            self._lists[-1].number += 1
            mark = f"{self._lists[-1].number}. "
        self._first = _INDENT * min(sum(one.shown for one in self._lists[:-1]), _DEEPEST) + mark

    def _finish(self, one: _Open) -> None:
        tag = one.tag
        if tag in _TABLE:
            self._end_cell(tag)
        elif tag in ("ul", "ol"):
            self._end_block()
            self._lists = self._lists[:-1]
        elif tag == "blockquote":
            self._end_block()
            self._quotes -= self._quotes > 0 and not self._lists
        elif tag in ("p", "div"):
            self._end_block(is_line=one.made == self._made)
        elif tag == "li" or tag in _PARAGRAPHS or tag in _LINES:
            self._end_block()
            self._first = "" if tag == "li" else self._first

    def _end_block(self, is_line: bool = False) -> None:
        """What was told last is a block; where nothing was, and it `is_line`, an empty line was written."""
        runs = _tidied(self._runs)
        if runs:
            if self._lists and self._first:
                self._lists[-1].shown = True
            elif self._first and (number := _NUMBER.match(self._sign.strip())):
                self._first = f"{self._first[:-2]}{number[1]}. "
            quote = "> " * min(self._quotes, _DEEPEST)
            indent = _INDENT * min(sum(one.shown for one in self._lists), _DEEPEST)
            kind, first = ("item", self._first) if self._first else (self._kind, indent)
            self._blocks.append(_Block(runs, kind, quote + first, quote + indent, self._gap))
            self._made += 1
            self._first = ""
        if runs or is_line:
            self._gap = not runs
        self._runs, self._kind = [], "line"

    def _begin_cell(self, tag: str) -> None:
        self._end_block()
        if tag == "table":
            self._tables += 1
            if self._tables == 1:
                self._before, self._blocks, self._rows = self._blocks, [], []
        elif self._tables == 1:
            if tag == "tr" or not self._rows:
                self._rows.append([])
            if tag != "tr":
                self._blocks = []

    def _end_cell(self, tag: str) -> None:
        self._end_block()
        if tag in ("td", "th") and self._tables == 1:
            self._rows[-1].append(self._blocks)
            self._blocks = []
        elif tag == "table":
            self._tables -= 1
            if not self._tables:
                self._blocks = [*self._before, *_of_table(self._rows, bool(self._lists or self._quotes)), *self._blocks]


def _is_a_dot(said: Mapping[str, str | None]) -> bool:
    """Whether a picture is there to be counted, not seen."""
    return any((said.get(name) or "").strip() in ("0", "1", "1px") for name in ("width", "height"))


def _tidied(runs: Sequence[_Run]) -> list[_Run]:
    """Runs of one format as one, with single spaces in them, and none at the ends of lines."""
    found: list[_Run] = []
    for form, some in groupby(runs, lambda run: run[1:]):
        text = _SPACES.sub(" ", "".join(run.text for run in some)).replace(" \n", "\n").replace("\n ", "\n")
        if not found or found[-1].text[-1] in " \n":
            text = text.lstrip(" " if found else None)
        if text.startswith("\n") and found and found[-1].text.endswith(" "):
            before = found.pop()
            found += [before._replace(text=before.text[:-1])] * (before.text != " ")
        if text:
            found.append(_Run(text, *form))
    while found and not (last := found[-1].text.rstrip()):
        found.pop()
    return [*found[:-1], found[-1]._replace(text=last)] if found else []


def _said(runs: Iterable[_Run]) -> str:
    return "".join(run.text for run in runs)


def _has_format(block: _Block) -> bool:
    return block.kind not in ("line", "p") or bool(block.first) or any(any(run[1:]) for run in block.runs)


def _is_next_line(before: _Block, one: _Block) -> bool:
    """Whether a block stands right below the one before: items of a list, and lines."""
    if one.kind == "item":
        # A list with numbers right below one without would not look like another one.
        other = before.kind == "item" and before.further == one.further and _has_number(before) != _has_number(one)
        return not other and (before.kind == "item" or before.further.endswith(_INDENT))
    return before.kind == one.kind == "line" and before.further == one.further and not one.gap


def _has_number(block: _Block) -> bool:
    return block.first.endswith(". ")


def _in_markdown(block: _Block) -> str:
    if block.kind == "rule":
        return f"{block.first}---"
    if block.kind == "table":
        return _said(block.runs)
    text = _inline(block.runs)
    if block.kind in _HEADS:
        text = " ".join(text.split())
        words = text.rstrip("#")
        ends = text[len(words) :] and f"\\{text[len(words) :]}"  # which would only end it
        return f"{block.first}{'#' * _HEADS[block.kind]} {words}{ends}"
    return block.first + f"\n{block.further}".join(_AT_START.sub(_literal, line) for line in text.split("\n"))


def _literal(mark: re.Match[str]) -> str:
    """A mark that is none."""
    if mark[0].startswith("{"):
        return mark[0]
    return f"{mark[1]}\\{mark[2]}" if mark.re.groups and mark[1] else f"\\{mark[0]}"


def _inline(runs: Sequence[_Run]) -> str:
    """Runs with their marks around them: as many as are read as such again."""
    words = _said(runs)
    if any(any(run[1:]) for run in runs) and len(words) < _LONGEST:
        wanted = "".join(words.split())
        for some in (runs, [run._replace(italic=False) for run in _not_bold(runs)]):
            text = _with_marks(some)
            if "".join(words_of(text).split()) == wanted:
                return text
    return _MARKS.sub(_literal, words)


def _not_bold(runs: Iterable[_Run]) -> list[_Run]:
    return [run._replace(bold=False) for run in runs]


def _with_marks(runs: Sequence[_Run]) -> str:
    text = ""
    for place, run in enumerate(runs):
        behind = runs[place + 1].text[:1] if place + 1 < len(runs) else ""
        if run.link:
            text += _linked(run)
        else:
            text += "\n".join(_marked(line, run, text[-1:], behind) for line in run.text.split("\n"))
    return text


def _marked(text: str, run: _Run, before: str = "", behind: str = "") -> str:
    """A line with the marks of its format: none stands beside a space within, nor between a letter and a sign."""
    marks, start, end = "*" * (run.italic + 2 * run.bold), 0, len(text)
    if not marks:
        return _MARKS.sub(_literal, text)
    while start < end and (text[start].isspace() or (before.isalnum() and not text[start].isalnum())):
        start += 1
    while end > start and (text[end - 1].isspace() or (behind.isalnum() and not text[end - 1].isalnum())):
        end -= 1
    before, core, after = (_MARKS.sub(_literal, part) for part in (text[:start], text[start:end], text[end:]))
    return f"{before}{marks}{core}{marks}{after}" if core else before + after


def _linked(run: _Run) -> str:
    said = " ".join(run.text.split())
    link = run.link.replace("(", "%28").replace(")", "%29")
    bare = said in (run.link, run.link.removeprefix("mailto:"))
    words = f"<{said}>" if bare else f"[{_marked(said, run)}]({link})"
    lead, tail = (" " if run.text[place].isspace() else "" for place in (0, -1))
    return f"{lead}{words}{tail}" if said else " "


def _of_table(rows: Sequence[Sequence[Sequence[_Block]]], is_within: bool) -> Iterator[_Block]:
    """A table as one, where its cells are short and as many in each row, and it `is_within` nothing else; else what
    stands in them, line by line."""
    # The first row is bold by itself.
    plain = [[[block._replace(runs=_not_bold(block.runs)) for block in cell] for cell in row] for row in rows[:1]]
    cells = [[" ".join(_inline(block.runs) for block in cell) for cell in row] for row in (*plain, *rows[1:])]
    short = all(
        len(cell) <= 1 and all(block.kind in ("line", "p") for block in cell)
        for row in rows for cell in row
    ) and not any("\n" in text for row in cells for text in row)  # fmt: skip
    even = len(rows) > 1 and len({len(row) for row in rows}) == 1 < len(rows[0]) and any(cells[0])
    fits = not any("|" in text or len(text) > _WIDEST for row in cells for text in row)
    if short and even and fits and not is_within:
        widths = [max(3, *map(len, column)) for column in zip(*cells, strict=True)]
        lines = [
            " | ".join(map(str.ljust, row, widths))
            for row in (*cells[:1], ["-" * width for width in widths], *cells[1:])
        ]
        lines = [f"| {line} |" for line in lines]
        yield _Block([_Run("\n".join(lines), False, False, "")], "table")
        return
    for row in rows:
        if short:
            runs = [run for cell in row for block in cell for run in (*block.runs, _Run("  ", False, False, ""))]
            if runs:
                yield next(block for cell in row for block in cell)._replace(runs=runs[:-1], kind="line")
        else:
            yield from (block for cell in row for block in cell)
