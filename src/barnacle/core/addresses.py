"""E-mail addresses: what is one (RFC 5321 section 4.1.2, RFC 6531, RFC 5890), and when two are the same."""

from __future__ import annotations

import re
from collections.abc import Callable

from barnacle.core.errors import BadAddressError
from barnacle.core.patterns import pattern
from barnacle.core.text import has_unsafe, tidy, visible
from barnacle.core.typed import NamedTuple

# RFC 5321 sections 4.5.3.1.1 and 4.5.3.1.3 (a path of 256 octets has its angle brackets in it).
LOCAL_LIMIT = 64
ADDRESS_LIMIT = 254
# A name and an address: what is longer is neither, and would take long to cut up.
_MAILBOX_LIMIT = 1000
_MOST_WORDS = 6  # of a name in front of an address

# The plain case, accepted without asking email-validator (50 µs and 40 ms of start-up): dot-atom, at least two
# labels, no hyphen at a label's edge and none doubled (IDNA), a last label that begins with a letter.
_ATEXT = r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]"
_PLAIN = pattern(
    rf"{_ATEXT}+(?:\.{_ATEXT}+)*@(?:[A-Za-z0-9]{{1,30}}(?:-[A-Za-z0-9]{{1,30}})?\.)+[A-Za-z][A-Za-z0-9]{{1,30}}"
)
SPECIAL = (".localhost", ".local", ".invalid", ".arpa", ".onion", ".alt")
_NAMED = pattern(r"(?P<name>[^<>]*)<(?P<address>[^<>]*)>[\s,;]*")


class Mailbox(NamedTuple):
    """An address with the name that was written in front of it, possibly empty."""

    name: str
    address: str

    def __str__(self) -> str:
        return f"{self.name} <{self.address}>" if self.name else self.address


def check_address(text: str) -> str:
    """`text` as an address in its normal form: domain in lower case, Unicode composed (NFC).

    Raises BadAddressError with a reason in plain words. Whether mail arrives there is not asked. Domains reserved for
    examples and tests (RFC 2606, RFC 6761) pass.
    """
    plain = plain_address(text)
    if plain is not None:
        return plain
    reason = _plain_reason(text)
    if reason:
        raise BadAddressError(visible(text, 80), reason)
    from email_validator import EmailNotValidError, validate_email

    try:
        checked = validate_email(text, check_deliverability=False, globally_deliverable=False, test_environment=True)
    except EmailNotValidError as error:
        raise BadAddressError(visible(text, 80), _own_words(str(error))) from None
    return checked.normalized


def plain_address(text: str) -> str | None:
    """The normal form of an address of the plain kind, or None where it takes `check_address` to tell."""
    if len(text) <= ADDRESS_LIMIT and _PLAIN.fullmatch(text):
        local, _, domain = text.rpartition("@")
        domain = domain.lower()
        if len(local) <= LOCAL_LIMIT and not domain.endswith(SPECIAL):
            return f"{local}@{domain}"
    return None


def _plain_reason(text: str) -> str | None:
    """The commonest mistakes in words, or None where it takes the whole grammar to tell."""
    if not text.strip():
        return "it is empty"
    if has_unsafe(text):
        return "it holds a character that cannot be shown"
    if "@" not in text:
        return "it has no @"
    if any(c.isspace() for c in text):
        return "it has a space in it"
    if text.count("@") > 1:
        return "it has more than one @"
    local, _, domain = text.partition("@")
    if not local:
        return "there is nothing before the @"
    if not domain:
        return "there is nothing after the @"
    if len(text) > ADDRESS_LIMIT or len(local) > LOCAL_LIMIT:
        return f"it is too long ({len(text)} characters)"
    if ".." in text:
        return "it has two dots in a row"
    if local[0] == "." or local[-1] == ".":
        return "there is a dot at the edge of the part before the @"
    if domain[0] == "." or domain[-1] == ".":
        return f"there is a dot at the edge of the domain `{domain}`"
    if "." not in domain and not domain.startswith("["):
        return f"there is no ending such as .example after `{domain}`"
    return None


def _own_words(message: str) -> str:
    message = message.rstrip(".").replace("email address", "address").replace("@-sign", "@")
    return message[:1].lower() + message[1:]


