"""Months as they are written in the languages that sheets are read in (CLDR, gregorian calendar, wide and abbreviated):
by name, also in the case that stands beside a day."""

from __future__ import annotations

from functools import cache, lru_cache

from barnacle.core.text import fold

# Month by month.
_NAMES = """
january januar janvier enero gennaio janeiro januari styczen stycznia tammikuu tammikuuta
february februar fevrier febrero febbraio fevereiro februari luty lutego helmikuu helmikuuta
march marz mars marzo marco maart marts marec marca maaliskuu maaliskuuta
april avril abril aprile kwiecien kwietnia huhtikuu huhtikuuta
may mai mayo maggio maio mei maj maja toukokuu toukokuuta
june juni juin junio giugno junho czerwiec czerwca kesakuu kesakuuta
july juli juillet julio luglio julho lipiec lipca heinakuu heinakuuta
august aout agosto augustus augusti sierpien sierpnia elokuu elokuuta
september septembre septiembre settembre setembro wrzesien wrzesnia syyskuu syyskuuta
october oktober octobre octubre ottobre outubro pazdziernik pazdziernika lokakuu lokakuuta
november novembre noviembre novembro listopad listopada marraskuu marraskuuta
december dezember decembre diciembre dicembre dezembro desember grudzien grudnia joulukuu joulukuuta
"""
_SHORTEST = 3


@cache
def _names() -> dict[str, int]:
    return {name: n for n, row in enumerate(_NAMES.strip().splitlines(), 1) for name in row.split()}


@lru_cache(maxsize=2048)
def month_of(word: str) -> int:
    """The number of a month (1 to 12) by its name, or by the beginning of one that no other has; 0 where it is none."""
    name = fold(word).strip(".")
    if (found := _names().get(name)) or len(name) < _SHORTEST:
        return found or 0
    # Finnish ones are cut short to five letters or more, where others begin so.
    several = {number for one, number in _names().items() if one.startswith(name)}
    others = {number for one, number in _names().items() if one.startswith(name) and "kuu" not in one}
    return next((found.pop() for found in (others, several) if len(found) == 1), 0)
