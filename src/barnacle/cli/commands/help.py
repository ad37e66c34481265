"""`barnacle help`: topics that concern several commands."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.rules import TEXT_FIELDS
from barnacle.core.text import visible
from barnacle.jobs.desk.desk import Desk

TITLES = {
    "getting-started": "your first list and your first message",
    "naming": "how to name people and lists",
    "rules": "lists that keep themselves up to date",
    "privacy": "who sees what, and how that is made sure",
    "sharing": "one list for several colleagues",
}

TOPICS = {
    "getting-started": """\
1. Set up, once. It asks for your name, your mail server and your password:

     barnacle setup

2. Make a list. Type its people in, or import them from a spreadsheet:

     barnacle contact add "Antje Lund <antje@kelp.example>" --into Pilots
     barnacle import berth-holders.xlsx --into "Berth holders"

3. See who is on it, and whether anything is wrong:

     barnacle list Pilots
     barnacle check Pilots

4. Write to it. Your editor opens for the text, unless you give --text or --body:

     barnacle compose --for Pilots --subject "Low tide at ten"

5. See what they will see, then send it. Nobody sees who else got it:

     barnacle preview m1
     barnacle send m1

If something went wrong, `barnacle undo` reverses the last change to your book. What has been
sent cannot be undone. `barnacle` on its own says where things stand and what to do next.""",
    "rules": """\
A rule keeps a list up to date for you:

  barnacle list new "Office" --where 'domain is tidewick.example'
  barnacle list rule "Night pilots" 'label is pilot and not org has Yard'
  barnacle find --where 'phone starts 01632 or in "Berth holders"'

Fields: FIELDS.
With them: is, is not, has, starts, ends, missing. Capitals and accents do not count.
Dates: added, written (when you last sent them a message). With them: before, after, is, missing;
write a date as 2026-11-23, 2026-11 or 2026.
Fields of your own, by their titles: Voice is tenor, with the same words (field "Note" is x, where
the title is also one of those above). `before` and `after` take dates and numbers. "Paid on" is
2026-11-21, or 2026-11, or 2026, however the day is written; Birthday is December, or "24 December",
in any year. `Paid is yes` understands x, ja, oui, "Yes (2 people)" and the like. Whoever has
something that is none of these is named.
in "TITLE" means everybody on another list. Combine conditions with and, or, not and brackets;
and binds more tightly than or. Put values of several words in quotes.

You can make exceptions: `list take` keeps somebody off although the rule matches them, and
`list add` keeps somebody on although it does not. `list show` says which part of the rule, or
which of your commands, put each person there. `list rule LIST --none` ends the rule.""",
    "naming": """\
Name a contact by an address or by any words of the name, and a list by its title, the start of
its title, or words from it. Capitals and accents do not matter, and an exact match comes before
longer ones. If several match, you choose one; in a script they are listed instead.

You can also name people by a label (label:NAME), a search (find:WORDS), a rule (where:RULE) or
a sent message: m3 for all its recipients, m3:refused for those in one state. "NAME <ADDRESS>"
adds the contact if nobody has that address, also with phone numbers; - reads pasted lines. Several
may stand together, as in a mail program: "Crew, Bo Lund".""",
    "sharing": """\
Colleagues share a list through a hub, each with a book of their own. Whoever runs the hub gives
you its address and a code: `barnacle hub connect URL --code CODE`.

`share offer LIST --with ADDRESS` offers a list to a reader (who sees it), an editor (who also
changes it) or an owner (who also shares it further, renames it and stops it). Your colleague sees
it with `share waiting`, and answers with `share accept` or `share decline`. Until then, they see
only its title and your name.

`sync` exchanges the changes of both sides; you can work without the hub in between. If two people
change the same field, the hub's value stays and yours is kept aside: `share conflicts`. What is
shared: names, the address the list uses, phones, organisation, job, web page and opt-outs. Labels,
notes, other addresses and fields of your own are shared only with --include. Phones and desktop
programs can use the lists too, with a token: `barnacle hub token new --for phone`.""",
    "privacy": """\
Messages are blind: your own address is in To, and the recipients are only in the envelope, where
nobody sees them. Before anything is sent, the message is searched for the addresses of everybody
who gets it or was left out; finding one stops it. `barnacle preview mN` shows what a recipient
will see; with --raw, exactly what is sent.

Somebody who opted out, or whom you left out, is written to at none of their addresses. Nobody
gets a message twice unless you ask for it: if the connection broke before the server answered,
the recipient is doubtful, and only --retry-doubtful sends it again.""",
}


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = "Explains a command, or a topic. Without a name, lists all of them."
    parser.add_argument("topic", metavar="NAME", nargs="*", help="a topic, or a command and its verb")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if not args.topic:
        screen.value({"topics": sorted(TOPICS), "commands": dict(args.commands)})
        width = max(map(len, TITLES))
        lines, topics = (
            [f"  {name:<{width}}  {what}" for name, what in some] for some in (args.commands, TITLES.items())
        )
        screen.lines("\n".join(["Topics:", *topics, "", "Commands:", *lines, "", "`barnacle help NAME` explains one."]))
        return 0
    name = "-".join(args.topic).lower()
    if name not in TOPICS:
        known = [*TOPICS, *(name for name, _ in args.commands)]
        from barnacle.cli.console import meant

        ways = [f"`barnacle help {way}`" for way in meant.commands_meant(name, known)]
        instead = f"Did you mean {' or '.join(ways)}? " if ways else ""
        raise UnclearError(
            f"There is no help on `{visible(' '.join(args.topic), 60)}`. {instead}`barnacle help` lists everything."
        )
    text = TOPICS[name].replace("FIELDS", ", ".join(TEXT_FIELDS))
    screen.value({"topic": name, "text": text})
    screen.lines(text)
    return 0
