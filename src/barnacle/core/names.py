"""People's names and their parts. Whether two can be one person's: matching.naming."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from barnacle.core.asides import split_off, taken_apart
from barnacle.core.patterns import pattern
from barnacle.core.text import fold, tidy
from barnacle.core.typed import NamedTuple

TITLES = frozenset(
    """
mr mrs ms miss mx dr prof professor sir dame lady lord rev capt captain cdr lt sgt hr fru frk froken herr herrn frau mme
madame mlle mademoiselle monsieur sra srta senor senora senorita sigra dott dottssa dhr mevr mevrouw mw meneer pani
mgr judr mudr phdr rndr mvdr paedr sayin κοσ κα κυριοσ κυρια господин госпожа г-н г-жа
""".split()
)
# Those that are words or names without their dot.
_DOTTED_TITLES = TITLES | frozenset("ing inz mag bc doc dipl kfm".split())
_PARTS_OF_TITLE = pattern(r"[.-]+")
# Behind these stands a given name; behind the others, where there is one word more, the family's.
_WITH_GIVEN = frozenset({"sir", "dame"})
# What stands behind a title and is no name: Dr. med. dent. Ute Ebb.
_BEHIND_TITLES = frozenset("med phil jur rer nat pol oec dent vet agr theol habil hc h c ing sc".split())
ELDER = frozenset({"sen", "snr", "sr", "senior", "elder"})
YOUNGER = frozenset({"jun", "jnr", "jr", "junior", "younger", "ii", "iii"})
GENERATIONS = ELDER | YOUNGER
PARTICLES = frozenset(
    """
van von der den de da di du del della la le el al bin ibn ter ten af av zu dos das st
""".split()
)


# Degrees, honours and the like, which stand behind a name, after a comma or without.
DEGREES = frozenset(
    """
ba bsc beng bed llb mba mbe obe cbe kbe dbe qc kc jp ma msc meng med mphil llm phd dphil md mb mbbs frcs frs fca aca
acca ceng rn esq ret retd dds dvm do dipl ing dr mag lic cand candmag civing
csc drsc dis artd thd thlic
""".split()
)
_BEHIND = DEGREES | GENERATIONS
_LEGAL_FORMS = frozenset(
    """
ltd limited plc llp llc inc corp gmbh ag kg ohg gbr ev eg ug sarl sas sa srl spa sl bv nv vof ab aps as asa oy oyj ry
rf zoo cic co lda ltda scoop snc eirl
""".split()
)
# Words of which one makes a name that of an organisation.
_OF_ORGANISATIONS = frozenset(
    """
church chapel parish vestry cathedral school academy college university institute club society association trust
council committee board brf office company yard yards boatyard marina harbour harbor hospital surgery clinic bank museum
library hotel restaurant cafe inn shop stores services service group team department club's foundation charity union
federation partners bros brothers sons inh inhaber prop proprietor verein verband kirche gemeinde schule hochschule
universitat institut gesellschaft stiftung werft bootsbau amt stadt kreis handel betrieb werkstatt museum verwaltung
buro feuerwehr hafen segelclub yachtclub sportverein kirchengemeinde eglise paroisse ecole lycee universite societe
mairie commune chantier capitainerie entreprise atelier boulangerie iglesia parroquia escuela colegio universidad
sociedad asociacion ayuntamiento astillero empresa talleres chiesa parrocchia scuola universita societa associazione
comune cantiere ditta officina igreja escola universidade sociedade associacao camara estaleiro kerk school vereniging
stichting bedrijf gemeente werf haven jachthaven winkel kirke skole forening selskab selskap kommune vaerft havn
forlag kyrka skola foretag bolag varv hamn sokn kosciol parafia szkola stowarzyszenie fundacja spolka urzad gmina
stocznia zaklad firma kirkko seurakunta koulu yhdistys yritys kaupunki satama telakka seura
""".split()
)
# Of these words those that people are called, too: Marina Kovač, Aminata Camara, Charlotte Church.
_ALSO_NAMES = frozenset(
    """
