"""Composing a message into the outbox, and changing one that waits there."""

from __future__ import annotations

import mimetypes
import secrets
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, fields
from pathlib import Path

from barnacle.book import attachments, lists, outbox
from barnacle.book.outbox import StoredMessage
from barnacle.book.store import Action, Book
from barnacle.core.addresses import address_key, check_address
from barnacle.core.checklist import Line
from barnacle.core.errors import FileError, MailError, StoppedError, UnclearError
from barnacle.core.mail.audience import Audience
from barnacle.core.mail.invitation import LIMIT as INVITATION_LIMIT
from barnacle.core.mail.invitation import read_invitation
from barnacle.core.mail.letter import Attachment, attached
from barnacle.core.mail.message import Choice, Message, Mode
from barnacle.core.references import AddressRef, ContactRef, ListRef, Ref, RuleRef
from barnacle.core.rules import Rule
from barnacle.core.text import listed, people, plain_value, size_of, visible
from barnacle.core.typed import TYPE_CHECKING, Any
from barnacle.files.atomic import replacing
from barnacle.files.missing import no_such_file
from barnacle.jobs.desk import senders
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import holds, letters, texts
from barnacle.jobs.mail.audience import audience_for, choose
from barnacle.jobs.mail.body import read_file
from barnacle.jobs.mail.drafts import draft_of, mail_link, open_drafts
from barnacle.jobs.mail.outbox import audience_of, only_sender

if TYPE_CHECKING:
    from barnacle.net.imap import Drafts

from barnacle.jobs.mail.limits import batches_of, most_at_once

ATTACHMENT_LIMIT = 100_000_000


@dataclass(slots=True, kw_only=True)
class Wish:
    """What the user asks `compose` for, in the words of the command line. None keeps what the message has that is
    edited or taken as a model (`like`), else what is usual. With `draft_to`, `into_mailbox` or `link` it is handed to
    the user's own mail program."""

    wanted: Sequence[str] | None = None
    subject: str | None = None
    text: str | None = None
    without: Sequence[str] | None = None
    within: str | None = None
    also: Sequence[str] | None = None
    allowed: Sequence[str] | None = None
    allowed_files: Sequence[str] | None = None
    to: str | None = None
    copy_me: bool | None = None
    mode: Mode | None = None
    markdown: bool | None = None
    attach: Sequence[Path] | None = None
    enclosed: Sequence[Attachment] = ()
    open_to: int | None = None
    like: str | None = None
    invite: Path | None = None
    draft_to: Path | None = None
    into_mailbox: bool = False
    link: bool = False
    pick: Callable[[str, list[Line], set[str]], set[str] | None] | None = None
    sender: str | None = None
    reply_to: str | None = None
    use: str | None = None
    signed: bool = False

    @property
    def changes_nothing(self) -> bool:
        """Whether a message that is there would stay as it is."""
        return all(getattr(self, one.name) in (None, False, (), []) for one in fields(self))


@dataclass(slots=True)
class Composed:
    """A message in the outbox with the audience it has now. `examined` says what was found of it, and why it cannot be
    sent as it is; `trouble` why it could not be handed over; `size` is that of the message on the wire, in octets."""

    message: StoredMessage
    audience: Audience
    batches: int
    examined: holds.Examined
    size: int
    trouble: str | None = None
    link: str | None = None
    as_somebody: bool = False  # from another sender than oneself

    @property
    def held(self) -> str | None:
        """Why it cannot be sent as it is."""
        return self.examined.held


def read_attachment(path: Path) -> Attachment:
    """A file as it goes along. Raises FileError."""
    try:
        size = path.stat().st_size
        if size > ATTACHMENT_LIMIT:
            raise FileError(f"{visible(str(path))} is too large to send by mail ({size_of(size)}).")
        data = path.read_bytes()
    except FileNotFoundError:
        raise FileError(f"{no_such_file(path)} No message was made.") from None
    except OSError as error:
        raise FileError(f"{visible(str(path))} cannot be attached: {error.strerror}. No message was made.") from error
    kind, encoding = mimetypes.guess_type(path.name)
    return attached(path.name, kind if kind and not encoding else "", data)


