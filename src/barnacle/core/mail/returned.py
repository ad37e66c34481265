"""Returned mail: what a report says of a mailbox, and what an answer asks for, in the words of servers and people."""

from __future__ import annotations

import re
from enum import StrEnum


class Verdict(StrEnum):
    """What a report says of a mailbox."""

    GONE = "gone"  # it is not there, for good
    PUT_OFF = "deferred"  # it did not get this message, and may get the next
    UNCLEAR = "unclear"


# What servers say where the mailbox is there, or where the message is why (whatever their code).
_NOT_ITS_FAULT = re.compile(
    r"full|quota|over ?limit|storage|insufficient|spam|junk|virus|malware|polic(?:y|ies)|block(?:ed|list)|"
    r"black ?list|deny ?list|"
    r"reputation|dmarc|\bspf\b|dkim|content|relay|grey ?list|gray ?list|rate|too (?:big|large|many|much)|size|exceed|"
    r"temporar|try again|later|timed? ?out|time-?out|unreachable|connect|loop|busy|authenticat|not authori[sz]ed|"
    r"voll|überfüllt|pleine?|saturée|llen[oa]|pien[oa]",
    re.IGNORECASE,
)
_NOT_THERE = re.compile(
    r"no such (?:user|person|mailbox|recipient|address|account|local)|(?:user|recipient|address|mailbox|"
    r"account)\s*(?:<[^>]*>\s*)?"
    r"(?:is |was )?(?:unknown|not (?:known|found|exist\w*|recogni[sz]ed|valid|here)|does(?:n.t| not) exist|invalid|"
    r"disabled|"
    r"inactive|has been (?:disabled|deleted|closed|suspended)|rejected: (?:user )?unknown)|"
    r"unknown (?:user|recipient|address|mailbox|local)|invalid (?:recipient|mailbox|address|user)|"
    r"no mailbox (?:here )?by that name|"
    r"mailbox unavailable|no longer (?:works|with|employed|in use|valid|active|available)|undeliverable address|"
    r"(?:host|domain)(?: name)?\s*(?:\S+\s*)?(?:not found|does not exist|unknown)|unrouteable address|nxdomain|"
    r"bad destination|"
    r"empf[äa]nger (?:unbekannt|existiert nicht)|adresse? (?:inconnue|unbekannt)|utilisateur inconnu|"
    r"usuario desconocido|"
    r"utente sconosciuto|destinatario (?:desconocido|sconosciuto|inesistente)",
    re.IGNORECASE,
)
_STATUS = re.compile(r"\b([245])\.(\d{1,3})\.(\d{1,3})\b")
# RFC 3463 sections 3.2 and 3.3, RFC 7505 (5.1.10): there is no such mailbox, or no such domain.
_GONE = {(1, 0), (1, 1), (1, 2), (1, 3), (1, 6), (1, 10), (2, 1)}


def verdict(action: str, status: str, diagnostic: str) -> Verdict:
    """What a report's fields say (RFC 3464 sections 2.3.3 to 2.3.6); `diagnostic` in the server's words. Only what says
    that the mailbox is not there is for good: the same code is given for much else."""
    action = action.strip().lower()
    if action == "delayed":
        return Verdict.PUT_OFF
    if action not in ("failed", ""):
        return Verdict.UNCLEAR
    found = _STATUS.search(status) or _STATUS.search(diagnostic)
    said = f"{diagnostic} {status}"
    gone_in_words = _NOT_THERE.search(said)
    # A longer look: words for both may stand in one sentence ("user unknown; content follows").
    innocent = _NOT_ITS_FAULT.search(_NOT_THERE.sub(" ", said))
    if (found and found[1] == "4") or re.match(r"\s*4\d\d\b", diagnostic):
        return Verdict.PUT_OFF
    code = (int(found[2]), int(found[3])) if found else None
    if innocent and not (gone_in_words and code in _GONE):
        return Verdict.PUT_OFF
    if code in _GONE or (gone_in_words and code in (None, (0, 0), (1, 0), (5, 0), (4, 4), (7, 1), (3, 0), (2, 0))):
        return Verdict.GONE
    return Verdict.PUT_OFF if action == "failed" and code not in (None, (0, 0)) else Verdict.UNCLEAR


