"""The settings file, TOML that people may edit by hand; its changes are journalled like those of the book."""

from __future__ import annotations

import json
from pathlib import Path

from barnacle.book.store import Book
from barnacle.core.errors import FileError
from barnacle.core.text import visible
from barnacle.core.threeway import Record, merge
from barnacle.core.typed import Any
from barnacle.files.atomic import Staged

JOURNAL_NAME = "settings"
FILE_NAME = "barnacle.toml"


def read(path: Path) -> Record:
    """The settings as `{"section.key": value}`; empty where there is no file. Raises FileError."""
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError) as error:
        raise FileError(f"The settings {visible(str(path))} cannot be read: {error}.") from error
    return parse(text, path)


def parse(text: str, path: Path) -> Record:
    """The settings of a text that stands in the file `path`. Raises FileError."""
    import tomllib  # only when settings are asked for: it costs start-up time

    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
        raise FileError(f"The settings {visible(str(path))} have a mistake: {error}. Mend it in an editor.") from error
    flat: Record = {}
    for section, values in document.items():
        if isinstance(values, dict):
            flat.update({f"{section}.{key}": value for key, value in values.items()})
        else:
            flat[section] = values
    return flat


def change(book: Book, path: Path, changes: dict[str, Any]) -> None:
    """Set keys (a value of None takes one away), inside the running action. Comments in the file stay."""
    staged = book.staged.get(path)
    before = parse(staged.text, path) if staged else read(path)
    after = {k: v for k, v in {**before, **changes}.items() if v is not None}
    if after == before:
        return
    book.db.execute(
        "INSERT INTO journal(action, tbl, row, before, after) VALUES(?, ?, 0, ?, ?)",
        (book.running.id, JOURNAL_NAME, _image(book, path, before), _image(book, path, after)),
    )
    book.staged[path] = Staged(path, _written(path, before, after, staged.text if staged else None))


def revert(book: Book, before: Record, after: Record) -> list[str]:
    """Turn a journalled change back. Returns the keys that were changed again since; then nothing is written."""
    path = _place(book, Path(before.pop("path")))
    after.pop("path")
    current = read(path)
    merged, clashes = merge(after, current, before)
    if not clashes:
        change(book, path, {key: merged.get(key) for key in {*current, *merged}})
    return clashes


def _image(book: Book, path: Path, values: Record) -> str:
    beside = path.resolve().parent == book.path.resolve().parent
    return json.dumps({"path": path.name if beside else str(path.resolve()), **values}, ensure_ascii=False)


def _place(book: Book, path: Path) -> Path:
    """Where a settings file is whose change was journalled: of a book's folder that was copied, in the copy."""
    beside = book.path.resolve().parent / path.name
    return beside if not path.is_absolute() or beside.exists() else path


def _written(path: Path, before: Record, after: Record, text: str | None) -> str:
    """The file's text (or this one) with what has changed."""
    import tomlkit

    text = path.read_text(encoding="utf-8") if text is None and path.exists() else text or ""
    document = tomlkit.parse(text)
    for name in {*before, *after}:
        section, _, key = name.rpartition(".")
        if before.get(name) == after.get(name):
            continue
        table: Any = document.setdefault(section, tomlkit.table()) if section else document
        if name in after:
            table[key] = after[name]
        else:
            table.pop(key, None)
    return tomlkit.dumps(document)
