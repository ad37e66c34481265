"""Lines of a table that are no people: totals, headings, remarks below it, its header once more."""

from __future__ import annotations

import re
from collections.abc import Sequence

from barnacle.core.text import fold, words
from barnacle.files.drafts import Row
from barnacle.files.tables.columns import NAMES, Columns
from barnacle.files.tables.content import beginning, has_address, looks_like_name
from barnacle.files.tables.layout import is_header

# How totals begin, and remarks around a table, folded, in the languages of the titles.
_TOTALS = """
grand total, total, totals, sub total, subtotal, sum, summa, count, average, number of, no of, summe, gesamt,
gesamtsumme, gesamtzahl, zwischensumme, anzahl, insgesamt, somme, nombre total, nombre de, ensemble, suma,
totale, somma, media, soma, totaal, aantal, i alt, antal, totalt, antall, razem, ogolem, lacznie, liczba,
yhteensa, lukumaara, celkem, soucet, spolu, osszesen, total general, ukupno, sveukupno, zbroj, skupaj, vsota,
итого, всего, разом, усього, всього, общо, всичко, укупно, συνολο, γενικο συνολο, toplam, genel toplam, kokku,
kopa, is viso, viso, samtals, guztira, cyfanswm, iomlan, 合計, 小計, 総計, 总计, 合计, 總計, 小计, 합계,
총계, المجموع, الاجمالي, סה כ, סך הכל, tong cong, tong so, รวม, jumlah, jumlah keseluruhan, جمع, جمع کل
"""
_REMARKS = """
printed, exported, generated, created, updated, last updated, last changed, last edited, as of, as at, status as,
page, source, legend, key, note, notes, nb, n b, valid, confidential, compiled, prepared, gedruckt, erstellt,
exportiert, stand, seite, quelle, legende, hinweis, anmerkung, vertraulich, druckdatum, ausgedruckt, erzeugt,
imprime, cree, exporte, mis a jour, mise a jour, etat, remarque, confidentiel, edite, genere, impreso, creado,
exportado, actualizado, pagina, leyenda, nota, fuente, a fecha, generado, emitido, stampato, creato, esportato,
aggiornato, legenda, fonte, generato, alla data, criado, atualizado, gerado, gedrukt, afgedrukt, gemaakt,
bijgewerkt, geexporteerd, bron, opmerking, peildatum, udskrevet, oprettet, opdateret, side, kilde, forklaring,
utskriven, skapad, uppdaterad, sida, kalla, skrevet ut, utskrift, opprettet, oppdatert, wydrukowano, utworzono, stan
na, strona, zrodlo, uwaga, wygenerowano, tulostettu, luotu, paivitetty, sivu, lahde, selite
"""


# How the reason begins that is given for a heading in a table.
IS_HEADING = "it is a heading"
_TOTAL, _REMARK = beginning(_TOTALS), beginning(_REMARKS)
_STARRED = re.compile(r"\s*(?:\*+|[†‡•–—=-]{1,3}|\(\*\)|[A-Z]{1,3}\s*[=:])\s*\S")


class Lines:
    """Tells lines that are no people from those that are, in one table. `headed` says that there are headings in it:
    then a line with one cell is one, wherever it stands, unless that looks like a name."""

    def __init__(self, columns: Columns, headed: bool = False) -> None:
        self.columns = columns
        self.headed = headed
        uses = columns.uses
        self.header = [fold(title) for title in columns.titles]
        self.names = [n for n, use in enumerate(uses) if use and use.field in (*NAMES, "org")]
        self.reach = [n for n, use in enumerate(uses) if use and use.field in ("address", "phone")]
        self.used = sum(use is not None for use in uses)

    def why_none(self, row: Row, cells: Sequence[str]) -> str:
        """Why a line is no person's, or nothing where it may be one. An address in a cell of its own makes it one."""
        first = row.number == self.columns.header + 1
        filled = [(n, cell) for n, cell in enumerate(cells) if cell.strip()]
        if any(has_address(cell) and (n in self.reach or len(filled) > 1) for n, cell in filled):
            return ""
        texts = [cell.strip() for _, cell in filled]
        if self._is_header(cells):
            return "it repeats the header"
        if is_header(texts):
            return "it looks like the header of another table"
        if self._is_total(filled):
            return "it is a total"
        if all(re.fullmatch(r"[\d.,% €$£-]+", text) for text in texts) and not any(n in self.reach for n, _ in filled):
            return "there are only figures in it"
        if (
            len(texts) <= 2
            and (_REMARK.fullmatch(fold(texts[0])) or _STARRED.match(texts[0]))
            and not self._is_named(filled)
        ):
            return "it is a remark, not a person"
        if len(texts) == 1 and self.used > 1:
            return self._alone(row, *filled[0], first)
        if (
            row.after_gap
            and len(texts) <= 2
            and not any(n in self.reach for n, _ in filled)
            and not any(looks_like_name(cell) for _, cell in filled)
            and self.used > 2
            and any(word.islower() for text in texts for word in text.split()[1:])
        ):
            return "it is apart from the table"
        return ""

    def _is_header(self, cells: Sequence[str]) -> bool:
        pairs = [(fold(cell), title) for cell, title in zip(cells, self.header, strict=False) if cell.strip()]
        # Of a header in two rows either may come again.
        same = sum(cell == title or title.endswith(" " + cell) or title.startswith(cell + " ") for cell, title in pairs)
        return len(pairs) > 1 and same >= 0.8 * len(pairs)

    def _is_total(self, filled: Sequence[tuple[int, str]]) -> bool:
        texts = [cell.strip() for _, cell in filled]
        rest = [text for text in texts if not re.fullmatch(r"[\d.,% €$£-]+", text)]
        if (
            not rest
            or len(rest) > 2
            or not all(_TOTAL.fullmatch(fold(text.rstrip(" :"))) or len(text) < 4 for text in rest)
        ):
            return False
        alone = len(filled) == 1
        return _TOTAL.fullmatch(fold(rest[0].rstrip(" :"))) is not None and (alone or not looks_like_name(rest[0]))

    def _is_named(self, filled: Sequence[tuple[int, str]]) -> bool:
        return any(n in self.names and looks_like_name(cell) for n, cell in filled) and len(filled) > 1

    def _alone(self, row: Row, n: int, cell: str, first: bool) -> str:
        """A line with one cell in it: a heading, or somebody of whom no more than the name is known."""
        text = cell.strip()
        if n not in self.names:
            if n in self.reach:
                return ""
            return "it is a heading or a remark: its row has nothing else"
        use = self.columns.uses[n]
        if use is not None and use.field == "org":
            return ""
        whole = use is not None and use.field == "name"
        if len(text.split()) > 5 or (text.endswith((":", ".", "!")) and len(text.split()) != 1):
            return "it is a heading or a remark: its row has nothing else"
        if any(char.isdigit() for char in text) or text.endswith(":"):
            return "it is a heading: its row has nothing else"
        if ((row.after_gap or first or self.headed) and not looks_like_name(text)) or not whole:
            return "it is a heading: its row has nothing else"
        if whole and len(words(text)) > 1 and not looks_like_name(text):
            return "it is a heading: its row has nothing else"
        return ""


def is_alone(cells: Sequence[str]) -> bool:
    """Whether just one cell of a line is filled."""
    return sum(bool(cell.strip()) for cell in cells) == 1