bank camara charity chiesa church ditta escola handel haven iglesia igreja kirke kreis marina parish stadt szkola winkel
""".split()
)
_FORMS_ALSO_NAMES = frozenset({"Ab", "As", "Asa", "Sa", "Sas"})
_AND_COMPANY = pattern(
    r"(?:&|\b(?:and|und|et|y|e|og|och|en)) (?:co|cie|daughters|tochter|sohne|fils|hijos|figli|zonen|sonner|soner)\b"
)
_OF_PLACES = frozenset({"the", "st", "saint", "sankt"})
_FAMILIES = frozenset(
    "family familie famille familia famiglia fam familjen familien perhe rodzina rodina eheleute ehepaar".split()
)
# In small letters in front of an office: le président, der Vorstand.
_ARTICLES = frozenset("le la les der die das the el il het".split())
_NO_GIVEN = TITLES | _ARTICLES | _OF_ORGANISATIONS | _FAMILIES
_NO_FAMILY = GENERATIONS | _OF_ORGANISATIONS | _LEGAL_FORMS | _FAMILIES


class PersonName(NamedTuple):
    """The parts of a person's name as they are written."""

    given: str
    family: str


def may_be_split(given: Iterable[str], family: Iterable[str]) -> bool:
    """Whether words, folded, are all surely given and family names: no title, no word such as "senior", and none of an
    organisation or a family."""
    return _NO_GIVEN.isdisjoint(given) and _NO_FAMILY.isdisjoint(family)


def split_name(name: str) -> PersonName:
    """Given and family name of a display name: `Holt, Maren`, `Maren Holt`, `Jan van der Meer`, `Maren Holt, PhD`.

    A single word is a given name, but behind a title (`Mrs Pike`) the family's; families and couples with titles have
    no given name, organisations and offices (`le président`) neither. Titles in front, degrees, remarks and words such
    as "senior" behind are left off, and what stands in brackets or quotation marks.
    """
    given, _, family = name.partition(" ")
    folded = fold(name).partition(" ")
    if given.isalpha() and family.isalpha() and may_be_split(folded[:1], folded[2:]):
        return PersonName(given, family)  # most names, told without a search
    name, _ = cut_behind(taken_apart(name)[0])
    if is_organisation(name) or (name[:1].islower() and name.partition(" ")[0] in _ARTICLES):
        return PersonName("", "")
    if (shared := _of_several(name)) is not None:
        return PersonName("", shared)
    before, comma, after = name.partition(",")
    if comma and after.strip() and fold(after.strip(" .")) not in GENERATIONS:
        return PersonName(after.strip(), before.strip())
    parts = [p for p in re.split(r"[\s,]+", name) if p]
    title = ""
    while len(parts) > 1 and (
        (word := fold(parts[0].strip("."))) in TITLES
        or (
            parts[0][-1] == "."
            and (_DOTTED_TITLES.issuperset(_PARTS_OF_TITLE.split(word)) or (title and word in _BEHIND_TITLES))
        )
    ):
        title = word
        parts.pop(0)
    while len(parts) > 1 and fold(parts[-1].strip(".")) in GENERATIONS:
        parts.pop()
    if len(parts) < 2:
        only = parts[0] if parts else ""
        return PersonName("", only) if title and title not in _WITH_GIVEN else PersonName(only, "")
    start = len(parts) - 1
    while start > 1 and fold(parts[start - 1]) in PARTICLES:
        start -= 1
    return PersonName(" ".join(parts[:start]), " ".join(parts[start:]))


def _of_several(name: str) -> str | None:
    """The name of a family, `Familie Watt`, `The Watt Family`, or of a couple with titles, `Mr and Mrs Pike`; None for
    any other."""
    found = name.split()
    low = [fold(word.strip(".")) for word in found]
    if low[:1] == ["the"] and len(low) > 1:
        del low[0], found[0]
    if len(low) > 1 and (low[0] in _FAMILIES or low[-1] == "family"):
        return " ".join(found[1:] if low[0] in _FAMILIES else found[:-1])
    if TITLES.isdisjoint(low):
        return None
    sides = _TWO.split(name)
    titled = any(fold(side.partition(" ")[0].strip(".")) in TITLES for side in sides)
    if len(sides) < 2 or not titled:
        return None
    return split_name(sides[1]).family if len(sides) == 2 else ""


