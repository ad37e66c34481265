"""A small authorization server (RFC 6749, 7636, 8414, 8628, 7662) that signs one made-up person in, to try things with.

It asks nobody for a password: a page of it is enough. It must have a certificate, since nobody signs in without one.
"""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import ssl
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlencode, urlsplit

from barnacle.core.typed import Any

HOST = "localhost"
_DEVICE = "urn:ietf:params:oauth:grant-type:device_code"


@dataclass(slots=True)
class Manners:
    """How it treats whoever comes: who is signed in, for how many seconds a token holds, whether it allows anything,
    whether it renews, and how many seconds a code on another device waits."""

    user: str
    seconds: int = 3600
    deny: bool = False
    renew: bool = True
    code_seconds: int = 600


@dataclass(slots=True)
class _Known:
    """What was given out: codes, with what they were asked for with; device codes by the code that people type, and
    whether it was typed; tokens, with when they end."""

    codes: dict[str, dict[str, str]] = field(default_factory=dict)
    devices: dict[str, tuple[str, bool]] = field(default_factory=dict)
    refreshes: set[str] = field(default_factory=set)
    tokens: dict[str, float] = field(default_factory=dict)


class _Handler(BaseHTTPRequestHandler):
    manners: Manners
    known: _Known
    issuer: str

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        asked = {name: values[-1] for name, values in parse_qs(parts.query).items()}
        if parts.path == "/.well-known/oauth-authorization-server":
            names = ("token", "authorization", "device_authorization", "introspection")
            ends = {f"{name}_endpoint": f"{self.issuer}/{name}" for name in names}
            self._json({"issuer": self.issuer, **ends, "code_challenge_methods_supported": ["S256"]})
        elif parts.path == "/authorization":
            self._authorize(asked)
        elif parts.path == "/device" and asked.get("code") in self.known.devices:
            code, _ = self.known.devices[asked["code"]]
            self.known.devices[asked["code"]] = code, True
            self._page("Signed in. You can close this page.")
        elif parts.path == "/introspection":
            self._about(asked.get("token", ""))
        else:
            self._page("There is nothing here.", 404)

    def do_POST(self) -> None:
        size = min(int(self.headers.get("Content-Length") or 0), 1 << 16)
        said = {name: values[-1] for name, values in parse_qs(self.rfile.read(size).decode("utf-8", "replace")).items()}
        path = urlsplit(self.path).path
        if path == "/token":
            self._token(said)
        elif path == "/device_authorization":
            device, typed = secrets.token_urlsafe(24), secrets.token_hex(3).upper()
            self.known.devices[typed] = device, False
            self._json({"device_code": device, "user_code": typed, "verification_uri": f"{self.issuer}/device",
                        "expires_in": self.manners.code_seconds, "interval": 1})  # fmt: skip
        elif path == "/introspection":
            self._about(said.get("token", ""))
        else:
            self._page("There is nothing here.", 404)

    def _authorize(self, asked: dict[str, str]) -> None:
        back = asked.get("redirect_uri", "")
        if urlsplit(back).hostname != "127.0.0.1" or asked.get("code_challenge_method") != "S256":
            self._page("This request is not right.", 400)
            return
        answer = {"state": asked.get("state", "")}
        if self.manners.deny:
            answer["error"] = "access_denied"
        else:
            answer["code"] = secrets.token_urlsafe(24)
            self.known.codes[answer["code"]] = asked
        self.send_response(302)
        self.send_header("Location", f"{back}?{urlencode(answer)}")
        self.send_header("Content-Length", "0")
        self.end_headers()

    def _token(self, said: dict[str, str]) -> None:
        kind = said.get("grant_type", "")
        if kind == "authorization_code":
            asked = self.known.codes.pop(said.get("code", ""), None)
            digest = hashlib.sha256(said.get("code_verifier", "").encode()).digest()
            proof = base64.urlsafe_b64encode(digest).rstrip(b"=").decode()
            if asked is None or asked["code_challenge"] != proof or asked["redirect_uri"] != said.get("redirect_uri"):
                self._json({"error": "invalid_grant"}, 400)
                return
        elif kind == _DEVICE:
            typed = dict(self.known.devices.values()).get(said.get("device_code", ""))
            if not typed or self.manners.deny:
                waits = typed is False and not self.manners.deny
                self._json({"error": "authorization_pending" if waits else "access_denied"}, 400)
                return
        elif kind != "refresh_token" or said.get("refresh_token") not in self.known.refreshes or not self.manners.renew:
            self._json({"error": "invalid_grant", "error_description": "the sign-in has ended"}, 400)
            return
        self.known.refreshes.discard(said.get("refresh_token", ""))
        token, refresh = (secrets.token_urlsafe(32) for _ in range(2))
        self.known.refreshes.add(refresh)
        self.known.tokens[token] = time.time() + self.manners.seconds
        self._json({"access_token": token, "token_type": "Bearer", "expires_in": self.manners.seconds,
                    "refresh_token": refresh})  # fmt: skip

    def _about(self, token: str) -> None:
        holds = self.known.tokens.get(token, 0.0) > time.time()
        self._json({"active": holds, **({"username": self.manners.user, "sub": self.manners.user} if holds else {})})

    def _json(self, value: Any, status: int = 200) -> None:
        self._send(json.dumps(value).encode(), "application/json", status)

    def _page(self, sentence: str, status: int = 200) -> None:
        self._send(f"<!doctype html><title>Sign-in</title><p>{sentence}</p>".encode(), "text/html", status)

    def _send(self, octets: bytes, kind: str, status: int) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Cache-Control", "no-store")
        self.send_header("Content-Length", str(len(octets)))
        self.end_headers()
        self.wfile.write(octets)

    def log_message(self, format: str, *args: Any) -> None:
        pass


def serve(port: int, certificate: tuple[Path, Path], manners: Manners, ready: Callable[[str, str], None]) -> None:
    """Serve on loopback until interrupted. `ready` is called with the address, and with that of the page that tells
    whether a token holds (RFC 7662), over plain HTTP: for mail servers on this machine. Raises OSError when the port is
    taken."""
    known = _Known()
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(*certificate)
    server, plain = (ThreadingHTTPServer(("127.0.0.1", one), _Handler) for one in (port, 0))
    issuer = f"https://{HOST}:{server.server_port}"
    handler = type("_Handler", (_Handler,), {"manners": manners, "known": known, "issuer": issuer})
    server.RequestHandlerClass = plain.RequestHandlerClass = handler
    server.socket = context.wrap_socket(server.socket, server_side=True)
    threading.Thread(target=plain.serve_forever, daemon=True).start()
    ready(issuer, f"http://127.0.0.1:{plain.server_port}/introspection")
    try:
        server.serve_forever()
    finally:
        server.server_close()
        plain.server_close()
