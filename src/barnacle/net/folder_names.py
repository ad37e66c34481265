"""What mailboxes call their folders, where a server does not say what each is for (RFC 6154): the names that mail
programs give them, in the languages of their users."""

from __future__ import annotations

from collections.abc import Iterable

from imapclient.imapclient import DRAFTS, SENT

from barnacle.core.text import fold

_DRAFTS = (
    "drafts, draft, entwürfe, entwurf, brouillons, borradores, bozze, concepten, rascunhos, utkast, kladder, udkast, "
    "luonnokset, drög, wersje robocze, szkice, koncepty, rozepsané, piszkozatok, ciorne, osnutki, skice, nacrti, "
    "taslaklar, mustandid, melnraksti, juodraščiai, esborranys, zirriborroak, черновики, чернетки, чернови, πρόχειρα, "
    "下書き, 草稿, 草稿箱, 임시 보관함"
)
_SENT = (
    "sent, sent items, sent messages, sent mail, gesendet, gesendete, gesendete objekte, gesendete elemente, "
    "gesendete nachrichten, envoyés, éléments envoyés, messages envoyés, courrier envoyé, enviados, "
    "elementos enviados, mensajes enviados, correo enviado, inviati, inviata, posta inviata, messaggi inviati, "
    "elementi inviati, verzonden, verzonden items, verzonden berichten, itens enviados, mensagens enviadas, skickat, "
    "skickade, skickade objekt, sendt, sendte, sendte elementer, lähetetyt, "
    "wysłane, elementy wysłane, odeslané, odeslaná pošta, odoslané, "
    "elküldött, elküldött elemek, trimise, poslano, poslane stavke, gönderilmiş, gönderilmiş öğeler, saadetud, "
    "nosūtītie, išsiųsti, enviats, bidalitakoak, отправленные, надіслані, изпратени, послато, απεσταλμένα, "
    "送信済み, 已发送, 寄件備份, 보낸 편지함"
)
_NAMES = {DRAFTS: _DRAFTS, SENT: _SENT}


def called_so(folders: Iterable[tuple[str, str]], use: bytes) -> str | None:
    """The folder that is named for a use (`\\Drafts`, `\\Sent`), of delimiters and names."""
    usual = [fold(name) for name in _NAMES[use].split(", ")]
    found = {fold(name.rpartition(delimiter)[2] if delimiter else name): name for delimiter, name in folders}
    return next((found[name] for name in usual if name in found), None)