def cut_behind(name: str) -> tuple[str, str]:
    """A name without the degrees and remarks behind its last commas, `Maren Holt, PhD, treasurer`, and those with their
    commas. A remark stands behind a whole name and begins with a small letter, where not all do."""
    end = len(name)
    while (comma := name.rfind(",", 0, end)) > 0:
        behind = name[comma + 1 : end].strip()
        found = [word.replace(".", "") for word in fold(behind).split()]
        is_remark = behind[:1].islower() and not name[:comma].islower() and " " in name[:comma].strip()
        if not found or not (is_remark or all(word in DEGREES for word in found)):
            break
        end = comma
    return name[:end].rstrip(), name[end:]


@lru_cache(maxsize=2048)  # asked several times of each name of a sheet
def is_organisation(name: str) -> bool:
    """Whether a word of the name says that an organisation bears it; one that people are called too does so beside
    another, or in a name of a place. What stands in brackets behind says nothing."""
    name, _ = split_off(name)
    found = [word for word in _BETWEEN_WORDS.split(name) if word]
    # Legal forms with their accents: Åsa and Sá are people.
    if any(word.lower().replace(".", "") in _LEGAL_FORMS and word not in _FORMS_ALSO_NAMES for word in found[1:]):
        return True
    folded = [fold(word.strip(".").replace("’", "'")) for word in found]
    told = [word for word in folded if word in _OF_ORGANISATIONS]
    if told and (folded[0] in _OF_PLACES or any(word.endswith("'s") for word in folded)):  # St Olaf's Church, The Bank
        return True
    return len(told) > 1 or not _ALSO_NAMES.issuperset(told) or _AND_COMPANY.search(fold(name)) is not None


_BETWEEN_WORDS = pattern(r"[^\w.&'’]+")


def display_name(given: str, family: str) -> str:
    """`Maren Holt` from its two parts, either of which may be empty."""
    return tidy(f"{given} {family}")


def turned(name: str) -> str:
    """`Holt, Maren` as `Maren Holt`, `Holt, Maren, PhD` as `Maren Holt, PhD`; any other name as it is, an
    organisation's too."""
    if "," not in name or is_organisation(name):
        return name
    plain, aside = split_off(name)
    bare, degrees = cut_behind(plain)
    if bare.count(",") != 1:
        return name
    parts = split_name(bare)
    return display_name(parts.given, parts.family) + degrees + aside if parts.family and parts.given else name


_CAPITALS = pattern(r"[^\W\d_]{3,}")
_MAC = pattern(r"^Ma?c(?=[A-Z]{3})")
_ROMAN = pattern(r"[IVX]{2,}")
_NO_VOWEL = pattern("[B-DF-HJ-NP-TV-XZ]+")


def usual_case(name: str, first: bool = True) -> str:
    """A name in capitals throughout as it is usually written: `JAN VAN DER BERG` as `Jan van der Berg`. Any other, and
    an organisation's, as it is. `first` says that it does not begin with a particle."""
    if not name.isupper() or not _CAPITALS.search(name) or is_organisation(name):
        return name
    return _written(name, first)


def _written(name: str, first: bool) -> str:
    done = []
    for number, word in enumerate(name.split()):
        low = word.lower()
        if (number or not first) and fold(low) in PARTICLES:
            done.append(low)
        else:
            done.append(re.sub(r"[^\W\d_]+", _capital, low))
    return re.sub(r"\b(Mc|O['’])([a-z])", lambda m: m[1] + m[2].upper(), " ".join(done))


def _capital(word: re.Match[str]) -> str:
    return word.group()[:1].upper() + word.group()[1:]


