"""`barnacle` alone: where things stand and what to do next."""

from __future__ import annotations

import argparse

from barnacle import __version__
from barnacle.cli.console.outcome import stands
from barnacle.cli.console.screen import Screen
from barnacle.core.mail.delivery import in_words
from barnacle.core.text import count, people, visible
from barnacle.jobs import overview
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.overview import Standing


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    standing = overview.standing(desk)
    screen.value(
        {
            "version": __version__,
            "book": str(desk.path) if standing else None,
            "contacts": standing.contacts if standing else 0,
            "lists": standing.lists if standing else 0,
            "open_messages": [o.message.number for o in standing.open_messages] if standing else [],
            "offers": [{"list": o.title, "from": o.giver, "role": o.role} for o in standing.offers] if standing else [],
        }
    )
    screen.say(f"Barnacle {__version__} writes to a whole list without anybody seeing who else got it.")
    if standing is None:
        screen.say("You have no book yet. Make one: `barnacle setup`.")
        screen.say("Or first watch the whole job done on made-up people: `barnacle tour`.")
        return 0
    screen.say(f"In the book: {people(standing.contacts)} on {count(standing.lists, 'list')}.")
    if standing.open_messages:
        screen.say("In the outbox:")
        for one in standing.open_messages:
            screen.say(f"  {one.message.number}  {one.message.subject}: {stands(one)}, {in_words(one.counts)}")
    else:
        screen.say("Nothing is waiting in the outbox.")
    for sentence in standing.stale:
        screen.say(sentence)
    for offer in standing.offers:
        screen.say(
            f"{visible(offer.giver)} offers you {visible(offer.title)}: `barnacle share accept LIST`, or `decline`."
        )
    screen.say(_next(standing))
    return 0


def _next(standing: Standing) -> str:
    if late := next((one for one in standing.open_messages if one.message.is_overdue), None):
        return f"Next: {late.message.number} is overdue; `barnacle send {late.message.number}` sends it now."
    for one in standing.open_messages:
        number = one.message.number
        if one.message.begun is None and (one.message.due or not one.counts):
            continue  # its time is yet to come, or it is for nobody
        if one.state == "waiting":
            return f"Next: look at it with `barnacle preview {number}`, then `barnacle send {number}`."
        if one.state == "held":
            return f"Next: {number} is held; `barnacle outbox show {number}` says why."
        if one.counts.get("waiting") or one.counts.get("deferred"):
            return f"Next: `barnacle send {number} --resume`."
        return f"Next: `barnacle outbox show {number}` shows what became of each recipient."
    if not standing.contacts:
        return 'Next: `barnacle import FILE.csv --into "My list"`, or `barnacle contact add "NAME <ADDRESS>"`.'
    if not standing.lists:
        return 'Next: `barnacle list new "TITLE" NAME…` makes a list; `barnacle find` shows the people.'
    return (
        'Next: `barnacle list` shows the lists; `barnacle compose --for LIST --subject "…" --text "…"` writes to one.'
    )
