"""What was found of two contacts, in words."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from math import log

from barnacle.core.matching.naming import Comparison, Pairing
from barnacle.core.matching.slips import slips
from barnacle.core.matching.spelling import Level, by_ear


def in_words(reasons: Iterable[str], against: Sequence[str]) -> str:
    """What speaks for it and what against, in one sentence."""
    return "; ".join(reasons) + (f"; but {'; '.join(against)}" if against else "")


_FORMS = (Level.FORM, Level.LOOSE_FORM)


def bits(score: float) -> float:
    """A score as people may read it: how many times over the odds double that it is one person."""
    return round(score / log(2), 1)


def said_of_names(names: Comparison) -> list[str]:
    """What the names have in common, in words."""
    if all(p.level == Level.SAME for p in names.pairs) and not names.doubt:
        if names.complete:
            return ["same name, the other way round" if names.turned else "same name"]
        return [f"{' '.join(capital(p.one) for p in names.pairs)} in both names"]
    said = []
    for pair in names.pairs:
        longer, shorter = sorted((capital(pair.one), capital(pair.other)), key=lambda w: (-len(w), w))
        if pair.level == Level.SAME:
            said.append(f"same {'given' if pair.given else 'family'} name")
        elif pair.level == Level.SOUND or (pair.level in _FORMS and by_ear(pair.one) == by_ear(pair.other)):
            said.append(f"{capital(pair.one)} and {capital(pair.other)} sound alike")
        elif pair.level in _FORMS:
            said.append(f"{shorter} is short for {longer}" if len(shorter) < len(longer) else f"{shorter} is {longer}")
        elif pair.level in (Level.SLIP, Level.NEAR):
            said.append(f"{capital(pair.one)} and {capital(pair.other)} differ by {_letters_between(pair)}")
        elif pair.level == Level.FAR:
            said.append(f"{capital(pair.one)} and {capital(pair.other)} are much alike")
        elif pair.level == Level.BEGINS or len(longer) > 1:
            said.append(f"{shorter}. may be {longer}")
        else:
            said.append(f"both {longer}.")
    return said


def _letters_between(pair: Pairing) -> str:
    return "a letter" if slips(pair.one, pair.other) <= 1 else "two letters"


def capital(word: str) -> str:
    """A word of a name as names are written."""
    return word[:1].upper() + word[1:]