_REPLY = re.compile(r"^\s*(?:(?:re|aw|sv|vs|antw|rif|r|odp|ynt)\s*(?:\[\d+\])?:\s*)*", re.IGNORECASE)
_FORWARD = re.compile(r"^\s*(?:\w{1,4}\s*:\s*)*(?:fwd?|wg|tr|rv|i|vb|vl|enc|doorst)\s*:", re.IGNORECASE)
_AGREED = re.compile(r"opt-out\s+([0-9a-f]{16})\s*\Z", re.IGNORECASE)
_ASKS = re.compile(
    r"\bunsubscribe\b|\bopt(?:ing)?[- ]?out\b|\btake me off\b|\bremove me\b|\bdelete me from\b|\bstop (?:sending|"
    r"writing|mailing)\b|"
    r"\bno more (?:e-?)?mails?\b|\bdo(?:n.t| not) (?:write|mail|send) (?:to )?me\b|\bleave me out\b|"
    r"\babmelden\b|\babbestellen\b|\baustragen\b|\bkeine (?:weiteren )?(?:e-?)?mails? mehr\b|\baus (?:der|dem|ihrer|"
    r"eurer) \w*(?:liste|verteiler)\b|"
    r"\bd[ée]sinscri\w+|\bd[ée]sabonn\w+|\bne plus recevoir\b|\bme retirer\b|\bdarme de baja\b|"
    r"\bdar(?:se)? de baja\b|\bno (?:quiero|deseo) recibir\b|"
    r"\bcancella\w* (?:mi|la mia)\b|\bcancellar(?:e|mi)\b|\bdisiscri\w+|\bnon (?:voglio|"
    r"desidero) (?:più )?ricevere\b|"
    r"\bafmelden\b|\buitschrijven\b|\bavregistrera\b|\bavanmäl\w*|\bafmeld\w*|\bavmeld\w*|\bwypisa\w*|\bodhlásit\b|"
    r"\bremover-me\b|\bcancelar (?:a )?inscri\w+|\bdescadastr\w+|\bnão (?:quero|desejo) (?:mais )?receber\b|"
    r"\bnie wysyłaj\w*|\bavprenumerera\b|\bpois(?:ta|taa) minut\b|\bperu\w* tilau\w+|"
    r"\bodhl[aá][sš]\w* (?:mě|ma|z odběru|z odberu)\b|\bneposíl\w+|\bnezasíl\w+|\bneposiel\w+|\bleiratkoz\w*|"
    r"\bne küld\w+|\bdezabon\w+|\bnu mai (?:doresc|vreau)\b|\bodjav\w* (?:me|mene|s liste)\b|\bne ša?lji\w*|"
    r"\bne želim (?:više|več) prim\w+|\bne pošilja\w*|\babonelikten\b|\baboneliğimi\b|\blistenizden\b|"
    r"\bотписат\w*|\bотпишите меня\b|\bне присыла\w+|\bудалите меня\b|\bотказ\w* от рассыл\w+|\bвідписат\w*|"
    r"\bвідпишіть мене\b|\bне надсила\w+|\bне ми изпраща\w+|\bδιαγράψτε\b|\bμη(?:ν)? μου στ[εέ]λν\w+|\bnesiųskite\b|"
    r"\batsisak\w* prenumerat\w+|\bnesūtiet\b|להסיר אותי|הסירו אותי|إلغاء الاشتراك|"
    r"配信停止|退会|退订|取消订阅|取消訂閱|수신 ?거부|구독 ?취소",
    re.IGNORECASE,
)
_BUT_NOT = re.compile(
    r"deadline|\bhow (?:do|can|to)\b|\?|\bfrist\b|\bform\b|\bpolicy\b|not (?:want to )?(?:unsubscribe|opt out)",
    re.IGNORECASE,
)
_FILLER = re.compile(
    r"\b(?:please|kindly|thanks?|thank you|hi|hello|dear|regards|best|kind|sincerely|yours|me|from|this|the|your|"
    r"mailing|list|all|of|to|"
    r"bitte|danke|hallo|mich|von|der|dieser|liste|gruß|grüße|freundlichen?|mit|merci|svp|bonjour|de|la|cette|liste|"
    r"por favor|gracias|"
    r"hola|lista|grazie|ciao|per favore|dalla|i|would|like|want|wish|and|my|address|name|any|more|further|e-?mails?|"
    r"mails?|messages?)\b",
    re.IGNORECASE,
)
_NEW_ADDRESS = re.compile(
    r"(?:new|changed|other|updated) (?:e-?mail )?(?:address|e-?mail)|address has changed|(?:write|mail|"
    r"reach) me (?:now )?at|no longer (?:use|read|check)|"
    r"neue (?:e-?mail-?)?adresse|adresse hat sich geändert|nouvelle adresse|changé d.adresse|nueva direcci[oó]n|"
    r"nuovo indirizzo|nieuw (?:e-?mail)?adres|"
    r"ny (?:e-?post|mail)?adress?e?|nowy adres|has left|no longer (?:with|works|employed)",
    re.IGNORECASE,
)
_COMPLAINS = re.compile(
    r"\b(?:spam|junk mail|unsolicited|gdpr|dsgvo|rgpd|where did you get my|never (?:asked|agreed|signed)|"
    r"report(?:ed)? you|data protection)\b",
    re.IGNORECASE,
)
_ADDRESS = re.compile(r"(?<![\w.+-])[\w.+-]++@[\w-]++(?:\.[\w-]++)++")


