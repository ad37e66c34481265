"""Phone numbers: kept as people write them, compared in the international form (ITU-T E.164)."""

from __future__ import annotations

import re
from functools import lru_cache
from itertools import pairwise

from barnacle.core.errors import UnclearError
from barnacle.core.patterns import pattern
from barnacle.core.text import tidy

# So many figures two spellings of a number end in alike, however its beginning is written.
LAST_DIGITS = 4
# Of so many a number is surely a telephone's, where anything may stand beside it.
LEAST_DIGITS = 7
# Between 3 and 20 digits, single spaces: nothing to tidy.
_PLAIN = pattern(r"\+?[0-9](?:[ -]?[0-9]){2,19}")


def check_phone(text: str) -> str:
    """`text` as a number that can be kept, white space tidied. Raises UnclearError when it is no phone number."""
    if _PLAIN.fullmatch(text):
        return text
    number = tidy(text, 60)
    if not 3 <= len(digits(number)) <= 20:
        raise UnclearError(f"`{number}` is not a phone number: a number has between 3 and 20 digits.")
    return number


# A number as people write it, with the extension that they write behind it.
NUMBER = pattern(
    r"\+?\(?\d(?:[\d ()./–-]*\d)?"
    r"(?:,? ?(?:ext|extension|x|durchwahl|dw|app|apparat|poste|int|interno|tst|toestel|anexo|ramal|lokal|ank|wew)"
    r"\.? ?\d{1,6}\b)?",
    re.IGNORECASE,
)
_BETWEEN = pattern(
    r"[;|\n]|\s(?:[·•~]|[:*/=]{2,3})\s|,(?! ?(?:ext|x|app))"
    r"|\s(?:or|oder|ou|o|of|eller|lub|tai|and|und|et|y|e|en|og|och|i|ja|&)\s"
    r"|(?<=\d)\s+(?=\+)",
    re.IGNORECASE,
)
_SLASHES = pattern(r"\s/\s"), pattern("/")
_LEAST = 6
# Several whole numbers in a piece, with words between: so many digits each, or fewer behind a 0 or a +.
_WHOLE, _WHOLE_BEHIND = 10, 7


def cut_phones(text: str) -> list[tuple[str, str]]:
    """The numbers of a cell, each with the words that stand beside it (`07700 900010 (evenings)`); an empty number for
    a piece that has none."""
    if _PLAIN.fullmatch(text):
        return [(text, "")]
    found = []
    for piece in _BETWEEN.split(text):
        for side in _sides(piece):
            if side.strip():
                found += _each(side)
    return found


def _sides(piece: str) -> list[str]:
    """A piece at its slashes, where a number stands on each side: `04421/1234 / 0170/1234567` are two."""
    for slash in _SLASHES:
        sides = slash.split(piece)
        if len(sides) > 1 and all(len(digits(side)) >= _LEAST for side in sides):
            return [one for side in sides for one in _sides(side)]
    return [piece]


def _each(piece: str) -> list[tuple[str, str]]:
    """The numbers of a piece: several with words between, `01632 960010 (home) 07700 900010 (mobile)`, or one."""
    hits = [hit for hit in NUMBER.finditer(piece) if len(digits(hit.group())) >= 3]
    if not hits:
        return [("", tidy(piece))]
    whole = [hit for hit in hits if _is_whole(hit.group())]
    if len(whole) < 2:
        return [_one(piece, hits)]
    # What the words belong to: where some stand in front of the first, each has its own in front.
    if piece[: whole[0].start()].strip(" ("):
        cuts = [0, *(hit.end() for hit in whole[:-1]), len(piece)]
    else:
        cuts = [*(hit.start() for hit in whole), len(piece)]
    parts = [piece[start:end].strip(" )") for start, end in pairwise(cuts)]
    return [_one(part, list(NUMBER.finditer(part))) for part in parts]


def _is_whole(number: str) -> bool:
    return len(digits(number)) >= (_WHOLE_BEHIND if number.lstrip("(")[:1] in ("0", "+") else _WHOLE)


