"""Plain accidents: a full disk, signals at any moment, pipes and devices, odd arguments, a clock that is wrong."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import threading
import time
from pathlib import Path

import pytest
from conftest import PROGRAM, Office, sheet_of

from barnacle.book import store


def test_a_full_disk_changes_nothing_by_halves_and_one_can_still_look(small_disk: Path) -> None:
    office = Office(small_disk)
    office.run("setup", "--me", "Maren Holt <maren@tidewick.example>")
    office.run("list", "new", "Crew", "Ada <ada@kelp.example>", "Bo <bo@kelp.example>")
    many = Path(office.folder, "many.csv")
    many.write_text(sheet_of(3000))
    office.run("compose", "--for", "Crew", "--subject", "Slipway", "--text", "Closed.\n")
    fill = small_disk / "fill"
    free = shutil.disk_usage(small_disk).free
    done = set()
    for left in [0, *range(4096, 400_000, 57_344)]:
        with fill.open("wb") as file:
            file.write(b"\0" * max(free - left - fill.stat().st_size if fill.exists() else free - left, 0))
        after = office.told("find"), office.told("settings"), office.told("list"), office.told("history")
        for command in (
            ("contact", "add", f"Cy <cy{left}@kelp.example>"), ("settings", "me.region", "DE" if left % 8192 else "FR"),
            ("import", "many.csv", "--into", "Many"), ("list", "rename", "Crew", f"Crew {left}"), ("undo",),
            ("export", "all", "--out", "all.csv"), ("book", "copy", f"{left}.book"),
        ):  # fmt: skip
            before = after
            ran = office.run(*command, code=None)
            after = office.told("find"), office.told("settings"), office.told("list"), office.told("history")
            if ran.code == 2:
                assert before == after and ("full" in ran.err or "No space left" in ran.err), (command, ran.err)
            else:
                assert ran.code == 0, (command, ran.err)
                done.add(command[0])
            if command[0] in ("export", "book"):
                for path in (Path(office.folder, "all.csv"), Path(office.folder, f"{left}.book")):
                    path.unlink(missing_ok=True)
                assert not list(Path(office.folder).glob(".*.part"))
        assert office.told("book", "check")["findings"] == []
        fill.unlink()
        free = shutil.disk_usage(small_disk).free
    assert {"contact", "settings"} <= done  # with some room it works


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_signal_at_any_moment_ends_in_a_true_sentence(crew: Office, number: signal.Signals) -> None:
    crew.file("many.csv", sheet_of(4000))
    pick = random.Random(number)
    for turn in range(25):
        command = (("contact", "add", f"Cy <cy{turn}@kelp.example>"), ("import", "many.csv"))[turn % 2]
        before = len(crew.told("history"))
        process = crew.start(*command)
        time.sleep(pick.uniform(0.0, 0.45))
        process.send_signal(number)
        out, err = process.communicate(timeout=60)
        said = err.decode()
        after = len(crew.told("history"))
        if "Traceback" in said:  # so early that Python itself answered: it ends, or in places says so and goes on
            assert "KeyboardInterrupt" in said and "barnacle/cli/main.py" not in said, said
            assert process.returncode in (0, 1, -number) and after == before + (process.returncode == 0), said
        elif process.returncode in (-number, 2):  # before any of our own was there, or stopped with nothing done
            assert after == before, (command, said)
        else:
            assert process.returncode in (0, 1) and after == before + 1, (command, process.returncode, said, out)
        if after > before:
            crew.run("undo")


def test_what_is_written_goes_through_pipes_and_devices_and_not_in_their_place(crew: Office) -> None:
    pipe = crew.folder / "pipe"
    os.mkfifo(pipe)
    read: list[str] = []
    reader = threading.Thread(target=lambda: read.append(pipe.read_text()))
    reader.start()
    crew.run("export", "all", "--as", "csv", "--out", "pipe")
    reader.join(10)
    assert "bo@tidewick.example" in read[0] and pipe.is_fifo()
    crew.run("export", "all", "--as", "csv", "--out", "/dev/null")
    assert Path("/dev/null").is_char_device()
    assert "is a folder" in crew.run("export", "all", "--as", "csv", "--out", ".", code=2).err


def test_signs_that_change_what_one_sees_are_shown_as_such_in_json_too(crew: Office) -> None:
    crew.file("odd.vcf", "BEGIN:VCARD\nVERSION:3.0\nFN:Ada\nNOTE:a\nORG:K\u200fq\nEMAIL:a@kelp.example\nEND:VCARD\n")
    crew.run("import", "odd.vcf", code=None)
    crew.file("\u202egpj.vcf", "BEGIN:VCARD\nVERSION:3.0\nFN:Bo\nEMAIL:b@kelp.example\nEND:VCARD\n")
    crew.run("import", "\u202egpj.vcf", code=None)
    for command in (("find", "ada"), ("contact", "show", "a@kelp.example"), ("history",)):
        ran = crew.run(*command, "--json")
        assert "\u200f" not in ran.out and "\u202e" not in ran.out
        json.loads(ran.out)
        shown = crew.run(*command).out
        assert "\u200f" not in shown and "\u202e" not in shown


def test_no_cell_that_goes_out_runs_in_a_spreadsheet(crew: Office) -> None:
    for n, text in enumerate(("=1+1", " =1+1", "\u00a0=1+1", "\uff1d1+1", "\u200b@x", "\uff0b1", "' =1", "\u22121")):
        crew.run("contact", "add", f"N{n} <n{n}@kelp.example>", "--org", text)
    crew.run("export", "all", "--out", "all.csv")
    text = (crew.folder / "all.csv").read_text("utf-8-sig")
    for cell in ("=1+1", "\uff1d1+1", "@x", "\uff0b1", "\u22121"):
        for line in text.splitlines():
            for part in line.split(","):
                assert not part.lstrip(" \u00a0\u200b").startswith(cell), part


def test_a_line_break_in_a_card_becomes_no_line_of_another(crew: Office) -> None:
    evil = "x\r\nEMAIL:evil@kelp.example"
    jcard = ["vcard", [["version", {}, "text", "4.0"], ["fn", {}, "text", f"Ada{evil}"], ["email", {}, "text", "ada@kelp.example"],
                       ["x-a", {f"k{evil}": f"v{evil}", "group": f"g{evil}"}, f"uri{evil}", f"https://kelp.example/{evil}"]]]  # fmt: skip
    card = {"@type": "Card", "name": {"full": f"Bo{evil}"}, "emails": {"1": {"address": "bob@kelp.example"}},
            "links": {"1": {"uri": f"https://kelp.example/{evil}"}}, "notes": {"1": {"note": evil}}}  # fmt: skip
    crew.file("j.json", json.dumps([jcard]))
    crew.file("c.json", json.dumps([card]))
    crew.run("import", "j.json", "c.json", code=None)
    for form in ("vcard", "vcard3", "ldif"):
        crew.run("export", "all", "--as", form, "--out", f"out.{form}")
        text = (crew.folder / f"out.{form}").read_text()
        assert not [line for line in text.splitlines() if line.lower().startswith(("email:evil", "mail: evil"))]


@pytest.mark.parametrize("args", [("find", b"\xff\xfe"), ("contact", "add", b"A\xff <a@kelp.example>"), ("list", "show", b"\xff"),
                                  ("import", b"\xff.csv"), ("export", "all", "--out", b"\xff\xff/x.csv")])  # fmt: skip
def test_arguments_that_are_no_text_and_a_locale_without_letters(crew: Office, args: tuple[str | bytes, ...]) -> None:
    environment = {**crew.environment, "LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}
    command = [os.fsencode(PROGRAM or "barnacle")]
    ran = subprocess.run(
        [*command, *map(os.fsencode, args)], cwd=crew.folder, env=environment, capture_output=True, timeout=60
    )
    assert ran.returncode in (0, 2) and b"Traceback" not in ran.stderr, ran.stderr


def test_a_clock_that_was_wrong_loses_no_order(crew: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    """What was done last is undone first, whatever the clock said."""
    for year in ("2031", "1999", "2026"):
        monkeypatch.setattr(store, "now", lambda at=year: f"{at}-01-01T10:00:00Z")
        crew.within("contact", "add", f"N{year} <n{year}@kelp.example>")
    assert [one["title"] for one in crew.told("history")][:3] == ["Added N2026", "Added N1999", "Added N2031"]
    assert "N2026" in crew.run("undo").out and "N1999" in crew.run("undo").out
    assert crew.told("book", "check")["findings"] == []
