"""Quotation marks, as languages and word processors write them."""

from __future__ import annotations

import re
from functools import cache

from barnacle.core.patterns import pattern

# What may close behind each that opens.
PAIRS = {
    '"': '"',
    "“": "”“",
    "”": "”",
    "„": "“”",
    "«": "»",
    "»": "«",
    "‹": "›",
    "›": "‹",
    "‘": "’",
    "‚": "‘’",
    "「": "」",
    "＂": "＂",
    "'": "'",
    "`": "`´",
}
_DOUBLE = '"“”„«»＂'
# An apostrophe in a word (O'Hara), and one that a particle begins with ('t Hart).
_WITHIN = pattern(r"(?<=\w)['’](?=\w)")
_PARTICLE = pattern(r"['’‘`][a-z]{1,2}(?=[\sA-Z])")
_SINGLE = "'’‘`‚´"
_MARK = pattern(f"[{_DOUBLE}{_SINGLE}‹›「」]")


@cache
def _between_marks() -> re.Pattern[str]:
    """What stands between straight marks, as it is, or a word or several between others."""
    pairs = (rf'{opens}[^{opens}{closes}"]+[{closes}]' for opens, closes in PAIRS.items() if opens != '"')
    return re.compile(rf'"[^"]*"?|(?<![^\s(])(?:{"|".join(pairs)})(?![^\s)])')


def straight(text: str) -> str:
    """A rule with straight quotation marks around what stands between others; each sign keeps its place."""
    return _between_marks().sub(lambda hit: hit[0] if hit[0][0] == '"' else f'"{hit[0][1:-1]}"', text)


def unquoted(name: str) -> str:
    """A name without the marks around all of it, or one that has lost its other half; those of a part of it, as in
    `Siv "Sissi" Holm`, stay, and the apostrophe of `'t Hart`."""
    text = name.strip()
    if not _MARK.search(text):
        return text
    while len(text) > 2 and text[-1] in PAIRS.get(text[0], ""):
        inner = text[1:-1].strip()
        bare = _WITHIN.sub("", inner)
        if not inner or text[0] in bare or text[-1] in bare:
            break
        text = inner
    if sum(map(text.count, _DOUBLE)) == 1:
        text = text.strip(f"{_DOUBLE} ")
    if text[:1] in _SINGLE and not _PARTICLE.match(text) and sum(map(_WITHIN.sub("", text).count, _SINGLE)) == 1:
        text = text[1:].strip()
    return text or name
