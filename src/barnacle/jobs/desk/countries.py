"""Countries as people call them, for the numbers of phones that do not give one."""

from __future__ import annotations

import re

from barnacle.core.errors import UnclearError
from barnacle.core.text import fold, nearest, visible

# What the list of the time zone database calls otherwise.
_ALSO = {
    "uk": "GB", "united kingdom": "GB", "great britain": "GB", "england": "GB", "scotland": "GB", "wales": "GB",
    "northern ireland": "GB", "republic of ireland": "IE", "eire": "IE", "usa": "US", "america": "US",
    "united states of america": "US", "uae": "AE", "holland": "NL", "the netherlands": "NL", "czechia": "CZ",
    "turkiye": "TR", "south korea": "KR", "north korea": "KP", "russian federation": "RU", "ivory coast": "CI",
}  # fmt: skip


def read_country(text: str) -> str:
    """The two letters (ISO 3166-1) of a country: given as such, in whatever case, by its English name, or by the
    number that calls it, `+49`. Raises UnclearError, also for one of which no phone numbers are known."""
    import phonenumbers

    key = _key(text)
    code = re.fullmatch(r"\s*(?:\+|00)([1-9]\d{0,2})\s*", text)
    if code:
        found = str(phonenumbers.region_code_for_country_code(int(code[1])))
    elif key.upper() in phonenumbers.SUPPORTED_REGIONS:
        return key.upper()
    else:
        found = _by_name(text)
    if found in phonenumbers.SUPPORTED_REGIONS:
        return found
    near = nearest(key, _names(), 0.8) if not found and len(key) > 3 else ""
    meant = f"Did you mean {near.title()}? " if near else ""
    raise UnclearError(
        f"`{visible(text, 40)}` is no country whose phone numbers Barnacle knows. {meant}"
        "Give two letters, such as GB, or its name in English."
    )


def _by_name(text: str) -> str:
    """The country of a name, or of its first words where only one begins so."""
    key, names = _key(text), _names()
    some = names.get(key) or {one for name, ones in names.items() if key and name.startswith(f"{key} ") for one in ones}
    if len(some) > 1:
        raise UnclearError(f"`{visible(text, 40)}` may be {' or '.join(sorted(some))}: give the two letters.")
    return next(iter(some), "")


def _names() -> dict[str, set[str]]:
    """The two letters of countries by their names, as those are compared, with and without what stands in brackets."""
    from importlib import resources

    found = {name: {letters} for name, letters in _ALSO.items()}
    lines = (resources.files("tzdata") / "zoneinfo" / "iso3166.tab").read_text(encoding="utf-8").splitlines()
    for line in lines:
        if line and not line.startswith("#"):
            letters, name = line.split("\t")
            for spelling in (name, name.partition(" (")[0]):
                found.setdefault(_key(spelling), set()).add(letters)
    return found


def _key(text: str) -> str:
    """A name as it is compared: without signs, `&` as a word."""
    return " ".join(re.sub(r"[^\w\s-]", "", fold(text).replace("&", " and ")).split())
