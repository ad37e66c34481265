"""What a status column says of somebody: that they must not be written to, or that mail to them came back."""

from __future__ import annotations

import re

from barnacle.core.own_fields import yes_or_no
from barnacle.core.text import words
from barnacle.files.tables.content import beginning

# How such values begin, folded, in the languages of column titles.
_OUT_WORDS = """
unsubscribe, unsubscribed, opted out, opt out, optout, do not contact, do not email, do not e mail, do not mail,
do not write, no mail, no mailings, no email, no e mail, no contact, cancelled subscription, abgemeldet,
abbestellt, widersprochen, widerspruch, kein kontakt, keine werbung, keine e mails, keine mails, nicht
anschreiben, nicht kontaktieren, desinscrit, desinscrite, desabonne, desabonnee, ne pas contacter, ne plus
contacter, ne pas ecrire, ne plus ecrire, dado de baja, dada de baja, no contactar, no escribir, desuscrito,
desuscrita, disiscritto, disiscritta, non contattare, non scrivere, nao contactar, nao escrever, nao enviar,
anulou, uitgeschreven, afgemeld, niet mailen, niet benaderen, niet contacteren, geen mail, geen contact,
afmeldt, frameldt, avmeldt, avanmald, avregistrerad, ma ikke kontaktes, skal ikke kontaktes, far ej kontaktas,
wypisany, wypisana, nie kontaktowac, nie pisac, nie wysylac, rezygnacja, peruutettu, perunut, ei saa lahettaa,
ei saa kontaktoida, deceased, died, has died, verstorben, gestorben, decede, decedee, fallecido, fallecida,
deceduto, deceduta, falecido, falecida, overleden, afdod, avdod, avliden, zmarl, zmarla, zmarly, kuollut,
zemrel, zemrela, odhlasen, odhlasena, nekontaktovat, nezasilat, neposilat, odhlaseny, neposielat, leiratkozott,
ne keressuk, nem ker levelet, dezabonat, dezabonata, a nu se contacta, nu contactati, odjavljen, odjavljena, ne
kontaktirati, ne slati, ne kontaktiraj, ne posiljaj, отписан, отписана, отписался, отписалась, не писать, не
беспокоить, відписався, відписалась, відписалася, не писати, не турбувати, не контактуваи, не изпращаи,
διαγραφηκε, μην επικοινωνειτε, abonelikten cikti, iletisime gecmeyin, tellimusest loobunud, mitte kontakteeruda,
atteicies, nesazinaties, atsisake, nekontaktuoti, afskradur, ekki hafa samband, donat de baixa, donada de baixa,
退会, 配信停止, 已退订, 取消订阅, 请勿联系, 取消訂閱, 수신거부, 구독취소, לא לפנות, לא ליצור קשר, عدم
التواصل, الغاء الاشتراك, huy dang ky, khong lien he, jangan dihubungi, berhenti berlangganan, zomrel, zomrela,
elhunyt, meghalt, decedat, decedata, preminuo, preminula, umrl, umrla, умер, умерла, скончался, скончалась,
помер, померла, починал, починала, απεβιωσε, θανων, vefat, vefat etti, surnud, miris, mirusi, mire, latinn,
difunt, difunta, bu farw, 死去, 逝去, 去世, 已故, 사망, متوفى, متوفاة, נפטר, נפטרה, da mat, meninggal,
meninggal dunia
"""
_BACK_WORDS = """
bounce, bounced, bounces, undeliverable, hard bounce, mailbox gone, mailbox does not exist, unzustellbar,
zuruckgekommen, non distribuable, rebotado, devuelto, respinta, devolvido, onbestelbaar, teruggekomen, kan ikke
leveres, obestallbar, niedoreczalny, zwrot, toimittamaton
"""


# By a name it says that somebody has died.
DIED = re.compile("[†✝✟]")
_OUT, _BACK = beginning(_OUT_WORDS), beginning(_BACK_WORDS)


def is_out(value: str) -> bool:
    """Whether a status says in so many words that somebody must not be written to, or that mail came back."""
    folded = " ".join(words(DIED.sub(" died ", value[:200])))
    return _OUT.fullmatch(folded) is not None or _BACK.fullmatch(folded) is not None


def came_back(value: str) -> bool:
    """Whether a status says that mail came back."""
    return _BACK.fullmatch(" ".join(words(value[:200]))) is not None


def says_out(value: str, titled_so: bool) -> bool:
    """Whether a value means that somebody must not be written to. In a column that is titled so (`Unsubscribed`) any
    answer does but a no: a yes, a day, a reason."""
    if came_back(value):
        return False
    return is_out(value) or (titled_so and value.strip() not in ("", "-", "–") and yes_or_no(value) != "no")
