"""Regular expressions that see what strangers wrote must not take quadratic time: each is given texts made of its own
signs, twice as long each time, and the time may not grow much faster than the length."""

from __future__ import annotations

import ast
import importlib
import itertools
import re
import re._parser as parser  # type: ignore[import-not-found]
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

import barnacle
from barnacle.core.patterns import Lazy

ROOT = Path(barnacle.__file__).parent
# The method by which a pattern is used decides where it begins to look.
ANYWHERE = {"search", "findall", "finditer", "sub", "subn", "split"}
LENGTH, SECONDS = 20_000, 0.05
# Those that are held against texts of bounded length, and how long these are.
BOUNDED = {
    "barnacle.core.mail.privacy._BEFORE": 300,  # what stands around an @
    "barnacle.core.mail.privacy._AT_WORD": 2000,  # it looks at 64 signs from each on, and no more
    "barnacle.core.mail.privacy._SPACED_DOT": 300,
    "barnacle.core.mail.privacy._LETTER_BY_LETTER": 150,
    "barnacle.core.names._TWO": 200,  # a name
    "barnacle.files.delivery_reports._PARAGRAPH": 800,  # what stands behind an address
}


def used() -> Iterator[tuple[str, re.Pattern[Any], str]]:
    """Every pattern in the package with each method that it is used by, and its place."""
    for path in sorted(ROOT.rglob("*.py")):
        name = ".".join(("barnacle", *path.relative_to(ROOT).with_suffix("").parts)).removesuffix(".__init__")
        if name.endswith("__main__"):
            continue
        tree = ast.parse(path.read_text())
        module = importlib.import_module(name)
        methods: dict[str, set[str]] = {}
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                owner = node.func.value
                if isinstance(owner, ast.Name) and owner.id == "re" and node.args and node.func.attr != "compile":
                    if isinstance(node.args[0], ast.Constant) and node.func.attr not in ("escape", "lookup"):
                        flags = re.IGNORECASE if "IGNORECASE" in ast.unparse(node) else 0
                        flags |= re.DOTALL if "DOTALL" in ast.unparse(node) else 0
                        yield f"{name}:{node.lineno}", re.compile(node.args[0].value, flags), node.func.attr
                elif isinstance(owner, ast.Name):
                    methods.setdefault(owner.id, set()).add(node.func.attr)
        for key, value in vars(module).items():
            value = value.compiled() if isinstance(value, Lazy) else value
            if isinstance(value, re.Pattern):
                for method in methods.get(key, {"search"}) & (ANYWHERE | {"match", "fullmatch"}):
                    yield f"{name}.{key}", value, method
            elif isinstance(getattr(value, "__self__", None), re.Pattern):
                yield f"{name}.{key}", value.__self__, value.__name__


def signs(tree: Any) -> set[str]:
    """A sign of each kind that a pattern knows."""
    found: set[str] = set()
    for op, value in tree:
        kind = str(op)
        if kind == "LITERAL":
            found.add(chr(value))
        elif kind == "NOT_LITERAL":
            found.add("a" if value != ord("a") else "b")
        elif kind == "ANY":
            found.add("a")
        elif kind == "IN":
            for inner, what in value:
                if str(inner) == "LITERAL":
                    found.add(chr(what))
                elif str(inner) == "RANGE":
                    found.add(chr(what[0]))
                elif str(inner) == "CATEGORY":
                    found.add({"CATEGORY_SPACE": " ", "CATEGORY_DIGIT": "1"}.get(str(what), "a"))
                elif str(inner) == "NEGATE":
                    found |= {"a", " ", "\n"}
        elif kind in ("MAX_REPEAT", "MIN_REPEAT", "POSSESSIVE_REPEAT"):
            found |= signs(value[2])
        elif kind == "SUBPATTERN":
            found |= signs(value[3])
        elif kind == "BRANCH":
            for branch in value[1]:
                found |= signs(branch)
        elif kind in ("ASSERT", "ASSERT_NOT"):
            found |= signs(value[1])
        elif kind == "ATOMIC_GROUP":
            found |= signs(value)
    return found


def beginning(tree: Any) -> str:
    """How every match begins, as far as that is one text."""
    text = ""
    for op, value in tree:
        if str(op) != "LITERAL":
            break
        text += chr(value)
    return text


def seconds(use: Callable[[Any], object], text: Any) -> float:
    begin = time.thread_time()  # not by the clock: other tests run beside this one
    use(text)
    return time.thread_time() - begin


def slow(pattern: re.Pattern[Any], method: str, most: int) -> str:
    """A text on which a pattern takes more time than its length is worth; empty where there is none."""
    tree = parser.parse(
        pattern.pattern, pattern.flags & ~re.UNICODE if isinstance(pattern.pattern, bytes) else pattern.flags
    )
    kinds = sorted(signs(tree))[:24]
    units = [*kinds, *(a + b for a, b in itertools.permutations(kinds[:9], 2))]

    def use(text: Any) -> object:
        if method in ANYWHERE:
            return sum(1 for _ in pattern.finditer(text))
        return getattr(pattern, method)(text)

    for begin in {"", beginning(tree)}:
        for unit in units:
            length = 32
            while length <= most:
                text: Any = begin + unit * (length // len(unit)) + "\x00"
                text = text.encode("utf-8", "replace") if isinstance(pattern.pattern, bytes) else text
                if seconds(use, text) > SECONDS:
                    whole, half, quarter = (
                        min(seconds(use, text[: len(text) // part] + text[-1:]) for _ in range(7)) for part in (1, 2, 4)
                    )
                    # Four times as long may take four times the time, and a busy machine as much again.
                    if whole > SECONDS and whole > 11 * quarter and whole > 2.5 * half:
                        return f"{method} on {begin!r} + {unit!r} * {length}: {whole:.2f} s, a quarter {quarter:.3f} s"
                    break
                length *= 2
    return ""


ALL = {(str(place), use): (place, pattern, use) for place, pattern, use in used()}


@pytest.mark.parametrize(("place", "method"), sorted(ALL), ids=lambda one: one)
def test_no_pattern_takes_quadratic_time(place: str, method: str) -> None:
    _, pattern, use = ALL[place, method]
    assert not (found := slow(pattern, use, BOUNDED.get(place, LENGTH))), found