def by_capitals(name: str) -> PersonName | None:
    """`DUPONT Jean` and `Jean DUPONT` taken apart: where only the family name is in capitals, it is known by them. None
    for every other name."""
    parts = name.split()
    if "," in name or len(parts) < 2 or is_organisation(name):
        return None
    end = 0
    while end < len(parts) and (_is_capitals(parts[end]) or (end + 1 < len(parts) and fold(parts[end]) in PARTICLES)):
        end += 1
    rest = parts[end:]
    if end and any(map(_is_given, rest)) and any(map(_is_capitals, parts[:end])) and not any(map(_is_capitals, rest)):
        return PersonName(" ".join(parts[end:]), " ".join(parts[:end]))
    start = next((n for n, word in enumerate(parts) if _is_capitals(word)), 0)
    while start > 1 and fold(parts[start - 1]) in PARTICLES:
        start -= 1
    if start > 1 and _NO_VOWEL.fullmatch("".join(parts[start:])):
        return None  # Anna Lund DLRG
    if start and all(_is_capitals(word) or fold(word) in PARTICLES for word in parts[start:]):
        return PersonName(" ".join(parts[:start]), " ".join(parts[start:]))
    return None


def family_last(name: str, sure: bool = False) -> str:
    """`DUPONT Jean` as `Jean Dupont`, where capitals tell the family name. `sure` says that the family name stands
    first in any case. Any other name as it is."""
    plain, aside = split_off(name)
    title, _, rest = plain.partition(" ")
    told = by_capitals(plain)
    if told is None and fold(title.strip(".")) in TITLES and (told := by_capitals(rest)) is not None:
        told = told._replace(given=f"{title} {told.given}")
    if told is not None:
        return display_name(told.given, _written(told.family, first=False)) + aside
    parts = plain.split()
    if sure and len(parts) > 1 and "," not in plain and _is_turned(parts):
        if may_be_several(plain) or is_organisation(plain):
            return name
        end = 1
        while end < len(parts) - 1 and fold(parts[end - 1]) in PARTICLES:
            end += 1
        return display_name(" ".join(parts[end:]), " ".join(parts[:end])) + aside
    return name


def _is_turned(parts: list[str]) -> bool:
    """Whether words in whose column the family name stands first may stand so themselves: not behind a title, which is
    how one speaks of somebody, nor with a last word in small letters alone (`le président`)."""
    if fold(parts[0].strip(".")) in TITLES or (len(parts) == 2 and fold(parts[0]) in PARTICLES):
        return False
    return not parts[-1].islower() or all(map(str.islower, parts))


def _is_given(word: str) -> bool:
    """Whether a word behind a family name in capitals may be a given name, or its initial: no degree, and no JUNIOR."""
    return (not word.isupper() or len(word.strip(".")) == 1) and fold(word.strip(".")) not in _BEHIND


def _is_capitals(word: str) -> bool:
    """Whether a word is in capitals as family names are, and no degree and no III."""
    bare = _MAC.sub("", word)
    if not bare.isupper() or _CAPITALS.search(bare) is None or _ROMAN.fullmatch(word):
        return False
    return fold(word.strip(".")) not in _BEHIND


_TWO = pattern(r"\s*(?:&|\+|\s(?:and|und|et|y|e|ed|en|og|och|i|ja|u\.)\s)\s*", re.IGNORECASE)


def two_people(name: str) -> list[str]:
    """The names of the two people whom one names together: `Anna and Per Lund`, `Anna Lund & Per Holm`. Empty where it
    is one name, an organisation's, or where it cannot be told (`Mr and Mrs Holt`, `Holt & Berg`)."""
    sides = _TWO.split(name)
    if len(sides) != 2 or not all(sides) or "," in name or is_organisation(name):
        return []
    one, other = (side.split() for side in sides)
    if any(fold(word.strip(".")) in TITLES or not word[:1].isupper() for word in (one[0], other[0])):
        return []
    if len(other) < 2 or any(char.isdigit() for char in name):
        return []
    if len(one) == 1 or (len(one) > 1 and fold(one[-1]) == fold(other[-1])):
        family = split_name(sides[1]).family
        return [display_name(sides[0], family) if len(one) == 1 else sides[0], sides[1]]
    return sides if len(one) > 1 else []


def may_be_several(name: str) -> bool:
    """Whether a name may stand for more than one person: a couple, a family, a household."""
    found = fold(name).replace(".", " ").split()
    return not is_organisation(name) and (len(_TWO.split(name)) > 1 or not _FAMILIES.isdisjoint(found))
