"""How long commands take to start, against Python importing argparse and sqlite3, in one paired run.

    python benchmarks/start.py [--runs 15]

Prints the median of each and of the ratios pair by pair, on the book that the tour makes. The target: `barnacle
list` at most 3 times the bare import.
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

COMMANDS = ("--version", "list", 'list show "Ferry crews"', "find lars", "history", "outbox")
TARGET = 3.0


def seconds(argv: list[str], environment: dict[str, str]) -> float:
    begun = time.perf_counter()
    subprocess.run(argv, env=environment, stdin=subprocess.DEVNULL, capture_output=True, check=True)
    return time.perf_counter() - begun


def main() -> int:
    import shlex

    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=15)
    runs = parser.parse_args().runs
    program = shutil.which("barnacle", path=str(Path(sys.executable).parent)) or "barnacle"
    bare = [sys.executable, "-c", "import argparse, sqlite3"]
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "BARNACLE_HOME": f"{folder}/tour"}
        subprocess.run([program, "tour", "--into", f"{folder}/tour"], check=True, capture_output=True)
        failed = False
        print(f"{'command':<24}{'bare ms':>9}{'ms':>9}{'ratio':>8}   (medians of {runs} pairs)")
        for command in COMMANDS:
            argv = [program, *shlex.split(command)]
            seconds(argv, environment), seconds(bare, environment)
            pairs = [(seconds(argv, environment), seconds(bare, environment)) for _ in range(runs)]
            ratio = statistics.median(ours / theirs for ours, theirs in pairs)
            ours, theirs = (statistics.median(column) * 1000 for column in zip(*pairs, strict=True))
            print(f"{command:<24}{theirs:>9.0f}{ours:>9.0f}{ratio:>8.2f}")
            failed |= command == "list" and ratio > TARGET
    print(f"target for list: at most {TARGET}: {'missed' if failed else 'met'}")
    return int(failed)


if __name__ == "__main__":
    sys.exit(main())
