"""What a line of text says of a person, in any order, however it is parted: `Bo Lund, 07700 900010, bo@x.example`."""

from __future__ import annotations

import re

from barnacle.core.addresses import Mailbox, parse_mailbox, plain_address, split_pasted, without_bullet, without_markup
from barnacle.core.contact import KINDS, Phone
from barnacle.core.errors import BadAddressError
from barnacle.core.matching.short_forms import known_given_names
from barnacle.core.names import cut_behind, is_organisation, may_be_several
from barnacle.core.phones import LEAST_DIGITS, NUMBER, digits
from barnacle.core.text import fold
from barnacle.core.typed import NamedTuple
from barnacle.files.tables.content import is_date, looks_like_name
from barnacle.files.tables.titles import read_title

_NO_LOCAL, _NO_DOMAIN = r"\s<>()\[\]{},;|\"“”„«»:@", r"\s<>()\[\]{},;|\"“”„«»"
_ADDRESS = re.compile(rf"(?<![^{_NO_LOCAL}])([^{_NO_LOCAL}]{{1,64}}@[^{_NO_DOMAIN}]{{1,255}})")
_MAILTO = re.compile(r"mailto:$", re.IGNORECASE)
# As people hide one from machines: bo(at)mole.example, bo [at] mole.example.
_HIDDEN = re.compile(
    r"(?<![\w.+-])[\w.+-]{1,64} ?[(\[{](?:at|a)[)\]}] ?[\w-]{1,64}"
    r"(?: ?(?:\.|[(\[{](?:dot|punkt|point)[)\]}]) ?[\w-]{1,64}){1,9}",
    re.IGNORECASE,
)
# Between what a line says: signs, dashes and strokes with spaces round them, brackets, wide gaps.
_BETWEEN = re.compile(r"[,;|\t()\[\]<>\"“”„«»]+|:(?=\s|$)|\s[-–—/·•~=]+(?=\s|$)|^[-–—/]+\s|\s{2,}|\n")
_APART = re.compile(r":\s|\s[-–—/·•]\s")
# Between columns of a list that is meant for eyes.
_LEADERS = re.compile(r"\.{3,}|…+|_{3,}")
# Signs of other scripts that part words.
_WIDE = str.maketrans({"、": ", ", "，": ", ", "،": ", ", "；": "; ", "؛": "; ", "：": ": ", "＠": "@"})
# Of how many digits a telephone number is (ITU-T E.164: 15 at most); what signatures write in front of one.
_MOST = 15
_LETTERS = {"t": "", "p": "", "ph": "", "m": "mobile", "c": "mobile"}
_NO_PHONE = ("f", "fax", "telefax", "nr", "no", "iban")
_LONGEST_LABEL = 40
_PARTED = ("", ",", ";", "|", "(", "[")
_BEHIND = re.compile(r"\s*\(([^()\d]{1,20})\)")
# Words that a name in small letters may have; and from which on a piece is a sentence.
_NAME_WORDS, _SENTENCE = 3, 7
# What people are at an organisation.
_JOBS = frozenset(
    "assistant captain chair chairman chairwoman clerk coach coordinator director engineer leader manager master "
    "officer president secretary skipper treasurer leiter leiterin meister meisterin wart wartin vorsitzende "
    "vorsitzender directeur directrice presidente responsable secretaire tresorier tresoriere capitaine directora "
    "direttore direttrice presidenta segretaria segretario tesoriere tesorero capitan".split()
)
# So many addresses one person may have in a line.
_FEW = 5


class Written(NamedTuple):
    """What somebody wrote of a person: the name, the address as it stands, more addresses, telephone numbers, an
    organisation, and the rest; and of which kind the address is."""

    name: str = ""
    address: str = ""
    more: tuple[str, ...] = ()
    phones: tuple[Phone, ...] = ()
    org: str = ""
    rest: tuple[str, ...] = ()
    kind: str = ""

    @property
    def is_prose(self) -> bool:
        """Whether what stands beside name and address reads like a sentence."""
        return any(len(piece.split()) >= _SENTENCE for piece in self.rest)


