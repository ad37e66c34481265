"""Sending a message: nobody gets it twice, and everything the server says is kept."""

from __future__ import annotations

from barnacle.book import outbox, settings
from barnacle.book.store import Book
from barnacle.core.errors import StoppedError
from barnacle.core.mail.delivery import (
    DUE,
    State,
    in_words,
)
from barnacle.core.text import people
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.mail import due, sent_copies
from barnacle.jobs.mail.delivery_run import DeliveryRun
from barnacle.jobs.mail.letters import Mailing
from barnacle.jobs.mail.limits import limit_reached
from barnacle.jobs.mail.outbox import Outcome, only_sender, outcome, state_of
from barnacle.jobs.mail.plan import Run, make_plan
from barnacle.jobs.mail.servers import connector, mail_server, need_fit


def send(desk: Desk, number: str, run: Run) -> Outcome:
    """Send a message, or go on with one. What the server answers is in the book when this returns.

    Raises StoppedError (privacy, nobody left, not confirmed, another sender at work), MailError (the server cannot be
    reached before anything was tried), UnclearError.
    """
    with desk.open() as book, only_sender(desk.path, number):
        outbox.keep_little(book)
        message = outbox.get(book, number)
        if message.begun is not None:
            outbox.settle(book, message.id)
            states = (*DUE, State.DOUBTFUL) if run.retry_doubtful else DUE
            if not outbox.addresses_in(book, message.id, states):
                return outcome(book, message, run.whole)
            if not (run.resume or run.retry_doubtful):
                state, counts = state_of(book, message)
                raise StoppedError(
                    f"{message.number} was begun before ({state}): {in_words(counts)}. "
                    f"`barnacle send {message.number} --resume` continues with those waiting or deferred."
                )
        if message.begun is None and message.content.handed is not None:
            raise StoppedError(
                f"{message.number} was handed over to your mail program ({message.content.handed}). "
                f"To send it from here instead, make another like it: `barnacle compose --like {message.number}`."
            )
        server = mail_server(desk, message.content.sender.address)
        mailing = Mailing.of(book, message)
        plan, audience = make_plan(desk, book, mailing, server, run)
        if plan.now == 0 and not run.wait and run.at is None:
            paused = limit_reached(desk, plan.more_at)
            if message.begun is None:
                raise StoppedError(f"{paused} Nothing was sent.")
            return outcome(book, message, run.whole)._replace(paused=paused)
        if not run.confirm(plan):
            raise StoppedError("Nothing was sent.")
        if run.at is not None:
            with book.action("send") as action:
                message = due.keep_due(book, message, run.at)
                action.title = f"{message.number}, {message.subject}, is to be sent later"
            return outcome(book, message, run.whole)
        connect = connector(desk, server)
        # Before anything is fixed: a server that is not there costs nothing.
        submission = connect(" Nothing was sent." if message.begun is None else " Nothing more was sent.")
        need_fit(mailing, audience, submission)
        if message.begun is None:
            with book.action("send") as action:
                action.final = True
                action.title = f"Started sending {message.number}, {message.subject}, to {people(plan.people)}"
                message = outbox.begin(book, message, audience.recipients)
        del audience  # with ten thousand recipients it is the most that is in memory
        sender = DeliveryRun(desk, book, mailing._replace(message=message), connect, submission, run)
        trouble = sender.work(plan.recipients)
        run.finish()
        result = outcome(book, message, run.whole, at_work=False)._replace(
            tried=len(sender.tried), trouble=trouble, paused=sender.paused, learned=sender.learned
        )
        if sender.unwritten:
            return result
        outbox.tell_outcome(book, message)
        _remember(desk, book, sender.learned)
        if result.counts.get(State.ACCEPTED):
            sent_copies.owe(desk, book, message.id)
        return result._replace(copies=sent_copies.make(desk, book) if sender.tried else [])


def _remember(desk: Desk, book: Book, learned: int | None) -> None:
    """How many the server takes at once, for the next run."""
    if learned is not None:
        with book.action("send", f"Found that the mail server accepts {people(learned)} at once"):
            settings.change(book, desk.settings_path, {"mail.server_takes": learned})
