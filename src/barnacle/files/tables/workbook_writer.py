"""Tables as workbooks: ISO/IEC 29500 (`.xlsx`) and OpenDocument 1.3 (`.ods`). Every cell is text and stays text."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import chain, islice
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

from barnacle.core.typed import IO, NamedTuple
from barnacle.files.tables.columns import letters_of
from barnacle.files.tables.contact_columns import title_of

_SAMPLED = 200
_NARROWEST, _WIDEST = 8, 48
_CELL_LIMIT = 32_767  # characters, of both formats' programs
_FORBIDDEN = re.compile(r"[\[\]:*?/\\]")
_NO_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]")


class Page(NamedTuple):
    """A sheet that is to be written: its title, its columns and its rows."""

    title: str
    columns: Sequence[str]
    rows: Iterable[Mapping[str, str]]


def write_xlsx(path: Path, pages: Sequence[Page]) -> None:
    """Write sheets with a bold header that stays in sight, a filter, and columns as wide as what is in them."""
    import xlsxwriter

    options = {
        "constant_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False,
        "in_memory": False, "tmpdir": str(path.parent),
    }  # fmt: skip
    with xlsxwriter.Workbook(str(path), options) as book:
        bold, text = book.add_format({"bold": True, "num_format": "@"}), book.add_format({"num_format": "@"})
        for page, title in zip(pages, _titles(pages), strict=True):
            sheet = book.add_worksheet(title)
            rows, widths = _measured(page)
            for number, width in enumerate(widths):
                sheet.set_column(number, number, width, text)
            sheet.freeze_panes(1, 0)
            sheet.set_landscape()
            sheet.fit_to_pages(1, 0)
            sheet.repeat_rows(0)
            sheet.write_row(0, 0, [title_of(column) for column in page.columns], bold)
            last = 0
            write = sheet.write_string
            for last, row in enumerate(rows, 1):
                for number, column in enumerate(page.columns):
                    if value := row.get(column):
                        write(last, number, _cell(value), text)
            sheet.autofilter(0, 0, max(last, 1), max(len(page.columns) - 1, 0))


def write_ods(path: Path, pages: Sequence[Page]) -> None:
    """The same as OpenDocument."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        kind = zipfile.ZipInfo("mimetype")
        archive.writestr(kind, "application/vnd.oasis.opendocument.spreadsheet", zipfile.ZIP_STORED)
        archive.writestr("META-INF/manifest.xml", _MANIFEST)
        with archive.open("content.xml", "w", force_zip64=True) as out:
            _write_content(out, pages)
        archive.writestr("settings.xml", _settings(_titles(pages)))


def _write_content(out: IO[bytes], pages: Sequence[Page]) -> None:
    styles = []
    bodies: list[tuple[str, Page, Iterator[Mapping[str, str]], list[str]]] = []
    for number, (page, title) in enumerate(zip(pages, _titles(pages), strict=True)):
        rows, widths = _measured(page)
        names = [f"w{number}-{place}" for place in range(len(widths))]
        styles += [
            f'<style:style style:name="{name}" style:family="table-column"><style:table-column-properties '
            f'style:column-width="{width * 0.21:.2f}cm"/></style:style>'
            for name, width in zip(names, widths, strict=True)
        ]
        bodies.append((title, page, rows, names))
    out.write(f"{_HEAD}<office:automatic-styles>{_STYLES}{''.join(styles)}</office:automatic-styles>".encode())
    out.write(b"<office:body><office:spreadsheet>")
    ranges = []
    for title, page, rows, names in bodies:
        out.write(f"<table:table table:name={quoteattr(title)}>".encode())
        out.write("".join(f'<table:table-column table:style-name="{name}"/>' for name in names).encode())
        head = "".join(_ods_cell(title_of(column), "bold") for column in page.columns)
        out.write(
            f"<table:table-header-rows><table:table-row>{head}</table:table-row></table:table-header-rows>".encode()
        )
        last = 1
        for last, row in enumerate(rows, 2):  # noqa: B007
            cells = "".join(_ods_cell(row.get(column, ""), "text") for column in page.columns)
            out.write(f"<table:table-row>{cells}</table:table-row>".encode())
        out.write(b"</table:table>")
        ranges.append((title, len(page.columns), last))
    out.write(_filters(ranges).encode())
    out.write(b"</office:spreadsheet></office:body></office:document-content>")


