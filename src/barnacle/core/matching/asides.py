"""What stands in brackets or quotation marks within a name: `Bill` in William (Bill) Pike, `née Berg`, a remark."""

from __future__ import annotations

import re

_ASIDE = re.compile(r"[\"“”„«»]([^\"“”„«»]{0,80})[\"“”„«»]|[(\[{]([^()\[\]{}]{0,80})[)\]}]")
_MARKS = frozenset('"“”„«»([{')
# What comes before the name that somebody was born with.
_BORN = frozenset("nee ne geb geborene born roz rozena rodem nata nato nacida fodt fodd szul syntyjaan o.s.".split())


def taken_apart(name: str) -> tuple[str, tuple[tuple[str, str], ...]]:
    """A name without its asides, and each of these that is one word, behind the word before it, whose place it may
    take; a remark of several words says nothing. A name with no more than a word besides is left as it is."""
    if _MARKS.isdisjoint(name):
        return name, ()
    bare = " ".join(_ASIDE.sub(" ", name).split())
    if len(bare.split()) < 2:
        return name, ()
    found = []
    for aside in _ASIDE.finditer(name):
        before = name[: aside.start()].rstrip(" ,").rpartition(" ")[2]
        words = (aside[1] or aside[2] or "").split()
        if len(words) > 1 and words[0].casefold().replace("é", "e").replace("ø", "o").strip(".:") in _BORN:
            words = words[1:]
        if len(words) == 1 and before:
            found.append((before, words[0]))
    return bare, tuple(found)
