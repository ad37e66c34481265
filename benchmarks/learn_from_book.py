"""Whether weights learnt from the book at hand help: an experiment, whose figures stand in docs/matching.md.

    python benchmarks/learn_from_book.py [--seeds 3]

For each world and size, on check seeds, F1 of certain and likely together with the weights as shipped, and with weights
estimated from the book's own candidate pairs without anybody's word, in two ways: expectation-maximisation as in Winkler
("Using the EM algorithm for weight computation in the Fellegi-Sunter model of record linkage", 1988), in which each piece
of evidence is more or less frequent among pairs by how probable it is that they are one person; and the same with the
regression of fit_weights.py for its second step. Both begin at the shipped weights and are drawn towards them, the more so
the fewer pairs there are. The third way is told the truth about fifty pairs, as by somebody who merged or kept apart.
"""

from __future__ import annotations

import argparse
import math
import random

import numpy
from fit_weights import Example, fit
from worlds import WORLDS, f1_of

from barnacle.core.contact import Contact
from barnacle.core.matching.candidates import candidates
from barnacle.core.matching.forms import form
from barnacle.core.matching.judging import Judge
from barnacle.core.matching.weights import WEIGHTS, Frequencies

ROUNDS, DECISIONS = 4, 50
# As many pairs as the shipped weights count for.
BLENDED = 200.0


def pairs_of(contacts: list[Contact], who: list[tuple[int, str]]) -> list[Example]:
    forms = [form(c, "GB") for c in contacts]
    judge = Judge(Frequencies(forms))
    found: list[Example] = []
    for a, b in candidates(forms):
        seen: list[tuple[str, float]] = []
        if judge.judge(forms[a], forms[b], seen).score > -90 and seen:
            prior = judge.frequencies.prior if any(name == "by chance" for name, _ in seen) else 0.0
            found.append(("book", seen, prior, who[a][0] == who[b][0]))
    return found


def probable(pairs: list[Example], weights: dict[str, float]) -> list[float]:
    scores = (prior + sum(weights[name] * times for name, times in seen) for _, seen, prior, _ in pairs)
    return [1 / (1 + math.exp(-max(min(score, 50.0), -50.0))) for score in scores]


def by_counting(pairs: list[Example]) -> dict[str, float]:
    """Each weight moves by how far the share of pairs with that evidence is from what the weights foresee."""
    weights = dict(WEIGHTS)
    for _ in range(ROUNDS):
        one = probable(pairs, weights)
        same, two = sum(one) + 1, len(one) - sum(one) + 1
        agreeing: dict[str, list[float]] = {}
        for p, (_, seen, _, _) in zip(one, pairs, strict=True):
            for name, times in seen:
                if times == 1.0:
                    counts = agreeing.setdefault(name, [0.0, 0.0])
                    counts[0] += p
                    counts[1] += 1 - p
        for name, (m, u) in agreeing.items():
            learnt = math.log((m + 0.5) / same) - math.log((u + 0.5) / two)
            share = (m + u) / (m + u + BLENDED)
            weights[name] = (1 - share) * WEIGHTS[name] + share * max(min(learnt, 8.0), -8.0)
    return weights


def by_regression(pairs: list[Example]) -> dict[str, float]:
    weights = dict(WEIGHTS)
    for _ in range(ROUNDS):
        weights = fit(
            [(w, seen, prior, p) for p, (w, seen, prior, _) in zip(probable(pairs, weights), pairs, strict=True)]
        )  # type: ignore[misc]
    return weights


def by_decisions(pairs: list[Example], pick: random.Random) -> dict[str, float]:
    """Told of fifty pairs that were asked about whether they are one person; of the others what seems so."""
    one = probable(pairs, WEIGHTS)
    asked = [n for n, p in enumerate(one) if 0.05 < p < 0.98]
    told = set(pick.sample(asked, min(DECISIONS, len(asked))))
    return fit([(w, seen, prior, true if n in told else one[n]) for n, (w, seen, prior, true) in enumerate(pairs)])  # type: ignore[misc]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seeds", type=int, default=3)
    seeds = parser.parse_args().seeds
    shipped = dict(WEIGHTS)
    print(
        f"{'world':<10}{'contacts':>9}{'shipped':>9}{'EM':>9}{'EM, regression':>16}{'50 decisions':>14}   (F1, mean of {seeds})"
    )
    for world in WORLDS:
        for number in (600, 5000):
            row = []
            for seed in range(1001, 1001 + seeds):
                contacts, who = WORLDS[world](seed, number)
                pairs = pairs_of(contacts, who)
                here = []
                for weights in (
                    shipped,
                    by_counting(pairs),
                    by_regression(pairs),
                    by_decisions(pairs, random.Random(seed)),
                ):
                    WEIGHTS.update(weights)
                    here.append(f1_of(contacts, who))
                    WEIGHTS.update(shipped)
                row.append(here)
            means = numpy.array(row).mean(axis=0)
            print(
                f"{world:<10}{number:>9,}{means[0]:>9.4f}{means[1]:>9.4f}{means[2]:>16.4f}{means[3]:>14.4f}", flush=True
            )


if __name__ == "__main__":
    main()
