"""Asking an organisation's directory (LDAP, RFC 4511) who there is; nothing is ever written there."""

from __future__ import annotations

import ssl
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from urllib.parse import unquote, urlsplit

import ldap3
from ldap3.core.exceptions import LDAPException, LDAPInvalidFilterError, LDAPSocketOpenError, LDAPStartTLSError
from ldap3.operation.search import parse_filter
from ldap3.utils.conv import escape_filter_chars

from barnacle.core.errors import BarnacleError, DirectoryError, UnclearError
from barnacle.core.hosts import is_loopback
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.net.reader import Reader

_CONNECT_SECONDS, _ANSWER_SECONDS, _SEARCH_SECONDS = 10, 30, 20
_HURRIED = 3
# One question with its answers: seconds, and octets.
_WHOLE_SECONDS, _ALL = 120, 64 << 20
_PAGE = 200
# Pages in a row with nobody on them: there may be some, where one may not see everybody.
_EMPTY_PAGES = 100
# RFC 2696; its control.
_PAGED = "1.2.840.113556.1.4.319"
# Result codes (RFC 4511 appendix A).
_SUCCESS, _TIME, _SIZE, _REFERRAL, _ADMIN, _NO_OBJECT, _NO_LOGIN, _BAD_LOGIN, _NO_RIGHT = (
    0,
    3,
    4,
    10,
    11,
    32,
    48,
    49,
    50,
)
_NEEDS_TLS, _NEEDS_LOGIN = 13, 8
# What a value may have in characters, and how many of one attribute are taken.
_VALUE, _VALUES = 1000, 20
EXTERNAL = "external"


class Place(NamedTuple):
    """Where a directory is (RFC 4516): `ldaps://HOST[:PORT]/BASE[??SCOPE?FILTER]`."""

    url: str
    host: str
    port: int
    scheme: str
    base: str
    scope: str
    filter: str

    @property
    def is_here(self) -> bool:
        """Whether it is on this machine."""
        return self.scheme == "ldapi" or is_loopback(self.host)


class Entry(NamedTuple):
    """Somebody in the directory: the entry's own number (RFC 4530), its place, and the values of its attributes, by
    their names in small letters."""

    number: str
    dn: str
    values: Mapping[str, Sequence[str]]


class Found(NamedTuple):
    """Entries; whether there are more than were given, and why; and how many places elsewhere were named, which were
    not asked."""

    entries: list[Entry]
    more: str = ""
    elsewhere: int = 0


def read_place(url: str) -> Place:
    """Raises UnclearError."""
    sentence = (
        f"`{visible(url, 100)}` is not a directory. Write ldaps://HOST/BASE, such as "
        "ldaps://ldap.tidewick.example/ou=people,dc=tidewick,dc=example."
    )
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        raise UnclearError(sentence) from None
    scheme = parts.scheme.lower()
    if scheme not in ("ldap", "ldaps", "ldapi") or not parts.netloc or parts.username or parts.password:
        raise UnclearError(sentence)
    _, scope, only, *_ = [*unquote(parts.query).split("?", 3), "", "", ""][:4]
    if scope not in ("", "sub", "one", "base"):
        raise UnclearError(sentence)
    text = only or "(objectClass=person)"
    check_filter(text)
    host = unquote(parts.netloc) if scheme == "ldapi" else parts.hostname or ""
    usual = 636 if scheme == "ldaps" else 389
    return Place(url, host, port or usual, scheme, unquote(parts.path.lstrip("/")), scope or "sub", text)


def check_filter(text: str) -> None:
    """A filter (RFC 4515). Raises UnclearError."""
    try:
        if not _is_one(text):
            raise ValueError(text)
        parse_filter(text, None, True, False, None, False)
    except (LDAPException, LDAPInvalidFilterError, ValueError, IndexError, RecursionError, TypeError):
        raise UnclearError(
            f"`{visible(text, 80)}` is not a filter. Write it like (ou=berthing), or (&(ou=berthing)(title=Mate))."
        ) from None


def _is_one(text: str) -> bool:
    """Whether a text is one thing in brackets, and no more of them than anybody needs."""
    depth = 0
    for place, sign in enumerate(text):
        depth += {"(": 1, ")": -1}.get(sign, 0)
        if depth < 1 and place < len(text) - 1:
            return False
    return depth == 0 and text.startswith("(") and len(text) < 4000 and text.count("(") < 200


def words_filter(words: str, attributes: Sequence[str]) -> str:
    """A filter for entries that have each of these words in some of these attributes (RFC 4515)."""
    parts = [
        "(|" + "".join(f"({name}=*{escape_filter_chars(word)}*)" for name in attributes) + ")" for word in words.split()
    ]
    return parts[0] if len(parts) == 1 else f"(&{''.join(parts)})"


