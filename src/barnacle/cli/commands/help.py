"""`barnacle help`: topics that concern several commands."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.core.rules import TEXT_FIELDS
from barnacle.jobs.desk.desk import Desk

TOPICS = {
    "rules": """\
A rule keeps a list's members up to date by itself:

  barnacle list new "Office" --where 'domain is tidewick.example'
  barnacle list rule "Night pilots" 'label is pilot and not org has Yard'
  barnacle find --where 'phone starts 01632 or in "Berth holders"'

Fields: FIELDS.
With them: is, has, starts, ends, missing. Capitals and accents do not count.
Dates: added, written (when a message was last sent). With them: before, after, is, missing;
a date is written 2026-11-23, 2026-11 or 2026.
Fields of your own: field "Voice" is tenor, with the same words; before and after for days and
numbers. `field Paid is yes` knows yes, x, ja, oui and the like.
in "TITLE" stands for everybody on another list. Put them together with and, or, not and
brackets; and binds closer than or. Values of several words stand in quotes.

Hand-made exceptions stay: `list take` keeps somebody off whom the rule brings in,
`list add` keeps somebody on whom it does not. `list show` says which part of the rule
or which hand brought each one in. `list rule LIST --none` ends the rule.""",
    "naming": """\
Name a contact by its uid, an address, or any words of the name; a list by its title, the
beginning of it, or words of it. Capitals and accents do not count, and an exact name
comes before longer ones. If several fit, you pick one, or, in a script, they are listed.

label:NAME stands for everybody with a label, find:WORDS for everybody whom a search finds,
where:RULE for everybody who fits a rule, mN for the recipients of a sent message (m3:refused for
those in one state). So do the commands that label, opt out, take off, remove and export.
"NAME <ADDRESS>" makes the contact if nobody has that address; a - reads pasted lines.""",
    "sharing": """\
Colleagues keep one list through a hub, each with a book of their own. Whoever runs the
hub gives you its address and a code: `barnacle hub connect URL --code CODE`.

`share offer LIST --with ADDRESS` offers a list: as reader (sees it), editor (changes it too) or
owner (also offers it, gives roles, renames, stops it). `share waiting`, `accept` and `decline` are the
other side. Until an offer is accepted, it shows no more than its title and who makes it.

`sync` exchanges what has changed, both ways; in between you work on as always. Where two have
changed the same field, the hub's value counts and the other is kept: `share conflicts`.
Shared are name, the address the list uses, phones, organisation, job, web page and opt-outs; labels,
notes, other addresses and fields of your own only with --include. Phones and desktop programs use the same
lists with a token: `barnacle hub token new --for phone`.""",
    "privacy": """\
Messages are blind: your own address stands in To, the recipients only in the envelope.
Before anything is sent the message is searched for every address of everybody who gets
it or was left out; one that is found stops it. `barnacle preview mN` shows what a recipient
will see, with --raw byte for byte what is sent.

Who opted out or was left out is written to at none of their addresses. Nobody gets a
message twice unless you ask for that: where the line broke before the answer came, the
recipient is doubtful, and only --retry-doubtful sends once more.""",
}


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Help on what concerns several commands."
    parser.add_argument("topic", metavar="TOPIC", nargs="?", choices=sorted(TOPICS), help=", ".join(sorted(TOPICS)))
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.topic is None:
        screen.value({"topics": sorted(TOPICS)})
        screen.lines(f"Topics: {', '.join(sorted(TOPICS))}. For a command: `barnacle COMMAND --help`.")
        return 0
    text = TOPICS[args.topic].replace("FIELDS", ", ".join(TEXT_FIELDS))
    screen.value({"topic": args.topic, "text": text})
    screen.lines(text)
    return 0