def _ods_cell(value: str, style: str) -> str:
    if not value:
        return f'<table:table-cell table:style-name="{style}"/>'
    paragraphs = "".join(f"<text:p>{escape(line)}</text:p>" for line in _cell(value).split("\n"))
    return f'<table:table-cell table:style-name="{style}" office:value-type="string">{paragraphs}</table:table-cell>'


def _filters(ranges: Sequence[tuple[str, int, int]]) -> str:
    found = []
    for number, (title, columns, rows) in enumerate(ranges):
        quoted = "'" + title.replace("'", "''") + "'"
        area = f"{quoted}.A1:{quoted}.{letters_of(max(columns - 1, 0))}{rows}"
        found.append(
            f'<table:database-range table:name="rows{number}" table:target-range-address={quoteattr(area)} '
            'table:display-filter-buttons="true"/>'
        )
    return f"<table:database-ranges>{''.join(found)}</table:database-ranges>"


def _settings(titles: Sequence[str]) -> str:
    """In which the first row of each sheet stays in sight."""
    item = '<config:config-item config:name="{}" config:type="{}">{}</config:config-item>'
    frozen = "".join(
        item.format(*one)
        for one in (
            ("VerticalSplitMode", "short", 2),
            ("VerticalSplitPosition", "int", 1),
            ("ActiveSplitRange", "short", 2),
            ("PositionBottom", "int", 1),
        )
    )
    sheets = "".join(
        f"<config:config-item-map-entry config:name={quoteattr(title)}>{frozen}</config:config-item-map-entry>"
        for title in titles
    )
    return _SETTINGS.format(sheets)


def _measured(page: Page) -> tuple[Iterator[Mapping[str, str]], list[int]]:
    """A page's rows, and how wide its columns are, by the first of them."""
    rows = iter(page.rows)
    first = list(islice(rows, _SAMPLED))
    widths = []
    for column in page.columns:
        longest = max([len(title_of(column)) + 3, *(len(row.get(column, "")) for row in first)])
        widths.append(min(max(longest + 1, _NARROWEST), _WIDEST))
    return chain(first, rows), widths


def _titles(pages: Sequence[Page]) -> list[str]:
    """The sheets' titles, as such may be: 31 characters, none of them a bracket or a stroke, no two alike."""
    found: list[str] = []
    for page in pages:
        bare = _FORBIDDEN.sub("-", _NO_XML.sub(" ", page.title)).strip("' ")[:31] or "Sheet"
        title, number = bare, 1
        while title.lower() in [one.lower() for one in found] or title.lower() == "history":
            number += 1
            title = f"{bare[: 31 - len(str(number)) - 1]} {number}"
        found.append(title)
    return found


def _cell(value: str) -> str:
    return _NO_XML.sub("\ufffd", value)[:_CELL_LIMIT]


_NAMESPACES = " ".join(
    f'xmlns:{short}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"'
    for short, name in (
        ("office", "office"), ("style", "style"), ("table", "table"), ("text", "text"), ("number", "datastyle"),
        ("fo", "xsl-fo-compatible"), ("config", "config"),
    )
)  # fmt: skip
_HEAD = f'<?xml version="1.0" encoding="UTF-8"?><office:document-content {_NAMESPACES} office:version="1.3">'
_STYLES = (
    '<number:text-style style:name="as-text"><number:text-content/></number:text-style>'
    '<style:style style:name="text" style:family="table-cell" style:data-style-name="as-text"/>'
    '<style:style style:name="bold" style:family="table-cell" style:data-style-name="as-text">'
    '<style:text-properties fo:font-weight="bold"/></style:style>'
)
_MANIFEST = (
    '<?xml version="1.0" encoding="UTF-8"?><manifest:manifest '
    'xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">'
    '<manifest:file-entry manifest:full-path="/" '
    'manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/>'
    '<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/>'
    '<manifest:file-entry manifest:full-path="settings.xml" manifest:media-type="text/xml"/></manifest:manifest>'
)
_SETTINGS = (
    f'<?xml version="1.0" encoding="UTF-8"?><office:document-settings {_NAMESPACES} office:version="1.3">'
    '<office:settings><config:config-item-set config:name="ooo:view-settings">'
    '<config:config-item-map-indexed config:name="Views"><config:config-item-map-entry>'
    '<config:config-item-map-named config:name="Tables">{}</config:config-item-map-named>'
    "</config:config-item-map-entry></config:config-item-map-indexed></config:config-item-set>"
    "</office:settings></office:document-settings>"
)