def address_key(address: str) -> str:
    """What makes two addresses the same: capitals aside, the domain in its ASCII form (RFC 5890).

    RFC 5321 section 2.4 lets a server tell capitals apart in the local part; none that people use does. Nothing else is
    taken for the same: ß and ss are two letters in a local part (RFC 6531) and in a domain (RFC 5894 section 7.2).
    """
    lower = address.lower()
    if lower.isascii():
        return address if lower == address else lower  # the one that is in memory already
    local, _, domain = lower.rpartition("@")
    return f"{local}@{ascii_domain(domain)}"


def ascii_domain(domain: str) -> str:
    """The domain as A-labels for the SMTP envelope; unchanged where it has none (RFC 5890 section 2.3.2.1)."""
    if domain.isascii():
        return domain
    import idna

    try:
        return idna.encode(domain, uts46=True).decode("ascii")
    except idna.IDNAError:
        return domain


def envelope_address(address: str) -> str:
    """The address as it is handed to a mail server: the domain in ASCII, the local part as it is."""
    local, _, domain = address.rpartition("@")
    return f"{local}@{ascii_domain(domain)}"


def parse_mailbox(text: str) -> Mailbox:
    """`Name <address>`, `"Name" <address>` or `address`, checked. Raises BadAddressError."""
    if len(text) > _MAILBOX_LIMIT:
        raise BadAddressError(visible(text, 80), f"it is too long ({len(text)} characters)")
    from barnacle.core.quotation_marks import unquoted  # not needed to look at lists

    text = in_usual_brackets(text)
    if match := _NAMED.fullmatch(text):
        name, address = tidy(unquoted(match["name"])), check_address(match["address"].strip())
        # Programs write the address twice where they know no name.
        return Mailbox("" if "@" in name and address_key(name) == address_key(address) else name, address)
    return Mailbox("", check_address(text.strip()))


# A link to write to somebody as a mail program puts it into a text, where an address would stand; other brackets that
# programs make of angle ones.
_AS_LINK = pattern(r"[<\[]\s*mailto:([^\s<>\[\]?]+)\s*[>\]]|\bmailto:(?=[^\s?]+$)", re.IGNORECASE)
_ANGLES = str.maketrans("‹›〈〉＜＞", "<><><>")


def in_usual_brackets(text: str) -> str:
    """Text with each address in angle brackets that stands in others or behind `mailto:`."""
    if not text.isascii():
        text = text.translate(_ANGLES)
    if "mailto:" in text.lower():
        text = _AS_LINK.sub(lambda link: f"<{link[1]}>" if link[1] else "", text)
    return text


def typed_mailbox(text: str) -> Mailbox:
    """Like `parse_mailbox`, as people type it: also a name and an address beside each other, without brackets. One word
    in front of an address may be a part of it that a space tore off, unless it stands in the address again. Raises
    BadAddressError."""
    words = text.split()
    places = [place for place, word in enumerate(words) if "@" in word]
    if len(words) > 1 and "<" not in text and places in ([0], [len(words) - 1]):
        address = plain_address(words.pop(places[0]).strip(_BESIDE + ";."))
        name = _beside(" ".join(words))
        if address and not any(char.isdigit() for char in name):
            if " " in name or name.casefold() in address.partition("@")[0].casefold():
                return Mailbox(tidy(name), address)
            meant = f'with a name in front, write "{visible(name)} <{address}>"'
            raise BadAddressError(visible(text, 80), f"it has a space in it; {meant}")
    return parse_mailbox(text)


# What is not seen and may stand in a cell: zero-width spaces and joiners, soft hyphens, marks of direction.
_UNSEEN = pattern("[\u00ad\u200b-\u200f\u2060\ufeff]")


def without_unseen(text: str) -> str:
    """A text without what nobody sees in it."""
    return text if text.isascii() else _UNSEEN.sub("", text)


def _plainly(text: str) -> str:
    """A text with each sign in its usual form: `@` for one in full width."""
    if text.isascii():
        return text
    import unicodedata

    return unicodedata.normalize("NFKC", without_unseen(text))


