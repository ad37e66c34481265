"""Months as they are written in the languages that sheets are read in (CLDR, gregorian calendar, wide and abbreviated):
by name, also in the case that stands beside a day."""

from __future__ import annotations

from functools import cache, lru_cache

from barnacle.core.text import fold

# Month by month, with a semicolon behind each. Croatian ones are other months in Czech and Polish.
_NAMES = """
january januar janvier enero gennaio janeiro januari styczen stycznia tammikuu tammikuuta leden ledna ianuarie
январь января січень січня януари ιανουαριοσ ιανουαριου ocak jaanuar janvaris janvari sausis sausio gener ionawr
eanair urtarrila ;
february februar fevrier febrero febbraio fevereiro februari luty lutego helmikuu helmikuuta unor unora februarie
февраль февраля лютии лютого февруари φεβρουαριοσ φεβρουαριου subat veebruar februaris vasaris vasario febrer
chwefror feabhra otsaila ;
march marz mars marzo marco maart marts marec marca maaliskuu maaliskuuta brezen brezna marcius martie mart март
марта березень березня μαρτιοσ μαρτιου kovas kovo marc mawrth marta martxoa ;
april avril abril aprile kwiecien kwietnia huhtikuu huhtikuuta duben dubna aprilis aprilie апрель апреля квітень
квітня април απριλιοσ απριλιου nisan aprill aprili balandis balandzio ebrill aibrean apirila ;
may mai mayo maggio maio mei maj maja toukokuu toukokuuta kveten kvetna majus маи мая травень травня μαιοσ μαιου
mayis maijs maija geguze geguzes maig bealtaine maiatza ;
june juni juin junio giugno junho czerwiec czerwca kesakuu kesakuuta cerven cervna junius iunie junij июнь июня
червень червня юни ιουνιοσ ιουνιου haziran juuni junijs junija birzelis birzelio juny mehefin meitheamh ekaina ;
july juli juillet julio luglio julho lipiec lipca heinakuu heinakuuta cervenec cervence julius iulie julij июль июля
липень липня юли ιουλιοσ ιουλιου temmuz juuli julijs julija liepa liepos juliol gorffennaf iuil uztaila ;
august aout agosto augustus augusti sierpien sierpnia elokuu elokuuta srpen srpna augusztus avgust август августа
серпень серпня αυγουστοσ αυγουστου agustos augusts augusta rugpjutis rugpjucio agust agost awst lunasa abuztua ;
september septembre septiembre settembre setembro wrzesien wrzesnia syyskuu syyskuuta zari szeptember septembrie
septembar сентябрь сентября вересень вересня септември σεπτεμβριοσ σεπτεμβριου eylul septembris septembri rugsejis
rugsejo setembre medi iraila ;
october oktober octobre octubre ottobre outubro pazdziernik pazdziernika lokakuu lokakuuta rijen rijna octombrie
oktobar октябрь октября жовтень жовтня октомври οκτωβριοσ οκτωβριου ekim oktoober oktobris oktobri spalis spalio
hydref urria ;
november novembre noviembre novembro listopad listopada marraskuu marraskuuta listopadu noiembrie novembar ноябрь
ноября листопад листопада ноември νοεμβριοσ νοεμβριου kasim novembris novembri lapkritis lapkricio tachwedd samhain
azaroa ;
december dezember decembre diciembre dicembre dezembro desember grudzien grudnia joulukuu joulukuuta prosinec
prosince decembrie decembar декабрь декабря грудень грудня декември δεκεμβριοσ δεκεμβριου aralik detsember decembris
decembri gruodis gruodzio rhagfyr nollaig abendua ;
"""
_SHORTEST = 3


@cache
def _names() -> dict[str, int]:
    return {name: n for n, row in enumerate(_NAMES.split(";"), 1) for name in row.split()}


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
