"""The text of a document of a word processor, for a message (ECMA-376 part 1, section 17; OpenDocument 1.3 part 3,
sections 5 and 6). Its format becomes Markdown; what cannot be kept is counted."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from xml.sax.handler import ContentHandler

from barnacle.core.mail.markdown_writer import MarkdownWriter, Written
from barnacle.core.typed import NamedTuple
from barnacle.files.tables.archive import names_of_parts
from barnacle.files.tables.document import parsed, part_of, targets

# So many octets of a document are looked at, unpacked.
_MOST = 1 << 25
_INSTEAD = "Save it as text (.txt), or send it along with --attach."
_WHITE = re.compile(r"\s+")
_HEADING = re.compile(r"(?:heading (\d)|(title))", re.IGNORECASE)
# What is no part of the text: what was deleted or moved away, what is said twice, remarks.
_NOT_IN_WORD = frozenset(("mc:Fallback", "w:del", "w:moveFrom"))
_NOT_IN_OPEN = frozenset(
    "office:annotation text:tracked-changes text:note office:forms text:hidden-text text:hidden-paragraph svg:title "
    "svg:desc".split()
)
_NOTES = frozenset(("w:footnoteReference", "w:endnoteReference", "text:note"))
_BESIDE = frozenset(("w:hdr", "w:ftr", "style:header", "style:footer"))
_IMAGES = frozenset(("pic:pic", "v:imagedata", "draw:image"))
_AS_IN_PAGES = {
    "w:tbl": "table", "w:tr": "tr", "w:tc": "td",
    "table:table": "table", "table:table-row": "tr", "table:table-cell": "td",
}  # fmt: skip
_MOST_STYLES, _DEFAULT = 20_000, " "
_LENGTH = re.compile(r"(\d{1,5}(?:\.\d{1,9})?)(in|cm|mm|pt|pc|px)")
_POINTS = {"in": 72.0, "cm": 28.35, "mm": 2.835, "pt": 1.0, "pc": 12.0, "px": 0.75}
_APART = 4.0  # points between two paragraphs


def from_document(path: Path) -> Written:
    """The text of a document. Raises FileError where it cannot be read."""
    names = names_of_parts(path)
    told = _Word(targets(path)) if (part := part_of(path)) != "content.xml" else _Open()
    for other in ("word/styles.xml", "word/numbering.xml", "styles.xml"):
        if other in names:
            _read(path, other, told.styles)
    _read(path, part, told)
    for other in names:
        if re.fullmatch(r"word/(?:header|footer)\d*\.xml", other):
            _read(path, other, told.styles)
    if told.styles.beside:
        told.writer.left_out["header or footer"] += 1
    return told.writer.written()


def _read(path: Path, part: str, told: ContentHandler) -> None:
    for _ in parsed(path, part, told, _INSTEAD, _MOST):
        pass


class _Look(NamedTuple):
    """What a style says of a text."""

    bold: bool = False
    italic: bool = False
    hidden: bool = False
    level: int = 0  # of a heading
    spaced: str = ""  # whether there is a space above or below: yes, no, or not said
    listed: tuple[str, int] = ("", 0)  # the list, and how deep in it

    def over(self, other: _Look) -> _Look:
        """What is said here, and of the rest what the other one says."""
        return _Look(
            self.bold or other.bold, self.italic or other.italic, self.hidden or other.hidden,
            self.level or other.level, self.spaced or other.spaced, self.listed if self.listed[0] else other.listed,
        )  # fmt: skip

    @property
    def tag(self) -> str:
        """What such a paragraph is in a page."""
        return f"h{min(self.level, 6)}" if self.level else "p" if self.spaced == "yes" else "div"

    @property
    def css(self) -> dict[str, str | None]:
        said = ["font-weight:bold"] * self.bold + ["font-style:italic"] * self.italic + ["display:none"] * self.hidden
        return {"style": ";".join(said)} if said else {}


class _Styles(ContentHandler):
    """The styles of a document by their names, and of its lists whether each level has numbers."""

    def __init__(self) -> None:
        super().__init__()
        self.looks: dict[str, _Look] = {}
        self.parents: dict[str, str] = {}
        self.numbered: dict[tuple[str, int], bool] = {}
        self.starts: dict[tuple[str, int], int] = {}
        self.usual = ""  # the style of a paragraph that has none
        self.beside = False  # whether a header or footer says something
        self._name = self._list = ""
        self._level = self._beside = 0

    def look(self, name: str) -> _Look:
        """All that a style says, and those that it is made from."""
        found, seen = _Look(), set[str]()
        while name and name not in seen and len(seen) < 20:
            seen.add(name)
            found = found.over(self.looks.get(name, _Look()))
            name = self.parents.get(name, "")
        return found.over(self.looks.get(_DEFAULT, _Look()))

    def startElement(self, name: str, attrs: Mapping[str, str]) -> None:  # type: ignore[override]
        get = attrs.get
        self._beside += name in _BESIDE
        if name in ("w:style", "style:style") and len(self.looks) < _MOST_STYLES:
            self._name = get("w:styleId") or get("style:name") or ""
            if get("w:type") == "paragraph" and get("w:default") == "1":
                self.usual = self._name
            level = _number(get("style:default-outline-level"))
            self._add(_Look(level=level or int(get("style:name") == "Title")))
            self.parents[self._name] = get("style:parent-style-name") or ""
        elif name in ("w:pPrDefault", "style:default-style"):
            self._name = _DEFAULT if get("style:family", "paragraph") == "paragraph" else ""
        elif name == "w:basedOn":
            self.parents[self._name] = get("w:val", "")
        elif name == "w:name" and (found := _HEADING.fullmatch(get("w:val", ""))):
            self._add(_Look(level=int(found[1] or 1)))
        elif name in ("w:b", "w:i", "w:vanish") and _is_on(get("w:val")):
            self._add(_Look(name == "w:b", name == "w:i", name == "w:vanish"))
        elif name in ("w:spacing", "w:contextualSpacing", "style:paragraph-properties"):
            self._add(_Look(spaced=_spaced(name, attrs)))
        elif name == "style:text-properties":
            bold = get("fo:font-weight", "") in ("bold", "600", "700", "800", "900")
            self._add(_Look(bold, get("fo:font-style", "") == "italic", get("text:display", "") == "none"))
        elif name == "w:numId" and self._name:
            self._add(_Look(listed=(get("w:val", ""), 0)))
        elif name in ("w:abstractNum", "text:list-style"):
            self._list, self._name = get("w:abstractNumId") or get("style:name") or "", ""
        elif name == "w:lvl":
            self._level = _number(get("w:ilvl"))
        elif name == "w:start" and not self._name:
            self.starts[f"abstract {self._list}", self._level] = _number(get("w:val"))
        elif name == "w:numFmt":
            self.numbered[f"abstract {self._list}", self._level] = get("w:val", "") not in ("bullet", "none")
        elif name == "w:num":
            self._list = get("w:numId", "")
        elif name == "w:abstractNumId" and self._list:
            self.parents[f"list {self._list}"] = f"abstract {get('w:val', '')}"
        elif name in ("text:list-level-style-number", "text:list-level-style-bullet"):
            level = _number(get("text:level"))
            self.numbered[self._list, level] = name.endswith("number")
            self.starts[self._list, level] = _number(get("text:start-value")) or 1

    def endElement(self, name: str) -> None:
        self._beside -= name in _BESIDE

    def characters(self, content: str) -> None:
        self.beside = self.beside or (self._beside > 0 and not content.isspace())

    def _add(self, look: _Look) -> None:
        if self._name:
            self.looks[self._name] = self.looks.get(self._name, _Look()).over(look)


def _spaced(name: str, attrs: Mapping[str, str]) -> str:
    """Whether what is said of a paragraph sets it apart from the next one, by a third of a line or more."""
    if name == "w:contextualSpacing":
        return "no"
    points = [int(attrs[key]) / 20 for key in ("w:before", "w:after") if attrs.get(key, "").isdecimal()]
    points += [20.0 for key in ("w:beforeAutospacing", "w:afterAutospacing") if attrs.get(key) in ("1", "true", "on")]
    for key in ("fo:margin-top", "fo:margin-bottom", "fo:margin"):
        if found := _LENGTH.fullmatch(attrs.get(key, "")):
            points.append(float(found[1]) * _POINTS[found[2]])
    return "" if not points else "yes" if max(points) >= _APART else "no"


def _is_on(value: str | None) -> bool:
    return value in (None, "1", "true", "on")


def _number(value: str | None) -> int:
    return int(value) if value and value.isdecimal() and len(value) < 4 else 0


class _Document(ContentHandler):
    """Tells a writer what is in a document, as if it were a page; a paragraph is a line."""

    apart: frozenset[str]

    def __init__(self) -> None:
        super().__init__()
        self.writer, self.styles = MarkdownWriter(as_paragraphs=True), _Styles()
        self._is_apart = 0
        self._begun: list[str] = []  # paragraphs and lists, by what they are in a page

    def startElement(self, name: str, attrs: Mapping[str, str]) -> None:  # type: ignore[override]
        if not self._is_apart and name in _NOTES:
            self.writer.left_out["footnote"] += 1
        self._is_apart += name in self.apart
        if self._is_apart:
            return
        if name in _IMAGES:
            self.writer.left_out["picture"] += 1
        self._begin(name, attrs)
        if tag := _AS_IN_PAGES.get(name):
            self.writer.start(tag, {})

    def endElement(self, name: str) -> None:
        if not self._is_apart:
            if tag := _AS_IN_PAGES.get(name):
                self.writer.end(tag)
            self._end(name)
        self._is_apart -= name in self.apart

    def _start(self, tag: str, said: Mapping[str, str | None]) -> None:
        self._begun.append(tag)
        self.writer.start(tag, said)

    def _stop(self) -> None:
        self.writer.end(self._begun.pop())

    def _begin(self, name: str, attrs: Mapping[str, str]) -> None:
        raise NotImplementedError

    def _end(self, name: str) -> None:
        raise NotImplementedError


class _Word(_Document):
    apart = _NOT_IN_WORD

    def __init__(self, links: Mapping[str, str]) -> None:
        super().__init__()
        self._links = links
        self._look: _Look | None = None  # of the paragraph, until its text begins
        self._run: _Look | None = None  # of the run that is open
        self._has_begun = self._in_text = False
        self._lists: list[tuple[str, str]] = []  # those that are open: tag, and number of the list
        self._items: dict[tuple[str, int], int] = {}  # how many items each level of a list has had

    def _begin(self, name: str, attrs: Mapping[str, str]) -> None:
        get = attrs.get
        if name == "w:p":
            self._begin_text()  # around a text box
            self._look = self.styles.look(self.styles.usual)
        elif name == "w:tbl":
            self._end_lists(0)
        elif name == "w:r":
            self._run, self._has_begun = _Look(), False
        elif name == "w:t":
            self._begin_run()
            self._in_text = True
        elif name in ("w:tab", "w:ptab") and self._run is not None and not get("w:pos"):
            self._say(" ")
        elif name in ("w:br", "w:cr") and self._run is not None:
            self._say("\n")
        elif name == "w:noBreakHyphen":
            self._say("-")
        elif name == "w:hyperlink":
            self._begin_text()
            self.writer.start("a", {"href": self._links.get(get("r:id", ""), "")})
        elif name == "w:pStyle" and self._look is not None:
            self._look = self.styles.look(get("w:val", ""))
        elif name == "w:rStyle" and self._run is not None:
            self._run = self._run.over(self.styles.look(get("w:val", "")))
        elif name == "w:numId" and self._look is not None:
            self._look = self._look._replace(listed=(get("w:val", ""), self._look.listed[1]))
        elif name == "w:ilvl" and self._look is not None:
            self._look = self._look._replace(listed=(self._look.listed[0], _number(get("w:val"))))
        elif name in ("w:spacing", "w:contextualSpacing") and self._look is not None and self._run is None:
            self._look = self._look._replace(spaced=_spaced(name, attrs) or self._look.spaced)
        elif name == "w:b" and self._run is not None:
            self._run = self._run._replace(bold=_is_on(get("w:val")))
        elif name == "w:i" and self._run is not None:
            self._run = self._run._replace(italic=_is_on(get("w:val")))
        elif name == "w:vanish" and self._run is not None:
            self._run = self._run._replace(hidden=_is_on(get("w:val")))

    def characters(self, content: str) -> None:
        if self._in_text and not self._is_apart:
            self.writer.say(_WHITE.sub(" ", content))

    def _say(self, text: str) -> None:
        self._begin_run()
        self.writer.say(text)

    def _begin_run(self) -> None:
        self._begin_text()
        if self._run is not None and not self._has_begun:
            self._has_begun = True
            self.writer.start("span", self._run.css)

    def _begin_text(self) -> None:
        """The paragraph's first words: what it is has been said."""
        if self._look is None:
            return
        look, self._look = self._look, None
        number, level = look.listed
        if number in ("", "0") or look.level:
            self._end_lists(0)
            self._start(look.tag, look.css)
            return
        self._end_lists(level + 1)
        if self._lists and self._lists[-1][1] != number:
            self._end_lists(0)
        abstract = self.styles.parents.get(f"list {number}", "")
        while len(self._lists) <= level:
            tag = "ol" if self.styles.numbered.get((abstract, len(self._lists))) else "ul"
            before = self._items.get((number, len(self._lists)), 0)
            first = self.styles.starts.get((abstract, len(self._lists)), 1)
            self.writer.start(tag, {"start": str(first + before)})
            self._lists.append((tag, number))
        self._items[number, level] = self._items.get((number, level), 0) + 1
        for deeper in range(level + 1, 10):
            self._items.pop((number, deeper), None)
        self._start("li", look.css)

    def _end_lists(self, left: int) -> None:
        while len(self._lists) > left:
            self.writer.end(self._lists.pop()[0])

    def _end(self, name: str) -> None:
        if name == "w:p":
            self._begin_text()
            self._stop()
        elif name == "w:r":
            if self._has_begun:
                self.writer.end("span")
            self._run = None
        elif name == "w:t":
            self._in_text = False
        elif name == "w:hyperlink":
            self.writer.end("a")
        elif name == "w:tc":
            self._lists.clear()