def suggest(text: str) -> str:
    """The address that a broken one was probably meant to be, or nothing where that is not obvious. Two words or more
    before a good address are a name; one may be that, or a part of it."""
    text = " ".join(_plainly(text[:_MAILBOX_LIMIT]).split())
    name, _, last = text.rpartition(" ")
    if "@" not in name and name.replace(" ", "").isalpha() and _PLAIN.fullmatch(last):
        return f"{name} <{last}>" if " " in name else ""
    text = re.sub(" at ", "@", text, flags=re.IGNORECASE) if "@" not in text else text
    text = re.sub(r"^mailto:", "", "".join(text.split()), flags=re.IGNORECASE).strip("<>()[]\"'‘’“”„«».,;:!?")
    text = re.sub(r"[(\[]at?[)\]]|@+", "@", text, flags=re.IGNORECASE)
    text = re.sub(r"[(\[]dot[)\]]|,|\.+", ".", text, flags=re.IGNORECASE)
    text = text.replace(".@", "@").replace("@.", "@").replace("@www.", "@")
    # Without the library: what needs its judgement is not obvious.
    return text if _PLAIN.fullmatch(text) else ""


def with_remark(text: str, is_remark: Callable[[str], bool]) -> tuple[str, str] | None:
    """The address in a text and what is written beside it, `ada@kelp.example (work)` or `home: ada@kelp.example`; None
    where that is not plainly so: a word behind an address may be a part of it, unless it `is_remark`, and words before
    it are somebody's name."""
    if text.count("@") != 1 or "<" in text or len(text) > _MAILBOX_LIMIT:
        return None
    spaced = re.sub(r"([(\[])", r" \1", text)
    word = next(one for one in spaced.split() if "@" in one)
    label, colon, last = word.rpartition(":")
    address = plain_address(last.strip("()[],;").rstrip("."))
    before, _, after = spaced.partition(word)
    before, after = f"{before}{label}{colon}".strip(), after.strip()
    behind_number = not before.strip("0123456789+()./- ")
    if (
        address is None
        or (before and before[-1] not in ":)]-–" and not behind_number)
        or (after and last[-1] in ",;|/")
        or suggest(after)
    ):
        return None  # what stands behind a comma may be another one
    if after and after[0] not in "([-–—:" and " " not in after and not is_remark(after):
        return None
    return address, tidy(f"{before} {after}").strip(" :()[]–—-,;/")


_BETWEEN = pattern(r"\s(?:and|or|und|och|&)\s|[,;|\n\r]+|\s(?:[/·•~]|[:*/=]{2,3})\s")


def split_cell(text: str) -> list[str]:
    """The pieces of a cell that may hold several addresses, each still to be checked.

    People separate them by commas, semicolons, slashes, bars, line breaks, spaces or "and".
    """
    # Runs of white space are made single first: the patterns below would go over each of them again and again.
    text = re.sub(r"\s{2,}", _single, text)
    if "<" in text:
        return [piece.strip() for piece in re.split(r"(?<=>)[\s,;/|]*", text) if piece.strip()]
    pieces = [piece for piece in _BETWEEN.split(text) if piece.strip()]
    result: list[str] = []
    for piece in pieces:
        # "a@x.example b@y.example" are two, and so with a slash; "ada @x.example" is one with a mistake in it.
        parts = piece.replace("/", " ").split() if piece.count("@") > 1 else piece.split()
        result.extend(parts if all("@" in p.strip("@") for p in parts) else [piece.strip()])
    return [re.sub(r"^mailto:", "", p, flags=re.IGNORECASE) for p in result]


def _single(run: re.Match[str]) -> str:
    """One character for a run of white space: the one that says most. An odd one stays, to be refused."""
    text = run.group()
    return "\n" if "\n" in text or "\r" in text else next((c for c in text if c not in " \t"), " ")


def split_pasted(text: str) -> list[str]:
    """The pieces of pasted address lines, each still to be checked: `Name <address>` or `address`.

    Whatever separates them: commas, semicolons, line breaks, tabs, spaces between bare addresses. Names may hold
    commas (`Holt, Maren <maren@tidewick.example>`), with quotes or without. Bullets, numbers and `To:` in front of a
    line go; `Maren Holt (maren@tidewick.example)`, and a name and an address with a tab, a colon or a dash between, are
    a person each.
    """
    text = without_bullet(without_markup(text))
    pieces: list[str] = []
    end = 0
    for match in re.finditer(r"<([^<>]*)>", text):
        *loose, last = re.split(r"[;\n\r]", text[end : match.start()])
        cells, _, name = last.rpartition("\t")
        loose.append(cells)
        parts = name.split(",")
        while len(parts) > 1 and ("@" in parts[0] or not parts[0].strip()):
            loose.append(parts.pop(0))
        pieces += _bare(loose)
        pieces.append(f"{','.join(parts).strip().rstrip(' –—:')} <{match.group(1).strip()}>".strip())
        end = match.end()
    return pieces + _bare(re.split(r"[;\n\r]", text[end:]))


