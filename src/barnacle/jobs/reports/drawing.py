"""Reports as pictures and pages (PNG, SVG, PDF), by Matplotlib: no window, no network. Words stand at the marks,
patterns beside colours, so that they can be read in grey."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path

from barnacle.core.errors import FileError, UnclearError
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.files.atomic import replacing_whole
from barnacle.jobs.reports.numbers import Deliveries, Growth, Heard, Overlap, Reach, Report
from barnacle.jobs.reports.wording import (
    OUTCOMES,
    REACH_PARTS,
    day_in_words,
    deliveries_title,
    heard_in_words,
    month_in_words,
    no_deliveries,
    outcome_in_words,
    reach_in_words,
)

KINDS = ("png", "svg", "pdf")
# Most bars and lines in one picture: more cannot be read. The rest is said.
MOST_BARS, _MOST_LINES, _MOST_TOGETHER = 30, 6, 15
_TITLE = 34
_SMALL = 12
_WIDE = 11.0  # inches; 110 dots each make 1210
# Shades that differ in grey, each with a pattern of its own; chosen by lightness (CIE L* of 35, 60, 75, 88 and 95).
_LOOKS = {
    "reached": ("#1f5a7a", ""),
    "accepted": ("#1f5a7a", ""),
    "failing": ("#d98a3d", "///"),
    "refused": ("#d98a3d", "///"),
    "opted_out": ("#b9b9b9", "..."),
    "deferred": ("#b9b9b9", "..."),
    "no_address": ("#f0f0f0", "xx"),
    "doubtful": ("#f0f0f0", "xx"),
    "other": ("#e3d9f0", "\\\\"),
    "refused_as_a_message": ("#e3d9f0", "\\\\"),
}
_FONTS = [
    "DejaVu Sans",
    "Noto Sans CJK JP",
    "Noto Sans CJK SC",
    "Noto Sans Arabic",
    "WenQuanYi Zen Hei",
    "Arial Unicode MS",
]


class Sheet(NamedTuple):
    """A list to be printed: its title, what stands under that, the columns, and a row for each person."""

    title: str
    about: str
    columns: Sequence[str]
    rows: Sequence[Sequence[str]]


def kind_of(path: Path) -> str:
    """What a file is to be, by its name. Raises UnclearError."""
    kind = path.suffix.lower().lstrip(".")
    if kind not in KINDS:
        raise UnclearError(f"`{visible(path.name, 60)}` is no picture. Name it .png, .svg or .pdf.")
    return kind


def _library() -> Any:
    """Matplotlib, set up to draw without a window. Raises FileError where it is not installed."""
    try:
        import matplotlib
    except ImportError:
        raise FileError(
            "To draw, Barnacle needs Matplotlib: pip install 'barnacle[report]'. Without --out the same stands here as "
            "bars."
        ) from None
    matplotlib.use("Agg")
    import logging

    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    import matplotlib.font_manager as fonts
    import matplotlib.pyplot as plot

    there = {font.name for font in fonts.fontManager.ttflist}
    plot.rcParams.update(
        {
            "font.family": [name for name in _FONTS if name in there] or ["sans-serif"],
            "font.size": 13,
            "svg.fonttype": "none",
            "axes.spines.top": False,
            "axes.spines.right": False,
            "hatch.linewidth": 0.6,
            "figure.dpi": 110,
            "text.parse_math": False,
            "axes.titlesize": 16,
            "axes.titleweight": "bold",
            "axes.titlelocation": "left",
            "axes.titlepad": 14,
        }
    )  # fmt: skip
    return plot


def draw(what: str, found: Report, path: Path) -> None:
    """Draw a part of a report (`reach`, `deliveries`, `overlap`) or `all` of it into a file. Raises FileError,
    UnclearError."""
    kind = kind_of(path)
    plot = _library()
    parts: dict[str, list[Callable[[Any], None]]] = {
        "reach": [lambda axes: _reach(axes, found.reach), lambda axes: _growth(axes, found.growth)],
        "deliveries": [
            lambda axes: _deliveries(axes, found.deliveries),
            lambda axes: _refusals(axes, found.deliveries),
        ],
        "overlap": [lambda axes: _overlap(axes, found.overlap), lambda axes: _heard(axes, found.heard)],
    }
    wanted = [one for some in parts.values() for one in some] if what == "all" else parts[what]
    heights = _heights(what, found)
    figure, places = plot.subplots(
        len(wanted), 1, figsize=(_WIDE, sum(heights) + 0.9 * len(wanted)), height_ratios=heights, layout="constrained"
    )
    for axes, one in zip(places, wanted, strict=True):
        one(axes)
    _write(plot, figure, kind, path)


def _heights(what: str, found: Report) -> list[float]:
    """Inches for each part, by how much is in it."""
    bars = min(len(found.reach), MOST_BARS)
    sets = len(found.overlap.lists)
    heights = {
        "reach": [max(1.4, 0.36 * bars + 0.6), 3.4],
        "deliveries": [3.0, max(1.0, 0.3 * min(len(found.deliveries.refusals), 10) + 0.6)],
        "overlap": [max(2.0, 2.2 + 0.3 * sets), max(1.0, 0.34 * len(found.heard.busiest) + 0.6)],
    }
    return [one for some in heights.values() for one in some] if what == "all" else heights[what]


def _write(plot: Any, figure: Any, kind: str, path: Path) -> None:
    import warnings

    try:
        with replacing_whole(path) as part, warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a sign that no font here has is drawn as a box
            figure.savefig(part, format=kind, metadata={"Date": None} if kind == "svg" else None, facecolor="white")
    finally:
        plot.close("all")


def _short(title: str) -> str:
    whole = tidy(title, _TITLE + 1)
    return whole if len(whole) <= _TITLE else f"{whole[: _TITLE - 1]}…"


def _empty(axes: Any, title: str, sentence: str) -> None:
    axes.set_title(title)
    axes.axis("off")
    axes.text(0.0, 0.6, sentence, transform=axes.transAxes, ha="left", va="center", color="#444444")


def _reach(axes: Any, some: Sequence[Reach]) -> None:
    if not some:
        _empty(axes, "Whom a message to each list reaches", "There are no lists yet.")
        return
    shown = sorted(some, key=lambda one: -one.members)[:MOST_BARS]
    most = max(max(one.members for one in shown), 1)
    for place, one in enumerate(shown):
        left = 0
        for name in REACH_PARTS:
            number = getattr(one, name)
            colour, hatch = _LOOKS[name]
            axes.barh(
                place, number, left=left, color=colour, hatch=hatch, edgecolor="#333333", linewidth=0.5, height=0.72
            )
            left += number
        axes.text(left + most * 0.01, place, reach_in_words(one), va="center", fontsize=_SMALL)
    axes.set_yticks(range(len(shown)), [_short(one.title) for one in shown])
    axes.invert_yaxis()
    axes.set_xlim(0, most * 2.1)
    axes.xaxis.set_visible(False)
    axes.spines["bottom"].set_visible(False)
    axes.tick_params(axis="y", length=0)
    axes.set_title("Whom a message to each list reaches")
    if len(some) > len(shown):
        axes.set_xlabel(f"and {len(some) - len(shown)} smaller lists")
        axes.xaxis.set_visible(True)
        axes.set_xticks([])


def _growth(axes: Any, some: Sequence[Growth]) -> None:
    lines = sorted((one for one in some if one.days), key=lambda one: -one.days[-1][1])[:_MOST_LINES]
    if not lines:
        _empty(axes, "Members over time", "Nobody has come to a list or left one yet.")
        return
    styles = ("-", "--", ":", "-.", (0, (5, 1)), (0, (1, 2)))
    first = min(date.fromisoformat(one.days[0][0]) for one in lines).toordinal()
    # To this day: whoever has not come or gone since is there still.
    last = max(date.today().toordinal(), *(date.fromisoformat(one.days[-1][0]).toordinal() for one in lines))
    span = max(last - first, 1)
    begin = last - span * 1.02  # a line needs a place to rise from
    top = max(number for one in lines for _, number in one.days) or 1
    heights = _apart([one.days[-1][1] for one in lines], top * 0.11)
    for one, style, height in zip(lines, styles, heights, strict=False):
        days = [date.fromisoformat(day).toordinal() for day, _ in one.days]
        numbers = [number for _, number in one.days]
        axes.step([begin, *days, last], [0, *numbers, numbers[-1]], where="post", color="#1f3a4a", linestyle=style)
        words = f" {_short(one.title)}: {numbers[-1]:,}{' (those there now)' if one.partly else ''}"
        # A thin line leads from the end to the words, which may not stand upon each other.
        axes.plot([last, last + span * 0.03], [numbers[-1], height], color="#999999", linewidth=0.7, clip_on=False)
        axes.annotate(words, (last + span * 0.03, height), va="center", fontsize=_SMALL, annotation_clip=False)
    axes.set_title("Members over time")
    axes.set_ylim(min(0.0, heights[-1]) - top * 0.03, max(top, heights[0]) * 1.08)
    marks = list(dict.fromkeys(first + round((last - first) * part / 4) for part in range(5)))
    axes.set_xlim(begin - span * 0.01, last + span * 0.45)
    axes.set_xticks(marks, [day_in_words(date.fromordinal(mark).isoformat()) for mark in marks])
    axes.set_ylabel("people")


def _apart(numbers: Sequence[int], least: float) -> list[float]:
    """Heights for words, of numbers from the largest down, as near to them as they can be without touching."""
    heights = [float(number) for number in numbers]
    for _ in range(60):
        for place in range(len(heights) - 1):
            if (short := least - (heights[place] - heights[place + 1])) > 0:
                heights[place] += short / 2
                heights[place + 1] -= short / 2
    return heights


def _deliveries(axes: Any, found: Deliveries) -> None:
    title = deliveries_title(found)
    if not found.spans:
        _empty(axes, title, no_deliveries(found))
        return
    most = max(sum(one[1:]) for one in found.spans) or 1
    for place, one in enumerate(found.spans):
        below = 0
        for name in OUTCOMES:
            number = getattr(one, name)
            colour, hatch = _LOOKS[name]
            axes.bar(
                place, number, bottom=below, color=colour, hatch=hatch, edgecolor="#333333", linewidth=0.5, width=0.8
            )
            below += number
        words = [f"{below:,}"] if below else []
        words += [f"{getattr(one, name):,} {outcome_in_words(name)}" for name in OUTCOMES[1:] if getattr(one, name)]
        if len(found.spans) <= 9:
            axes.text(place, below + most * 0.02, "\n".join(words), ha="center", va="bottom", fontsize=_SMALL)
    step = max(1, -(-len(found.spans) // 5))
    places = range(0, len(found.spans), step)
    in_words = month_in_words if found.by_month else day_in_words
    axes.set_xticks(places, [in_words(found.spans[place].begins) for place in places])
    wide = max(len(found.spans), 5)
    axes.set_xlim(-0.6, wide * 1.2)
    axes.set_ylim(0, most * 1.35)
    axes.set_ylabel("recipients")
    axes.set_title(title)
    _named_beside(axes, found, len(found.spans) - 1, most, wide)


def _named_beside(axes: Any, found: Deliveries, last: int, most: int, wide: int) -> None:
    """What each pattern is, beside the last bar and in the order in which they stand upon each other."""
    there = [name for name in OUTCOMES if any(getattr(one, name) for one in found.spans)]
    step = most * 0.14
    for place, name in enumerate(there):
        colour, hatch = _LOOKS[name]
        height = step * (place + 0.4)
        axes.bar(
            last + 0.4 + wide * 0.04, step * 0.6, bottom=height, width=wide * 0.02, color=colour, hatch=hatch,
            edgecolor="#333333", linewidth=0.5,
        )  # fmt: skip
        axes.text(last + 0.4 + wide * 0.06, height + step * 0.3, outcome_in_words(name), va="center", fontsize=_SMALL)


def _refusals(axes: Any, found: Deliveries) -> None:
    if not found.refusals:
        _empty(axes, "Refused, by domain", "Nobody was refused.")
        return
    shown = found.refusals[:10]
    _bars(axes, "Refused, by domain", [(domain, number, f"{number:,}") for domain, number in shown], _LOOKS["refused"])


def _bars(axes: Any, title: str, rows: Sequence[tuple[str, int, str]], look: tuple[str, str]) -> None:
    most = max(number for _, number, _ in rows) or 1
    for place, (_, number, words) in enumerate(rows):
        axes.barh(place, number, color=look[0], hatch=look[1], edgecolor="#333333", linewidth=0.5, height=0.7)
        axes.text(number + most * 0.01, place, words, va="center", fontsize=_SMALL)
    axes.set_yticks(range(len(rows)), [_short(name) for name, _, _ in rows])
    axes.invert_yaxis()
    axes.set_xlim(0, most * 1.6)
    axes.xaxis.set_visible(False)
    axes.spines["bottom"].set_visible(False)
    axes.tick_params(axis="y", length=0)
    axes.set_title(title)


def _overlap(axes: Any, found: Overlap) -> None:
    """A column for each set of lists with people who are on just these: how many above, which lists below."""
    title = "Who is on which lists together"
    if not found.together:
        _empty(axes, title, "Nobody is on a list yet.")
        return
    shown = found.together[:_MOST_TOGETHER]
    titles = [name for name, _ in found.lists]
    most = max(one.people for one in shown)
    unit = most / 9.0  # the height of a row of the matrix, in people
    for place, one in enumerate(shown):
        axes.bar(place, one.people, color="#1f5a7a", width=0.6)
        axes.text(place, one.people + most * 0.02, f"{one.people:,}", ha="center", va="bottom", fontsize=_SMALL)
        rows = [titles.index(name) for name in one.titles]
        for row in range(len(titles)):
            on = row in rows
            axes.plot(place, -unit * (row + 1), "o", markersize=7, color="#1f3a4a" if on else "#dddddd")
        axes.plot([place, place], [-unit * (min(rows) + 1), -unit * (max(rows) + 1)], color="#1f3a4a", linewidth=1.5)
    labels = [f"{_short(name)} ({number:,})" for name, number in found.lists]
    axes.set_yticks([-unit * (row + 1) for row in range(len(titles))], labels)
    axes.set_ylim(-unit * (len(titles) + 0.7), most * 1.12)
    axes.set_xlim(-0.6, max(len(shown) - 0.4, 6.0))
    axes.xaxis.set_visible(False)
    for name in ("left", "bottom"):
        axes.spines[name].set_visible(False)
    axes.tick_params(axis="y", length=0)
    left = f", the {len(found.lists)} largest lists" if found.left_out else ""
    axes.set_title(f"{title}: people on just these{left}")


def _heard(axes: Any, found: Heard) -> None:
    title = "Who hears most, in twelve months"
    if not found.busiest:
        _empty(axes, title, "No message was accepted in that time.")
        return
    rows = [(one.name, one.messages, heard_in_words(one)) for one in found.busiest]
    _bars(axes, f"{title} ({found.a_month:.1f} a month for each on average)", rows, _LOOKS["accepted"])


def draw_sheet(sheet: Sheet, path: Path) -> None:
    """A list on pages to print: names, numbers, what was chosen. A picture has the first page alone. Raises FileError,
    UnclearError."""
    kind = kind_of(path)
    plot = _library()
    from matplotlib.backends.backend_pdf import PdfPages

    pages = _pages(plot, sheet)
    try:
        if kind == "pdf":
            with replacing_whole(path) as part, PdfPages(part) as out:
                for page in pages:
                    out.savefig(page)
                    plot.close(page)
        else:
            _write(plot, next(iter(pages)), kind, path)
    finally:
        plot.close("all")


_ROWS = 42  # of a page


def pages_of(sheet: Sheet) -> int:
    """How many pages a sheet has."""
    return max(1, -(-len(sheet.rows) // _ROWS))


def _pages(plot: Any, sheet: Sheet) -> Any:
    widths = [
        min(max([len(title), *(len(row[place]) for row in sheet.rows), 4]), 40)
        for place, title in enumerate(sheet.columns)
    ]
    total = sum(widths) + 2 * len(widths)
    size = min(10.0, 1050.0 / max(total, 60))
    starts = [sum(widths[:place]) + 2 * place for place in range(len(widths))]
    number = pages_of(sheet)
    for page in range(number):
        figure = plot.figure(figsize=(8.27, 11.69))  # A4 (ISO 216)
        axes = figure.add_axes((0.07, 0.05, 0.86, 0.9))
        axes.axis("off")
        axes.set_xlim(0, max(total, 1))
        axes.set_ylim(_ROWS + 4, 0)
        axes.text(0, 0.4, tidy(sheet.title, 70), fontsize=15, fontweight="bold", va="center")
        axes.text(0, 1.6, tidy(sheet.about, 110), fontsize=9, va="center", color="#444444")
        for start, title in zip(starts, sheet.columns, strict=True):
            axes.text(start, 3, title, fontsize=size, fontweight="bold", va="center")
        axes.axhline(3.5, color="#333333", linewidth=0.8)
        for line, row in enumerate(sheet.rows[page * _ROWS : (page + 1) * _ROWS]):
            if line % 2:
                axes.axhspan(line + 3.55, line + 4.5, color="#f2f2f2", linewidth=0)
            for start, cell, width in zip(starts, row, widths, strict=True):
                axes.text(start, line + 4, tidy(cell, width), fontsize=size, va="center")
        if number > 1:
            axes.text(total, 0.4, f"{page + 1} of {number}", fontsize=9, va="center", ha="right")
        if not sheet.rows:
            axes.text(0, 5, "Nobody is on this list.", fontsize=size)
        yield figure
