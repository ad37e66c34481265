"""`barnacle settings`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.jobs.desk import settings, setup
from barnacle.jobs.desk.desk import Desk

# Words in front of a setting that say no more than what is done with it anyway.
_SMALL = ("set", "get", "show", "change")


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Shows all settings or one, or changes one. They are in barnacle.toml, a file you may also edit."
    )
    parser.add_argument("key", metavar="KEY", nargs="?")
    parser.add_argument("value", metavar="VALUE", nargs="*")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    key, words = args.key, [*args.value]
    if key in _SMALL and words:
        key, *words = words
    if key and not words and "=" in key:
        key, _, value = key.partition("=")
        words = [value.strip()]
    if words:
        key, value = setup.set_preference(desk, key.strip(), " ".join(words))
        screen.value({key: value})
        screen.say(f"{key} is now {'empty' if value in ('', []) else settings.shown(value)}.")
        return 0
    keys = [settings.known(key)] if key else list(settings.KNOWN)
    screen.value({key: desk.setting(key) for key in keys})
    rows = [(one, settings.shown(desk.setting(one)), settings.KNOWN[one][1]) for one in keys]
    screen.table(("Setting", "Value", "Meaning"), rows)
    if not key:
        screen.say(f"They are in {desk.settings_path}.")
    return 0