def fits(name: str, address: str) -> bool:
    """Whether an address has a word of a name in it, or begins with its initials."""
    local = fold(address.partition("@")[0])
    found = [word for word in re.split(r"\W+", fold(name)) if word]
    return any(len(word) > 2 and word in local for word in found) or (
        len(found) > 1 and "".join(filter(str.isalpha, local)) == "".join(word[0] for word in found)
    )


def may_reach(text: str) -> bool:
    """Whether there is an address in a text, or what is meant for one."""
    return "@" in text or _HIDDEN.search(text) is not None


def people_of(line: str) -> list[Written]:
    """The people of a line, one for each address in it, or one without; what cannot be an address comes as one all the
    same, to be refused."""
    line = _LEADERS.sub(" | ", without_markup(line if line.isascii() else line.translate(_WIDE)))
    usual = split_pasted(line)
    plain = [mailbox for piece in usual if (mailbox := _plain(piece))]
    if len(plain) == len(usual) and "@" in line:
        return [Written(*mailbox) for mailbox in plain]
    text = without_bullet(line)
    if text.count("@") < 2:
        return [_one(text)]
    for sign in (";", " / ", "\t", ","):
        parts = [part for part in text.split(sign) if part.strip(" ,;")]
        if len(parts) == text.count("@") and all(part.count("@") == 1 for part in parts):
            return [_one(part) for part in parts]
    addresses = [found[1] for found in _ADDRESS.finditer(text)]
    few = 0 < len(addresses) < _FEW
    one = _one(" ".join(_ADDRESS.split(text)[::2]) + f" {addresses[0]}") if few else Written()
    if one.name and all(fits(one.name, address) and plain_address(address) for address in addresses):
        return [one._replace(more=tuple(addresses[1:]))]
    return [Written(address=piece) for piece in usual]


def _bare(piece: str) -> str:
    piece = piece.strip(" :-–—/").lstrip(".")
    return piece if "." in piece[:-1] else piece.rstrip(".")  # M.A. keeps its last


def without_phones(text: str) -> tuple[str, tuple[Phone, ...]]:
    """A text without its telephone numbers and the words that say of which kind they are; and these."""
    kept, phones, end = "", [], 0
    for hit in NUMBER.finditer(text):
        number = hit.group().strip()
        if hit.start() < end or not LEAST_DIGITS <= len(digits(number)) <= _MOST or is_date(number):
            continue
        from_here = max(end, hit.start() - _LONGEST_LABEL)
        before, kind = _labelled(text[from_here : hit.start()])
        if kind is None:
            kept, end = f"{kept}{text[end : hit.start()].rstrip(' :')} {number}", hit.end()
            continue
        kept, end = f"{kept}{text[end:from_here]}{before}\n", hit.end()
        if (behind := _BEHIND.match(text, end)) and (said := read_title(behind[1]).kind):
            kind, end = said, behind.end()
        phones.append(Phone(number, kind))
    return kept + text[end:], tuple(phones)


def _plain(piece: str) -> Mailbox | None:
    """A piece that is an address with at most a name, in which there is no number and no `E-mail:` or `Chair:`."""
    try:
        mailbox = parse_mailbox(piece)
    except BadAddressError:
        return None
    name = mailbox.name
    if _APART.search(name) or len(digits(name)) >= LEAST_DIGITS or _is_label(name) or _goes_on(name):
        return None
    return mailbox


def _goes_on(name: str) -> bool:
    """Whether something that is none stands behind a name: `Bo Lund, Harbour Master`, not `Lund, Bo` or `Lund, PhD`."""
    if "," not in name:
        return False
    first, *rest = cut_behind(name)[0].split(",")
    if len(rest) != 1:
        return len(rest) > 1
    known = known_given_names()
    begin = [fold(part).split()[:1] for part in (first, rest[0])]
    return " " in first.strip() and begin[0][:1] != [] and begin[0][0] in known and not known.intersection(begin[1])