def _one(piece: str, hits: list[re.Match[str]]) -> tuple[str, str]:
    best = max(hits, key=lambda hit: len(digits(hit.group())))
    number = best.group().strip()
    if number.count("(") != number.count(")"):
        number = number.strip("()")
    if len(digits(number)) > 20:
        return "", tidy(piece)
    return tidy(number, 60), tidy(f"{piece[: best.start()]} {piece[best.end() :]}").strip(" :()-–,")


def with_lost_signs(number: str, region: str) -> str:
    """A number that a spreadsheet took for a sum, with the zero or the plus that it dropped: `1632960010` as
    `01632960010`, `441632960010` as `+441632960010`. Any other, and one of which that cannot be told, as it is."""
    if not (number.isascii() and number.isdigit()) or number[0] == "0" or not 8 <= len(number) <= 15:
        return number
    import phonenumbers

    here = str(phonenumbers.country_code_for_region(region)) if region else ""
    zero = region != "" and phonenumbers.ndd_prefix_for_region(region, True) == "0"
    own = [f"+{number}"] * (here != "" and number.startswith(here))
    home = [f"0{number}"] * zero or [number] * (region != "")
    # The usual first: a number with the own country's prefix is longer than those without.
    ways = own + home if len(number) > 10 else home + own
    ways += [f"0{number}"] * (not zero) + [f"+{number}"]
    for is_one in (_is_valid, _is_possible):
        for way in ways:
            if is_one(way, region):
                return way
    return number


def _is_valid(number: str, region: str) -> bool:
    import phonenumbers

    return _is_possible(number, region) and phonenumbers.is_valid_number(phonenumbers.parse(number, region or None))


def _is_possible(number: str, region: str) -> bool:
    import phonenumbers

    try:
        parsed = phonenumbers.parse(number, region or None)
    except phonenumbers.NumberParseException:
        return False
    return phonenumbers.is_possible_number_with_reason(parsed) == phonenumbers.ValidationResult.IS_POSSIBLE


# Calling codes of two digits (ITU-T E.164, annex D). Those that begin with 1 or 7 have one, all others three.
_TWO = (
    "20 27 30 31 32 33 34 36 39 40 41 43 44 45 46 47 48 49 51 52 53 54 55 56 57 58 60 61 62 63 64 65 66 81 82 84 86 90 "
    "91 92 93 94 95 98"
)


def with_zero(international: str) -> str:
    """The digits of a number with its calling code as they are written at home, in most countries: `441632…` as
    `01632…`, `35840…` as `040…`."""
    size = 1 if international[:1] in ("1", "7") else 2 if international[:2] in _TWO else 3
    return "0" + international[size:]


def national_form(beginning: str, region: str) -> str:
    """How a number, or the beginning of one, that has the country's own prefix is written at home: `+49160` as `0160`
    in Germany. Empty for any other."""
    text = beginning.strip().replace("(0)", "")
    if not region or not text.startswith(("+", "00")):
        return ""
    import phonenumbers

    prefix = str(phonenumbers.country_code_for_region(region))
    rest = digits(text.removeprefix("00")) if text.startswith("00") else digits(text)
    if not rest.startswith(prefix) or len(rest) <= len(prefix):
        return ""
    return (phonenumbers.ndd_prefix_for_region(region, True) or "") + rest[len(prefix) :]


def phone_key(number: str, region: str) -> str:
    """The number in E.164 (`+441632960123`) read as from `region` (ISO 3166), else its digits alone."""
    import phonenumbers

    try:
        parsed = phonenumbers.parse(number, region or None)
    except phonenumbers.NumberParseException:
        return digits(number)
    return phonenumbers.format_number(parsed, phonenumbers.PhoneNumberFormat.E164)


@lru_cache(maxsize=20_000)
def is_mobile(key: str) -> bool:
    """Whether a number in E.164 is surely a mobile phone's: not in North America, where numbers do not tell."""
    import phonenumbers

    try:
        parsed = phonenumbers.parse(key)
    except phonenumbers.NumberParseException:
        return False
    return phonenumbers.number_type(parsed) == phonenumbers.PhoneNumberType.MOBILE


def digits(text: str) -> str:
    """The digits of `text` alone."""
    plain = text.replace(" ", "").removeprefix("+")
    return plain if plain.isdigit() else "".join(filter(str.isdigit, text))
