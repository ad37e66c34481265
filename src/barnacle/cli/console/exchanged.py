"""What an exchange with a hub did for a list, in words."""

from __future__ import annotations

import shlex

from barnacle.core.text import count, listed, visible
from barnacle.core.typed import TYPE_CHECKING

if TYPE_CHECKING:
    from barnacle.jobs.sharing.shared_list import Exchanged


def told(one: Exchanged) -> str:
    """What came in and went out, in words; empty where nothing did."""
    changed, off = len(one.changed - one.came), len(one.off - one.came)
    parts = [
        f"{count(len(one.came), 'member')} arrived" if one.came else "",
        f"{count(changed, 'member')} {'was' if changed == 1 else 'were'} changed" if changed else "",
        f"{count(off, 'member')} {'was' if off == 1 else 'were'} taken off" if off else "",
        f"{count(one.sent, 'change')} of yours sent" if one.sent else "",
        f"{count(one.conflicts, 'conflict')} to settle (`barnacle share conflicts`)" if one.conflicts else "",
    ]
    return listed([part for part in parts if part])


def met(one: Exchanged) -> str:
    """What to say of those who were in the book before."""
    number = len(one.met)
    verb = "was" if number == 1 else "were"
    who = f"{number} of them {verb} already in your book; your own details of them are unchanged."
    command = f"barnacle share follow {shlex.quote(visible(one.title))}"
    return f"{who} `{command}` makes them follow the list from then on."


def stayed(one: Exchanged) -> str:
    """What to say of own changes to people who have only met the list."""
    names = listed([visible(name) for name in one.stayed], 8)
    command = f"barnacle share follow {shlex.quote(visible(one.title))}"
    return f"{one.title}: your changes to {names} stay with you; `{command}` shares what you change from then on."
