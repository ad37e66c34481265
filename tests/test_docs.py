"""What the pages say: commands that work as they stand, links that lead somewhere, keys that are there."""

import json
import re
import shlex
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Mail, Office

from barnacle.demo.tour import DATA

ROOT = Path(__file__).parents[1]
PAGES = [ROOT / "README.md", ROOT / "docs/getting-started.md", *sorted((ROOT / "docs/tasks").glob("*.md"))]
BLOCK = re.compile(r"(?:<!-- exit (\d) -->\n)?```sh\n(.*?)```", re.DOTALL)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_what_a_page_says_to_type_works(page: Path, office: Office, serve: Callable[..., Mail]) -> None:
    serve()
    for name in DATA:
        (office.folder / name).write_bytes((ROOT / "src/barnacle/demo/data" / name).read_bytes())
    blocks = BLOCK.findall(page.read_text())
    assert blocks or page.stem == "share-a-list"
    for code, block in blocks:
        for line in block.replace("\\\n", " ").splitlines():
            if line.startswith("python3 -m venv"):
                continue  # CI runs these two
            program, *words = shlex.split(line, comments=True)
            assert program == "barnacle", line
            if words != ["setup"]:  # a terminal's, and tested on one
                office.run(*words, *(["--yes"] if words[0] == "send" else []), code=int(code or 0))


def test_links_lead_somewhere() -> None:
    for page in [*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")]:
        for target in re.findall(r"\]\(([^)\s]+)\)", page.read_text()):
            path, _, anchor = target.partition("#")
            if "://" in path:
                continue
            there = page.parent / path if path else page
            assert there.exists(), (page.name, target)
            if anchor:
                titles = re.findall(r"^#+ (.*)", there.read_text(), re.MULTILINE)
                known = {re.sub(r"[^\w -]", "", title.lower()).strip().replace(" ", "-") for title in titles}
                assert anchor in known, (page.name, target)


KINDS = {"text": str, "number": (int, float), "yes or no": bool, "anything": object}
TIME = re.compile(r"\d{4}-\d\d-\d\d(T\d\d:\d\d:\d\d(\.\d+)?Z)?")


def check(value: Any, shape: Any, place: str) -> None:
    """Hold a value against what the page says of it."""
    if isinstance(shape, dict):
        assert isinstance(value, dict), (place, value)
        if [*shape] == ["…"]:  # keys are data
            for key, inner in value.items():
                check(inner, shape["…"], f"{place}.{key}")
            return
        assert set(value) == set(shape), (place, set(value) ^ set(shape))
        for key, inner in shape.items():
            check(value[key], inner, f"{place}.{key}")
    elif isinstance(shape, list):
        assert isinstance(value, list), (place, value)
        for inner in value if len(shape) == 1 else ():
            check(inner, shape[0], f"{place}[]")
        if len(shape) > 1:
            assert len(value) == len(shape), (place, value)
            for one, kind in zip(value, shape, strict=True):
                check(one, kind, f"{place}[]")
    else:
        kind, _, _ = shape.partition(" or null")
        if value is None:
            assert shape.endswith(" or null"), (place, "is null")
        elif kind == "time":
            assert TIME.fullmatch(value), (place, value)
        else:
            assert isinstance(value, KINDS[kind]), (place, value, kind)


def shapes() -> list[tuple[str, Any]]:
    text = (ROOT / "docs/json.md").read_text()
    return [
        (command, json.loads(shape))
        for command, shape in re.findall(r"^`(barnacle [^`]*)`\n\n```json\n(.*?)```", text, re.DOTALL | re.MULTILINE)
    ]


def test_the_page_on_json_is_right_about_every_key(crew: Office, serve: Callable[..., Mail]) -> None:
    serve("--refuse", "bo@*")
    crew.file(
        "form.csv", "Name,E-mail,Voice\nAda Brine,ada@kelp.example,Alto\nBo Lund,bo@tidewick.example,Bass\nCy,cy@kelp\n"
    )
    (crew.folder / "returned-mail.mbox").write_bytes((ROOT / "src/barnacle/demo/data/returned-mail.mbox").read_bytes())
    (crew.folder / "sent-mail.mbox").write_bytes((ROOT / "src/barnacle/demo/data/sent-mail.mbox").read_bytes())
    found = shapes()
    assert len(found) > 20
    for command, shape in found:
        value = crew.json(*shlex.split(command)[1:], code=None)
        check(value, shape, command)
