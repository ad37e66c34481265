"""What came back and is not certain, one after the other, with one key to settle each."""

from __future__ import annotations

from prompt_toolkit.application import Application
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import FormattedTextControl, Layout, Window
from prompt_toolkit.styles import Style

from barnacle.core.errors import BarnacleError
from barnacle.core.text import count, visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import returns
from barnacle.jobs.mail.returns import Unsure

_STYLE = Style([("title", "bold"), ("keys", "italic"), ("asks", "bold")])


def walk(desk: Desk, some: list[Unsure]) -> str:
    """Ask for each; what is decided is done at once. Returns what it came to, in words."""
    at, settled, remark = 0, 0, ""

    def text() -> StyleAndTextTuples:
        if at >= len(some):
            return [
                ("class:title", "That was the last one.\n\n"),
                ("", f"{remark}\n\n"),
                ("class:keys", "Escape  stop"),
            ]
        one = some[at]
        about = one.about if one.about != one.sender else ""
        rows = (
            ("From", one.sender), ("Subject", one.subject), ("About", about), ("Why not certain", one.why),
            ("Where", one.place),
        )  # fmt: skip
        kind = f"{'an' if one.kind[0] in 'aeiou' else 'a'} {one.kind}"
        lines: StyleAndTextTuples = [("class:title", f"{at + 1} of {len(some)}: this may be {kind}\n\n")]
        lines += [("", f"  {name:<17}{visible(value, 200)}\n") for name, value in rows if value]
        does = f"y  do it: {visible(one.command, 160)}\n" if one.command else ""
        lines += [("class:asks", f"\n{does}"), ("class:keys", "n  leave it   b  back   Escape  stop\n\n"), ("", remark)]
        return lines

    keys = KeyBindings()

    @keys.add("y")
    def _(event: KeyPressEvent) -> None:
        nonlocal at, settled, remark
        if at < len(some) and (settling := some[at].settling):
            try:
                remark = f"Done: {returns.settle(desk, settling)}."
                settled += 1
            except BarnacleError as error:
                remark = str(error)
            at += 1

    @keys.add("n")
    def _(event: KeyPressEvent) -> None:
        nonlocal at, remark
        at, remark = min(at + 1, len(some)), ""

    @keys.add("b")
    def _(event: KeyPressEvent) -> None:
        nonlocal at, remark
        at, remark = max(at - 1, 0), ""

    @keys.add("escape")
    @keys.add("c-c")
    def _(event: KeyPressEvent) -> None:
        event.app.exit()

    application: Application[None] = Application(
        Layout(Window(FormattedTextControl(text, show_cursor=False), wrap_lines=True)),
        key_bindings=keys,
        full_screen=True,
        style=_STYLE,
    )
    application.ttimeoutlen = 0.05  # Escape alone is a key here
    application.run()
    return f"{count(settled, 'message')} settled, {len(some) - settled} left."
