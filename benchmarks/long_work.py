"""Long work on a large book, each beside its yardstick, in one run.

    python benchmarks/long_work.py [--rows 100000] [--runs 3]

A file of made-up people is taken in, taken in again, again with one row changed, written out as CSV and as vCards, checked,
and the import undone. Prints medians, and ratios with their spans: the same file again and one changed row against the
first time and against the same file; the CSV against pandas' `to_csv` of the same table; `check` of all lists against
`find` of everybody; the undo against the import. Needs the extra `bench`.
"""

from __future__ import annotations

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from files import spread, write_rows

TO_CSV = "import sys, pandas\npandas.read_csv(sys.argv[1], dtype=str).to_csv(sys.argv[2], index=False)"
READ = "import sys, pandas\npandas.read_csv(sys.argv[1], dtype=str)"
LISTS = 20


def seconds(command: list[str], environment: dict[str, str], codes: tuple[int, ...] = (0, 1)) -> float:
    begun = time.perf_counter()
    done = subprocess.run(command, env=environment, capture_output=True, text=True)
    assert done.returncode in codes, (command, done.stderr[-400:])
    return time.perf_counter() - begun


def one_run(folder: Path, rows: Path, changed: Path) -> dict[str, float]:
    home = folder / "home"
    shutil.rmtree(home, ignore_errors=True)
    environment = {**os.environ, "BARNACLE_HOME": str(home)}
    program = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or "barnacle"

    def did(*words: str) -> float:
        return seconds([program, *words, "--quiet"], environment)

    did("setup", "--me", "Maren Holt <maren@tidewick.example>")
    found = {
        "import": did("import", str(rows)),
        "again": did("import", str(rows)),
        "one changed": did("import", str(changed)),
    }
    for n in range(LISTS):
        did(
            "list",
            "new",
            f"People {n}",
            "--where",
            f"address ends {n % 10}.example" if n % 2 else f'name starts "{"bcdfgklmnp"[n // 2]}"',
        )
    csv, cards = folder / "out.csv", folder / "out.vcf"
    found["export CSV"] = did("export", "all", "--out", str(csv), "--yes")
    found["export vCard"] = did("export", "all", "--out", str(cards), "--yes")
    whole = seconds([sys.executable, "-c", TO_CSV, str(rows), str(folder / "pandas.csv")], dict(os.environ))
    found["to_csv"] = whole - seconds([sys.executable, "-c", READ, str(rows)], dict(os.environ))
    found["find"] = did("find", "example")
    found["check"] = did("check")
    shutil.rmtree(home)
    did("setup", "--me", "Maren Holt <maren@tidewick.example>")
    found["import for undo"] = did("import", str(rows))
    found["undo"] = did("undo", "--yes")
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, default=100_000)
    parser.add_argument("--runs", type=int, default=3)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        rows, changed = folder / "rows.csv", folder / "changed.csv"
        write_rows(rows, args.rows)
        lines = rows.read_text().splitlines(keepends=True)
        lines[args.rows // 2] = lines[args.rows // 2].replace(",01632", ",+44 1632", 1)
        head, _, org = lines[args.rows // 3].rstrip("\n").rpartition(",")
        lines[args.rows // 3] = f"{head},{org} and Daughters\n"
        changed.write_text("".join(lines))
        runs = [one_run(folder, rows, changed) for _ in range(args.runs)]
    print(f"{args.rows:,} rows, median of {args.runs}")
    for what in runs[0]:
        print(f"  {what:<20}{statistics.median(run[what] for run in runs):8.2f} s")
    for what, over, most in (
        ("again", "import", 0.35), ("one changed", "again", 1.1), ("export CSV", "to_csv", 2.0), ("check", "find", 2.0), ("undo", "import for undo", 0.6),
    ):  # fmt: skip
        ratios = sorted(run[what] / run[over] for run in runs)
        print(f"  {what} / {over}: {spread(ratios)} (at most {most})")


if __name__ == "__main__":
    main()
