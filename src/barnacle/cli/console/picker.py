"""The full-screen checklist."""

from __future__ import annotations

import sys
from collections.abc import Iterable

from prompt_toolkit.application import Application, get_app
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import FormattedTextControl, HSplit, Layout, Window
from prompt_toolkit.styles import Style

from barnacle.core.checklist import Checklist, Line
from barnacle.core.errors import UnclearError
from barnacle.core.text import visible

_KEYS = "Type to narrow · Tab ticks · Ctrl-A ticks all shown · Enter takes · Escape leaves all as it was"
_STYLE = Style([("title", "bold"), ("cursor", "reverse"), ("keys", "italic")])


def pick(title: str, choices: Iterable[Line], ticked: Iterable[str]) -> set[str] | None:
    """Let the user tick some of the choices. Returns the keys of those ticked, or None for Escape.

    Raises UnclearError where there is no terminal to show it on.
    """
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UnclearError("Picking needs a terminal. In a script, name who is meant: WHO…, --without, --also.")
    checklist = Checklist(choices, ticked)
    application: Application[set[str] | None] = Application(
        Layout(_screen(title, checklist)), key_bindings=_keys(checklist), full_screen=True, style=_STYLE
    )
    application.ttimeoutlen = 0.05  # Escape alone is a key here; do not wait long for what could follow it
    return application.run()


def _screen(title: str, checklist: Checklist) -> HSplit:
    def heading() -> StyleAndTextTuples:
        count = f"{len(checklist.ticked):,} of {len(checklist.choices):,} ticked"
        return [("class:title", visible(title)), ("", f"   {count}\nNarrow to: {visible(checklist.filter)}")]

    def body() -> StyleAndTextTuples:
        size = get_app().output.get_size()
        start, lines = checklist.window(max(1, size.rows - 4))
        if not lines:
            return [("", "Nobody has all of that in it. Backspace takes a letter back.")]
        text: StyleAndTextTuples = []
        for number, choice in enumerate(lines, start):
            mark = "[x]" if choice.key in checklist.ticked else "[ ]"
            line = f"{mark} {visible(choice.line)}"[: size.columns - 1]
            text.append(("class:cursor" if number == checklist.cursor else "", line + "\n"))
        return text

    return HSplit(
        [
            Window(FormattedTextControl(heading), height=2),
            Window(height=1, char="─"),
            Window(FormattedTextControl(body, focusable=True, show_cursor=False), always_hide_cursor=True),
            Window(FormattedTextControl([("class:keys", _KEYS)]), height=1),
        ]
    )


def _keys(checklist: Checklist) -> KeyBindings:
    keys = KeyBindings()
    for key, by in (("up", -1), ("down", 1), ("pageup", -15), ("pagedown", 15), ("home", -(10**9)), ("end", 10**9)):

        @keys.add(key)
        def _(event: KeyPressEvent, by: int = by) -> None:
            checklist.move(by)

    @keys.add("tab")
    def _(event: KeyPressEvent) -> None:
        checklist.tick()

    @keys.add(" ")
    def _(event: KeyPressEvent) -> None:
        if checklist.filter:  # a space between two words that are typed
            checklist.type(" ")
        else:
            checklist.tick()

    @keys.add("c-a")
    def _(event: KeyPressEvent) -> None:
        checklist.tick_shown()

    @keys.add("backspace")
    def _(event: KeyPressEvent) -> None:
        checklist.rub_out()

    @keys.add("enter")
    def _(event: KeyPressEvent) -> None:
        event.app.exit(result=checklist.ticked)

    @keys.add("escape", eager=True)
    @keys.add("c-c")
    def _(event: KeyPressEvent) -> None:
        event.app.exit(result=None)

    @keys.add("<any>")
    def _(event: KeyPressEvent) -> None:
        if event.data.isprintable():
            checklist.type(event.data)

    return keys
