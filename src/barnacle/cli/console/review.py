"""Two contacts side by side, and one key to say what they are."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from prompt_toolkit.application import Application, get_app
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import FormattedTextControl, HSplit, Layout, Window
from prompt_toolkit.styles import Style

from barnacle.core.merging import ComparedRow
from barnacle.core.text import count, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.people import duplicates
from barnacle.jobs.people.duplicates import Pair, Sides

_STYLE = Style(
    [("title", "bold"), ("field", "italic"), ("differs", "bold"), ("cursor", "reverse"), ("keys", "italic"),
     ("for", ""), ("against", "ansired")]
)  # fmt: skip
_KEYS = (
    "m  one person: merge    t  two people   l       later\n"
    "f  field by field       b  back         Escape  stop for now"
)
_FIELD_KEYS = "↑ ↓  another field      ← →  whose value stays\nm    merge like this    f    done       Escape  stop"
_TITLE_WIDTH = 15
# The lines around the body: heading, rule, remark, keys.
_AROUND = 5


@dataclass(slots=True)
class Done:
    """What a review came to."""

    merged: int = 0
    apart: int = 0
    later: int = 0
    left: int = 0


class Review:
    """Goes through pairs, from each on its own; every decision is kept at once, so that it can stop at any time."""

    def __init__(self, desk: Desk, pairs: list[Pair]) -> None:
        self._desk = desk
        self._pairs = pairs
        self._at = 0
        self._decided: set[int] = set()
        self._done = Done()
        self._sides: Sides | None = None
        self._theirs: set[str] | None = None
        self._scroll = 0
        self._field = -1  # the row that is chosen from, or none
        self._remark = ""
        self._application: Application[None] | None = None

    def run(self) -> Done:
        """Ask until all pairs are decided or the user stops."""
        if self._find(1):
            self._application = Application(
                Layout(self._screen()), key_bindings=self._keys(), full_screen=True, style=_STYLE
            )
            self._application.ttimeoutlen = 0.05  # Escape alone is a key here
            self._application.run()
        self._done.left = sum(
            number not in self._decided and duplicates.look(self._desk, pair.one, pair.other) is not None
            for number, pair in enumerate(self._pairs)
        )
        return self._done

    def _find(self, step: int) -> bool:
        """Go to the next pair (or the one before) that still asks for a decision."""
        while 0 <= self._at < len(self._pairs):
            if self._at not in self._decided:
                pair = self._pairs[self._at]
                self._theirs, self._field, self._scroll = None, -1, 0
                self._sides = duplicates.look(self._desk, pair.one, pair.other)
                if self._sides is not None:
                    return True
            self._at += step
        return False

    def _go(self, step: int) -> None:
        before = self._at
        self._at += step
        if self._find(step):
            return
        if step < 0:
            self._at = before
            self._find(1)
            self._remark = "This is the first one left."
        elif self._application is not None:
            self._application.exit()

    def _look_again(self) -> bool:
        """Show the pair as it is now; where nothing is left to decide, False, and the next one."""
        pair = self._pairs[self._at]
        self._sides = duplicates.look(self._desk, pair.one, pair.other, self._theirs)
        if self._sides is None:
            self._remark = "That has been decided elsewhere in the meantime."
            self._go(1)
        return self._sides is not None and pair is self._pairs[min(self._at, len(self._pairs) - 1)]

    # What the keys do.

    def merge(self) -> None:
        """They are one person."""
        assert self._sides is not None
        merged = duplicates.merge_pair(self._desk, self._sides, self._theirs)
        if merged is None:
            if self._look_again():
                self._remark = "One of them has changed in the meantime; this is the current state."
            return
        self._done.merged += 1
        self._decided.add(self._at)
        self._remark = f"{merged.name} is one contact now. {' '.join(merged.notes)}"
        self._go(1)

    def apart(self) -> None:
        """They are two people."""
        assert self._sides is not None
        names = duplicates.set_apart(self._desk, [self._sides.left.uid, self._sides.right.uid])
        self._done.apart += 1
        self._decided.add(self._at)
        self._remark = f"{' and '.join(names)}: two people. You will not be asked about them again."
        self._go(1)

    def later(self) -> None:
        """Ask after all others, next time too."""
        assert self._sides is not None
        duplicates.put_off(self._desk, self._sides.left.uid, self._sides.right.uid)
        self._done.later += 1
        self._remark = "Left for later: it comes after all the others next time."
        self._go(1)

    def choose(self) -> None:
        """Go through the fields of which one value can stay, or end that."""
        assert self._sides is not None
        rows = self._choosable()
        self._field = rows[0] if rows and self._field < 0 else -1
        self._remark = "" if rows else "There is nothing to choose: everything is kept."
        if self._field >= 0 and self._theirs is None:
            # Begin with what merging would do by itself.
            self._theirs = {r.choice for r in self._sides.rows if r.choice and r.merged == r.right != r.left}

    def _choosable(self) -> list[int]:
        return [n for n, row in enumerate(self._sides.rows) if row.choice] if self._sides else []

    def move(self, by: int) -> None:
        """To another field to choose."""
        rows = self._choosable()
        if self._field in rows:
            self._field = rows[max(0, min(len(rows) - 1, rows.index(self._field) + by))]

    def take(self, right: bool) -> None:
        """Keep the left contact's value of this field, or the right one's."""
        if self._sides is not None and self._field >= 0 and self._theirs is not None:
            choice = self._sides.rows[self._field].choice
            (self._theirs.add if right else self._theirs.discard)(choice)
            field = self._field
            self._look_again()
            self._field = field

    # What is shown.

    def _screen(self) -> HSplit:
        def foot() -> StyleAndTextTuples:
            return [("class:keys", _FIELD_KEYS if self._field >= 0 else _KEYS)]

        body = FormattedTextControl(self._body, focusable=True, show_cursor=False)
        remark = FormattedTextControl(lambda: [("", visible(self._remark))])
        return HSplit(
            [
                Window(FormattedTextControl(self._heading), height=1),
                Window(height=1, char="─"),
                Window(body, always_hide_cursor=True),
                Window(remark, wrap_lines=True, dont_extend_height=True),
                Window(FormattedTextControl(foot), height=2),
            ]
        )

    def _heading(self) -> StyleAndTextTuples:
        left = len(self._pairs) - len(self._decided)
        pair = self._pairs[min(self._at, len(self._pairs) - 1)]
        return [
            ("class:title", f"Is this one person? {pair.verdict.capitalize()}."),
            ("", f"   {self._at + 1} of {count(len(self._pairs), 'pair')}, {left} to decide"),
        ]

    def _body(self) -> StyleAndTextTuples:
        size = get_app().output.get_size()
        lines = self._lines(size.columns)
        height = size.rows - _AROUND
        self._scroll = max(0, min(self._scroll, len(lines) - height))
        shown = lines[self._scroll : self._scroll + height]
        if self._scroll + height < len(lines):
            shown[-1] = [("class:keys", f"{'':<{_TITLE_WIDTH}}… Page Down shows more")]
        return [part for line in shown for part in (*line, ("", "\n"))]

    def _lines(self, width: int) -> list[StyleAndTextTuples]:
        if self._sides is None:
            return []
        pair = self._pairs[min(self._at, len(self._pairs) - 1)]
        lines: list[StyleAndTextTuples] = []
        for style, title, reasons in (("for", "For", pair.reasons), ("against", "Against", pair.against)):
            said = _wrap("; ".join(visible(r) for r in reasons), width - _TITLE_WIDTH - 1)
            lines += [
                [("class:field", f"{'' if n else title:<{_TITLE_WIDTH}}"), (f"class:{style}", line)]
                for n, line in enumerate(said)
            ]
        column = (width - _TITLE_WIDTH) // 2
        lines += [[], [("class:title", f"{'':<{_TITLE_WIDTH}}{'One':<{column}}Another")]]
        for number, row in enumerate(self._sides.rows):
            lines += self._row(number, row, column)
        new = [row for row in self._sides.rows if row.choice or row.merged != row.left]
        if new:
            lines.append([("class:title", f"{'':<{_TITLE_WIDTH}}Together")])
        for row in new:
            lines += [
                [("class:field", f"{'' if n else '  ' + row.title:<{_TITLE_WIDTH}}"), ("", line)]
                for n, line in enumerate(_wrap(visible(row.merged), width - _TITLE_WIDTH - 1))
            ]
        return lines

    def _row(self, number: int, row: ComparedRow, column: int) -> list[StyleAndTextTuples]:
        left, right = (_wrap(visible(value), column - 1) for value in (row.left, row.right))
        differs = "class:differs" if row.differs else ""
        styles = [differs, differs]
        if number == self._field:
            styles[row.choice in (self._theirs or ())] = "class:cursor"
        lines: list[StyleAndTextTuples] = []
        for line in range(max(len(left), len(right))):
            title = f"{'≠' if row.differs else ' '} {row.title}" if line == 0 else ""
            one, other = (cell[line] if line < len(cell) else "" for cell in (left, right))
            gap = " " * (column - len(one))
            lines.append([("class:field", f"{title:<{_TITLE_WIDTH}}"), (styles[0], one), ("", gap), (styles[1], other)])
        return lines

    def _keys(self) -> KeyBindings:
        keys = KeyBindings()

        acts: dict[str, Callable[[], None]] = {"m": self.merge, "t": self.apart, "l": self.later, "f": self.choose}
        for name, act in acts.items():

            @keys.add(name)
            def _(event: KeyPressEvent, act: Callable[[], None] = act) -> None:
                self._remark = ""
                act()

        for name, by in (("up", -1), ("down", 1)):

            @keys.add(name)
            def _(event: KeyPressEvent, by: int = by) -> None:
                self.move(by)

        for name, right in (("left", False), ("right", True)):

            @keys.add(name)
            def _(event: KeyPressEvent, right: bool = right) -> None:
                self.take(right)

        for name, by in (("pageup", -10), ("pagedown", 10)):

            @keys.add(name)
            def _(event: KeyPressEvent, by: int = by) -> None:
                self._scroll = max(0, self._scroll + by)

        @keys.add("b")
        def _(event: KeyPressEvent) -> None:
            self._go(-1)

        @keys.add("escape", eager=True)
        @keys.add("c-c")
        @keys.add("q")
        def _(event: KeyPressEvent) -> None:
            event.app.exit()

        return keys


def _wrap(text: str, width: int) -> list[str]:
    import textwrap

    # An address that is too long is cut before its @.
    cut = " ".join(w if len(w) <= width else w.replace("@", " @") for w in text.split(" "))
    return textwrap.wrap(cut, max(width, 10), break_on_hyphens=False)
