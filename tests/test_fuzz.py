"""Some hostile inputs for every reader and parser, the same each time (`fuzzing`; more by scripts/fuzz.py)."""

from __future__ import annotations

import pytest
from fuzzing import TARGETS, case, tried

# So many that all of them together take half a minute; those that talk to a server take longest.
USUAL = 300
FEWER = {"smtp": 40, "saved message": 60, "imap": 60, "ldap": 15, "sign-in": 40, "leaks": 60, "rules": 150, "any": 150}


@pytest.mark.parametrize("name", TARGETS)
def test_hostile_input_ends_in_a_sentence_and_nothing_is_lost_in_silence(name: str) -> None:
    target = TARGETS[name]
    for seed in range(FEWER.get(name, USUAL)):
        data = case(target, seed)
        try:
            tried(target, data)
        except Exception as error:
            error.add_note(f"scripts/fuzz.py --only {name!r} --seed {seed} --minutes 0")
            raise
