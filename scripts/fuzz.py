"""Gives hostile input to every reader and parser for as long as one likes, and keeps what went wrong.

    python scripts/fuzz.py [--minutes 1] [--only NAME] [--seed 0] [--keep findings/]

Each finding is written to a file, with the seed that makes it again: `python scripts/fuzz.py --only NAME --seed N
--minutes 0`. What is found becomes a test. Memory is bounded, so that a reader that wants too much fails.
"""

from __future__ import annotations

import argparse
import itertools
import resource
import sys
import time
import traceback
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from fuzzing import TARGETS, case, tried

_MEMORY = 3 << 30


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--minutes", type=float, default=1.0)
    parser.add_argument("--only", choices=tuple(TARGETS))
    parser.add_argument("--seed", type=int, default=0, help="the first one")
    parser.add_argument("--keep", type=Path, help="a folder for the findings")
    args = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, resource.getrlimit(resource.RLIMIT_AS)[1]))
    targets = [TARGETS[args.only]] if args.only else list(TARGETS.values())
    end = time.monotonic() + 60 * args.minutes
    done: Counter[str] = Counter()
    found: Counter[str] = Counter()
    seen: set[str] = set()
    for seed in itertools.count(args.seed):
        for target in targets:
            data = case(target, seed)
            done[target.name] += 1
            try:
                tried(target, data)
            except BaseException as error:
                if isinstance(error, KeyboardInterrupt):
                    raise
                last = traceback.extract_tb(error.__traceback__)[-1]
                where = f"{type(error).__name__} in {Path(last.filename).name}:{last.lineno}"
                found[target.name] += 1
                if (key := f"{target.name} {where}") not in seen:
                    seen.add(key)
                    print(f"{target.name}: seed {seed}: {where}: {str(error)[:160]}", flush=True)
                    if args.keep:
                        args.keep.mkdir(parents=True, exist_ok=True)
                        (args.keep / f"{target.name.replace(' ', '-')}-{seed}").write_bytes(data)
        if time.monotonic() > end:
            break
    for name, number in done.items():
        print(f"{name:12} {number:8} inputs {found[name]:6} findings")
    sys.exit(1 if found else 0)


if __name__ == "__main__":
    main()
