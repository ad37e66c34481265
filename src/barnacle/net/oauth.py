"""Signing in with an organisation (OAuth 2.0, RFC 6749): by the browser (RFC 8252, with PKCE, RFC 7636) or by a code
that is typed on another device (RFC 8628); where its pages are, it says itself (RFC 8414)."""

from __future__ import annotations

import json
import secrets
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import urlsplit

from oauthlib.common import generate_token
from oauthlib.oauth2 import DeviceClient, OAuth2Error, WebApplicationClient

from barnacle.core.errors import MailError, UnclearError
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any, NamedTuple
from barnacle.net.http import httpx
from barnacle.net.tls import Trust

_SECONDS = 30.0
# What an answer may have in octets, and how long a person may take.
_MOST = 1 << 20
_PERSON_SECONDS = 600.0
_ENDED = "invalid_grant"
_DONE_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Barnacle</title>
<p>{sentence}</p></html>"""


class Endpoints(NamedTuple):
    """Where an organisation signs people in: URLs, empty where there is none."""

    token: str
    authorization: str = ""
    device: str = ""


class Program(NamedTuple):
    """What the organisation knows this program as: its client ID, a secret that it may go with (which is none: RFC 8252
    section 8.5), and what is asked for."""

    client: str
    secret: str = ""
    scope: str = ""


class SignedIn(NamedTuple):
    """A token for the mail server, until when it holds (seconds since the epoch), and what it is renewed with (empty:
    nothing)."""

    access: str
    until: float
    refresh: str


class EndedError(MailError):
    """The organisation does not renew a sign-in any more."""


# Of an answer with a token (RFC 6749 sections 5.1 and 5.2).
_READ_BY_LIBRARY = ("access_token", "token_type", "error", "error_description", "error_uri")


class SignIn:
    """An organisation's sign-in. Everything here raises MailError."""

    def __init__(self, issuer: str, program: Program, trust: Trust, given: Endpoints | None = None) -> None:
        """`given` are its endpoints; else it is asked for them. Raises FileError, UnclearError."""
        self.issuer = issuer
        self.program = program
        self._http = httpx.Client(timeout=_SECONDS, verify=trust.context(), headers={"Accept": "application/json"})
        self.endpoints = given or self._discover()
        for url in filter(None, self.endpoints):
            check_url(url)

    def __enter__(self) -> SignIn:
        return self

    def __exit__(self, *about: object) -> None:
        self._http.close()

    def _discover(self) -> Endpoints:
        parts = urlsplit(self.issuer)
        path = parts.path.rstrip("/")
        base = f"{parts.scheme}://{parts.netloc}"
        # RFC 8414 section 3.1; the other one is what many had before it (section 5).
        for url in (
            f"{base}/.well-known/oauth-authorization-server{path}",
            f"{base}{path}/.well-known/openid-configuration",
        ):
            status, found = self._answer("GET", url)
            if status == 200 and found.get("issuer"):
                break
        else:
            raise MailError(
                f"{visible(self.issuer)} does not say how one signs in there. Ask whoever runs your mail for the right "
                "address."
            )
        if str(found["issuer"]).rstrip("/") != self.issuer.rstrip("/"):
            raise MailError(f"{visible(self.issuer)} speaks for another one, {visible(str(found['issuer']), 80)}.")
        names = ("token_endpoint", "authorization_endpoint", "device_authorization_endpoint")
        return Endpoints(*(str(found.get(name) or "") for name in names))

    def by_device(self, tell: Callable[[str, str], None], sleep: Callable[[float], None] = time.sleep) -> SignedIn:
        """Wait until somebody has typed a code on a page, both of which are told."""
        if not self.endpoints.device:
            raise MailError(f"{self._host} has no sign-in by a code; leave --device out.")
        client = DeviceClient(self.program.client)
        status, says = self._answer("POST", self.endpoints.device, self._with_scope({"client_id": self.program.client}))
        if status != 200 or not says.get("device_code"):
            raise MailError(self._refusal(says, status))
        page, code = (str(says.get(name, "")) for name in ("verification_uri", "user_code"))
        tell(visible(check_url(page), 300), visible(code, 60))
        pause = _number(says.get("interval"), 5.0)
        end = time.monotonic() + min(_number(says.get("expires_in"), _PERSON_SECONDS), 1800.0)
        device_code = str(says["device_code"])
        if not device_code.isascii():
            raise MailError(f"{self._host} gave a code that is none.")
        body = client.prepare_request_body(device_code, include_client_id=True)
        while True:
            sleep(pause)
            try:
                return self._token(client, body)
            except OAuth2Error as error:
                if error.error == "slow_down":
                    pause += 5.0
                elif error.error != "authorization_pending":
                    raise MailError(self._refused(error)) from None
            if time.monotonic() > end:
                raise MailError("Nobody typed the code in time. Nothing was kept; try again.")

    def by_browser(self, open_page: Callable[[str], None]) -> SignedIn:
        """Have somebody sign in on a page that is opened, which comes back to this computer."""
        if not self.endpoints.authorization:
            raise MailError(f"{self._host} has no sign-in by the browser; try --device.")
        client = WebApplicationClient(self.program.client)
        verifier, state = client.create_code_verifier(64), generate_token(32)
        with _Waiting(state) as waiting:
            more = {"scope": self.program.scope.split()} if self.program.scope else {}
            open_page(
                client.prepare_request_uri(
                    self.endpoints.authorization,
                    redirect_uri=waiting.url,
                    state=state,
                    code_challenge=client.create_code_challenge(verifier, "S256"),
                    code_challenge_method="S256",
                    **more,
                )
            )
            come = waiting.come()
        try:
            # It never leaves this computer, which the library cannot know.
            code = client.parse_request_uri_response(f"https{come.removeprefix('http')}", state)["code"]
            body = client.prepare_request_body(code, redirect_uri=waiting.url, code_verifier=verifier)
            return self._token(client, body)
        except OAuth2Error as error:
            raise MailError(self._refused(error)) from None

    def renewed(self, refresh: str) -> SignedIn:
        """A new token. Raises EndedError where one must sign in again."""
        client = WebApplicationClient(self.program.client)
        body = client.prepare_refresh_body(refresh_token=refresh, client_id=self.program.client)
        try:
            come = self._token(client, body)
        except OAuth2Error as error:
            kind = EndedError if error.error == _ENDED else MailError
            raise kind(self._refused(error)) from None
        return come if come.refresh else come._replace(refresh=refresh)

    def _token(self, client: Any, body: str) -> SignedIn:
        fields = dict(httpx.QueryParams(body))
        if self.program.secret:
            fields["client_secret"] = self.program.secret
        status, says = self._answer("POST", self.endpoints.token, fields)
        if status >= 500:
            raise MailError(f"{self._host} has problems (status {status}). Try again later.")
        # Of the rest the library believes that it is as it should be; and another scope than was asked for is a warning
        # there: the mail server will say whether it does.
        told = {name: says[name] for name in _READ_BY_LIBRARY if isinstance(says.get(name), str)}
        with suppress(Warning):
            client.parse_request_body_response(json.dumps(told), scope=None)
        token, refresh = (str(says.get(name) or "") for name in ("access_token", "refresh_token"))
        if not f"{token}{refresh}".isascii() or not f"{token}{refresh}".isprintable() or " " in token:
            raise MailError(f"{self._host} gave a token that is none.")
        return SignedIn(token, time.time() + _number(says.get("expires_in"), 300.0), refresh)

    def _with_scope(self, fields: dict[str, str]) -> dict[str, str]:
        return fields | ({"scope": self.program.scope} if self.program.scope else {})

    def _answer(self, method: str, url: str, fields: Mapping[str, str] | None = None) -> tuple[int, dict[str, Any]]:
        """A status and an object in JSON, empty where the answer has none; no more is read than can be meant."""
        check_url(url)
        try:
            with self._http.stream(method, url, data=fields) as answer:
                octets = b""
                for part in answer.iter_bytes():
                    octets += part
                    if len(octets) > _MOST:
                        raise MailError(f"The answer of {self._host} does not end.")
                status = answer.status_code
        except (httpx.HTTPError, OSError) as error:
            why = "no answer in time" if isinstance(error, httpx.TimeoutException) else tidy(str(error), 160)
            if "CERTIFICATE_VERIFY_FAILED" in why:
                why = "it could not prove its identity; mail.ca_file may name your office's own certificate authority"
            raise MailError(f"{self._host} cannot be reached to sign in ({why}).") from None
        try:
            found = json.loads(octets)
        except (ValueError, RecursionError):
            found = {}
        return status, found if isinstance(found, dict) else {}

    @property
    def _host(self) -> str:
        return urlsplit(self.issuer or self.endpoints.token).hostname or "the sign-in"

    def _refused(self, error: Any) -> str:
        return self._refusal({"error": error.error, "error_description": error.description}, 400)

    def _refusal(self, says: Mapping[str, Any], status: int) -> str:
        words = {
            "access_denied": "whoever was asked did not allow it",
            "expired_token": "nobody typed the code in time",
            _ENDED: "what you had does not hold any more",
            "invalid_client": "it does not know this client ID",
            "unauthorized_client": "it does not let this client ID sign in like this",
        }
        error = str(says.get("error") or f"status {status}")
        said = tidy(str(says.get("error_description") or ""), 160)
        why = words.get(error, f"{visible(error, 60)}")
        return f"{self._host} did not sign you in: {why}{f' ({said})' if said else ''}."