def compose(desk: Desk, wish: Wish, number: str | None = None) -> Composed:
    """Make a message in the outbox, or change the one with that number. One that cannot be sent as it is is kept there
    too, as held, with the reason.

    Raises UnclearError, NotFoundError, AmbiguousError, BadAddressError, FileError, and StoppedError for a message that
    was begun already.
    """
    files = [*wish.enclosed, *map(read_attachment, wish.attach or ())]
    senders.myself(desk)  # before anything else
    if wish.use is not None:
        _take_text(desk, wish)
    with (
        _drafts(desk, wish) as drafts,
        desk.open() as book,
        book.action("outbox edit" if number else "compose") as action,
    ):
        like = number or wish.like
        model = outbox.get(book, like) if like else None
        if number and model and model.begun is not None:
            with only_sender(desk.path, number):  # not from under one that is at work
                if outbox.take_back_begin(book, model):
                    model = model._replace(begun=None)
                    action.final = True  # it was offered to a server, which nobody can take back
        if number and model and model.begun is not None:
            raise StoppedError(
                f"{model.number} has been sent, or is being sent, so it cannot be changed. "
                f"`barnacle compose --like {model.number}` makes another like it."
            )
        subject = plain_value(wish.subject, "The subject", 900) if wish.subject is not None else _of(model).subject
        if not subject:
            raise UnclearError("The message needs a subject: add --subject TEXT.")
        content, meant = _content(desk, book, wish, model)
        if files or not model:
            content = content._replace(enclosures=attachments.keep(book, files))
            files.clear()  # they are in the book now, and may be large
        mode = wish.mode or (model.mode if model else Mode.BLIND)
        if wish.pick is not None:
            content = content._replace(choice=_picked(book, subject, content.choice, wish.pick))
        if number and model:
            message = model._replace(subject=subject, mode=mode, content=content)
        else:
            message = outbox.add(book, secrets.token_hex(16), subject, mode, content)
        done = _finish(desk, book, action, message, wish, drafts, changed=number is not None)
        done.audience.notes[:0] = meant
        if number and model and model.content.due:
            again = f"`barnacle send {number} --at` sets the time again"
            done.audience.notes.append(f"It was to be sent by itself, and is not any more; {again}")
        if model and not number and wish.wanted is None:
            done.audience.notes.append(_since(book, model, done.audience))
        return done


def _since(book: Book, model: StoredMessage, audience: Audience) -> str:
    """What a message like another must say: it goes to who is in the lists now."""
    fixed = model.begun is not None
    before = [d.address for d in outbox.deliveries(book, model.id)] if fixed else list(model.content.composed_for)
    now = [r.address for r in audience.recipients]
    came = [one for one in now if one not in set(before)]
    went = [one for one in before if one not in set(now)]
    follows = f"It uses the lists as they are now, not as they were for {model.number}"
    if not came and not went:
        return f"{follows}; nobody has joined or left since"
    told = [f"{word}: {listed(some, 3)}" for word, some in (("joined since", came), ("left since", went)) if some]
    return f"{follows}; {'; '.join(told)}. `--for {model.number}` writes to exactly the same people"


def _drafts(desk: Desk, wish: Wish) -> AbstractContextManager[Drafts | MailError | None]:
    """The folder for drafts, where the wish needs it, or why it cannot be had: asked for before the book is held."""
    if not wish.into_mailbox:
        return nullcontext()
    try:
        return open_drafts(desk)
    except MailError as error:
        return nullcontext(error)


def _of(model: StoredMessage | None) -> StoredMessage:
    if model is None:
        raise UnclearError("The message needs a subject: add --subject TEXT.")
    return model


