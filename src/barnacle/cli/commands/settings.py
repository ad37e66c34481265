"""`barnacle settings`."""

from __future__ import annotations

import argparse

from barnacle.cli.console.screen import Screen
from barnacle.jobs.desk import settings, setup
from barnacle.jobs.desk.desk import Desk


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Shows all settings or one, or changes one. They are in barnacle.toml, a file you may also edit."
    )
    parser.add_argument("key", metavar="KEY", nargs="?")
    parser.add_argument("value", metavar="VALUE", nargs="?")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    if args.value is not None:
        value = setup.set_preference(desk, args.key, args.value)
        screen.value({args.key: value})
        screen.say(f"{args.key} is now {'empty' if value in ('', []) else value}.")
        return 0
    keys = [settings.known(args.key)] if args.key else list(settings.KNOWN)
    screen.value({key: desk.setting(key) for key in keys})
    screen.table(("Setting", "Value", "Meaning"), [(k, desk.setting(k), settings.KNOWN[k][1]) for k in keys])
    if not args.key:
        screen.say(f"They are in {desk.settings_path}.")
    return 0