class _Open(_Document):
    apart = _NOT_IN_OPEN

    def __init__(self) -> None:
        super().__init__()
        self._lists: list[str] = []  # the styles of those that are open
        self._items: dict[str, int] = {}
        self._in_text = 0

    def startElement(self, name: str, attrs: Mapping[str, str]) -> None:  # type: ignore[override]
        self.styles.startElement(name, attrs)  # those of this document stand in front of its text
        super().startElement(name, attrs)

    def _begin(self, name: str, attrs: Mapping[str, str]) -> None:
        get, start = attrs.get, self._start
        if name in ("text:p", "text:h"):
            look = self.styles.look(get("text:style-name", ""))
            if name == "text:h":
                look = look._replace(level=_number(get("text:outline-level")) or 1)
            start(look.tag, look.css)
            self._in_text += 1
        elif name == "text:span":
            start("span", self.styles.look(get("text:style-name", "")).css)
        elif name == "text:a":
            start("a", {"href": get("xlink:href", "")})
        elif name == "text:list":
            self._begin_list(get("text:style-name", ""), get("text:continue-numbering") == "true")
        elif name in ("text:list-item", "text:list-header"):
            self._items[self._list] = self._items.get(self._list, 0) + 1
            start("li", {})
        elif name == "text:line-break":
            self.writer.say("\n")
        elif name in ("text:s", "text:tab"):
            self.writer.say(" ")

    def _begin_list(self, style: str, goes_on: bool) -> None:
        self._lists.append(style or (self._lists[-1] if self._lists else ""))
        level = self._lists[-1], len(self._lists)
        if not goes_on:
            self._items[self._list] = 0
        first = self.styles.starts.get(level, 1) + self._items.get(self._list, 0)
        self._start("ol" if self.styles.numbered.get(level) else "ul", {"start": str(first)})

    @property
    def _list(self) -> str:
        return f"{len(self._lists)} {self._lists[-1] if self._lists else ''}"

    def _end(self, name: str) -> None:
        if name in ("text:p", "text:h"):
            self._in_text -= 1
            self._stop()
        elif name in ("text:span", "text:a", "text:list-item", "text:list-header"):
            self._stop()
        elif name == "text:list":
            self._lists.pop()
            self._stop()

    def characters(self, content: str) -> None:
        if self._in_text and not self._is_apart:
            self.writer.say(_WHITE.sub(" ", content))