def _take_text(desk: Desk, wish: Wish) -> None:
    """Subject and text of a kept text, where none are given."""
    kept = texts.need(desk, wish.use or "")
    if wish.text is None:
        wish.text, wish.markdown = kept.text, kept.markdown
        wish.signed = True  # it was kept with what stood below it
    if wish.subject is None:
        wish.subject = kept.subject


def _sender(desk: Desk, book: Book, wish: Wish, choice: Choice, model: StoredMessage | None) -> senders.Sender:
    """Whom a message comes from: whoever is named, else who a message like it came from, else the usual sender of the
    lists, where all have the same one. Raises NotFoundError."""
    if wish.sender is not None:
        return senders.need(desk, wish.sender)
    if model is not None:
        return senders.of(desk, model.content.sender.address) or senders.myself(desk)
    usual = {one.sender for ref in choice.wanted if isinstance(ref, ListRef) and (one := lists.get(book, ref.number))}
    if len(usual) == 1 and (name := usual.pop()):
        return senders.need(desk, name)
    return senders.myself(desk)


def _content(desk: Desk, book: Book, wish: Wish, model: StoredMessage | None) -> tuple[Message, list[str]]:
    """What was chosen and written: what the wish says, else what the model has, else what is usual; and sentences about
    words that are no whole name."""
    if model is None and not wish.wanted:
        raise UnclearError("Who is the message for? Name them with --for LIST, or --like mN.")
    if model is None and wish.text is None:
        raise UnclearError("The message has no text. Give it with --text, or name a file with --body.")
    chosen, meant = choose(desk, book, wish.wanted or (), wish.without or (), wish.within, wish.also or ())
    # Whoever was added to other people is not meant for these.
    also = () if wish.wanted is not None and wish.also is None else wish.also
    said = {"wanted": wish.wanted, "without": wish.without, "within": wish.within, "also": also}
    sender = _sender(desk, book, wish, chosen, model)
    old = model.content if model else Message(sender.mailbox)
    choice = old.choice._replace(
        **{name: getattr(chosen, name) for name, value in said.items() if value is not None or model is None}
    )
    new: dict[str, Any] = {
        "text": wish.text if wish.signed else _signed(sender, wish.text),
        "to": wish.to, "copy_me": wish.copy_me, "markdown": wish.markdown,
        "allowed": None if wish.allowed is None else [address_key(check_address(a)) for a in wish.allowed],
        "open_to": wish.open_to, "allowed_files": wish.allowed_files,
    }  # fmt: skip
    if wish.reply_to is not None:
        new["reply_to"] = check_address(wish.reply_to) if wish.reply_to else ""
    if wish.invite is not None:
        new["invite"] = read_invitation(read_file(wish.invite, INVITATION_LIMIT), wish.invite.name)
    changed = {name: value for name, value in new.items() if value is not None}
    # What was to be sent at a time was another one, and looked at as that.
    content = old._replace(
        sender=sender.mailbox, choice=choice, composed_for=(), held=None, handed=None, due=None, **changed
    )
    return content, meant


def _signed(sender: senders.Sender, text: str | None) -> str | None:
    """The text with the sender's signature below (RFC 3676 section 4.3: two dashes and a space), unless it has one."""
    signature = sender.signature.replace("\\n", "\n").strip("\n")
    if text is None or not signature or "\n-- \n" in text:
        return text
    return f"{text.rstrip()}\n\n-- \n{signature}\n"


