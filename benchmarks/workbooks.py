"""A book as a workbook, against a bare script that writes the same cells.

    python benchmarks/workbooks.py [--rows 100000] [--runs 3]

Takes a made-up file in (benchmarks/files.py), then prints seconds and peak memory of `barnacle export all` as XLSX, ODS
and CSV, and of pandas with XlsxWriter, which reads the CSV that was exported and writes it as XLSX; all of one run. The
target: XLSX at most 1.5 times the bare script.
"""

from __future__ import annotations

import argparse
import os
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

from files import timed, write_rows

BARE = """
import sys
import pandas
table = pandas.read_csv(sys.argv[1], dtype=str, keep_default_na=False)
table.to_excel(sys.argv[2], index=False, engine="xlsxwriter")
"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=100_000)
    parser.add_argument("--runs", type=int, default=3)
    args = parser.parse_args()
    program = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or "barnacle"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_rows(folder / "rows.csv", args.rows)
        environment = {**os.environ, "BARNACLE_HOME": str(folder / "home")}
        timed([program, "setup", "--me", "Maren Holt <maren@tidewick.example>"], environment)
        timed([program, "import", str(folder / "rows.csv"), "--quiet"], environment)
        took: dict[str, list[tuple[float, float]]] = {}
        for _ in range(args.runs):
            for form in ("csv", "xlsx", "ods"):
                command = [program, "export", "all", "--out", str(folder / f"out.{form}"), "--yes", "--quiet"]
                took.setdefault(form, []).append(timed(command, environment))
            bare = [sys.executable, "-c", BARE, str(folder / "out.csv"), str(folder / "bare.xlsx")]
            took.setdefault("bare", []).append(timed(bare, environment))
        base = statistics.median(seconds for seconds, _ in took["bare"])
        print(f"{args.rows:,} people, median of {args.runs}")
        for form, runs in took.items():
            seconds, peak = statistics.median(s for s, _ in runs), max(m for _, m in runs)
            print(f"  {form:5} {seconds:6.2f} s   {seconds / base:4.2f} times the bare script   {peak:5.0f} MB")


if __name__ == "__main__":
    main()
