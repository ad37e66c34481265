"""A name taken apart for comparing: its words, which of them are given names, what stands beside it."""

from __future__ import annotations

import re
import unicodedata

from barnacle.core.asides import taken_apart
from barnacle.core.matching.short_forms import known_given_names
from barnacle.core.names import ELDER, GENERATIONS, PARTICLES, TITLES, by_capitals, cut_behind
from barnacle.core.text import fold
from barnacle.core.typed import NamedTuple

# What may stand beside a name without being part of it, besides what names.split_name takes off.
_TITLES = TITLES | frozenset(
    """
dipl revd msc bsc mba phd esq senhor senhora herra rouva kyrios kyria phdr mudr judr drs messrs gospodin gospodja doamna
domnul
""".split()
)
# Titles that are names as well (Pan, Bay): only in front of a given and a family name.
_IN_FRONT = frozenset("ing mag mgr dra sig pan pani bay bayan lic arq doc bc ir hra".split())
_ELDER = ELDER | {"pere", "vater"}
_GENERATIONS = GENERATIONS | {"pere", "vater", "fils", "sohn"}
_PARTICLES = PARTICLES | frozenset("vom zum zur dello degli los las bint te san santa y e i und the of ap".split())
_NOTHING_OFF: frozenset[str] = frozenset()
_SMALL_WORDS = frozenset("e i y und the of".split())
_SEVERAL = re.compile(r"(?:\s(?:and|und|og|och|et|en)\s|[&+])", re.IGNORECASE)
_HOUSEHOLD = frozenset("family familie famille familia fam household haushalt".split())
_BESIDE = _TITLES | _HOUSEHOLD
_BESIDE_WITH_GENERATION = _BESIDE | _GENERATIONS
_LEGAL_FORMS = frozenset(
    """
ab ag aps as asa bv cic co company corp corporation ev gbr gmbh inc incorporated kft kg lda limited llc llp ltd
mbh nv ohg oy oyj plc pty sa sarl sas sl sp spa srl ug zoo
""".split()
)
_DOTTED_FORMS = re.compile(r"(?i)\b(s\.?p\.? ?z ?o\.? ?o\.?|s\.a\.r\.l\.?|g\.?m\.?b\.?h\.?|b\.v\.|n\.v\.|a/s)")
_ORG_STOP = frozenset({"the", "and", "und", "og", "och", "et", "of", "for", "de", "der", "die", "das", "la", "le"})
_SPLIT = re.compile(r"[\s,.;:/()\[\]{}\"“”„«»_|!?*#@<>=~^\\\-‐‑‒–—&+]+")
_APOSTROPHES = re.compile("['’‘`´ʼ]")


class NameForm(NamedTuple):
    """A name taken apart for comparing: its words in the order given, then family; how many are given names; which
    generation; whether it stands for several people; and whether it is an organisation's. `sure` where the file or a
    comma said which is the family name; `particles` are those that were left off (van, de, al-), `otherwise` the words
    with a nickname, or the name before a marriage, in its place."""

    words: tuple[str, ...]
    given: int
    generation: str
    several: bool
    org: bool
    sure: bool
    particles: frozenset[str] = frozenset()
    otherwise: tuple[tuple[str, ...], ...] = ()

    @property
    def begins(self) -> frozenset[str]:
        """The first word of the name as it stands, and as it is otherwise."""
        return frozenset(words[0] for words in (self.words, *self.otherwise) if words)


NO_NAME = NameForm((), 0, "", False, False, False)


def name_words(name: str) -> list[str]:
    """The words of a name as they are compared: Latin letters without capitals and accents, others as they are, since
    a mark can make another name there."""
    plain = name.isascii()
    result: list[str] = []
    for piece in _SPLIT.split(name.lower() if plain else unicodedata.normalize("NFKC", name).casefold()):
        word = piece
        if not plain or not piece.isalnum():
            word = _APOSTROPHES.sub("", piece)
            folded = fold(word)
            word = folded if folded.isascii() else word
            if not any(c.isalnum() for c in word):
                continue
        joined = bool(result) and result[-1] in ("mc", "mac")  # Mc Donald
        result[-1:] = [result[-1] + word] if joined else [*result[-1:], word]
    return result


def org_words(name: str) -> list[str]:
    """The words of an organisation's name, legal forms and small words off."""
    found = name_words(_DOTTED_FORMS.sub(" ", name))
    kept = [w for w in found if w not in _LEGAL_FORMS and w not in _ORG_STOP]
    return kept or found


