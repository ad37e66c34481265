"""What stands beside a name within it: `Bill` in William (Bill) Pike, `née Berg`, `(Treasurer)`, ` | Night pilots`."""

from __future__ import annotations

from functools import lru_cache

from barnacle.core.patterns import pattern

_ASIDE = pattern(
    r"[\"“”„«»]([^\"“”„«»]{0,80})[\"“”„«»]|[(\[{]([^()\[\]{}]{0,80})[)\]}]|,?\s((?:née|nee|né|geb\.|geborene|roz\.|født|född)\s+[^\s,]+)\s*$|\s\|\s(.*)$"
)
_QUOTES = '"“”„«»'
_SIGNS = frozenset(f"{_QUOTES}([{{|")
_BORN_AS = ("née ", "nee ", "né ", "geb. ", "geborene ", "roz. ", "født ", "född ")
# What comes before the name that somebody was born with.
_BORN = frozenset("née nee né geb geborene born roz rozená rodem nata nacida født född szül".split())


@lru_cache(maxsize=2048)  # asked several times of each name of a sheet
def taken_apart(name: str) -> tuple[str, tuple[tuple[str, str], ...]]:
    """A name without its asides, and each of these that is one word, behind the word before it, whose place it may
    take; a remark of several words says nothing."""
    if _SIGNS.isdisjoint(name) and not any(words in name for words in _BORN_AS):
        return name, ()
    bare = " ".join(_ASIDE.sub(" ", name).split())
    if not bare and (whole := _ASIDE.fullmatch(name.strip())):
        return (whole[1] or whole[2] or name).strip(), ()
    if len(bare.split()) < 1 + any(sign in name for sign in _QUOTES):
        return name, ()  # "Bill" Pike
    found = []
    for aside in _ASIDE.finditer(name):
        before = name[: aside.start()].rstrip(" ,").rpartition(" ")[2]
        words = next(filter(None, aside.groups()), "").split()
        if len(words) > 1 and words[0].casefold().strip(".:") in _BORN:
            words = words[1:]
        if len(words) == 1 and before:
            found.append((before, words[0]))
    return bare, tuple(found)


def in_brackets(name: str) -> list[str]:
    """What stands in brackets and quotation marks in a name."""
    return [next(filter(None, aside.groups()), "") for aside in _ASIDE.finditer(name)]


def split_off(name: str) -> tuple[str, str]:
    """A name that ends with an aside as what is before it, and the aside with the space before it."""
    bare, _ = taken_apart(name)
    return (bare, name[len(bare) :]) if name.startswith(bare) else (name, "")
