"""Fit the weights of matching on tuning seeds, and see what they are worth where they were not fitted.

    python benchmarks/fit_weights.py [--seeds 6] [--leave-out] [--write]

Logistic regression (the weights of Fellegi and Sunter need no more than that where evidence is not independent), drawn
towards the weights that stand in weights.py, so that what is seldom seen keeps the meaning it was given. Each world counts
the same, and in every other book two thirds of those who are there twice were taken out, so that nothing leans on how many
there are. `--leave-out` fits without each world in turn and reports that world. `--write` puts the weights into weights.py.
"""

from __future__ import annotations

import argparse
import random
import re
from collections import Counter
from pathlib import Path

import numpy
from scipy.optimize import minimize
from scipy.sparse import csr_matrix
from worlds import WORLDS, found_pairs, rates, true_pairs

from barnacle.core.contact import Contact
from barnacle.core.matching import weights
from barnacle.core.matching.candidates import candidates
from barnacle.core.matching.forms import form
from barnacle.core.matching.judging import Judge
from barnacle.core.matching.weights import WEIGHTS, Frequencies

TUNED_ON = ("usual", "other", "registry")
# How strongly a weight is drawn to where it stood: as strongly as so many pairs draw it away.
DRAWN = 0.3
# What something means, whatever is seldom seen of it: these speak for one person at most, or at least, not at all.
NEVER_FOR = re.compile(
    r"only |.*crowd|.*: other |.*other (birthday|field)|.*two organisations|.*incomplete|.*part of family|.*goes by another|address of another|guessed|other script|renamed"
)
NEVER_AGAINST = re.compile(
    r"also same|same (address|field)|.*: rare |.*same organisation|.*near (phone|organisation|field|birthday)|.*same local part|its spelling|.*further given|.*organisation by domain|birth year|same figures"
)
Example = tuple[str, list[tuple[str, float]], float, bool]


def thinned(
    contacts: list[Contact], who: list[tuple[int, str]], seed: int
) -> tuple[list[Contact], list[tuple[int, str]]]:
    pick, met, kept = random.Random(seed), set(), []
    for place, (person, _) in enumerate(who):
        if person not in met or pick.random() < 0.33:
            kept.append(place)
        met.add(person)
    return [contacts[n] for n in kept], [who[n] for n in kept]


def examples(world: str, seeds: list[int]) -> list[Example]:
    result: list[Example] = []
    for seed in seeds:
        for number in (12_000, 5000, 600):
            contacts, who = WORLDS[world](seed, number)
            if seed % 2 == 0:
                contacts, who = thinned(contacts, who, seed)
            forms = [form(c, "GB") for c in contacts]
            judge = Judge(Frequencies(forms))
            for a, b in candidates(forms):
                seen: list[tuple[str, float]] = []
                judgement = judge.judge(forms[a], forms[b], seen)
                if judgement.score > -90 and seen:
                    prior = judge.frequencies.prior if any(name == "by chance" for name, _ in seen) else 0.0
                    result.append((world, seen, prior, who[a][0] == who[b][0]))
    return result


def fit(found: list[Example]) -> dict[str, float]:
    names = list(WEIGHTS)
    column = {name: n for n, name in enumerate(names)}
    data, rows, columns = [], [], []
    for row, (_, seen, _, _) in enumerate(found):
        for name, times in seen:
            data.append(times), rows.append(row), columns.append(column[name])
    matrix = csr_matrix((data, (rows, columns)), shape=(len(found), len(names)))
    offset = numpy.array([prior for _, _, prior, _ in found])
    truth = numpy.array([float(true) for *_, true in found])
    sizes = Counter(world for world, *_ in found)
    share = numpy.array([len(found) / len(sizes) / sizes[world] for world, *_ in found])
    start = numpy.array([WEIGHTS[name] for name in names])

    def cost(w: numpy.ndarray) -> tuple[float, numpy.ndarray]:
        score = matrix @ w + offset
        loss = share * (numpy.logaddexp(0, score) - truth * score)
        slope = share * (1 / (1 + numpy.exp(-score)) - truth)
        drawn = w - start
        return loss.sum() + DRAWN / 2 * (drawn**2).sum(), matrix.T @ slope + DRAWN * drawn

    best = minimize(
        cost, start, jac=True, method="L-BFGS-B", options={"maxiter": 500}, bounds=[_bounds(name) for name in names]
    )
    return {name: round(float(weight), 2) for name, weight in zip(names, best.x, strict=True)}


def _bounds(name: str) -> tuple[float | None, float | None]:
    return (0.0 if NEVER_AGAINST.match(name) else None, 0.0 if NEVER_FOR.match(name) else None)


def report(worlds: tuple[str, ...], seeds: list[int], title: str) -> None:
    for world in worlds:
        certain, both, true = set(), set(), set()
        for seed in seeds:
            contacts, who = WORLDS[world](seed, 5000)
            for all_of, found in zip((certain, both, true), (*found_pairs(contacts), true_pairs(who)), strict=True):
                all_of |= {(seed, *pair) for pair in found}
        sure, all_ = rates(certain, true), rates(both, true)
        print(
            f"{title:<24}{world:<10} certain {sure[0]:.4f} of {sure[1]:.3f}   both {all_[0]:.4f} of {all_[1]:.3f}  F1 {all_[2]:.4f}",
            flush=True,
        )


def write(fitted: dict[str, float]) -> None:
    path = Path(weights.__file__)
    text = path.read_text()
    for name, weight in fitted.items():
        text = re.sub(rf'(    "{re.escape(name)}": )-?[0-9.]+', lambda m, w=weight: f"{m[1]}{w}", text)
    path.write_text(text)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seeds", type=int, default=6)
    parser.add_argument("--leave-out", action="store_true")
    parser.add_argument("--write", action="store_true")
    args = parser.parse_args()
    seeds, check = list(range(1, args.seeds + 1)), list(range(11, 14))
    shipped = dict(WEIGHTS)
    by_world = {world: examples(world, seeds) for world in TUNED_ON}
    print({world: len(found) for world, found in by_world.items()})
    report(TUNED_ON, check, "as shipped")
    if args.leave_out:
        for world in TUNED_ON:
            WEIGHTS.update(fit([e for w, found in by_world.items() if w != world for e in found]))
            report((world,), check, "fitted on the others")
            WEIGHTS.update(shipped)
    fitted = fit([e for found in by_world.values() for e in found])
    WEIGHTS.update(fitted)
    report(TUNED_ON, check, "fitted on all")
    if args.write:
        write(fitted)


if __name__ == "__main__":
    main()