def name_form(name: str, given: str = "", family: str = "", org: str = "") -> NameForm:
    """A contact's name for comparing. Without a name it is the organisation's, or has no words."""
    bare, asides = taken_apart(name)
    if not (bare != name and org and org_words(name) == org_words(org)):
        name = bare
    form = _name_form(name, taken_apart(given)[0], family, org)
    if not asides or form.org:
        return form
    return form._replace(otherwise=tuple(filter(None, (_instead(form.words, *aside) for aside in asides))))


def _instead(words: tuple[str, ...], word: str, other: str) -> tuple[str, ...]:
    """The words with one in another's place; nothing where that is not among them."""
    before, after = name_words(word), name_words(other)
    if len(before) != 1 or before[0] not in words:
        return ()
    return tuple(w for one in words for w in (after if one == before[0] else [one]))


def _name_form(name: str, given: str, family: str, org: str) -> NameForm:
    if not name and not given and not family:
        return NameForm(tuple(org_words(org)), 0, "", False, True, True) if org else NO_NAME
    comma = ""
    name = cut_behind(name)[0] if "," in name else name
    if not (given and family) and name.count(",") == 1:
        before, _, after = name.partition(",")
        rest = [w for w in name_words(after) if w not in _GENERATIONS and w not in _TITLES]
        if rest:
            given, family, comma = after, before, ","
    elif not (given or family) and (name[1:2].isupper() or name[-1:].isupper()):
        told = by_capitals(name)
        if told is not None:
            given, family = told
    whole = name or f"{given} {family}"
    found = name_words(whole)
    named_alike = org and name[:1].casefold() == org[:1].casefold() and org_words(name) == org_words(org)
    if named_alike or (len(found) > 1 and found[-1] in _LEGAL_FORMS):
        return NameForm(tuple(org_words(name)), 0, "", False, True, True)
    generation = _generation(whole) if "," in whole or (found and found[-1] in _GENERATIONS) else ""
    several = _SEVERAL.search(whole) is not None or not _HOUSEHOLD.isdisjoint(found)
    sure = bool(comma or (given and family))
    if sure:
        first, last = _kept(name_words(given), generation), _kept(name_words(family), generation)
        off = _left_off(found, first + last)
        return NameForm((*first, *last), len(first), generation, several, False, bool(first and last), off)
    kept = _kept(found, generation, whole=True)
    # "Jan van der Meer": what follows the particle is the family name, however many words it has.
    family_words, off = 1, _NOTHING_OFF
    if not _PARTICLES.isdisjoint(found):
        at = next((n for n, w in enumerate(found) if n and w in _PARTICLES and w not in ("y", "e", "i")), None)
        family_words = max(len(_kept(found[at:], generation)), 1) if at is not None else 1
        off = _left_off(found, kept)
    given_words = max(len(kept) - family_words, min(len(kept), 1))
    return NameForm(tuple(kept), given_words, generation, several, False, False, off)


def _left_off(found: list[str], kept: list[str]) -> frozenset[str]:
    """The particles that are not among the words of a name that is compared; most names have none, and share that."""
    return (not _PARTICLES.isdisjoint(found) and _PARTICLES.intersection(found).difference(kept)) or _NOTHING_OFF


def _generation(name: str) -> str:
    """`elder` or `younger` where a word that stands by itself at an end says so: Tom Pike jun., Pike jun., Tom."""
    for part in name.casefold().split(","):
        said = re.split(r"[\s.]+", part.strip(" ."))
        last = said[-1]
        if last in _GENERATIONS:
            return "elder" if last in _ELDER else "younger"
    return ""


def _kept(found: list[str], generation: str, whole: bool = False) -> list[str]:
    """The words that tell somebody, without titles and particles; Min-Jun is a name, Tom Pike jun. is Tom Pike. Of a
    `whole` name the first word may be a short given name, Al or Di, and the last is never a particle."""
    if len(found) > 1 + whole and found[0] in _IN_FRONT:
        found = found[1:]
    off = _BESIDE_WITH_GENERATION if generation else _BESIDE
    inner = found if off.isdisjoint(found) else [w for w in found if w not in off]
    if _PARTICLES.isdisjoint(inner):
        return inner or found
    names = set()
    if whole and len(inner) > 1:
        names = {len(inner) - 1}
        if inner[0] not in _SMALL_WORDS and (len(inner) == 2 or inner[0] in known_given_names()):
            names.add(0)
    bare = [w for n, w in enumerate(inner) if w not in _PARTICLES or len(w) == 1 or n in names]
    return bare or inner or found