class _Waiting:
    """A place on this computer to which a browser comes back (RFC 8252 section 7.3): whoever comes with this state has
    signed in on the page that was opened."""

    def __init__(self, state: str) -> None:
        self._path, self._state, self._came = "", state, threading.Event()

    def __enter__(self) -> _Waiting:
        outer = self

        class Handler(BaseHTTPRequestHandler):
            timeout = 10

            def do_GET(self) -> None:
                right = outer.is_it(self.path)
                if right:
                    outer._path = self.path
                sentence = "You can close this page and go back." if right else "This page is not meant for anybody."
                page = _DONE_PAGE.format(sentence=sentence).encode()
                self.send_response(200 if right else 404)
                self.send_header("Content-Type", "text/html; charset=utf-8")
                self.send_header("Content-Length", str(len(page)))
                self.end_headers()
                self.wfile.write(page)
                if right:
                    outer._came.set()

            def log_message(self, format: str, *args: Any) -> None:
                pass

        class Server(ThreadingHTTPServer):
            daemon_threads = True

            def handle_error(self, request: Any, client_address: Any) -> None:
                pass  # whoever breaks off

        self._server = Server(("127.0.0.1", 0), Handler)
        # A browser may hold this program up until its page has come.
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self._server.server_port}/"
        return self

    def __exit__(self, *about: object) -> None:
        self._server.shutdown()
        self._server.server_close()

    def is_it(self, path: str) -> bool:
        """Whether somebody comes back from what was begun here."""
        came = str(dict(httpx.QueryParams(urlsplit(path).query)).get("state", ""))
        return secrets.compare_digest(came.encode(), self._state.encode())

    def come(self) -> str:
        """The address that the browser came back to. Raises MailError where it does not."""
        if not self._came.wait(_PERSON_SECONDS):
            raise MailError("Nobody signed in on the page in time. Nothing was kept; try again.")
        return f"{self.url.removesuffix('/')}{self._path}"


def check_url(url: str) -> str:
    """A page or endpoint of a sign-in. Raises UnclearError."""
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError:
        parts = urlsplit("")
    if parts.scheme != "https" or not parts.hostname or parts.username or not url.isascii() or not url.isprintable():
        raise UnclearError(f"`{visible(url, 80)}` is not the address of a sign-in. It begins with https://.")
    return url


def _number(value: Any, usual: float) -> float:
    """Seconds that an answer names, which some write as text."""
    try:
        seconds = float(value)
    except (TypeError, ValueError, OverflowError):
        return usual
    return seconds if 0 < seconds < 1e7 else usual
