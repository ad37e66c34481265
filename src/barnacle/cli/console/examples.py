"""The examples of each command, from examples.toml."""

from __future__ import annotations

import shutil
import tomllib
from functools import cache
from importlib import resources

from barnacle.cli.console.table import wrap


def examples(command: str) -> list[tuple[str, str]]:
    """The examples of a command and verb, each with what it does, if that is not plain."""
    lines = _examples().get(command, "").strip().splitlines()
    return [(one.strip(), remark.strip()) for one, _, remark in (line.partition("  #") for line in lines)]


def shown(command: str) -> str:
    """The examples of a command and verb as they stand in its help."""
    given = examples(command)
    if not given:
        return ""
    width = shutil.get_terminal_size().columns - 3
    lines = []
    for one, remark in given:
        lines += [f"  {line}" for line in wrap(one, width)] + [f"      {remark}"] * bool(remark)
    return "examples:\n" + "\n".join(lines) + "\n\n"


@cache
def _examples() -> dict[str, str]:
    return tomllib.loads(resources.files(__package__).joinpath("examples.toml").read_text(encoding="utf-8"))
