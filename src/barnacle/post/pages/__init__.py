"""Pages for people without a token: one matter and one button each, plain HTML without scripts, readable on a phone.

Opening one changes nothing, since programs that check links open them too; only its button does (RFC 8058 section 1).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from jinja2 import Environment, PackageLoader, select_autoescape
from sqlalchemy.exc import SQLAlchemyError
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import HTMLResponse, Response
from starlette.routing import Route

from barnacle.core.house import ASKED, OFF, ON, PAUSED
from barnacle.hub.app import Hub
from barnacle.hub.house.people import Page

_HEADERS = {
    "Cache-Control": "no-store",
    "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; base-uri 'none'; "
    "frame-ancestors 'none'",
    "Referrer-Policy": "no-referrer",
    "X-Content-Type-Options": "nosniff",
    "X-Robots-Tag": "noindex",
}
_MOST = 10_000
_TOKEN = "{token:str}"


def routes(hub: Hub) -> Sequence[Route]:
    """The pages of a hub."""
    pages = _Pages(hub)
    return [
        Route(f"/house/leave/{_TOKEN}", pages.leave, methods=["GET", "POST"]),
        Route(f"/house/yes/{_TOKEN}", pages.say_yes, methods=["GET", "POST"]),
    ]


class _Pages:
    def __init__(self, hub: Hub) -> None:
        self.people = hub.house_people
        self.templates = Environment(
            loader=PackageLoader("barnacle.post.pages", "templates"), autoescape=select_autoescape(), trim_blocks=True,
            lstrip_blocks=True,
        )  # fmt: skip

    async def leave(self, request: Request) -> Response:
        """The way out."""
        return await self._answered(request, self._leave)

    async def say_yes(self, request: Request) -> Response:
        """The way in, or back."""
        return await self._answered(request, self._say_yes)

    async def _answered(self, request: Request, answer: Callable[[str, bool], tuple[str, Page | None]]) -> Response:
        token = str(request.path_params["token"])[:64].lower()
        pressed = request.method == "POST"
        size = 0
        if pressed:  # what is said with it does not matter: the button, and the one click of RFC 8058 mean the same
            async for part in request.stream():
                size += len(part)
                if size > _MOST:
                    return self._page("nothing", None, 413)
        try:
            name, page = await run_in_threadpool(answer, token, pressed)
        except SQLAlchemyError:
            return self._page("later", None, 503)
        return self._page(name, page, 404 if name == "nothing" else 200)

    def _page(self, name: str, page: Page | None, status: int) -> Response:
        values = {"page": page, "house": page.house if page else None}
        text = self.templates.get_template(f"{name}.html").render(values)
        return HTMLResponse(text, status, _HEADERS)

    def _leave(self, token: str, pressed: bool) -> tuple[str, Page | None]:
        page = self.people.page(token)
        if page is None:
            return "nothing", None
        if pressed:
            self.people.leave_by(token)
            return "left", page
        return ("leave" if page.state in (ON, PAUSED) else "left"), page

    def _say_yes(self, token: str, pressed: bool) -> tuple[str, Page | None]:
        page = self.people.page(token)
        if page is None:
            return "nothing", None
        if page.state == ON:
            return "on", page
        if page.state == ASKED:
            return "asked", page
        if page.state == OFF:
            return "late", page
        if not pressed:
            return ("back" if page.state == PAUSED else "yes"), page
        return {ON: "on", ASKED: "asked"}.get(self.people.say_yes(token) or OFF, "late"), page
