"""The full-screen checklist."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable

from prompt_toolkit.application import Application, get_app
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import FormattedTextControl, HSplit, Layout, Window
from prompt_toolkit.styles import Style

from barnacle.core.checklist import Checklist, Line, chosen_numbers
from barnacle.core.errors import UnclearError
from barnacle.core.text import visible

# In two lines where there is less room.
_KEYS = ("Type to search · Tab ticks · Ctrl-A ticks all shown", "Enter saves · Escape cancels")
_STYLE = Style([("title", "bold"), ("cursor", "reverse"), ("keys", "italic")])


def pick(title: str, choices: Iterable[Line], ticked: Iterable[str]) -> set[str] | None:
    """Let the user tick some of the choices. Returns the keys of those ticked, or None for Escape.

    Raises UnclearError where there is no terminal to show it on.
    """
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UnclearError("A checklist needs a terminal. In a script, name people instead: WHO…, --without, --also.")
    checklist = Checklist(choices, ticked)
    if not fills_screen():
        return _by_numbers(title, checklist)
    application: Application[set[str] | None] = Application(
        Layout(_screen(title, checklist)), key_bindings=_keys(checklist), full_screen=True, style=_STYLE
    )
    application.ttimeoutlen = 0.05  # Escape alone is a key here; do not wait long for what could follow it
    return application.run()


def fills_screen() -> bool:
    """Whether the terminal can show more than one line after the other."""
    return os.environ.get("TERM", "") not in ("", "dumb")


def _by_numbers(title: str, checklist: Checklist) -> set[str] | None:
    """The same as a numbered list, on a terminal that only prints."""
    print(f"{visible(title)}: {len(checklist.ticked):,} of {len(checklist.choices):,} ticked")
    while True:
        for number, choice in enumerate(checklist.choices, 1):
            print(f"{number:>4}  {'[x]' if choice.key in checklist.ticked else '[ ]'} {visible(choice.line)}")
        typed = input("Numbers to tick or untick (1,3-5), Enter to save, q to cancel: ").strip().lower()
        if typed in ("", "q"):
            return None if typed else checklist.ticked
        try:
            for number in chosen_numbers(typed, len(checklist.choices)):
                checklist.ticked ^= {checklist.choices[number - 1].key}
        except UnclearError as error:
            print(error)


def _screen(title: str, checklist: Checklist) -> HSplit:
    def heading() -> StyleAndTextTuples:
        count = f"{len(checklist.ticked):,} of {len(checklist.choices):,} ticked"
        return [("class:title", visible(title)), ("", f"   {count}\nSearch: {visible(checklist.filter)}")]

    def body() -> StyleAndTextTuples:
        size = get_app().output.get_size()
        start, lines = checklist.window(max(1, size.rows - 3 - len(keys_lines())))
        if not lines:
            return [("", "Nobody matches. Backspace removes a letter.")]
        text: StyleAndTextTuples = []
        for number, choice in enumerate(lines, start):
            mark = "[x]" if choice.key in checklist.ticked else "[ ]"
            here = "›" if number == checklist.cursor else " "
            line = f"{here} {mark} {visible(choice.line)}"[: size.columns - 1]
            text.append(("class:cursor" if number == checklist.cursor else "", line + "\n"))
        return text

    def keys_lines() -> list[str]:
        whole = " · ".join(_KEYS)
        return [whole] if len(whole) < get_app().output.get_size().columns else list(_KEYS)

    def keys() -> StyleAndTextTuples:
        return [("class:keys", "\n".join(keys_lines()))]

    return HSplit(
        [
            Window(FormattedTextControl(heading), height=2),
            Window(height=1, char="─"),
            Window(FormattedTextControl(body, focusable=True, show_cursor=False), always_hide_cursor=True),
            Window(FormattedTextControl(keys), height=lambda: len(keys_lines())),
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