def agreed_token(subject: str) -> str:
    """The token of an answer with the agreed subject, empty where it is none."""
    found = None if is_forward(subject) else _AGREED.match(_REPLY.sub("", subject, count=1))
    return found[1].lower() if found else ""


def is_forward(subject: str) -> bool:
    """Whether a subject says that the message was passed on."""
    return _FORWARD.match(subject) is not None


def own_words(text: str) -> str:
    """What somebody wrote, without what they quote and their signature."""
    kept: list[str] = []
    for line in text.replace("\r\n", "\n").split("\n"):
        if line.rstrip() == "--" or re.match(r"\s*-{3,} ?\S|_{10,}", line):
            break
        if line.lstrip().startswith(">"):
            continue
        if re.match(
            r"\s*(?:On|Am|Le|El|Il|Op|Den)\b.{6,160}(?::|wrote|schrieb|écrit|escribió|scritto|schreef|skrev)\s*$", line
        ):
            break
        kept.append(line)
    return "\n".join(kept).strip()


def asks_out(subject: str, text: str) -> Verdict | None:
    """Whether somebody asks not to be written to: GONE where that is plainly all that they say, UNCLEAR where they may;
    None where they don't."""
    subject = _REPLY.sub("", subject, count=1).strip()
    own = own_words(text)
    in_subject, in_text = _ASKS.search(subject), _ASKS.search(own)
    if not in_subject and not in_text:
        return None
    said = f"{subject if in_subject else ''} {own}"
    rest = _FILLER.sub("", _ASKS.sub("", said))
    plain = not _BUT_NOT.search(said) and len(re.sub(r"[\W\d_]+", "", rest)) <= 12 and len(said) < 400
    return Verdict.GONE if plain and not is_forward(subject) else Verdict.UNCLEAR


def new_address(subject: str, text: str) -> str | None:
    """The address that somebody gives as a new one (empty: none is named); None where nothing is said of one."""
    own = own_words(text)
    if not _NEW_ADDRESS.search(f"{subject}\n{own}"):
        return None
    found = _ADDRESS.search(own)
    return found.group().rstrip(".") if found else ""


def complains(subject: str, text: str) -> bool:
    """Whether somebody may be complaining that they are written to."""
    return _COMPLAINS.search(f"{subject}\n{own_words(text)}") is not None
