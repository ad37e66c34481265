"""Addresses that cannot be right, each with what was probably meant, and one key to say so."""

from __future__ import annotations

from collections.abc import Sequence

from prompt_toolkit.application import Application
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import FormattedTextControl, Layout, Window
from prompt_toolkit.styles import Style

from barnacle.core.text import visible
from barnacle.jobs.imports.report import Defect

_STYLE = Style([("title", "bold"), ("keys", "italic")])


def choose(some: Sequence[Defect]) -> frozenset[str]:
    """Ask for each whether the suggested spelling is meant. Returns the broken values for which it is."""
    at = 0
    meant: set[str] = set()

    def text() -> StyleAndTextTuples:
        one = some[min(at, len(some) - 1)]
        return [
            ("class:title", f"Mistyped address {min(at + 1, len(some))} of {len(some)}, in row {one.place}: "),
            ("", f"{visible(one.value, 80)}, since {one.reason}.\nDid you mean "),
            ("class:title", visible(one.suggestion, 80)),
            ("", "?   "),
            ("class:keys", "y yes   n no   a yes to all the rest   Escape no to all the rest"),
        ]

    keys = KeyBindings()

    def step(event: KeyPressEvent, number: int, yes: bool) -> None:
        nonlocal at
        meant.update(one.value for one in some[at : at + number] if yes)
        at += number
        if at >= len(some):
            event.app.exit()

    for key, number, yes in (("y", 1, True), ("n", 1, False), ("a", len(some), True), ("escape", len(some), False)):
        keys.add(key)(lambda event, number=number, yes=yes: step(event, number, yes))
    keys.add("c-c")(lambda event: event.app.exit(exception=KeyboardInterrupt()))
    application: Application[None] = Application(
        Layout(Window(FormattedTextControl(text, show_cursor=False), wrap_lines=True, dont_extend_height=True)),
        key_bindings=keys,
        style=_STYLE,
        erase_when_done=True,
    )
    application.ttimeoutlen = 0.05  # Escape alone is a key here
    application.run()
    return frozenset(meant)
