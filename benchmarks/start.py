"""How long commands take to start, against Python importing argparse and sqlite3, in one paired run.

    python benchmarks/start.py [--runs 15]

Prints the median of each and of the ratios pair by pair, on the book that the tour makes, and the target of each. Install
the program as its users do (a checkout whose modules are compiled anew with each start tells nothing).
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

# Each with how many times the bare import it may take.
COMMANDS = {
    "--version": None, "list": 1.8, "find lars": 1.8, "history": 1.8, 'list show "Ferry crews"': None, "outbox": 2.2,
    "outbox show m1": 2.2, "contact show sten@kelp.example": 2.2,
}  # fmt: skip


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
        missed = 0
        print(f"{'command':<24}{'bare ms':>9}{'ms':>9}{'ratio':>8}{'at most':>9}   (medians of {runs} pairs)")
        for command, most in COMMANDS.items():
            argv = [program, *shlex.split(command)]
            seconds(argv, environment), seconds(bare, environment)
            pairs = [(seconds(argv, environment), seconds(bare, environment)) for _ in range(runs)]
            ratio = statistics.median(ours / theirs for ours, theirs in pairs)
            ours, theirs = (statistics.median(column) * 1000 for column in zip(*pairs, strict=True))
            print(f"{command:<24}{theirs:>9.0f}{ours:>9.0f}{ratio:>8.2f}{most or '':>9}")
            missed += most is not None and ratio > most
    print(f"{missed} of the targets missed" if missed else "all targets met")
    return int(missed > 0)


if __name__ == "__main__":
    sys.exit(main())