def either(name: str, values: Sequence[str]) -> str:
    """A filter for entries that have one of these values."""
    return "(|" + "".join(f"({name}={escape_filter_chars(value)})" for value in values) + ")"


class _Within:
    """What the library reads by, within bounds for each question."""

    def __init__(self, sock: Any) -> None:
        self._sock = sock
        self._reader = Reader(sock, _ALL)
        self._patience: float = sock.gettimeout() or _ANSWER_SECONDS
        self.allow()

    def allow(self) -> None:
        """What the answers to the next question may come to."""
        self._reader.allow(_ALL)
        self._until = time.monotonic() + _WHOLE_SECONDS

    def recv(self, size: int) -> bytes:
        """As of any socket. Raises OSError."""
        self._reader.until = min(self._until, time.monotonic() + self._patience)
        try:
            return self._reader.some(size)
        except TimeoutError:
            raise TimeoutError("no answer in time") from None

    def __getattr__(self, name: str) -> Any:
        return getattr(self._sock, name)


class Directory:
    """A connection to a directory. Raises DirectoryError, in everything."""

    def __init__(
        self, place: Place, user: str, password: Callable[[], str | None], authority: str, hurried: bool = False
    ) -> None:
        """`user` is a DN (simple bind), `external` (SASL EXTERNAL), or empty (anonymous); `authority` a file. With
        `hurried` it waits only a little, where something else was asked for."""
        self.place = place
        try:
            tls = ldap3.Tls(validate=ssl.CERT_REQUIRED, ca_certs_file=authority or None)
            where = f"ldapi://{place.host}" if place.scheme == "ldapi" else place.host
            server = ldap3.Server(
                where,
                port=place.port if place.scheme != "ldapi" else None,
                use_ssl=place.scheme == "ldaps",
                tls=tls,
                get_info=ldap3.NONE,
                connect_timeout=_HURRIED if hurried else _CONNECT_SECONDS,
            )
            how: dict[str, Any] = {}
            if user == EXTERNAL:
                how = {"authentication": ldap3.SASL, "sasl_mechanism": ldap3.EXTERNAL, "sasl_credentials": ""}
            elif user:
                how = {"authentication": ldap3.SIMPLE, "user": user}
            self._line: Any = ldap3.Connection(
                server,
                read_only=True,
                auto_referrals=False,
                check_names=False,
                auto_range=False,
                receive_timeout=_HURRIED if hurried else _ANSWER_SECONDS,
                raise_exceptions=False,
                return_empty_attributes=False,
                **({**how, "password": "-"} if "user" in how else how),
            )
            self._line.open(read_server_info=False)
        except (LDAPException, OSError, ValueError) as error:
            raise DirectoryError(self._unreached(tidy(str(error), 200), error)) from error
        try:
            self._let_in(user, password, bool(authority))
        except BaseException:
            self.close()
            raise

    def _let_in(self, user: str, password: Callable[[], str | None], has_authority: bool) -> None:
        place = self.place
        with self._told():
            self._line.socket = _Within(self._line.socket)
            # On this machine only where one has named whom to believe.
            encrypts = place.scheme == "ldap" and (not place.is_here or has_authority)
            if encrypts:
                if not self._line.start_tls(read_server_info=False):
                    raise DirectoryError(
                        f"{place.host} offers no encryption. Try ldaps:// in `barnacle setup --directory`."
                    )
                self._line.socket = _Within(self._line.socket)
            if self._line.user:
                secret = password()
                if not secret:  # an empty one would be anonymous (RFC 4513 section 5.1.2)
                    raise DirectoryError(
                        f"{place.host} asks for the password of {visible(user, 120)}. `barnacle setup --directory` on "
                        "a terminal asks for it; in a script, set BARNACLE_DIRECTORY_PASSWORD."
                    )
                self._line.password = secret
            if not self._line.bind(read_server_info=False):
                raise DirectoryError(self._refusal())

    @contextmanager
    def _told(self) -> Iterator[None]:
        # Of what makes no sense the library has many ways to say so.
        try:
            yield
        except BarnacleError:
            raise
        except Exception as error:
            expected = isinstance(error, LDAPException | OSError)
            said = tidy(str(error), 200) if expected else "its answer makes no sense"
            raise DirectoryError(self._unreached(said, error)) from error

    def _unreached(self, said: str, error: Exception) -> str:
        at = f"{self.place.host}:{self.place.port}"
        if "CERTIFICATE_VERIFY_FAILED" in said or "certificate" in said.lower() or isinstance(error, LDAPStartTLSError):
            return (
                f"The directory at {at} could not prove that it is {self.place.host} ({said}). If your office has its "
                "own certificate authority, name its file: `barnacle settings directory.ca_file FILE`."
            )
        why = "nothing answers there, or not in time" if isinstance(error, LDAPSocketOpenError) else said
        return f"The directory at {at} cannot be reached ({why}). Check the name in `barnacle setup --directory`."

    def _refusal(self) -> str:
        result = self._line.result or {}
        code = result.get("result")
        said = tidy(str(result.get("message") or result.get("description") or ""), 160)
        host = self.place.host
        words = {
            _BAD_LOGIN: f"{host} does not accept this name with this password, or has locked the account",
            _NO_LOGIN: f"{host} lets nobody in like this; a name may be needed: `barnacle setup --directory-user DN`",
            _NEEDS_LOGIN: f"{host} asks for a stronger way to sign in",
            _NEEDS_TLS: f"{host} asks for encryption; try ldaps://",
            _NO_RIGHT: f"{host} does not let you look; a name may be needed: `barnacle setup --directory-user DN`",
            _NO_OBJECT: f"{host} has nothing at {visible(self.place.base, 120)}; check the end of its address",
            _REFERRAL: f"{host} says that another server has this; ask whoever runs it for its address",
        }
        return f"{words.get(int(code or 0), f'{host} refuses (code {code})')}{f' ({said})' if said else ''}."

    def search(self, text: str, attributes: Sequence[str], most: int) -> Found:
        """The entries that fit a filter and that of the place, `most` of them."""
        whole = f"(&{self.place.filter}{text})"
        scope = {"sub": ldap3.SUBTREE, "one": ldap3.LEVEL, "base": ldap3.BASE}[self.place.scope]
        entries: list[Entry] = []
        elsewhere = empty = 0
        cookie: bytes | None = None
        wanted = [*attributes, "entryUUID"]
        while True:
            with self._told():
                self._line.socket.allow()
                self._line.search(
                    self.place.base, whole, scope, attributes=wanted, time_limit=_SEARCH_SECONDS,
                    paged_size=_PAGE, paged_cookie=cookie, paged_criticality=False,
                )  # fmt: skip
                before = len(entries)
                for one in self._line.response or ():
                    if one.get("type") == "searchResRef":
                        elsewhere += 1
                    elif one.get("type") == "searchResEntry":
                        entries.append(_entry(one))
                result = self._line.result or {}
                code = result.get("result")
                paged = (result.get("controls") or {}).get(_PAGED) or {}
                cookie = (paged.get("value") or {}).get("cookie")
            empty = empty + 1 if len(entries) == before else 0
            if len(entries) > most:
                return Found(entries[:most], f"there are more than {most:,}", elsewhere)
            if code in (_SIZE, _TIME, _ADMIN):
                what = "gives no more at once" if code != _TIME else "took too long to find all"
                return Found(entries, f"{self.place.host} {what}", elsewhere)
            if code != _SUCCESS:
                raise DirectoryError(self._refusal())
            if empty > _EMPTY_PAGES:
                return Found(entries, f"{self.place.host} gives one empty page after another", elsewhere)
            if not cookie:
                if not entries:
                    self._need_base()
                return Found(entries, "", elsewhere)

    def _need_base(self) -> None:
        """Raises DirectoryError where there is nothing at the place that was searched: some servers that are asked page
        by page say that they found nobody."""
        with self._told():
            self._line.search(self.place.base, "(objectClass=*)", ldap3.BASE, attributes=[ldap3.NO_ATTRIBUTES])
        if (self._line.result or {}).get("result") == _NO_OBJECT:
            raise DirectoryError(self._refusal())

    def close(self) -> None:
        """Say goodbye."""
        with suppress(Exception):
            self._line.unbind()

    def __enter__(self) -> Directory:
        return self

    def __exit__(self, *about: object) -> None:
        self.close()


def _entry(found: Mapping[str, Any]) -> Entry:
    """An entry with its values as text; what is none (a picture, say) is left out, what a terminal would obey shown."""
    values: dict[str, list[str]] = {}
    for name, some in (found.get("raw_attributes") or {}).items():
        texts = list(_texts(some if isinstance(some, list) else [some]))
        if texts:
            values[str(name).lower().partition(";")[0]] = texts
    number = values.pop("entryuuid", [""])[0]
    return Entry(number or str(found.get("dn", "")), str(found.get("dn", "")), values)


def _texts(some: Sequence[Any]) -> Iterator[str]:
    for one in some[:_VALUES]:
        try:
            text = one.decode("utf-8") if isinstance(one, bytes) else str(one)
        except UnicodeDecodeError:
            continue
        if text := tidy(text, _VALUE):
            yield text
