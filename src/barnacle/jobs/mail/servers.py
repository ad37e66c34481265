"""The mail server of the settings: found, tried, connected to."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from smtplib import SMTPException
from types import MappingProxyType

from barnacle.core.errors import MailError, StoppedError
from barnacle.core.mail.audience import Audience
from barnacle.core.text import size_of
from barnacle.core.typed import NamedTuple
from barnacle.jobs.desk.desk import Desk
from barnacle.jobs.desk.senders import server_of
from barnacle.jobs.mail.letters import Mailing
from barnacle.jobs.mail.sign_in import credentials, trust
from barnacle.net.credentials import Credentials
from barnacle.net.sasl import OnlySignInError
from barnacle.net.server import Server, read_server
from barnacle.net.smtp import Submission
from barnacle.net.smtp_line import UnreachableError

# How long a server that is only tried may take to answer.
_PATIENCE = 8.0


def need_fit(mailing: Mailing, audience: Audience, submission: Submission) -> None:
    """Raises StoppedError where the message is larger than the server takes (RFC 1870), before anything is fixed."""
    message, most = mailing.message, submission.most_octets
    if message.begun is None and most:
        size = len(mailing.raw(audience.recipients[0], audience.recipients))
        if size > most:
            submission.close()
            raise StoppedError(
                f"{message.number} is {size_of(size)}, and {submission.server.host} accepts {size_of(most)} at most. "
                "Nothing was sent. Attach less, or send a link."
            )


def mail_server(desk: Desk, sender: str = "") -> Server:
    """The mail server of the settings, or that of a sender's own. Raises MailError."""
    if sender and (own := server_of(desk, sender)):
        return own
    url = desk.setting("mail.server")
    if not url:
        raise MailError("Barnacle doesn't know your mail server yet. Name it with `barnacle setup`, then send again.")
    return read_server(url)


class ServerOffer(NamedTuple):
    """What a mail server said when it was tried: the largest message it takes in octets and how many recipients at once
    (0: it does not say), and what it can do. `trouble` is why it could not be reached, or turned us away; `is_away`
    says that it was not reached, so that nothing is known of the password. `against` is why it lets us in and takes no
    mail from our address."""

    most_octets: int = 0
    most_recipients: int = 0
    offers: Mapping[str, bool] = MappingProxyType({})
    trouble: str = ""
    is_away: bool = False
    against: str = ""

    @property
    def why_not(self) -> str:
        """Why nothing can be sent through it; empty where that is possible."""
        return self.trouble or self.against


def try_server(server: Server, let_in: Credentials, sender: str = "") -> ServerOffer:
    """Connect to a mail server, log in and ask whether it takes mail from an address, without sending anything."""
    try:
        line = Submission(server, let_in, _PATIENCE, advice="Check its name and the network.")
    except MailError as error:
        return ServerOffer(trouble=str(error), is_away=isinstance(error, UnreachableError))
    offered = ServerOffer(line.most_octets, line.most_recipients, line.offers)
    with suppress(OSError, SMTPException):
        if sender.isascii() and sender:
            offered = offered._replace(against=line.against(sender))
    line.close()
    return offered


def wants_sign_in(desk: Desk, server: Server) -> bool:
    """Whether a server takes no password, as far as it can be reached to say so."""
    try:
        Submission(server, Credentials(lambda: None, trust(desk)), _PATIENCE).close()
    except MailError as error:
        return isinstance(error, OnlySignInError)
    return False


def connector(desk: Desk, server: Server) -> Callable[..., Submission]:
    """What connects to the mail server; the password is asked for once. `so_far` says what was sent, where it fails."""
    let_in = credentials(desk, server)
    advice = "Check the name in `barnacle setup` and the network, then send again."
    return lambda so_far=" Nothing more was sent.": Submission(server, let_in, so_far=so_far, advice=advice)
