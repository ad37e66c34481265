"""Prints every text that the program may say, to be read through: python scripts/sentences.py [PART-OF-PATH]."""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "barnacle"
# Two words at least, and no statement of SQL.
_WORDS = re.compile(r"[a-z]{2} |[a-z] [a-z]")
_SQL = re.compile(r"\s*(SELECT|INSERT|UPDATE|DELETE|CREATE|PRAGMA|WITH|BEGIN|DROP|ALTER)\b")


def texts(path: Path) -> Iterator[tuple[int, str]]:
    """Lines and texts of a module, docstrings left out; what is filled in stands in braces."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    passed: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
            first = node.body[0] if node.body else None
            if isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant):
                passed.add(id(first.value))
        elif isinstance(node, ast.JoinedStr):
            passed |= {id(inner) for inner in ast.walk(node) if inner is not node}
    for node in ast.walk(tree):
        if id(node) in passed:
            continue
        if isinstance(node, ast.JoinedStr):
            text = ast.unparse(node)[2:-1]
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            text = node.value
        else:
            continue
        if " " in text.strip() and _WORDS.search(text) and not _SQL.match(text):
            yield node.lineno, text


def main(part: str) -> None:
    for path in sorted(SOURCE.rglob("*.py")):
        name = str(path.relative_to(SOURCE))
        found = list(texts(path)) if part in name else []
        if found:
            print(f"## {name}")
        for line, text in sorted(found):
            print(f"{line:>5}  {text.replace(chr(10), ' / ')}")


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "")