# A link to write to somebody, with the recipients that stand in it (RFC 6068); links and bold type as plain text has
# them.
_LINK = pattern(r"mailto:([^\s<>\"()\[\]?]{0,2000})\?([^\s<>\"()\[\]]{0,2000})", re.IGNORECASE)
_LABELLED = pattern(r"\[([^\[\]\n]{0,200})\]\((?:mailto:)?([^\s()\[\]<>]{1,64}@[^\s()\[\]<>]{1,255})\)", re.IGNORECASE)


def without_markup(text: str) -> str:
    """Text with addresses without the signs of links and of bold type: `**Bo Lund** [bo@…](mailto:bo@…)`; all the
    recipients of a link to write to them, whether in its To, Cc or Bcc."""
    if "](" in text:
        text = _LABELLED.sub(lambda m: m[2] if "@" in m[1] or not m[1].strip() else f"{m[1]} <{m[2]}>", text)
    if "mailto:" in text.lower():
        text = _LINK.sub(_recipients, text)
    return in_usual_brackets(text).replace("**", "")


def _recipients(link: re.Match[str]) -> str:
    from urllib.parse import unquote  # rare

    said = [part.partition("=") for part in link[2].split("&")]
    more = [value for name, _, value in said if name.lower() in ("to", "cc", "bcc")]
    return ", ".join(unquote(address) for part in (link[1], *more) for address in part.split(",") if address)


# In front of a line: a bullet or a number; what stands before addresses in a message.
_IN_FRONT = pattern(
    r"(^|[\n\r])[ \t>]*(?:[-*•·–]+[ \t]+|\d{1,3}[.)][ \t]+)?(?:(?:to|cc|bcc|from|an|von|kopie|à|de|para|copie|copia"
    r"|till|från|til|fra|kopia|kopi|aan|van|do|od|a|da):[ \t]+(?=[^\n\r]{0,300}@))?",
    re.IGNORECASE,
)
_BESIDE = " \t:()[]–—-,\"'"


def without_bullet(text: str) -> str:
    """Lines of text without a bullet, a number or a `To:` in front."""
    return _IN_FRONT.sub(r"\1", text)


def _beside(text: str) -> str:
    """A name without the signs that part it from an address; brackets and quotation marks within it stay pairs."""
    name = text.strip(_BESIDE + ";")
    before, _, after = text.partition(name) if name else ("", "", "")
    for opening, closing in ("()", "[]", '""'):
        left = name.count('"') % 2 if opening == closing else name.count(opening) - name.count(closing)
        if left > 0 and closing in after:
            name += closing
        elif left and opening in before:
            name = opening + name
    return name


def _bare(texts: list[str]) -> list[str]:
    found = []
    for text in texts:
        if both := named(text):
            found.append(both)
        else:
            pieces = [piece for cell in text.split("\t") for piece in split_cell(cell.strip(" ,;")) if piece]
            found += [named(piece) or piece for piece in pieces]
    return found


def named(text: str) -> str:
    """A name and an address beside each other as `Name <address>`; empty where one of them is missing, or there is
    more."""
    if text.count("@") != 1 or len(text) > _MAILBOX_LIMIT:
        return ""
    word = next(one for one in text.split() if "@" in one)
    before, _, after = text.partition(word)
    address, name = plain_address(word.strip(_BESIDE).rstrip(".")), _beside(before)
    apart = word[0] in "([" or before.rstrip(" ")[-1:] in ("\t", ":", "–", "—", "-")
    if not name and after.strip()[:1] in ("(", "["):
        name, after, apart = _beside(after), "", True
    if not address or not name or after.strip(_BESIDE) or not (apart or " " in name):
        return ""
    called = not any(char.isdigit() for char in name) and name[:1].isupper() and len(name.split()) <= _MOST_WORDS
    return f"{name} <{address}>" if called else ""


def looks_like_address(text: str) -> bool:
    """Whether somebody meant `text` to be an address, right or wrong: it has an @ and no doubt about it."""
    return "@" in text.strip()[1:] or _NAMED.fullmatch(text) is not None