def _one(text: str) -> Written:
    found = _ADDRESS.search(text) or _HIDDEN.search(text)
    address = (found[1] if found.re is _ADDRESS else found[0]).rstrip(".!?") if found else ""
    beside, kind = text, ""
    if found:
        end = found.end()
        if (behind := _BEHIND.match(text, end)) and (said := read_title(behind[1]).kind) in KINDS:
            kind, end = said, behind.end()
        beside = f"{_MAILTO.sub('', text[: found.start()])}\n{text[end:]}"
    bare, phones = without_phones(beside)
    pieces = [_bare(piece) for piece in _BETWEEN.split(bare)]
    pieces = [piece for piece in pieces if any(map(str.isalnum, piece)) and not _is_label(piece)]
    name, made_of = _name_of(pieces, address)
    rest = [piece for piece in pieces if piece not in made_of]
    org = next((piece for piece in rest if _is_org(piece)), "")
    return Written(name, address, (), phones, org, tuple(piece for piece in rest if piece != org), kind)


def _is_org(piece: str) -> bool:
    """Whether a piece is an organisation: neither what somebody is there (Harbour Master) nor a sentence about one."""
    found = fold(piece).split()
    return len(found) < _SENTENCE - 1 and not _JOBS.intersection(found) and is_organisation(piece)


def _labelled(before: str) -> tuple[str, str | None]:
    """What stands in front of a number without the words that say of which kind it is, and that kind; None for a number
    that is no telephone's (a fax, a member number)."""
    text, kind, is_said = before.rstrip(" :-–—\n"), "", False
    signed = before[len(text) :].strip() or text[-1:] == "."
    while label := _phone_label(text):
        text, kind, is_said = label[0].rstrip(" :"), kind or label[1], True
    if is_said:
        return text, kind
    head, said = _last_words(text.rstrip("."), 1)
    title, apart = read_title(said), head.rstrip()[-1:] in _PARTED
    if fold(said) in _NO_PHONE or (apart and title.is_sure and (title.is_thing or title.concept == "uid")):
        return before, None
    if (signed or apart) and fold(said) in _LETTERS:
        return head, _LETTERS[fold(said)]
    return before, ""


def _phone_label(text: str) -> tuple[str, str] | None:
    """What stands before the words that end a text and say that a telephone number follows, and of which kind it is;
    nothing where there are none."""
    for number in (1, 2):
        head, said = _last_words(text, number)
        title = read_title(said)
        if said and title.is_sure and (title.concept in ("phone", "mobile") or (title.kind and not title.concept)):
            return head, title.kind
    return None


def _last_words(text: str, number: int) -> tuple[str, str]:
    """A text without its last words, and these, which no sign parts."""
    line = re.split(r"[,;|\n(\[]|\s[-–—/·]\s", text)[-1]
    found = line.split()
    said = " ".join(found[-number:]) if len(found) >= number else ""
    return text[: len(text) - len(line)] + line[: line.rfind(said)] if said else text, said


def _is_label(piece: str) -> bool:
    """Whether a piece only says what the next one is: `E-mail`, `Tel. (home)`."""
    if len(piece) > _LONGEST_LABEL or piece[-2:].isdecimal():
        return False
    title = read_title(piece)
    of_value = title.is_sure and not title.role and title.concept in ("email", "phone", "mobile", "name")
    return of_value or fold(piece) in ("e", "t", "m")


def _name_of(pieces: list[str], address: str) -> tuple[str, tuple[str, ...]]:
    """The name among the pieces of a line, and those that it is made of."""
    names = [piece for piece in pieces if looks_like_name(piece) or (piece[:1].isupper() and may_be_several(piece))]
    known = known_given_names()
    if len(pieces) > 1 and fold(pieces[0].split()[0]) not in known and fold(pieces[1]) in known and " " in pieces[0]:
        return f"{pieces[0]}, {pieces[1]}", tuple(pieces[:2])  # van der Siel, Jan; García López, José
    if names:
        best = next((piece for piece in names if address and fits(piece, address)), names[0])
        return best, (best,)
    if not pieces or not address:
        return "", ()
    words = [piece for piece in pieces[:2] if piece.isalpha()]
    if len(words) == 2 and fold(words[1]) in known:
        return f"{words[0]}, {words[1]}", tuple(words)  # the family name first
    first = pieces[0]
    parts = first.split()
    if len(parts) > _NAME_WORDS or not all(re.sub("[-’'.]", "", part).isalpha() for part in parts):
        return "", ()
    return (first, (first,)) if fits(first, address) or (words[:1] == [first] and not first[0].islower()) else ("", ())
