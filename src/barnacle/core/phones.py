"""Phone numbers: kept as people write them, compared in the international form (ITU-T E.164)."""

from __future__ import annotations

import re

from barnacle.core.errors import UnclearError
from barnacle.core.text import tidy

# Between 3 and 20 digits, single spaces: nothing to tidy.
_PLAIN = re.compile(r"\+?[0-9](?:[ -]?[0-9]){2,19}")


def check_phone(text: str) -> str:
    """`text` as a number that can be kept, white space tidied. Raises UnclearError when it is no phone number."""
    if _PLAIN.fullmatch(text):
        return text
    number = tidy(text, 60)
    if not 3 <= len(digits(number)) <= 20:
        raise UnclearError(f"`{number}` is not a phone number: a number has between 3 and 20 digits.")
    return number


def phone_key(number: str, region: str) -> str:
    """The number in E.164 (`+441632960123`) read as from `region` (ISO 3166), else its digits alone."""
    import phonenumbers

    try:
        parsed = phonenumbers.parse(number, region or None)
    except phonenumbers.NumberParseException:
        return digits(number)
    return phonenumbers.format_number(parsed, phonenumbers.PhoneNumberFormat.E164)


def digits(text: str) -> str:
    """The digits of `text` alone."""
    plain = text.replace(" ", "").removeprefix("+")
    return plain if plain.isdigit() else "".join(filter(str.isdigit, text))
