"""Made-up words, names and places for the benchmarks; the same for the same seed."""

from __future__ import annotations

import random

SEED = 20261123
SYLLABLES = "ba be bi bo da de di do fa fe fi fo ga ge gi go ka ke ki ko la le li lo ma me mi mo na ne ni no".split()


def word(pick: random.Random, syllables: int) -> str:
    return "".join(pick.choice(SYLLABLES) for _ in range(syllables)).title()


def phone(number: int) -> str:
    """One of the thousand numbers that Ofcom keeps free for drama."""
    return f"01632 960{number % 1000:03d}"


class Town:
    """Family names, domains and organisations that its people share."""

    def __init__(self, pick: random.Random) -> None:
        self.families = [word(pick, 3) for _ in range(3000)]
        self.domains = [f"{word(pick, 3).lower()}.example" for _ in range(400)]
        self.orgs = [f"{word(pick, 2)} {pick.choice(('Yard', 'Ropes', 'Sails'))}" for _ in range(2000)]
