"""`barnacle completion`: what makes the shell complete commands, titles and names."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from barnacle.cli.console.screen import Screen
from barnacle.core.errors import UnclearError
from barnacle.core.text import visible
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.shell_files import install

SHELLS = ("bash", "zsh", "fish")


def arguments(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    parser.description = (
        "Makes Tab complete commands, list titles, labels and names in your shell. Prints what the shell needs, or "
        "installs it for you."
    )
    parser.add_argument("shell", metavar="SHELL", nargs="?", choices=SHELLS, help="bash, zsh or fish (default: yours)")
    parser.add_argument("--install", action="store_true", help="install it where your shell looks for it")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace, desk: Desk, screen: Screen) -> int:
    shell = args.shell or Path(os.environ.get("SHELL", "")).name
    if shell not in SHELLS:
        what = f"`{visible(shell, 40)}` is not one of them" if shell else "Yours is not known"
        raise UnclearError(f"For which shell? {what}: say bash, zsh or fish.")
    code = _code(shell)
    if not args.install:
        screen.value({"shell": shell, "code": code})
        screen.lines(code)
        return 0
    path = install(shell, code)
    screen.value({"shell": shell, "file": str(path)})
    screen.say(f"Completion for {shell} is in {path}. Open a new terminal to use it.")
    return 0


def _code(shell: str) -> str:
    from argcomplete.shell_integration import shellcode

    code = shellcode(["barnacle"], shell=shell).strip()
    # What registers a completion is there only once zsh's own system runs.
    begin = "autoload -U compinit && (( $+functions[compdef] )) || compinit\n" if shell == "zsh" else ""
    return begin + code