def _finish(
    desk: Desk,
    book: Book,
    action: Action,
    message: StoredMessage,
    wish: Wish,
    drafts: Drafts | MailError | None,
    changed: bool,
) -> Composed:
    """Work out the audience, keep the message with why it is held, if it is, and say what was done."""
    audience = audience_of(book, message)
    audience.notes += _untold(book, message.content.choice.wanted)
    mailing = letters.Mailing.of(book, message)
    examined = holds.examine(book, mailing, audience, most_at_once(desk))
    held = examined.held
    content = message.content._replace(composed_for=[r.address for r in audience.recipients], held=held)
    link, trouble = None, None
    if not held and (wish.draft_to or wish.into_mailbox or wish.link):
        try:
            handed, link = _hand_over(mailing, audience, wish, drafts)
            content = content._replace(handed=handed)
        except (StoppedError, MailError) as error:
            trouble = str(error)
    message = message._replace(content=content)
    outbox.save(book, message)
    done = "Changed" if changed else "Composed"
    action.title = f"{done} {message.number}, {message.subject}, for {people(audience.people)}"
    first = audience.recipients[0] if audience.recipients else None
    size = len(mailing.raw(first, audience.recipients)) if first and not held else 0
    return Composed(message, audience, batches_of(desk, message, audience), examined, size, trouble, link,
                    address_key(content.sender.address) != address_key(desk.me.address))  # fmt: skip


def _untold(book: Book, wanted: Sequence[Ref]) -> list[str]:
    """What rules cannot tell of whom they bring in."""
    ruled: list[tuple[Rule, int | None]] = [(ref.rule, None) for ref in wanted if isinstance(ref, RuleRef)]
    kept = [lists.get(book, ref.number) for ref in wanted if isinstance(ref, ListRef)]
    ruled += [(one.rule, one.id) for one in kept if one is not None and one.rule is not None]
    if not ruled:
        return []
    from barnacle.jobs.lists import rules  # of few messages

    told = [sentence for rule, row in ruled for sentence in rules.unclear(book, rule, row)]
    return [sentence.removesuffix(".") for sentence in dict.fromkeys(told)]


def _hand_over(
    mailing: letters.Mailing, audience: Audience, wish: Wish, drafts: Drafts | MailError | None
) -> tuple[str | None, str | None]:
    """Hand a message to the user's mail program. Returns where it is now, in words, and the link wished for."""
    if isinstance(drafts, MailError):
        raise drafts
    if wish.link:
        return "as a link", mail_link(mailing, audience)
    draft = draft_of(mailing, audience)
    if wish.draft_to:
        with replacing(wish.draft_to) as out:
            out.write(draft)
        return f"as {wish.draft_to.name}", None
    if drafts:
        drafts.add(draft.encode("ascii"))
        return f"in {drafts.folder} of your mailbox", None
    return None, None


def remove(desk: Desk, numbers: Sequence[str]) -> list[StoredMessage]:
    """Take messages that were never begun out of the outbox, all of them or none. Raises NotFoundError,
    StoppedError."""
    with desk.open() as book, book.action("outbox remove") as action:
        messages = {message.id: message for message in (outbox.get(book, number) for number in numbers)}
        for message in messages.values():
            if message.begun is not None:
                others = " Nothing was removed." if len(messages) > 1 else ""
                raise StoppedError(f"{message.number} was sent, at least in part, so it stays in the outbox.{others}")
            outbox.remove(book, message)
        named = listed([f"{message.number}, {message.subject}," for message in messages.values()])
        action.title = f"Removed {named} from the outbox"
        return [*messages.values()]


def _picked(
    book: Book, subject: str, choice: Choice, pick: Callable[[str, list[Line], set[str]], set[str] | None]
) -> Choice:
    """Let the user untick some of the audience; they are left out of this message alone."""
    recipients = audience_for(book, choice, None).recipients
    people = {p.uid or r.address: (p, r.address) for r in recipients for p in r.people}
    lines = [Line(key, f"{p.title} · {address}" if p.called else address) for key, (p, address) in people.items()]
    ticked = pick(subject, lines, set(people))
    if ticked is None:
        raise StoppedError("No message was made.")
    off = [
        ContactRef(person.uid, person.title) if person.uid else AddressRef(address)
        for key, (person, address) in people.items()
        if key not in ticked
    ]
    return choice._replace(without=[*choice.without, *off])
