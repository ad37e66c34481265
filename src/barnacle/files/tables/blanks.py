"""What people write into a cell to say that there is nothing, or that it stands somewhere else in the sheet."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from barnacle.core.text import words

# As `words` has them, in the languages of column titles.
_NOBODY = """
unknown, not known, no name, nobody, n n, tbc, tba, tbd, vacant, keine angabe, unbekannt, niemand, vakant,
inconnu, inconnue, desconocido, desconocida, nadie, vacante, sconosciuto, sconosciuta, nessuno, desconhecido,
desconhecida, onbekend, ukendt, ukjent, okand, nieznany, nieznana, nikt, neznamy, tuntematon, anonymous,
anonymous user, anonym, anonyme, anonimo, anonima, anoniem, anonymt, anonimowy, anonymni, neznama, ismeretlen,
necunoscut, necunoscuta, nepoznat, nepoznata, неизвестно, неизвестен, неизвестна, невідомо, невідомии, непознат,
αγνωστο, αγνωστοσ, αγνωστη, bilinmiyor, tundmatu, nezinams, nezinama, nezinomas, nezinoma, othekktur,
desconegut, desconeguda, ezezaguna, anhysbys, 不明, 未知, 미상, غير معروف, לא ידוע, khong ro, khong biet,
tidak diketahui, نامشخص
"""
_NOTHING = """
n a, na, n k, none, nil, no, null, nan, undefined, not given, not available, not applicable, no email, no e
mail, no mail, no phone, no address, no internet, does not have one, doesn t have one, x, k a, kein, keine,
keins, nein, ohne, leer, fehlt, hat keine, keine mail, keine email, keine e mail, kein email, kein e mail, kein
telefon, kein internet, entfallt, nicht vorhanden, nicht bekannt, neant, aucun, aucune, non, sans, n c, nc, pas
de mail, pas d email, pas d e mail, pas d adresse, no tiene, ninguno, ninguna, sin correo, sin email, no consta,
s d, nessuna, non ha, senza, n d, nd, nao tem, nenhum, nenhuma, sem email, sem e mail, geen, heeft geen, n v t,
nvt, ingen, mangler, saknas, har ikke, har inte, brak, nie ma, nie dotyczy, ei ole, puuttuu, neni, nema, nincs,
нет, нету, немає, нема, няма, yok, nu are, nimam, nav, nera, puudub, なし, 無し, 无, 無, 没有, 沒有, 없음,
لا يوجد, אין, khong co, tidak ada, tiada, ندارد, δεν υπαρχει, δεν εχει, χωρισ
"""
_ELSEWHERE = """
ditto, dito, dto, idem, s o, s u, siehe oben, siehe unten, siehe links, s oben, wie oben, see above, see below, as
above, same, same as above, voir ci dessus, voir plus haut, comme ci dessus, ver arriba, vedi sopra, come sopra, ver
acima, zie boven, se ovan, som ovan, se ovenfor, som ovenfor, jak wyzej, j w, katso ylla
"""
# Before the word that it points to; in small letters, since See and Ver are names.
_SEE = frozenset(("see", "siehe", "s.", "wie", "voir", "cf.", "véase", "vedi", "zie", "se", "patrz", "katso"))
# What is said of a cell that points to another.
POINTS = "it points to another place, and was not read"
_SIGNS = ('"', "''", "〃", "„", "“", "”", "″")


def _phrases(text: str) -> frozenset[str]:
    return frozenset(" ".join(phrase.split()) for phrase in text.split(","))


_NO_NAMES, _NONE, _REFERENCES = _phrases(_NOBODY), _phrases(_NOBODY) | _phrases(_NOTHING), _phrases(_ELSEWHERE)
_IN_TWO_WORDS = {tuple(one.split()) for one in _NO_NAMES | _REFERENCES if one.count(" ") == 1}
# So long is none of them.
_LONGEST = 30
_SHORT = frozenset(("n/a", "#n/a", "k.a.", "n.n.", "n. n."))  # what else would be initials

# Most cells are told from all these by their first two letters.
_BEGINNINGS = {one[:2].casefold() for one in (*_NO_NAMES, *_REFERENCES, *_SHORT, *_SEE, *_SIGNS)}
_BEGINNINGS |= {one[0] + sign for one in (*_NO_NAMES, *_REFERENCES) if one[1] == " " for sign in "./"}


def may_be_blank(first: Sequence[str], low: Iterable[tuple[str, str]]) -> bool:
    """Whether one of some names in two words may be none at all, by their first words, and both in small letters."""
    return not (_IN_TWO_WORDS.isdisjoint(low) and _SEE.isdisjoint(first))


def says_nothing(cell: str, as_name: bool = False) -> bool:
    """Whether a cell says that there is nothing: signs alone, `n/a`, `unknown`, `keine`. Of a name it is said in fewer
    words, since people are called Nil, Ohne and Brak."""
    if len(cell) > _LONGEST:
        return False
    if not cell[:1].isalnum() and not any(map(str.isalnum, cell)):
        return cell not in _SIGNS
    if as_name:
        begins_so = cell[:2].casefold() in _BEGINNINGS
        return begins_so and (cell.casefold() in _SHORT or " ".join(words(cell)) in _NO_NAMES)
    return cell[0] not in "0123456789+(" and "@" not in cell and " ".join(words(cell)) in _NONE


def points_elsewhere(cell: str) -> bool:
    """Whether a cell says that the same stands in another: ditto marks, `see above`, `s. Vater`."""
    if len(cell) > _LONGEST or cell[:2].casefold() not in _BEGINNINGS or "@" in cell:
        return False
    first, _, rest = cell.partition(" ")
    return cell in _SIGNS or (first in _SEE and rest[:1].isalpha()) or " ".join(words(cell)) in _REFERENCES
