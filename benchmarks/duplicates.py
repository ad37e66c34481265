"""How well and how fast duplicates are found, on books made up with seeds.

    python benchmarks/duplicates.py [--contacts 5000 100000] [--seeds 5] [--million] [--plot FILE]

Prints for each world and size, over the check seeds: precision and recall of pairs that are certain, of certain and
likely together, errors by kind, seconds and the peak memory of both processes (most of the second one's is shared with
the first). Seeds 1 to 20 are for tuning, those from 1001 on for checking.
The weights were fitted to the worlds `usual`, `other` and `registry` (fit_weights.py); `bureau` is only reported.
Targets: precision of certain 0.999, F1 of both together 0.97, 100,000 contacts in 8 s and 400 MB, a million in 12 times
that. Needs the extra `bench` for the worlds `registry` and `bureau`.
"""

from __future__ import annotations

import argparse
import resource
import subprocess
import sys
import time
from collections import Counter
from typing import NamedTuple

from worlds import WORLDS, found_pairs, rates, true_pairs

from barnacle.core.matching import weights
from barnacle.core.matching.forms import form
from barnacle.core.matching.judging import Judge
from barnacle.core.matching.weights import Frequencies

CHECK = 1001


class Found(NamedTuple):
    certain: set[tuple[int, int]]
    both: set[tuple[int, int]]
    true: set[tuple[int, int]]
    wrong: Counter[str]
    missed: int
    seconds: float


def run(seed: int, world: str, number: int, show: int = 0) -> Found:
    contacts, who = WORLDS[world](seed, number)
    true = true_pairs(who)
    begun = time.perf_counter()
    certain, both = found_pairs(contacts)
    seconds = time.perf_counter() - begun
    wrong: Counter[str] = Counter()
    for one, other_one in both - true:
        kinds = {who[one][1], who[other_one][1]} - {"chance"}
        verdict = "certain" if (one, other_one) in certain else "likely"
        wrong[f"{verdict}: {min(kinds) if kinds else 'strangers'}"] += 1
    for pairs, title in ((certain - true, "WRONG AND CERTAIN"), (both - true, "wrong"), (true - both, "missed")):
        for one, other_one in sorted(pairs)[:show]:
            print(f"  {title}: {_line(contacts[one])}  |  {_line(contacts[other_one])}")
    return Found(certain, both, true, wrong, len(true - both), seconds)


def _line(contact: object) -> str:
    addresses = ", ".join(a.address for a in contact.addresses)  # type: ignore[attr-defined]
    phones = ", ".join(p.number for p in contact.phones)  # type: ignore[attr-defined]
    return f"{contact.name} <{addresses}> {phones} {contact.org}"  # type: ignore[attr-defined]


def measure(world: str, number: int, seeds: list[int], show: int) -> None:
    certain, both, true, wrong, missed, seconds = set(), set(), set(), Counter(), 0, []
    for seed in seeds:
        found = run(seed, world, number, show)
        for all_of, one in ((certain, found.certain), (both, found.both), (true, found.true)):
            all_of |= {(seed, *pair) for pair in one}
        wrong += found.wrong
        missed += found.missed
        seconds.append(found.seconds)
    sure, all_ = rates(certain, true), rates(both, true)
    memory, besides = (
        resource.getrusage(who).ru_maxrss / 1024 for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)
    )
    print(
        f"{world:<9}{number:>9,}  certain {sure[0]:.4f} of {sure[1]:.3f}   both {all_[0]:.3f} of {all_[1]:.3f}"
        f"  F1 {all_[2]:.3f}  {max(seconds):6.1f} s {memory:6.0f} and {besides:4.0f} MB   wrong: {dict(wrong.most_common(6))}, missed {missed}",
        flush=True,
    )


def plot(path: str) -> None:
    """The scores of true and false pairs that were worth judging."""
    import matplotlib

    matplotlib.use("Agg")
    import matplotlib.pyplot as plt

    scores: dict[bool, list[float]] = {True: [], False: []}
    from barnacle.core.matching.candidates import candidates

    for seed in range(CHECK, CHECK + 3):
        contacts, who = WORLDS["usual"](seed, 5000)
        forms = [form(c, "GB") for c in contacts]
        judge = Judge(Frequencies(forms))
        for one, other in candidates(forms):
            judgement = judge.judge(forms[one], forms[other])
            if judgement.score > -90:
                scores[who[one][0] == who[other][0]].append(judgement.score)
    figure, axes = plt.subplots(figsize=(9, 5))
    bins = [n * 0.5 - 14 for n in range(66)]
    axes.hist(scores[False], bins, label=f"two people ({len(scores[False]):,} pairs)", color="#9aa5b1")
    axes.hist(scores[True], bins, label=f"one person ({len(scores[True]):,} pairs)", color="#1f6f8b", alpha=0.75)
    for at, name in ((weights.LIKELY_FROM, "likely"), (weights.CERTAIN_FROM, "certain")):
        axes.axvline(at, color="#333333", linestyle="--", linewidth=1)
        axes.text(at + 0.2, axes.get_ylim()[1] * 0.94, f"{name} →", color="#333333")
    axes.set(yscale="log", xlabel="score: natural logarithm of the odds that it is one person", ylabel="pairs")
    axes.set_title("Pairs worth judging in three made-up books of 5,000 contacts")
    axes.legend(loc="upper left")
    figure.tight_layout()
    figure.savefig(path, dpi=120)
    print(f"wrote {path}")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--contacts", type=int, nargs="+", default=[5_000, 100_000])
    parser.add_argument(
        "--seeds", type=int, default=5, help="how many check seeds for small books; large ones take one"
    )
    parser.add_argument("--tuning", action="store_true", help="seeds 1 and up instead of 1001 and up")
    parser.add_argument("--show", type=int, default=0, help="print so many errors of each kind")
    parser.add_argument("--million", action="store_true")
    parser.add_argument("--plot", metavar="FILE")
    parser.add_argument("--one", nargs=3, metavar=("WORLD", "CONTACTS", "SEEDS"), help=argparse.SUPPRESS)
    args = parser.parse_args()
    first = 1 if args.tuning else CHECK
    if args.plot:
        plot(args.plot)
        return
    if args.one:
        world, number, seeds = args.one
        measure(world, int(number), list(range(first, first + int(seeds))), args.show)
        return
    print("world  contacts  precision of recall …", flush=True)
    for number in [*args.contacts, *([1_000_000] if args.million else [])]:
        for world in WORLDS if number < 1_000_000 else ("usual",):
            # A process each, so that the peak memory is its own.
            seeds = args.seeds if number <= 20_000 else 1
            extra = ["--tuning"] if args.tuning else []
            subprocess.run(
                [sys.executable, __file__, "--one", world, str(number), str(seeds), "--show", str(args.show), *extra],
                check=True,
            )


if __name__ == "__main__":
    main()
