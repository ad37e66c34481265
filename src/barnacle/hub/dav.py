"""The lists as CardDAV collections (RFC 6352 on RFC 4918, 3744, 5397, 6578): methods and what each answers."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from urllib.parse import unquote
from xml.etree.ElementTree import Element

from starlette.responses import Response

from barnacle.core.addresses import address_key
from barnacle.core.sharing import OWNER, READER
from barnacle.hub import cards as card_texts
from barnacle.hub import query
from barnacle.hub.base import EVERYTHING, sync_token
from barnacle.hub.card_rows import Shelf, StoredCard
from barnacle.hub.dav_parts import (
    COMPLIANCE,
    LISTS,
    METHODS,
    QUICK,
    REPORTS,
    ROOT,
    VCARD,
    WHOLE_OCTETS,
    XML,
    Asked,
    Texts,
    http_date,
    is_name,
    is_searched,
    multi,
    path_in,
    path_of,
    report_set,
    shape_of,
    text_answer,
    unchanged,
)
from barnacle.hub.davxml import (
    DAV,
    MOST_PROPS,
    Props,
    answer_for,
    b,
    c,
    d,
    document,
    element,
    href,
    limit_in,
    quick_response,
    read,
    status_of,
    wanted_by,
)
from barnacle.hub.lists import Lists
from barnacle.hub.privileges import PEOPLE, common, principal
from barnacle.hub.refusals import ForbiddenError, MissingError, NeedsMoreError, UnmetError, WrongError
from barnacle.hub.shelves import Shelves


class Dav:
    """Answers requests below /dav/."""

    def __init__(self, lists: Lists, shelves: Shelves) -> None:
        self.lists = lists
        self.shelves = shelves

    def answer(self, asked: Asked) -> Response:
        """The answer to a request. Raises Refusal."""
        path = asked.path
        if asked.method == "OPTIONS":
            return Response(headers={"DAV": COMPLIANCE, "Allow": METHODS})
        method = {
            "PROPFIND": self._propfind, "REPORT": self._report, "PROPPATCH": self._proppatch, "GET": self._get,
            "HEAD": self._get, "PUT": self._put, "DELETE": self._delete,
        }.get(asked.method)  # fmt: skip
        if method is None:
            self._place(asked, path)  # what one may not see is not there, whatever one wants to do with it
            if asked.method == "ACL":
                raise ForbiddenError("Who may do what is decided by roles, not by this method.")
            if asked.method in ("MKCOL", "COPY", "MOVE", "MKCALENDAR"):
                raise ForbiddenError("Lists are made and cards moved with Barnacle, not by this method.")
            return Response(status_code=405, headers={"Allow": METHODS})
        return method(asked)

    # Places

    def _place(self, asked: Asked, path: str, seen: bool = True) -> tuple[str, str]:
        """What a path is: `root`, `people`, `me`, `home`, `list` (with its id) or `card` (with `id/name`). Raises
        MissingError for all else, and (unless that is looked at later, `seen`) for what is not the caller's to see."""
        path = path if path.endswith("/") or path.startswith(LISTS) else path + "/"
        if path == ROOT:
            return "root", ""
        if path == PEOPLE:
            return "people", ""
        if path.startswith(PEOPLE):
            if address_key(unquote(path[len(PEOPLE) : -1])) == address_key(asked.person.address):
                return "me", ""
            raise MissingError("There is nothing here.")
        if path in (LISTS, LISTS[:-1]):
            return "home", ""
        made, _, name = path[len(LISTS) :].partition("/")
        if not path.startswith(LISTS) or not re.fullmatch(r"[0-9a-f]{24}", made):
            raise MissingError("There is nothing here.")
        if seen:
            self.shelves.shelf(asked.person, made)
        if not name:
            return "list", made
        name = unquote(name)
        if not is_name(name):
            raise MissingError("There is nothing here.")
        return "card", f"{made}/{name}"

    # Reading

    def _propfind(self, asked: Asked) -> Response:
        root = read(asked.body)
        if root is not None and root.tag != d("propfind"):
            raise WrongError("The request is no DAV:propfind.")
        depth = asked.headers.get("depth", "infinity")
        if depth not in ("0", "1"):
            raise UnmetError("propfind-finite-depth", "Ask with Depth: 0 or Depth: 1.")
        kind, what = self._place(asked, asked.path)
        wanted = wanted_by(root)
        found = [(asked.path, self._properties(asked, kind, what))]
        if depth == "1":
            found += self._children(asked, kind, what)
        return multi(answer_for(path, props, wanted) for path, props in found)

    def _children(self, asked: Asked, kind: str, what: str) -> list[tuple[str, Props]]:
        if kind == "root":
            return [(PEOPLE, self._properties(asked, "people", "")), (LISTS, self._properties(asked, "home", ""))]
        if kind == "people":
            return [(principal(asked.person), self._properties(asked, "me", ""))]
        if kind == "home":
            return [(f"{LISTS}{one.id}/", self._shelf(asked, one)) for one in self.shelves.shelves(asked.person)]
        if kind == "list":
            shelf, cards = self.shelves.heads(asked.person, what)
            return [(path_of(what, one.name), self._card(asked, shelf, one)) for one in cards]
        return []

    def _properties(self, asked: Asked, kind: str, what: str) -> Props:
        if kind == "list":
            return self._shelf(asked, self.shelves.shelf(asked.person, what))
        if kind == "card":
            made, _, name = what.partition("/")
            return self._card(
                asked, self.shelves.shelf(asked.person, made), self.shelves.card(asked.person, made, name)
            )
        props = common(asked.person, READER)
        names = {
            "root": "Barnacle",
            "people": "People",
            "home": "Lists",
            "me": asked.person.name or asked.person.address,
        }
        props[d("displayname")] = lambda: element(d("displayname"), names[kind])
        kinds = [Element(d("collection"))] if kind != "me" else [Element(d("principal"))]
        props[d("resourcetype")] = lambda: element(d("resourcetype"), children=kinds)
        if kind in ("me", "root", "home"):
            # Programs that know only part of the standards ask for it here and there.
            home = c("addressbook-home-set")
            props[home] = lambda: element(home, children=[href(LISTS)])
        if kind == "me":
            own = principal(asked.person)
            mailto = href(f"mailto:{asked.person.address}")
            props[d("principal-URL")] = lambda: element(d("principal-URL"), children=[href(own)])
            props[d("alternate-URI-set")] = lambda: element(d("alternate-URI-set"), children=[mailto])
            for name in ("group-member-set", "group-membership"):
                props[d(name)] = lambda name=name: Element(d(name))  # type: ignore[misc]
        return props

    def _shelf(self, asked: Asked, shelf: Shelf) -> Props:
        props = common(asked.person, shelf.role)
        kinds = [Element(d("collection")), Element(c("addressbook"))]
        token = self._token(shelf)
        types = [element(c("address-data-type")) for _ in ("4.0", "3.0")]
        for one, version in zip(types, ("4.0", "3.0"), strict=True):
            one.set("content-type", "text/vcard")
            one.set("version", version)
        return props | {
            d("displayname"): lambda: element(d("displayname"), shelf.title),
            d("resourcetype"): lambda: element(d("resourcetype"), children=kinds),
            d("sync-token"): lambda: element(d("sync-token"), token),
            d("getetag"): lambda: element(d("getetag"), f'"{shelf.seq}-{shelf.mark}"'),
            d("creationdate"): lambda: element(d("creationdate"), shelf.created),
            d("supported-report-set"): lambda: report_set([d("sync-collection"), *REPORTS]),
            c("supported-address-data"): lambda: element(c("supported-address-data"), children=types),
            c("max-resource-size"): lambda: element(c("max-resource-size"), str(self.shelves.limits.card_octets)),
            c("supported-collation-set"): lambda: element(
                c("supported-collation-set"),
                children=[element(c("supported-collation"), name) for name in query.COLLATIONS],
            ),
            b("role"): lambda: element(b("role"), shelf.role),
            b("fields"): lambda: element(b("fields"), " ".join(shelf.fields)),
        }

    def _token(self, shelf: Shelf) -> str:
        return sync_token(shelf.id, shelf.seq, shelf.mark)

    def _card(self, asked: Asked, shelf: Shelf, one: StoredCard, data: Callable[[str], str] | None = None) -> Props:
        """The properties of a card; `data` makes its text into the address data that was asked for."""
        props = {} if data else common(asked.person, shelf.role)
        props |= {
            d("resourcetype"): lambda: Element(d("resourcetype")),
            d("getetag"): lambda: element(d("getetag"), f'"{one.etag}"'),
            d("getcontenttype"): lambda: element(d("getcontenttype"), VCARD),
            d("getcontentlength"): lambda: element(d("getcontentlength"), str(one.octets)),
            d("supported-report-set"): lambda: report_set(REPORTS),
            d("getlastmodified"): lambda: element(d("getlastmodified"), http_date(one.changed)),
            d("creationdate"): lambda: element(d("creationdate"), one.added),
            b("added-by"): lambda: element(b("added-by"), one.by),
            b("added"): lambda: element(b("added"), one.added),
        }
        if data is not None:
            props[c("address-data")] = lambda: element(c("address-data"), data(one.data))
        return props

    def _answers(
        self, asked: Asked, shelf: Shelf, made: str, data: Callable[[str], str], wanted: list[str] | str
    ) -> Callable[[StoredCard], Element | bytes]:
        """What answers for a card of a report, by the quick way where only what all clients ask for is asked for."""
        texts: Texts = {c("address-data"): ("card:address-data", lambda one: data(one.data)), **QUICK}
        if isinstance(wanted, list) and texts.keys() >= set(wanted) and len(set(wanted)) == len(wanted) > 0:
            asked_for = [texts[tag] for tag in wanted]
            return lambda one: quick_response(path_of(made, one.name), [(tag, text(one)) for tag, text in asked_for])
        return lambda one: answer_for(path_of(made, one.name), self._card(asked, shelf, one, data), wanted)

    def _get(self, asked: Asked) -> Response:
        kind, what = self._place(asked, asked.path)
        if kind == "list":
            shelf = self.shelves.shelf(asked.person, what)
            if same := unchanged(asked, f"{shelf.seq}-{shelf.mark}"):
                return same
            shelf, cards, more = self.shelves.some_cards(asked.person, what, WHOLE_OCTETS)
            if more:
                raise NeedsMoreError("This list is too long to be given as one file; ask for its cards in parts.")
            text = "".join(one.data if one.data.endswith("\n") else one.data + "\r\n" for one in cards)
            return text_answer(asked, text, f'"{shelf.seq}-{shelf.mark}"')
        if kind != "card":
            return Response("Barnacle: lists that colleagues share.\n", media_type="text/plain; charset=utf-8")
        made, _, name = what.partition("/")
        found = self.shelves.card(asked.person, made, name)
        if same := unchanged(asked, found.etag):
            return same
        version = re.search(r"version\s*=\s*\"?(3\.0|4\.0)", asked.headers.get("accept", ""))
        return text_answer(
            asked, card_texts.as_version(found.data, version[1]) if version else found.data, f'"{found.etag}"'
        )

    # Reports

    def _report(self, asked: Asked) -> Response:
        root = read(asked.body)
        if root is None:
            raise WrongError("The request has no report in it.")
        kind, what = self._place(asked, asked.path)
        report = {
            d("sync-collection"): self._sync, c("addressbook-query"): self._query,
            c("addressbook-multiget"): self._multiget,
        }.get(root.tag)  # fmt: skip
        if report is not None:
            if kind != "list" and not (kind == "card" and root.tag != d("sync-collection")):
                raise UnmetError("supported-report", "This report is for a list.")
            return report(asked, what.partition("/")[0], root)
        if root.tag in (d("principal-match"), d("principal-property-search")):
            me = (principal(asked.person), self._properties(asked, "me", ""))
            fits = root.tag == d("principal-match") or is_searched(root, asked.person)
            return multi([answer_for(*me, wanted_by(root))] if fits else [])
        if root.tag == d("acl-principal-prop-set"):
            return multi([answer_for(principal(asked.person), self._properties(asked, "me", ""), wanted_by(root))])
        if root.tag == d("principal-search-property-set"):
            prop = element(d("prop"), children=[Element(d("displayname"))])
            one = element(d("principal-search-property"), children=[prop, element(d("description"), "Name")])
            return Response(document(element(d("principal-search-property-set"), children=[one])), media_type=XML)
        if root.tag == d("expand-property"):
            names = [f"{{{p.get('namespace', DAV)}}}{p.get('name', '')}" for p in root if p.tag == d("property")]
            names = list(dict.fromkeys(names))[:MOST_PROPS]
            return multi([answer_for(asked.path, self._properties(asked, kind, what), names)])
        raise UnmetError("supported-report", "There is no such report here.")

    def _sync(self, asked: Asked, made: str, root: Element) -> Response:
        if (
            root.findtext(d("sync-level"), "1").strip() not in ("1", "", "infinite")
            or asked.headers.get("depth", "0") != "0"
        ):
            raise WrongError("Ask for sync-level 1, with Depth: 0.")
        limit = limit_in(root, d("limit"), d("nresults"))
        shelf, found, token, more = self.shelves.changes(
            asked.person, made, root.findtext(d("sync-token"), "").strip() or None, limit
        )
        answer = self._answers(asked, shelf, made, shape_of(root), wanted_by(root))

        def responses() -> Iterable[Element | bytes]:
            for one in found:
                yield status_of(path_of(made, one.name), "404 Not Found") if one.gone else answer(one)
            if more:
                yield status_of(f"{LISTS}{made}/", "507 Insufficient Storage", "number-of-matches-within-limits")

        return multi(responses(), token)

    def _multiget(self, asked: Asked, made: str, root: Element) -> Response:
        hrefs = [(one.text or "").strip() for one in root.findall(d("href"))]
        if len(hrefs) > self.shelves.limits.hrefs:
            raise UnmetError("", f"That asks for more than {self.shelves.limits.hrefs:,} cards at once.", 403)
        prefix = f"{LISTS}{made}/"
        paths = {one: path_in(one) for one in hrefs}
        names = {one: unquote(path)[len(prefix) :] for one, path in paths.items() if path.startswith(prefix)}
        shelf, cards = self.shelves.cards(asked.person, made, list(names.values()))
        found = {one.name: one for one in cards}
        answer = self._answers(asked, shelf, made, shape_of(root), wanted_by(root))
        return multi(
            answer(found[names[one]]) if names.get(one) in found else status_of(one, "404 Not Found") for one in hrefs
        )

    def _query(self, asked: Asked, made: str, root: Element) -> Response:
        limit = limit_in(root, c("limit"), c("nresults"))
        fits = query.read_filter(root.find(c("filter")))
        most = WHOLE_OCTETS
        shelf, shown, more = self.shelves.some_cards(asked.person, made, most, limit, lambda one: fits(one.data))
        answers = list(map(self._answers(asked, shelf, made, shape_of(root), wanted_by(root)), shown))
        if more:
            answers.append(status_of(f"{LISTS}{made}/", "507 Insufficient Storage", "number-of-matches-within-limits"))
        return multi(answers)

    # Changing

    def _put(self, asked: Asked) -> Response:
        kind, what = self._place(asked, asked.path, seen=False)
        if kind != "card":
            self._place(asked, asked.path)
            return Response(status_code=405, headers={"Allow": METHODS})
        made, _, name = what.partition("/")

        def text() -> str:
            content = asked.headers.get("content-type", "text/vcard").partition(";")[0].strip().lower()
            if content not in ("text/vcard", "text/x-vcard", "text/directory"):
                raise UnmetError("supported-address-data", "A card is sent as text/vcard.", 415)
            try:
                return asked.body.decode("utf-8-sig")
            except UnicodeDecodeError:
                raise UnmetError("valid-address-data", "The card is not in UTF-8.") from None

        if "content-range" in asked.headers:
            raise WrongError("A card is sent whole (RFC 9110 section 14.5).")
        match, none_match = (asked.headers.get(name) for name in ("if-match", "if-none-match"))
        stored = self.shelves.put(asked.person, made, name, text, match, none_match)
        # What is kept otherwise than it was sent is to be fetched again (RFC 6352 section 6.3.2.3).
        headers = {"ETag": f'"{stored.etag}"'} if stored.as_sent else {}
        return Response(status_code=201 if stored.new else 204, headers=headers)

    def _delete(self, asked: Asked) -> Response:
        kind, what = self._place(asked, asked.path, seen=not asked.path.endswith(".vcf"))
        if kind != "card":
            raise ForbiddenError("A list is stopped with Barnacle, not by this method.")
        made, _, name = what.partition("/")
        self.shelves.take_off(asked.person, made, name, asked.headers.get("if-match"))
        return Response(status_code=204)

    def _proppatch(self, asked: Asked) -> Response:
        root = read(asked.body)
        kind, what = self._place(asked, asked.path)
        if root is None or root.tag != d("propertyupdate"):
            raise WrongError("The request is no DAV:propertyupdate.")
        wishes = [(part.tag == d("set"), prop) for part in root for holder in part for prop in holder]
        if asked.person.scope != EVERYTHING:
            raise ForbiddenError("This token reads and writes cards, and nothing else.")
        if kind != "list" or self.shelves.shelf(asked.person, what).role != OWNER:
            raise ForbiddenError("Only owners of a list may change its properties.")
        only_title = [(is_set, prop) for is_set, prop in wishes if is_set and prop.tag == d("displayname")]
        made = element(d("response"), children=[href(asked.path)])
        if len(only_title) == len(wishes) == 1:
            self.lists.change_list(asked.person, what, only_title[0][1].text or "", None)
            outcomes = {"200 OK": [prop for _, prop in wishes]}
        else:  # all or nothing (RFC 4918 section 9.2)
            titles = [prop for _, prop in only_title]
            outcomes = {
                "403 Forbidden": [prop for _, prop in wishes if all(prop is not one for one in titles)] or titles,
                "424 Failed Dependency": titles if len(titles) < len(wishes) else [],
            }
        for status, some in outcomes.items():
            if some:
                props = element(d("prop"), children=[Element(prop.tag) for prop in some])
                made.append(element(d("propstat"), children=[props, element(d("status"), f"HTTP/1.1 {status}")]))
        return multi([made])
